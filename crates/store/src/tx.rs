//! What can be done within one transaction. The methods stand with their records, in `rows`.

use diesel::SqliteConnection;
use lastmile_core::{dhcp::LeaseRecord, site::Site};

use crate::{Handover, StoreError};

/// A transaction, or a reading connection.
#[allow(missing_debug_implementations, reason = "a connection shows nothing")]
pub struct Tx<'a> {
    connection: &'a mut SqliteConnection,
}

/// What the service needs at start.
#[derive(Debug)]
pub struct Loaded {
    /// The snapshot.
    pub site: Site,
    /// Every lease.
    pub leases: Vec<LeaseRecord>,
    /// The number of the last install that was armed; 0 before the first.
    pub last_install: i64,
    /// Where ends of installs are told.
    pub handovers: Vec<Handover>,
}

impl<'a> Tx<'a> {
    pub(crate) const fn new(connection: &'a mut SqliteConnection) -> Self {
        Self { connection }
    }

    pub(crate) const fn connection(&mut self) -> &mut SqliteConnection {
        self.connection
    }

    pub(crate) fn load(&mut self) -> Result<Loaded, StoreError> {
        let mut site = Site::default();
        for subnet in self.subnets()? {
            site = site.with_subnet(subnet);
        }
        for menu in self.menus()? {
            site = site.with_menu(menu);
        }
        for label in self.labels()? {
            site = site.with_label(label);
        }
        site = site.with_settings(self.settings()?);
        for reservation in self.reservations()? {
            site = site.with_reservation(reservation);
        }
        for loader in self.loaders()? {
            site = site.with_loader(loader);
        }
        site = self.load_images(site)?;
        site = self.load_answers(site)?;
        for machine in self.machines()? {
            site = site.with_machine(machine);
        }
        for install in self.installs_for_decisions()? {
            site = site.with_install(install);
        }
        Ok(Loaded {
            site,
            leases: self.leases()?,
            last_install: self.last_install_number()?,
            handovers: self.handovers()?,
        })
    }
}

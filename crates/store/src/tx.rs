//! What can be done within one transaction. The methods stand with their records, in `rows`.

use diesel::SqliteConnection;
use lastmile_core::{model::lease::LeaseRecord, site::Site};

use crate::{AddressNote, StoreError};

/// A transaction, or a reading connection.
#[allow(missing_debug_implementations, reason = "a connection shows nothing")]
pub struct Tx<'a> {
    connection: &'a mut SqliteConnection,
}

/// What is on disk, as far as the service keeps it in memory.
#[derive(Debug)]
pub struct Loaded {
    /// The snapshot.
    pub site: Site,
    /// Every lease.
    pub leases: Vec<LeaseRecord>,
    /// Addresses that no lease says, the one seen last last.
    pub address_notes: Vec<AddressNote>,
    /// The tokens of all installs.
    pub tokens: Vec<String>,
}

impl<'a> Tx<'a> {
    pub(crate) const fn new(connection: &'a mut SqliteConnection) -> Self {
        Self { connection }
    }

    pub(crate) const fn connection(&mut self) -> &mut SqliteConnection {
        self.connection
    }

    /// All but the leases, which are in a database of their own.
    pub(crate) fn load(&mut self) -> Result<Loaded, StoreError> {
        Ok(Loaded {
            site: self.load_site()?,
            leases: Vec::new(),
            address_notes: self.address_notes()?,
            tokens: self.install_tokens()?,
        })
    }

    pub(crate) fn load_site(&mut self) -> Result<Site, StoreError> {
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
        for survey in self.latest_surveys()? {
            site = site.with_survey(survey);
        }
        for job in self.jobs_for_decisions()? {
            site = site.with_job(job);
        }
        for rule in self.rules()? {
            site = site.with_rule(rule);
        }
        for proposal in self.proposals()? {
            site = site.with_proposal(proposal);
        }
        site = site.with_locations(self.locations()?);
        for webhook in self.webhooks()? {
            site = site.with_webhook(webhook);
        }
        self.load_editions(site)
    }
}

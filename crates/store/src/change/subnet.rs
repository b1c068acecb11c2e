//! Subnets and reservations.

use std::net::Ipv4Addr;

use lastmile_core::{
    base::Id,
    model::{reservation::Reservation, subnet::Subnet},
    site::Entity,
};

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Adds a subnet, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_subnet(&mut self, subnet: Subnet) -> Result<(), StoreError> {
        self.tx.put_subnet(&subnet)?;
        let recorded = Recorded::Subnet { name: subnet.name.clone() };
        self.saved(Entity::Subnet(subnet.id), recorded, |site| site.with_subnet(subnet))
    }

    /// Removes a subnet and its reservations.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_subnet(&mut self, subnet: &Subnet) -> Result<(), StoreError> {
        let reserved: Vec<Ipv4Addr> =
            self.site().reservations_of(subnet.id).map(|reservation| reservation.address).collect();
        for address in reserved {
            self.unstamp(&Entity::Reservation(address))?;
        }
        self.tx.remove_subnet(subnet.id)?;
        let recorded = Recorded::Subnet { name: subnet.name.clone() };
        self.removed(&Entity::Subnet(subnet.id), recorded, |site| site.without_subnet(subnet.id))
    }

    /// Adds a reservation in the place of the one its client had on the subnet.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_reservation(&mut self, reservation: Reservation) -> Result<(), StoreError> {
        self.tx.put_reservation(&reservation)?;
        self.stamp(Entity::Reservation(reservation.address))?;
        self.record_subnet(reservation.subnet);
        self.with(|site| site.with_reservation(reservation));
        Ok(())
    }

    /// Removes a reservation.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_reservation(&mut self, reservation: &Reservation) -> Result<(), StoreError> {
        self.tx.remove_reservation(reservation.address)?;
        self.unstamp(&Entity::Reservation(reservation.address))?;
        self.record_subnet(reservation.subnet);
        self.with(|site| site.without_reservation(reservation));
        Ok(())
    }

    fn record_subnet(&mut self, id: Id<Subnet>) {
        if let Some(name) = self.site().subnet_by_id(id).map(|subnet| subnet.name.clone()) {
            self.record(Recorded::Subnet { name });
        }
    }
}

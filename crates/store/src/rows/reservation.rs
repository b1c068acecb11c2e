use diesel::prelude::*;
use lastmile_core::model::reservation::Reservation;

use crate::{StoreError, Tx, schema::reservation, value::Row};

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = reservation)]
struct ReservationRow {
    address: String,
    subnet_id: String,
    client: String,
}

impl From<&Reservation> for ReservationRow {
    fn from(reservation: &Reservation) -> Self {
        Self {
            address: reservation.address.to_string(),
            subnet_id: reservation.subnet.to_string(),
            client: reservation.client.to_string(),
        }
    }
}

impl TryFrom<ReservationRow> for Reservation {
    type Error = StoreError;

    fn try_from(row: ReservationRow) -> Result<Self, StoreError> {
        let read = Row { table: "reservation", key: &row.address };
        Ok(Self {
            address: read.text(&row.address)?,
            subnet: read.text(&row.subnet_id)?,
            client: read.text(&row.client)?,
        })
    }
}

impl Tx<'_> {
    /// Adds a reservation in the place of the one its client had on the subnet.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_reservation(&mut self, entity: &Reservation) -> Result<(), StoreError> {
        // REPLACE takes out whatever stands in the way by address or by client.
        let row = ReservationRow::from(entity);
        diesel::replace_into(reservation::table).values(row).execute(self.connection())?;
        Ok(())
    }

    /// Removes a reservation.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_reservation(&mut self, address: std::net::Ipv4Addr) -> Result<(), StoreError> {
        diesel::delete(reservation::table.find(address.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn reservations(&mut self) -> Result<Vec<Reservation>, StoreError> {
        let rows = reservation::table.select(ReservationRow::as_select()).load(self.connection())?;
        rows.into_iter().map(Reservation::try_from).collect()
    }
}

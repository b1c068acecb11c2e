use diesel::prelude::*;
use lastmile_core::model::location::Location;

use crate::{StoreError, Tx, schema::location};

/// Rows that are inserted by one statement: SQLite binds 32,766 values at most.
const AT_ONCE: usize = 5000;

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = location)]
struct LocationRow {
    switch: String,
    port: String,
    hall: String,
    row: String,
    rack: String,
    unit: String,
}

impl Tx<'_> {
    /// Keeps these as all the locations there are.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_locations(&mut self, locations: &[Location]) -> Result<(), StoreError> {
        diesel::delete(location::table).execute(self.connection())?;
        let row = |location: &Location| LocationRow {
            switch: location.switch.clone(),
            port: location.port.clone(),
            hall: location.hall.clone(),
            row: location.row.clone(),
            rack: location.rack.clone(),
            unit: location.unit.clone(),
        };
        let rows: Vec<LocationRow> = locations.iter().map(row).collect();
        for some in rows.chunks(AT_ONCE) {
            diesel::insert_into(location::table).values(some).execute(self.connection())?;
        }
        Ok(())
    }

    pub(crate) fn locations(&mut self) -> Result<Vec<Location>, StoreError> {
        let rows = location::table.select(LocationRow::as_select()).load(self.connection())?;
        let location = |row: LocationRow| Location {
            switch: row.switch,
            port: row.port,
            hall: row.hall,
            row: row.row,
            rack: row.rack,
            unit: row.unit,
        };
        Ok(rows.into_iter().map(location).collect())
    }
}

use diesel::prelude::*;
use lastmile_core::dhcp::LeaseRecord;

use crate::{StoreError, Tx, schema::lease, value::Row};

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = lease)]
struct LeaseRow {
    address: String,
    subnet_id: String,
    client: String,
    state: String,
    since: i64,
    until: i64,
}

impl From<&LeaseRecord> for LeaseRow {
    fn from(record: &LeaseRecord) -> Self {
        Self {
            address: record.address.to_string(),
            subnet_id: record.subnet.to_string(),
            client: record.client.to_string(),
            state: record.state.as_str().into(),
            since: record.since.as_millisecond(),
            until: record.until.as_millisecond(),
        }
    }
}

impl TryFrom<LeaseRow> for LeaseRecord {
    type Error = StoreError;

    fn try_from(row: LeaseRow) -> Result<Self, StoreError> {
        let read = Row { table: "lease", key: &row.address };
        Ok(Self {
            address: read.text(&row.address)?,
            subnet: read.text(&row.subnet_id)?,
            client: read.text(&row.client)?,
            state: read.name(&row.state)?,
            since: read.time(row.since)?,
            until: read.time(row.until)?,
        })
    }
}

impl Tx<'_> {
    pub(crate) fn put_lease(&mut self, record: &LeaseRecord) -> Result<(), StoreError> {
        diesel::replace_into(lease::table).values(LeaseRow::from(record)).execute(self.connection())?;
        Ok(())
    }

    /// Forgets who holds an address.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_lease(&mut self, address: std::net::Ipv4Addr) -> Result<(), StoreError> {
        diesel::delete(lease::table.find(address.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn leases(&mut self) -> Result<Vec<LeaseRecord>, StoreError> {
        let rows = lease::table.select(LeaseRow::as_select()).load(self.connection())?;
        rows.into_iter().map(LeaseRecord::try_from).collect()
    }
}

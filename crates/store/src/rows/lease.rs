use std::collections::HashMap;

use diesel::{connection::SimpleConnection, prelude::*};
use lastmile_core::dhcp::LeaseRecord;

use crate::{
    StoreError, Tx,
    schema::{lease, lease_journal},
    value::Row,
};

/// A row of either table: their columns are the same.
#[derive(Queryable, Insertable)]
#[diesel(table_name = lease_journal)]
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

/// Folds the journal: the last row of each address goes into the table, in the order in which the table has them.
const FOLD: &str = "INSERT OR REPLACE INTO lease \
    SELECT address, subnet_id, client, state, since, until FROM lease_journal \
    WHERE seq IN (SELECT max(seq) FROM lease_journal GROUP BY address) ORDER BY address; \
    DELETE FROM lease_journal;";

impl Tx<'_> {
    pub(crate) fn put_lease(&mut self, record: &LeaseRecord) -> Result<(), StoreError> {
        let row = LeaseRow::from(record);
        diesel::insert_into(lease_journal::table).values(row).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn fold_leases(&mut self) -> Result<(), StoreError> {
        Ok(self.connection().batch_execute(FOLD)?)
    }

    /// Forgets who holds an address.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_lease(&mut self, address: std::net::Ipv4Addr) -> Result<(), StoreError> {
        let address = address.to_string();
        let of_it = lease_journal::table.filter(lease_journal::address.eq(&address));
        diesel::delete(of_it).execute(self.connection())?;
        diesel::delete(lease::table.find(&address)).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn leases(&mut self) -> Result<Vec<LeaseRecord>, StoreError> {
        use lease_journal as journal;
        let kept = lease::table.load::<LeaseRow>(self.connection())?;
        let columns = (
            journal::address,
            journal::subnet_id,
            journal::client,
            journal::state,
            journal::since,
            journal::until,
        );
        let newer = journal::table.order(journal::seq).select(columns).load::<LeaseRow>(self.connection())?;
        let mut last: HashMap<String, LeaseRow> = HashMap::new();
        for row in kept.into_iter().chain(newer) {
            last.insert(row.address.clone(), row);
        }
        last.into_values().map(LeaseRecord::try_from).collect()
    }
}

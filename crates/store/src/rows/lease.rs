use std::collections::HashMap;

use diesel::{connection::SimpleConnection, prelude::*};
use lastmile_core::model::lease::LeaseRecord;

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
    version: i64,
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
            version: record.version.cast_signed(),
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
            version: row.version.cast_unsigned(),
        })
    }
}

/// Folds the journal: of each address the row of the highest version goes into the table, in the order in which the table has
/// them.
const FOLD: &str = "INSERT OR REPLACE INTO lease \
    SELECT address, subnet_id, client, state, since, until, max(version) FROM lease_journal AS newer \
    WHERE NOT EXISTS (SELECT 1 FROM lease WHERE lease.address = newer.address AND lease.version > newer.version) \
    GROUP BY address ORDER BY address; \
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
            journal::version,
        );
        let newer = journal::table.order(journal::seq).select(columns).load::<LeaseRow>(self.connection())?;
        let mut last: HashMap<String, LeaseRow> = HashMap::new();
        for row in kept.into_iter().chain(newer) {
            if last.get(&row.address).is_none_or(|known| known.version <= row.version) {
                last.insert(row.address.clone(), row);
            }
        }
        last.into_values().map(LeaseRecord::try_from).collect()
    }
}

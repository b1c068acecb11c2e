//! Leases have a database of their own: one is on disk before its machine is told, and waits for nothing that people do.

use std::path::{Path, PathBuf};

use diesel::{
    QueryableByName, RunQueryDsl, SqliteConnection, connection::SimpleConnection, sql_query,
    sql_types::BigInt,
};
use diesel_migrations::{EmbeddedMigrations, embed_migrations};

use crate::StoreError;

pub(crate) const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations_of_leases");

/// Where the leases of the records at `path` are.
pub(crate) fn path_beside(path: &Path) -> PathBuf {
    path.with_file_name("leases.sqlite")
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

/// Takes over what an earlier version kept among the other records: first it is on disk there, then it goes here, because one
/// transaction over two files in WAL mode can lose half of it at a power cut (<https://sqlite.org/lang_attach.html>). Begun
/// again in between, it does no harm: of two records of an address the one with the higher version counts.
///
/// # Errors
/// What the database refused.
pub(crate) fn take_over(records: &mut SqliteConnection, leases: &Path) -> Result<(), StoreError> {
    let count = "SELECT (SELECT COUNT(*) FROM lease) + (SELECT COUNT(*) FROM lease_journal) AS count";
    let kept: Count = sql_query(count).get_result(records)?;
    if kept.count == 0 {
        return Ok(());
    }
    let columns = "address, subnet_id, client, state, since, until, version";
    let attach = sql_query("ATTACH DATABASE ? AS leases");
    let path = leases.to_str().unwrap_or_default();
    attach.bind::<diesel::sql_types::Text, _>(path).execute(records)?;
    let moved = records.batch_execute(&format!(
        "BEGIN IMMEDIATE; \
         INSERT INTO leases.lease_journal ({columns}) SELECT {columns} FROM main.lease; \
         INSERT INTO leases.lease_journal ({columns}) SELECT {columns} FROM main.lease_journal ORDER BY seq; \
         COMMIT; BEGIN IMMEDIATE; \
         DELETE FROM main.lease; DELETE FROM main.lease_journal; COMMIT;"
    ));
    if moved.is_err() {
        // Whatever was begun is undone; what it was is what matters.
        let _ = records.batch_execute("ROLLBACK");
    }
    records.batch_execute("DETACH DATABASE leases")?;
    Ok(moved?)
}

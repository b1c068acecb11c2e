//! The records of Last Mile in SQLite, through Diesel.
//!
//! [`Store::write`] hands a job to the one writing thread, which commits whatever is queued as one
//! transaction; the caller hears of it when it is on disk. [`Store::read`] runs on a connection of its own and
//! never waits for a writer. [`Store::load`] gives the snapshot and the leases at start.

mod error;
mod rows;
mod schema;
mod tx;
mod value;
mod writer;

use std::{fs::OpenOptions, os::unix::fs::OpenOptionsExt, path::Path};

use diesel::{
    Connection, SqliteConnection,
    connection::SimpleConnection,
    r2d2::{ConnectionManager, CustomizeConnection, Pool},
};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
pub use error::StoreError;
use lastmile_core::dhcp::LeaseRecord;
pub use rows::{
    handover::{Delivery, DeliveryFilter, Handover, NewDelivery},
    install::InstallFilter,
    log::LogLine,
};
pub use tx::{Loaded, Tx};
use writer::Writer;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");
/// Connections that only read: the console's and the client's questions, never a boot's.
const READERS: u32 = 4;
/// How each connection works. FULL: what was acknowledged is on the disk, also after a power cut.
const PRAGMAS: &str = "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; \
                       PRAGMA foreign_keys = ON;";

/// The records.
#[derive(Debug, Clone)]
pub struct Store {
    writer: Writer,
    readers: Pool<ConnectionManager<SqliteConnection>>,
}

#[derive(Debug)]
struct SetUp;

impl CustomizeConnection<SqliteConnection, diesel::r2d2::Error> for SetUp {
    fn on_acquire(&self, connection: &mut SqliteConnection) -> Result<(), diesel::r2d2::Error> {
        connection.batch_execute(PRAGMAS).map_err(diesel::r2d2::Error::QueryError)
    }
}

impl Store {
    /// Opens the database file, making it or bringing it to this version's tables where needed.
    ///
    /// # Errors
    /// [`StoreError::Open`] if the file cannot be opened or is no database, [`StoreError::Migrate`] if its tables
    /// cannot be brought to this version.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let open = |reason: String| StoreError::Open { path: path.into(), reason };
        let url = path.to_str().ok_or_else(|| open("the path is not UTF-8".into()))?;
        // Hashes and tokens are in it: for the service's own user only. SQLite gives its companions the same mode.
        let private = OpenOptions::new().create(true).append(true).mode(0o600).open(path);
        private.map_err(|error| open(error.to_string()))?;
        let mut connection = SqliteConnection::establish(url).map_err(|error| open(error.to_string()))?;
        connection.batch_execute(PRAGMAS).map_err(|error| open(error.to_string()))?;
        connection
            .run_pending_migrations(MIGRATIONS)
            .map_err(|error| StoreError::Migrate { reason: error.to_string() })?;
        let readers = Pool::builder()
            .max_size(READERS)
            .min_idle(Some(0))
            .connection_customizer(Box::new(SetUp))
            .build(ConnectionManager::new(url))
            .map_err(|error| open(error.to_string()))?;
        Ok(Self { writer: Writer::start(connection)?, readers })
    }

    /// Runs `job` in the writer's next transaction; returns once that is on disk. An error undoes this job only.
    ///
    /// # Errors
    /// What the job gave, or [`StoreError::Commit`] if the transaction could not be kept.
    pub async fn write<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.writer.run(job).await
    }

    /// Keeps what holds an address now; returns once that is on disk.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn put_lease(&self, record: LeaseRecord) -> Result<(), StoreError> {
        self.writer.run_one(move |tx| tx.put_lease(&record)).await
    }

    /// Tidies up what leases left behind while they came quickly: worth doing when nothing is going on.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn fold_leases(&self) -> Result<(), StoreError> {
        self.writer.run(|tx| tx.fold_leases()).await
    }

    /// Keeps many of these in one job: all of them, or none.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn put_leases(&self, records: Vec<LeaseRecord>) -> Result<(), StoreError> {
        self.writer.run(move |tx| records.iter().try_for_each(|record| tx.put_lease(record))).await
    }

    /// Runs `job` on a reading connection, away from the asynchronous threads.
    ///
    /// # Errors
    /// What the job gave, or that no connection could be had.
    pub async fn read<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let readers = self.readers.clone();
        let task = tokio::task::spawn_blocking(move || {
            let mut connection =
                readers.get().map_err(|error| StoreError::NoConnection { reason: error.to_string() })?;
            job(&mut Tx::new(&mut connection))
        });
        task.await.map_err(|_| StoreError::Closed)?
    }

    /// Everything that is needed at start.
    ///
    /// # Errors
    /// [`StoreError::Value`] names the row that cannot be read.
    pub fn load(&self) -> Result<Loaded, StoreError> {
        let mut connection =
            self.readers.get().map_err(|error| StoreError::NoConnection { reason: error.to_string() })?;
        Tx::new(&mut connection).load()
    }
}

#[cfg(test)]
mod tests;

//! The records of Last Mile in SQLite, through Diesel. Leases have a database of their own ([`leases`]).
//!
//! [`Store::change`] hands a change to the one writing thread, which commits whatever is queued as one transaction. The
//! writer then shows the new snapshot ([`Store::site`]), tells the observer what was recorded, and only then the caller: a
//! caller that has gone away changes nothing of that. At any moment the snapshot is what [`Store::load`] would give.
//! [`Store::read`] runs on a connection of its own and never waits for the writer.

mod change;
mod converted;
mod error;
mod leases;
mod recorded;
mod rows;
mod schema;
mod tx;
mod value;
mod writer;

use std::{fmt, fs::OpenOptions, os::unix::fs::OpenOptionsExt, path::Path, sync::Arc};

pub use change::Change;
use diesel::{
    Connection, SqliteConnection,
    connection::SimpleConnection,
    r2d2::{ConnectionManager, CustomizeConnection, Pool},
};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
pub use error::StoreError;
use lastmile_core::{model::lease::LeaseRecord, site::Site};
pub use recorded::Recorded;
pub use rows::{
    address_note::{AddressNote, NoteKind},
    install::{InstallCounts, InstallFilter},
    job::{JobFilter, JobsOf, OnScreen, ScreenEvent},
    log::LogLine,
    rule::RuleUseFilter,
    webhook::{Delivery, DeliveryFilter, NewDelivery},
};
pub use tx::{Loaded, Tx};
use writer::{Shown, Urgency, Writer};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");
/// Connections that only read: the console's and the client's questions, never a boot's.
const READERS: u32 = 4;
/// How each connection works. FULL: what was acknowledged is on the disk, also after a power cut.
const PRAGMAS: &str = "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; \
                       PRAGMA foreign_keys = ON;";

/// The records.
#[derive(Clone)]
pub struct Store {
    writer: Writer,
    /// The thread that writes leases, into a database of its own.
    lease_writer: Writer,
    lease_path: Arc<Path>,
    readers: Pool<ConnectionManager<SqliteConnection>>,
    shown: Arc<Shown>,
    lease_shown: Arc<Shown>,
}

impl fmt::Debug for Store {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Store").finish_non_exhaustive()
    }
}

#[derive(Debug)]
struct SetUp;

impl CustomizeConnection<SqliteConnection, diesel::r2d2::Error> for SetUp {
    fn on_acquire(&self, connection: &mut SqliteConnection) -> Result<(), diesel::r2d2::Error> {
        connection.batch_execute(PRAGMAS).map_err(diesel::r2d2::Error::QueryError)
    }
}

impl Store {
    /// Opens the database file and that of the leases beside it, making them or bringing them to this version's tables where
    /// needed.
    ///
    /// # Errors
    /// [`StoreError::Open`] if the file cannot be opened or is no database, [`StoreError::Migrate`] if its tables
    /// cannot be brought to this version.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let lease_path = leases::path_beside(path);
        let mut connection = connect(path, MIGRATIONS)?;
        converted::convert(&mut connection)?;
        let lease_connection = connect(&lease_path, leases::MIGRATIONS)?;
        leases::take_over(&mut connection, &lease_path)?;
        let open = |reason: String| StoreError::Open { path: path.into(), reason };
        let url = path.to_str().unwrap_or_default();
        let readers = Pool::builder()
            .max_size(READERS)
            .min_idle(Some(0))
            .connection_customizer(Box::new(SetUp))
            .build(ConnectionManager::new(url))
            .map_err(|error| open(error.to_string()))?;
        let shown = Arc::new(Shown::default());
        shown.site.store(Arc::new(Tx::new(&mut connection).load_site()?));
        let lease_shown = Arc::new(Shown::default());
        Ok(Self {
            writer: Writer::start("store-writer", connection, shown.clone())?,
            lease_writer: Writer::start("lease-writer", lease_connection, lease_shown.clone())?,
            lease_path: lease_path.into(),
            readers,
            shown,
            lease_shown,
        })
    }

    /// The snapshot as it is now.
    #[must_use]
    pub fn site(&self) -> Arc<Site> {
        self.shown.site.load_full()
    }

    /// Has `observer` told of everything that is recorded from now on: in the order of the commits, after the snapshot has
    /// it, and before any caller hears of it. It runs on the writing thread and must be quick. Only the first is kept.
    pub fn observe(&self, observer: impl Fn(&Arc<Site>, Vec<Recorded>) + Send + Sync + 'static) {
        // A second one would be a fault of the program that its tests show.
        let _ = self.shown.observer.set(Box::new(observer));
    }

    /// Runs `job` in the writer's next transaction; returns once that is on disk and in the snapshot. Once it is queued, it
    /// is carried out whether or not anybody waits for it. An error undoes this change only.
    ///
    /// # Errors
    /// What the job gave, or [`StoreError::Commit`] if the transaction could not be kept.
    pub fn change<T, E>(
        &self,
        job: impl FnOnce(&mut Change<'_>) -> Result<T, E> + Send + 'static,
    ) -> impl Future<Output = Result<T, E>> + Send
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        self.writer.change(Urgency::Person, job)
    }

    /// The same for what a machine waits for: before all that people wait for.
    ///
    /// # Errors
    /// As of [`Self::change`].
    pub fn change_for_machine<T, E>(
        &self,
        job: impl FnOnce(&mut Change<'_>) -> Result<T, E> + Send + 'static,
    ) -> impl Future<Output = Result<T, E>> + Send
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        self.writer.change(Urgency::Machine, job)
    }

    /// Waits until the writing threads have answered, whatever they answer.
    pub async fn ping(&self) {
        self.writer.ping().await;
        self.lease_writer.ping().await;
    }

    /// Why what was last to be recorded could not be; nothing once something was recorded again.
    #[must_use]
    pub fn trouble(&self) -> Option<String> {
        let trouble = self.shown.trouble.load_full().or_else(|| self.lease_shown.trouble.load_full());
        trouble.map(|trouble| (*trouble).clone())
    }

    /// Waits until something cannot be recorded any more: a writing thread has ended.
    pub async fn ended(&self) {
        let (records, leases) =
            (std::pin::pin!(self.writer.ended()), std::pin::pin!(self.lease_writer.ended()));
        futures_util::future::select(records, leases).await;
    }

    /// Keeps what holds an address now; returns once that is on disk.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn put_lease(&self, record: LeaseRecord) -> Result<(), StoreError> {
        self.lease_writer.run_one(move |tx| tx.put_lease(&record)).await
    }

    /// Keeps which addresses machines have that no lease says, and forgets what was last seen before `before`.
    ///
    /// # Errors
    /// As of [`Self::change`].
    pub async fn put_address_notes(
        &self,
        notes: Vec<AddressNote>,
        before: jiff::Timestamp,
    ) -> Result<(), StoreError> {
        let put = move |tx: &mut Tx<'_>| {
            tx.forget_address_notes(before)?;
            notes.iter().try_for_each(|note| tx.put_address_note(note))
        };
        self.writer.run(put).await
    }

    /// Tidies up what leases left behind while they came quickly: worth doing when nothing is going on.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn fold_leases(&self) -> Result<(), StoreError> {
        self.lease_writer.run(|tx| tx.fold_leases()).await
    }

    /// Keeps many of these in one job: all of them, or none.
    ///
    /// # Errors
    /// As of [`Self::write`].
    pub async fn put_leases(&self, records: Vec<LeaseRecord>) -> Result<(), StoreError> {
        self.lease_writer.run(move |tx| records.iter().try_for_each(|record| tx.put_lease(record))).await
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

    /// What is on disk, read anew: the snapshot, and the leases.
    ///
    /// # Errors
    /// [`StoreError::Value`] names the row that cannot be read.
    pub fn load(&self) -> Result<Loaded, StoreError> {
        let mut connection =
            self.readers.get().map_err(|error| StoreError::NoConnection { reason: error.to_string() })?;
        let mut leases = connect(&self.lease_path, leases::MIGRATIONS)?;
        Ok(Loaded { leases: Tx::new(&mut leases).leases()?, ..Tx::new(&mut connection).load()? })
    }
}

/// Opens a database file, making it or bringing it to this version's tables where needed.
fn connect(path: &Path, migrations: EmbeddedMigrations) -> Result<SqliteConnection, StoreError> {
    let open = |reason: String| StoreError::Open { path: path.into(), reason };
    let url = path.to_str().ok_or_else(|| open("the path is not UTF-8".into()))?;
    // Hashes and tokens are in it: for the service's own user only. SQLite gives its companions the same mode.
    let private = OpenOptions::new().create(true).append(true).mode(0o600).open(path);
    private.map_err(|error| open(error.to_string()))?;
    let mut connection = SqliteConnection::establish(url).map_err(|error| open(error.to_string()))?;
    connection.batch_execute(PRAGMAS).map_err(|error| open(error.to_string()))?;
    connection
        .run_pending_migrations(migrations)
        .map_err(|error| StoreError::Migrate { reason: error.to_string() })?;
    Ok(connection)
}

#[cfg(test)]
mod job_tests;
#[cfg(test)]
mod migration_tests;
#[cfg(test)]
mod rule_tests;
#[cfg(test)]
mod survey_tests;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod writer_tests;

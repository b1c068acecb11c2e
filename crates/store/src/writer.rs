//! The one writing thread, with group commit.

use std::thread;

use diesel::{Connection, SqliteConnection};
use tokio::sync::{mpsc, oneshot};

use crate::{StoreError, Tx};

/// Jobs that may wait; beyond it callers wait to hand theirs over.
const QUEUE: usize = 4096;
/// Jobs in one transaction at most, so that the first of them does not wait too long.
const GROUP: usize = 1024;

/// Told after the commit: `None` if it is on disk, the reason if not.
type Completion = Box<dyn FnOnce(Option<&str>) + Send>;
/// Runs inside the transaction.
type Job = Box<dyn FnOnce(&mut SqliteConnection) -> Completion + Send>;

/// A handle to the writing thread, which ends with its last handle.
#[derive(Debug, Clone)]
pub(crate) struct Writer {
    jobs: mpsc::Sender<Job>,
}

impl Writer {
    pub(crate) fn start(connection: SqliteConnection) -> Result<Self, StoreError> {
        let (jobs, queue) = mpsc::channel(QUEUE);
        let work = move || work(connection, queue);
        thread::Builder::new().name("store-writer".into()).spawn(work).map_err(|_| StoreError::Closed)?;
        Ok(Self { jobs })
    }

    /// Runs a job of any number of statements; an error undoes this job and leaves the others of its group alone.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.queue(move |connection| connection.transaction(|connection| job(&mut Tx::new(connection)))).await
    }

    /// Runs a job of one statement, which SQLite undoes by itself if it fails: it needs no savepoint, and those
    /// cost more than the statement.
    pub(crate) async fn run_one<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.queue(move |connection| job(&mut Tx::new(connection))).await
    }

    async fn queue<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (tell, told) = oneshot::channel();
        let job: Job = Box::new(move |connection| {
            let result = job(connection);
            Box::new(move |failure| {
                let result = match failure {
                    None => result,
                    Some(reason) => result.and(Err(StoreError::Commit { reason: reason.into() })),
                };
                // The caller may have stopped waiting.
                let _ = tell.send(result);
            })
        });
        self.jobs.send(job).await.map_err(|_| StoreError::Closed)?;
        told.await.map_err(|_| StoreError::Closed)?
    }
}

fn work(mut connection: SqliteConnection, mut queue: mpsc::Receiver<Job>) {
    let mut group: Vec<Job> = Vec::new();
    while queue.blocking_recv_many(&mut group, GROUP) > 0 {
        let mut completions: Vec<Completion> = Vec::with_capacity(group.len());
        let committed = connection.immediate_transaction(|connection| {
            completions.extend(group.drain(..).map(|job| job(connection)));
            Ok::<_, diesel::result::Error>(())
        });
        let failure = committed.err().map(|error| error.to_string());
        // Jobs left in the group never ran (BEGIN failed): dropping them tells their callers.
        group.clear();
        for completion in completions {
            completion(failure.as_deref());
        }
    }
}

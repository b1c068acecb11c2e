//! A writing thread, one for each database: group commit, and the snapshot that goes with it.

use std::{
    panic::{AssertUnwindSafe, catch_unwind},
    sync::{Arc, Mutex, OnceLock, PoisonError},
    thread,
};

use arc_swap::{ArcSwap, ArcSwapOption};
use diesel::{
    Connection, SqliteConnection,
    connection::InstrumentationEvent,
    result::{DatabaseErrorKind, Error},
};
use futures_util::future::{Either, select};
use lastmile_core::site::Site;
use tokio::sync::{mpsc, oneshot, watch};

use crate::{
    Recorded, StoreError, Tx,
    change::{Change, Pending},
};

/// Jobs that may wait; beyond it callers wait to hand theirs over.
const QUEUE: usize = 4096;
/// Jobs for machines in one transaction at most, so that the first of them does not wait too long.
const GROUP: usize = 1024;
/// Jobs for people in one transaction at most: machines wait for no more than these.
const ORDINARY: usize = 8;

/// Told after the commit: `None` if it is on disk, the reason if not.
type Completion = Box<dyn FnOnce(Option<&str>) + Send>;
/// Runs inside the transaction, or is told why there is none.
type Job = Box<dyn FnOnce(Result<(&mut SqliteConnection, &mut Pending), &str>) -> Completion + Send>;
/// Told what was recorded, after the snapshot has it and before any caller hears of it.
pub(crate) type Observer = Box<dyn Fn(&Arc<Site>, Vec<Recorded>) + Send + Sync>;

/// Who waits for a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Urgency {
    /// A machine: its jobs come first.
    Machine,
    /// A person, or nobody.
    Person,
}

/// What the writer keeps beside the database.
#[derive(Default)]
pub(crate) struct Shown {
    pub(crate) site: ArcSwap<Site>,
    pub(crate) observer: OnceLock<Observer>,
    /// Why nothing could be kept, the last time that something was to be.
    pub(crate) trouble: ArcSwapOption<String>,
}

/// A handle to the writing thread, which ends with its last handle.
#[derive(Debug, Clone)]
pub(crate) struct Writer {
    urgent: mpsc::Sender<Job>,
    ordinary: mpsc::Sender<Job>,
    ended: watch::Receiver<bool>,
}

impl Writer {
    pub(crate) fn start(
        name: &str,
        connection: SqliteConnection,
        shown: Arc<Shown>,
    ) -> Result<Self, StoreError> {
        let (urgent, urgent_queue) = mpsc::channel(QUEUE);
        let (ordinary, ordinary_queue) = mpsc::channel(QUEUE);
        let (end, ended) = watch::channel(false);
        let work = move || {
            let queues = Queues { urgent: urgent_queue, ordinary: ordinary_queue };
            // A panic of a job leaves nobody to write: whoever watches ends the service, and it is started anew.
            let outcome = catch_unwind(AssertUnwindSafe(|| work(connection, queues, &shown)));
            end.send_replace(true);
            drop(outcome);
        };
        thread::Builder::new().name(name.into()).spawn(work).map_err(|_| StoreError::Closed)?;
        Ok(Self { urgent, ordinary, ended })
    }

    /// Waits until the writing thread has ended: nothing can be recorded any more.
    pub(crate) async fn ended(&self) {
        let mut ended = self.ended.clone();
        // An error says that the thread is gone, too.
        let _ = ended.wait_for(|ended| *ended).await;
    }

    /// Runs a change of any number of statements; an error undoes this change and leaves the others of its group alone.
    pub(crate) fn change<T, E>(
        &self,
        urgency: Urgency,
        job: impl FnOnce(&mut Change<'_>) -> Result<T, E> + Send + 'static,
    ) -> impl Future<Output = Result<T, E>> + Send
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        let run = move |connection: &mut SqliteConnection, pending: &mut Pending| {
            let (site, recorded) = (pending.site.clone(), pending.recorded.len());
            let done = connection.transaction(|connection| {
                job(&mut Change::new(Tx::new(connection), pending)).map_err(Undo::Job)
            });
            done.map_err(|undo: Undo<E>| {
                pending.site = site;
                pending.recorded.truncate(recorded);
                match undo {
                    Undo::Job(error) => error,
                    Undo::Database(error) => StoreError::from(error).into(),
                }
            })
        };
        self.queue(urgency, run)
    }

    /// Runs a job of one statement, which SQLite undoes by itself if it fails: it needs no savepoint, and those
    /// cost more than the statement.
    pub(crate) async fn run_one<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let run = move |connection: &mut SqliteConnection, pending: &mut Pending| {
            pending.is_written = true;
            job(&mut Tx::new(connection))
        };
        self.queue(Urgency::Machine, run).await
    }

    /// Waits until the thread has answered, whatever it answers.
    pub(crate) async fn ping(&self) {
        // Whether its transaction was kept says nothing of the thread.
        let _ = self.queue(Urgency::Machine, |_, _| Ok::<_, StoreError>(())).await;
    }

    /// Runs a job of several statements that changes nothing of the snapshot.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        job: impl FnOnce(&mut Tx<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let run = move |connection: &mut SqliteConnection, pending: &mut Pending| {
            pending.is_written = true;
            connection.transaction(|connection| job(&mut Tx::new(connection)))
        };
        self.queue(Urgency::Machine, run).await
    }

    /// The job is boxed before anybody waits: what waits is small, whatever the job carries.
    fn queue<T, E>(
        &self,
        urgency: Urgency,
        job: impl FnOnce(&mut SqliteConnection, &mut Pending) -> Result<T, E> + Send + 'static,
    ) -> impl Future<Output = Result<T, E>> + Send
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        let (tell, told) = oneshot::channel();
        let job: Job = Box::new(move |transaction| {
            let result = match transaction {
                Ok((connection, pending)) => job(connection, pending),
                Err(reason) => Err(StoreError::Commit { reason: reason.into() }.into()),
            };
            Box::new(move |failure| {
                let result = match failure {
                    None => result,
                    Some(reason) => result.and(Err(StoreError::Commit { reason: reason.into() }.into())),
                };
                // The caller may have stopped waiting.
                let _ = tell.send(result);
            })
        });
        let queue = match urgency {
            Urgency::Machine => &self.urgent,
            Urgency::Person => &self.ordinary,
        };
        async move {
            queue.send(job).await.map_err(|_| StoreError::Closed)?;
            told.await.map_err(|_| StoreError::Closed)?
        }
    }
}

/// Why a change is undone.
enum Undo<E> {
    /// The job says so.
    Job(E),
    /// Its savepoint could not be made or kept.
    Database(diesel::result::Error),
}

impl<E> From<diesel::result::Error> for Undo<E> {
    fn from(error: diesel::result::Error) -> Self {
        Self::Database(error)
    }
}

struct Queues {
    urgent: mpsc::Receiver<Job>,
    ordinary: mpsc::Receiver<Job>,
}

impl Queues {
    /// The jobs of the next transaction, machines' first; none once every handle is gone and nothing waits.
    fn next(&mut self) -> Vec<Job> {
        let (mut group, mut ordinary) = (Vec::new(), Vec::new());
        futures_executor::block_on(async {
            let urgent = std::pin::pin!(self.urgent.recv_many(&mut group, GROUP));
            let waiting = std::pin::pin!(self.ordinary.recv_many(&mut ordinary, ORDINARY));
            match select(urgent, waiting).await {
                // One queue is closed with all its handles; the other may still have jobs.
                Either::Left((0, waiting)) => drop(waiting.await),
                Either::Right((0, urgent)) => drop(urgent.await),
                Either::Left(_) | Either::Right(_) => {}
            }
        });
        while group.len() < GROUP
            && let Ok(job) = self.urgent.try_recv()
        {
            group.push(job);
        }
        while ordinary.len() < ORDINARY
            && let Ok(job) = self.ordinary.try_recv()
        {
            ordinary.push(job);
        }
        group.append(&mut ordinary);
        group
    }
}

/// The last thing that SQLite itself had against a statement: no room, no right to write, somebody else's lock.
#[derive(Clone, Default)]
struct Refused(Arc<Mutex<Option<String>>>);

impl Refused {
    fn watch(&self, connection: &mut SqliteConnection) {
        let refused = self.clone();
        connection.set_instrumentation(move |event: InstrumentationEvent<'_>| {
            // Every other kind is a rule of the tables, broken by what was asked.
            if let InstrumentationEvent::FinishQuery {
                error: Some(Error::DatabaseError(DatabaseErrorKind::Unknown, what)),
                ..
            } = event
            {
                *refused.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(what.message().to_owned());
            }
        });
    }

    fn take(&self) -> Option<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

fn work(mut connection: SqliteConnection, mut queues: Queues, shown: &Shown) {
    let refused = Refused::default();
    refused.watch(&mut connection);
    loop {
        let mut group = queues.next();
        if group.is_empty() {
            return;
        }
        let before = shown.site.load_full();
        let mut pending =
            Pending { site: (*before).clone(), recorded: Vec::new(), is_changed: false, is_written: false };
        let mut completions: Vec<Completion> = Vec::with_capacity(group.len());
        let committed = connection.immediate_transaction(|connection| {
            completions.extend(group.drain(..).map(|job| job(Ok((&mut *connection, &mut pending)))));
            Ok::<_, diesel::result::Error>(())
        });
        let failure = committed.err().map(|error| error.to_string());
        // A statement that found no room fails its own job only; the commit of the others may well be kept.
        let trouble = failure.clone().or(refused.take());
        if trouble.is_some() || pending.is_written || pending.is_changed {
            shown.trouble.store(trouble.map(Arc::new));
        }
        // Jobs left in the group never ran: BEGIN failed.
        let reason = failure.as_deref().unwrap_or_default();
        completions.extend(group.drain(..).map(|job| job(Err(reason))));
        if failure.is_none() && pending.is_changed {
            let site = Arc::new(pending.site);
            shown.site.store(site.clone());
            if let Some(observer) = shown.observer.get() {
                observer(&site, pending.recorded);
            }
        }
        for completion in completions {
            completion(failure.as_deref());
        }
    }
}

//! What is recorded: the store, the snapshot, and who is told of changes.
//!
//! Every change of what is recorded goes through [`Store::change`](lastmile_store::Store::change): the writing thread commits
//! it, shows the new snapshot, and calls what [`observe`] sets up, before whoever asked for the change hears of it.

pub(crate) mod answers;
mod jobs;
mod pace;
mod publish;
mod rows;

use std::{
    collections::{HashMap, HashSet},
    net::Ipv4Addr,
    sync::{Arc, Mutex},
};

use jiff::Timestamp;
pub(crate) use jobs::{macs_of, put_jobs};
use lastmile_api::Event;
use lastmile_core::{
    base::Id,
    model::{
        agent::TokenKey,
        answers::SealKey,
        image::{Revision, Sha256},
    },
    report::trace::Seen,
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, Store, StoreError};
use pace::Paces;
pub(crate) use publish::observe;
pub(crate) use rows::scope_name;
use tokio::sync::{Notify, broadcast};

use crate::{clock, library::Library, sync::lock, wire::Wire};

/// Events a slow reader may fall behind before it is told to read everything again.
const EVENT_BACKLOG: usize = 4096;

/// What is recorded, and what belongs to it in memory.
pub(crate) struct Records {
    pub(crate) store: Store,
    /// What secrets are sealed with.
    pub(crate) seal_key: SealKey,
    /// What the survey's agents are known by.
    pub(crate) agent_key: TokenKey,
    /// When the service started.
    pub(crate) since: Timestamp,
    pub(crate) events: broadcast::Sender<Event>,
    /// That a revision came which was never read.
    pub(crate) verify_soon: Notify,
    /// That content may have lost its last name.
    pub(crate) sweep_soon: Notify,
    /// That something is to be told.
    pub(crate) deliver_soon: Notify,
    /// When an open install was last heard of by something that is no step, by its number.
    pub(crate) signs: Mutex<HashMap<i64, Timestamp>>,
    /// How installs of each image usually go.
    paces: Paces,
    /// Digests of all tokens that were ever given: another one is told apart without a look into the records.
    tokens: Mutex<HashSet<[u8; 16]>>,
    /// What is known of machines beside what is recorded of them.
    wire: Arc<Wire>,
}

/// What is kept of a token to know it again.
fn token_digest(token: &str) -> [u8; 16] {
    let mut digest = [0; 16];
    digest.copy_from_slice(&Sha256::of(token.as_bytes()).octets()[..16]);
    digest
}

tokio::task_local! {
    /// Whether changes are only tried.
    static TRYING: bool;
}

/// Runs `work` so that no change that it makes by [`Records::change`] is kept; each is answered as if it were.
pub(crate) async fn trying<F: Future>(work: F) -> F::Output {
    TRYING.scope(true, work).await
}

/// Whether changes are only tried here.
pub(crate) fn is_trying() -> bool {
    TRYING.try_with(|is_trying| *is_trying).unwrap_or(false)
}

/// Does `work` to its end, also if nobody waits for it any more; what is only tried here is only tried there.
///
/// # Errors
/// That it panicked.
pub(crate) async fn to_the_end<T: Send + 'static>(
    work: impl Future<Output = T> + Send + 'static,
) -> Result<T, tokio::task::JoinError> {
    let is_trying = is_trying();
    tokio::spawn(async move { if is_trying { trying(work).await } else { work.await } }).await
}

/// What came of a change that was only tried.
struct Tried<T, E>(Result<T, E>);

impl<T, E: From<StoreError>> From<StoreError> for Tried<T, E> {
    fn from(error: StoreError) -> Self {
        Self(Err(error.into()))
    }
}

/// What is never.
enum Never {}

/// How often a change is prepared anew because somebody entered something meanwhile. After that it is prepared on the writing
/// thread, where others wait for it.
const PREPARED: usize = 3;

impl Records {
    /// With what the store has, and all tokens that were ever given.
    pub(crate) fn new(store: Store, seal_key: SealKey, tokens: &[String], wire: Arc<Wire>) -> Self {
        Self {
            store,
            agent_key: TokenKey::new(seal_key.derive("lastmile agent tokens")),
            seal_key,
            since: clock::now(),
            events: broadcast::channel(EVENT_BACKLOG).0,
            verify_soon: Notify::new(),
            sweep_soon: Notify::new(),
            deliver_soon: Notify::new(),
            signs: Mutex::default(),
            paces: Paces::default(),
            tokens: Mutex::new(tokens.iter().map(|token| token_digest(token)).collect()),
            wire,
        }
    }

    /// The snapshot as it is now.
    pub(crate) fn site(&self) -> Arc<Site> {
        self.store.site()
    }

    /// Makes a change that a person asked for, or tries it ([`trying`]).
    ///
    /// # Errors
    /// What `job` gave, or what the store refused; then nothing has changed.
    pub(crate) async fn change<T, E>(
        &self,
        job: impl FnOnce(&mut Change<'_>) -> Result<T, E> + Send + 'static,
    ) -> Result<T, E>
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        if !is_trying() {
            return self.store.change(job).await;
        }
        // An error undoes the change, whatever came of it.
        let tried = move |change: &mut Change<'_>| Err::<Never, _>(Tried(job(change)));
        match self.store.change(tried).await {
            Err(Tried(result)) => result,
            Ok(never) => match never {},
        }
    }

    /// Makes a change that takes time to prepare: `prepare` runs beside the writer, `apply` within it, and only if nobody
    /// entered anything meanwhile; else it is prepared anew.
    ///
    /// # Errors
    /// What either of them gave, or what the store refused; then nothing has changed.
    pub(crate) async fn change_prepared<P, T, E>(
        &self,
        prepare: impl Fn(&Site) -> Result<P, E> + Send + Sync + 'static,
        apply: impl Fn(&mut Change<'_>, P) -> Result<T, E> + Send + Sync + 'static,
    ) -> Result<T, E>
    where
        P: Send + 'static,
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        let (prepare, apply) = (Arc::new(prepare), Arc::new(apply));
        for _ in 0..PREPARED {
            let (site, prepare, apply) = (self.site(), prepare.clone(), apply.clone());
            let edition = site.last_edition();
            let prepared = tokio::task::spawn_blocking(move || prepare(&site)).await;
            let prepared = prepared.map_err(|_| StoreError::Closed)??;
            let change = move |change: &mut Change<'_>| {
                let is_still_true = change.site().last_edition() == edition;
                if is_still_true { apply(change, prepared).map(Some) } else { Ok(None) }
            };
            if let Some(done) = self.change(change).await? {
                return Ok(done);
            }
        }
        let change = move |change: &mut Change<'_>| {
            let prepared = prepare(change.site())?;
            apply(change, prepared)
        };
        self.change(change).await
    }

    /// Whether a token was ever given. Of those that were not, one in 2¹²⁸ is taken for one that was.
    pub(crate) fn was_given(&self, token: &str) -> bool {
        lock(&self.tokens).contains(&token_digest(token))
    }

    /// Notes that a token was given.
    pub(crate) fn note_token(&self, token: &str) {
        lock(&self.tokens).insert(token_digest(token));
    }

    /// Adds to the trace of the machine with that address, and tells whoever watches.
    pub(crate) fn trace(&self, mac: Mac, at: Timestamp, seen: Seen) {
        if self.wire.trial.leaves_no_record(mac) {
            return;
        }
        let site = self.site();
        let machine = site.machine_by_mac(mac);
        self.wire.note(mac, machine.is_some(), at, seen);
        match machine {
            Some(machine) => self.tell_machine(&site, machine),
            None => self.tell(Event::Newcomer { mac: mac.to_string() }),
        }
    }

    /// Makes an address free again, whoever holds it, or tries it ([`trying`]); returns once that is on disk.
    ///
    /// # Errors
    /// What the store refused: after a restart the address is held as before.
    pub(crate) async fn free_lease(&self, address: Ipv4Addr) -> Result<(), StoreError> {
        if is_trying() {
            return Ok(());
        }
        let freed = self.wire.book().free(address, clock::now());
        self.wire.prober.forget(address);
        match freed {
            Some(record) => self.store.put_lease(record).await,
            None => Ok(()),
        }
    }

    /// Looks again whether a revision's files are there and as they were, as somebody could not read one of them.
    pub(crate) async fn mark_suspect(&self, library: &Library, id: Id<Revision>) {
        let Some(revision) = self.site().revision(id).cloned() else { return };
        let library = library.clone();
        let Ok(missing) = tokio::task::spawn_blocking(move || library.missing(&revision)).await else {
            return;
        };
        let note = move |change: &mut Change<'_>| {
            let Some(revision) = change.site().revision(id).cloned() else { return Ok(()) };
            if missing.iter().all(|path| revision.damaged.contains(path)) {
                return Ok(());
            }
            let (image, number) = (&revision.image_name, revision.number);
            tracing::error!(image, revision = number, ?missing, "it is not served from now on");
            change.note_revision(Revision { damaged: missing, verified: None, ..(*revision).clone() })
        };
        let noted: Result<(), StoreError> = self.store.change(note).await;
        if let Err(error) = noted {
            tracing::error!("that an image is damaged was not recorded: {error}");
        }
    }
}

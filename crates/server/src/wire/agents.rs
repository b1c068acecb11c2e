//! The survey's agents that are connected.

use std::{
    collections::HashMap,
    net::SocketAddrV4,
    sync::{Arc, Mutex},
};

use jiff::Timestamp;
use lastmile_core::model::job::JobProgress;
use lastmile_formats::mac::Mac;
use tokio::sync::Notify;
use uuid::Uuid;

use crate::sync::lock;

/// All of them, by the address that their machines were started from.
#[derive(Debug, Default)]
pub(crate) struct Agents {
    all: Mutex<HashMap<Mac, Arc<Agent>>>,
    /// How far the jobs are that they are at, by their numbers.
    progress: Mutex<HashMap<i64, JobProgress>>,
}

/// One that is connected.
#[derive(Debug)]
pub(crate) struct Agent {
    /// The boot that it is of.
    pub(crate) boot: Uuid,
    /// From where.
    pub(crate) from: SocketAddrV4,
    /// Since when.
    pub(crate) since: Timestamp,
    /// What it is doing, by its own word.
    pub(crate) doing: Mutex<String>,
    /// That something about its machine may be different now.
    pub(crate) wake: Notify,
    /// That another connection has taken its place.
    pub(crate) replaced: Notify,
}

impl Agents {
    /// Takes up a connection. One of the same address ends: a machine has one agent, and the last word is that of the last.
    pub(crate) fn connect(&self, mac: Mac, boot: Uuid, from: SocketAddrV4, now: Timestamp) -> Arc<Agent> {
        let agent = Arc::new(Agent {
            boot,
            from,
            since: now,
            doing: Mutex::default(),
            wake: Notify::new(),
            replaced: Notify::new(),
        });
        if let Some(former) = lock(&self.all).insert(mac, agent.clone()) {
            former.replaced.notify_one();
        }
        agent
    }

    /// A connection has ended. Says whether the machine has none now.
    pub(crate) fn disconnect(&self, mac: Mac, agent: &Arc<Agent>) -> bool {
        let mut all = lock(&self.all);
        let is_its = all.get(&mac).is_some_and(|current| Arc::ptr_eq(current, agent));
        if is_its {
            all.remove(&mac);
        }
        is_its
    }

    /// The agent on a machine with one of these addresses.
    pub(crate) fn on(&self, macs: &[Mac]) -> Option<Arc<Agent>> {
        let all = lock(&self.all);
        macs.iter().find_map(|mac| all.get(mac).cloned())
    }

    /// How far a job is, as its agent said last.
    pub(crate) fn progress(&self, job: i64) -> Option<JobProgress> {
        lock(&self.progress).get(&job).cloned()
    }

    /// Notes how far a job is.
    pub(crate) fn set_progress(&self, job: i64, progress: JobProgress) {
        lock(&self.progress).insert(job, progress);
    }

    /// A job has ended.
    pub(crate) fn forget_progress(&self, job: i64) {
        lock(&self.progress).remove(&job);
    }

    /// Has the agent of a machine look again what it is to do.
    pub(crate) fn wake(&self, macs: &[Mac]) {
        let all = lock(&self.all);
        macs.iter().filter_map(|mac| all.get(mac)).for_each(|agent| agent.wake.notify_one());
    }
}

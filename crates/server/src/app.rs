//! The parts that the service is put together from. Each component gets those it uses; the API and the check get all.

use std::sync::Arc;

use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    boot, dhcp, intake,
    library::{Library, Uploads},
    records::Records,
    survey,
    wire::Wire,
    work::WorkBook,
};

/// The whole service.
#[derive(Clone)]
pub(crate) struct App {
    /// What is recorded.
    pub(crate) records: Arc<Records>,
    /// What is known of the wire.
    pub(crate) wire: Arc<Wire>,
    /// The files.
    pub(crate) library: Library,
    /// Files on their way in.
    pub(crate) uploads: Uploads,
    /// What takes longer than a moment.
    pub(crate) work: Arc<WorkBook>,
}

impl App {
    /// What answering DHCP uses.
    pub(crate) fn dhcp(&self) -> dhcp::Parts {
        dhcp::Parts { records: self.records.clone(), wire: self.wire.clone() }
    }

    /// What serving files to machines uses.
    pub(crate) fn boot(&self) -> boot::Parts {
        boot::Parts { records: self.records.clone(), wire: self.wire.clone(), library: self.library.clone() }
    }

    /// What serving the survey's agents uses.
    pub(crate) fn survey(&self, tasks: &TaskTracker, stop: &CancellationToken) -> survey::Parts {
        survey::Parts::new(self.records.clone(), self.wire.clone(), tasks.clone(), stop.clone())
    }

    /// What looking after files uses.
    pub(crate) fn intake(&self) -> intake::Parts {
        intake::Parts {
            records: self.records.clone(),
            library: self.library.clone(),
            work: self.work.clone(),
        }
    }
}

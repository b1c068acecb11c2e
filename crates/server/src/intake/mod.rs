//! How files come in, and how they are looked after: uploads in pieces, looking into what came, reading it all again.

mod archive;
mod look;
mod sweep;
mod verify;

use std::sync::Arc;

pub(crate) use look::{LookError, look};
pub(crate) use sweep::sweep_when_told;
pub(crate) use verify::{verify_again, verify_on_schedule};

use crate::{library::Library, records::Records, work::WorkBook};

/// What looking after files uses of the service.
#[derive(Clone)]
pub(crate) struct Parts {
    pub(crate) records: Arc<Records>,
    pub(crate) library: Library,
    pub(crate) work: Arc<WorkBook>,
}

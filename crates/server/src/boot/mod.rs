//! What machines reach beside DHCP: files, menus, answer files, reports.

mod delivery;
mod files;
mod http;
mod listener;
mod listing;
mod machine_files;
mod menus;
mod range;
mod sendfile;
mod tls;

use std::sync::Arc;

pub(crate) use files::{Asker, Media, Refusal, RequestKind, Served, resolve};
pub(crate) use http::router;
pub(crate) use listener::{Ends, serve};
pub(crate) use menus::{preview, reader};
pub(crate) use tls::{Tls, tls};

use crate::{library::Library, records::Records, wire::Wire};

/// What serving files to machines uses of the service, by TFTP and HTTP alike.
#[derive(Clone)]
pub(crate) struct Parts {
    pub(crate) records: Arc<Records>,
    pub(crate) wire: Arc<Wire>,
    pub(crate) library: Library,
}

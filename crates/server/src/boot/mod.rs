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

pub(crate) use files::{Asker, Manner, Media, Refusal, Served, resolve};
pub(crate) use http::router;
pub(crate) use listener::serve;
pub(crate) use menus::{lease_of, preview, reader};
pub(crate) use tls::{Tls, tls};

//! What machines reach beside DHCP: files, menus, answer files, reports.

mod files;
mod http;
mod listener;
mod machine_files;
mod tls;

pub(crate) use files::{Asker, Refusal, Served, reach, resolve};
pub(crate) use http::router;
pub(crate) use listener::serve;
pub(crate) use tls::{Tls, tls};

//! What runs in the memory of a machine under survey.
//!
//! [`collect`] measures a machine. It reads a tree of files, which is `/` on a machine, and anything else in tests and for
//! simulated machines, and asks its devices ([`devices`]). [`session`] keeps the connection to the service and is the same for both. [`init`] is what only a real
//! machine needs: drivers, the network ([`network`]), screens ([`status`]). [`jobs`] does what is to be done on it, and [`hooks`] runs the
//! site's own programs at defined points.

pub mod collect;
pub mod devices;
pub mod hooks;
pub mod init;
pub mod jobs;
mod lights;
pub mod network;
pub mod orders;
pub mod session;
pub mod status;

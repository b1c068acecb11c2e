//! The service: sockets and tasks around the core.
//!
//! [`start`] opens the records, binds every port, and gives a [`Running`] service. A request passes
//! socket → core parses → snapshot → core decides → reply, and never goes back up:
//!
//! | module | what it does |
//! |---|---|
//! | `dhcp` | answers DHCP on the wire and to relays |
//! | `tftp` | serves files by TFTP |
//! | `boot` | finds what a path means, serves it by HTTP, takes reports |
//! | `admin` | the API, the event stream, the console |
//! | `check` | looks for what stands in the way of a boot, and boots a machine of its own |
//! | `installs` | turns what was seen into the record |
//! | `library` | keeps content by its digest |
//! | `link` | interfaces, packet sockets, ARP and ICMP |
//! | `surroundings` | what the kernel knows about an interface's network |
//! | `state` | what all of them share |

mod admin;
mod answers;
mod boot;
mod check;
pub mod config;
mod content;
mod dhcp;
mod handover;
mod installs;
mod intake;
mod library;
mod link;
mod packaged;
mod random;
mod start;
mod state;
mod surroundings;
mod tftp;

pub use admin::openapi;
pub use config::Config;
pub use start::{Listening, Running, StartError, start};

//! The service: sockets and tasks around the core.
//!
//! [`start`] opens the records, binds every port, and gives a [`Running`] service. A request passes
//! socket → core parses → snapshot → core decides → reply, and never goes back up:
//!
//! | part | what it owns |
//! |---|---|
//! | `records` | the store, the snapshot, who is told of changes; nothing else changes what is recorded |
//! | `wire` | leases, traces, what was overheard, what machines were told |
//! | `library` | files, by their digest, and files on their way in |
//! | `work` | what takes longer than a moment, and how far it is |
//!
//! | component | what it does | with |
//! |---|---|---|
//! | `dhcp` | answers DHCP on the wire and to relays | records, wire |
//! | `boot`, `tftp` | finds what a path means, serves it by HTTP and TFTP, takes reports | records, wire, library |
//! | `installs` | turns what was seen into the record | records, wire |
//! | `rules` | has rules act on what surveys measured, and keeps what they propose | records, installs |
//! | `intake` | looks into what came in, reads it again, clears what nothing names | records, library, work |
//! | `survey` | makes the system that machines are surveyed by; keeps its agents' connections | records, wire, library, work |
//! | `webhook` | tells others of ends | records |
//! | `admin` | the API, the event stream, the console | all |
//! | `check` | looks for what stands in the way of a boot, and boots a machine of its own | all |
//! | `start` | opens, binds, begins and ends all of it | all |
//!
//! Tools that know of none of these: `clock`, `config`, `limits`, `link` (interfaces, packet sockets, ARP and ICMP), `packaged`,
//! `random`, `surroundings`, `sync`. A test holds each of them to what it may use.

mod admin;
mod app;
mod boot;
mod check;
mod clock;
pub mod config;
mod dhcp;
mod installs;
mod intake;
mod jobs;
mod library;
mod limits;
mod link;
mod packaged;
mod random;
mod records;
mod rules;
mod start;
mod surroundings;
mod survey;
mod sync;
mod tftp;
mod webhook;
mod wire;
mod work;

pub use admin::openapi;
pub use config::Config;
pub use start::{Listening, Running, StartError, start};

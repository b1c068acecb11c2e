//! The computation of Last Mile.
//!
//! Nothing here opens a socket, reads a clock, touches a disk or a database, awaits or logs.
//! Bytes, entities and the present time come in; bytes, decisions and faults go out. The service
//! (`lastmile-server`) and the simulator (`lastmile-sim`) drive the same code.
//!
//! | module | what it holds |
//! |---|---|
//! | [`net`] | MAC addresses, address ranges, subnets and their arithmetic |
//! | [`dhcp`] | the wire codec, the lease book, and what to answer |
//! | [`tftp`] | the wire codec, option negotiation, one transfer as a state machine |
//! | [`boot`] | architectures, loaders, the boot plan, menus in each loader's language |
//! | [`image`] | images, revisions and their manifests |
//! | [`answers`] | OS-neutral install settings and each installer's format |
//! | [`machine`] | machines and how they are known |
//! | [`install`] | the life of one install, moved on by evidence |
//! | [`export`] | the hosts file and zone files |
//! | [`trace`] | what a machine did on the wire |
//! | [`site`] | the snapshot: everything a decision needs, as one immutable value |

pub mod answers;
pub mod boot;
pub mod dhcp;
pub mod export;
mod fault;
pub mod handover;
pub mod hex;
pub mod history;
mod id;
pub mod image;
pub mod install;
pub mod machine;
pub mod name;
pub mod net;
pub mod reader;
pub mod site;
pub mod tftp;
pub mod trace;

pub use fault::{Fault, Faults};
pub use id::Id;

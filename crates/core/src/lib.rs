//! The computation of Last Mile, in layers.
//!
//! Nothing here opens a socket, reads a clock, touches a disk or a database, awaits or logs.
//! Bytes, entities and the present time come in; bytes, decisions and faults go out. The service
//! (`lastmile-server`) and the simulator (`lastmile-sim`) drive the same code.
//!
//! | layer | what it holds |
//! |---|---|
//! | [`base`] | identities, names, faults, ranges, templates |
//! | [`model`] | the entities as values, and what is true of one of them alone |
//! | [`site`] | the snapshot: every entity by identity, name, address; lookups only |
//! | [`decide`] | what a machine gets; validation of what people enter |
//! | [`report`] | what happened: traces, history, exports |
//!
//! A module uses layers above it in this table and its own folder, never one below it. `lastmile/tests/architecture` holds it to that.

pub mod base;
pub mod decide;
pub mod model;
pub mod report;
pub mod site;

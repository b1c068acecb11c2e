//! What the service stands: clients that hang up, hosts that take all they can, SIGKILL, a hall that powers on at once, a disk
//! that is full.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use tokio::sync::RwLock;

mod disconnect;
mod hostile;
mod reliability;
mod storage;
#[path = "../support/mod.rs"]
mod support;

/// The machine that the tests run on: who loads it as far as it goes holds it for writing, the others, beside each other, for
/// reading.
static THIS_MACHINE: RwLock<()> = RwLock::const_new(());

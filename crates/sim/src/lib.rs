//! Stand-ins for what is outside the service.
//!
//! [`Machine`] is a computer that boots over the real sockets: firmware that asks for an address and a loader,
//! a loader that reads its menu, an installer that reads its answers and reports. It behaves as real ones were
//! measured to (docs/firmware.md) and checks the digest of every file it is given.

mod dhcp;
mod error;
mod fetch;
pub mod grub;
mod installer;
mod machine;

pub use error::SimError;
pub use machine::{Beat, Booted, Identity, Machine, Pace, Reached};

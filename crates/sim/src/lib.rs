//! Stand-ins for what is outside the service.
//!
//! [`Machine`] is a computer that boots over the real sockets: firmware that asks for an address and a loader,
//! a loader that reads its menu, an installer that reads its answers and reports. It behaves as real ones were
//! measured to (docs/firmware.md) and checks the digest of every file it is given. [`Receiver`] is told when installs end.
//! [`Relay`] and [`ForeignServer`] stand on a wire of a test's own, and `cable` (with the feature of that name) is such a wire, with all that goes wrong on it, and [`SwitchPort`] the
//! other end of one.

mod bench;
#[cfg(feature = "cable")]
pub mod cable;
mod devices;
mod dhcp;
mod error;
mod fetch;
mod foreign;
pub mod grub;
mod hardware;
mod installer;
mod machine;
mod receiver;
mod relay;
mod survey;
#[cfg(feature = "cable")]
mod switch;

pub use bench::WORN;
pub use error::SimError;
pub use foreign::ForeignServer;
pub use hardware::{Card, HardDisk, Hardware};
pub use machine::{Beat, Booted, Identity, Machine, NewSystem, Pace, Reached};
pub use receiver::{Delivery, Receiver};
pub use relay::Relay;
#[cfg(feature = "cable")]
pub use switch::SwitchPort;

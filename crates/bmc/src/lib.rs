//! Speaks to what switches machines on and off: management controllers, and network cards that wake their machine.
//!
//! A [`Driver`] is one way to do that. Each takes an address and what lets it in, knows nothing of the service, and says of every
//! failure what to try next ([`Failure`]).

mod account;
mod driver;
pub mod ipmi;
pub mod redfish;
pub mod wake;

pub use account::Account;
pub use driver::{Driver, Failure, NextBoot, Power, Switch};

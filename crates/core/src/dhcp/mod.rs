//! DHCP: the wire codec, the lease book, and what to answer.
//!
//! The order of use: [`Message::parse`] the datagram, choose the subnet with [`select_subnet`],
//! then [`Responder::answer`] with the boot information that the boot plan gave. A reply that
//! grants a lease carries a [`LeaseRecord`] that must be on disk before the reply leaves.

mod answer;
mod book;
pub mod code;
mod message;
mod options;
mod relay;
mod route;

pub use answer::{Answer, BootInfo, NoReply, Responder};
pub use book::{ClientKey, LeaseBook, LeaseRecord, LeaseState, NoAddress, OFFER_HOLD};
pub use message::{Kind, Message, Op, ParseError};
pub use options::Options;
pub use relay::{RELAY_SOURCE_PORT, RelayInfo};
pub use route::{Arrival, Destination, NoSubnet, select_subnet};

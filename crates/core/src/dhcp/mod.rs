//! DHCP: the wire codec, the lease book, and what to answer.
//!
//! The order of use: [`Message::parse`] the datagram, choose the subnet with [`select_subnet`],
//! then [`Responder::answer`] with the boot information that the boot plan gave. A reply that
//! grants a lease carries a [`LeaseRecord`] that must be on disk before the reply leaves.

mod answer;
mod book;
mod catalogue;
pub mod code;
mod further;
mod message;
mod options;
mod proxy;
mod relay;
mod route;

pub use answer::{Answer, BootInfo, BootTarget, NoReply, Responder};
pub use book::{ClientKey, LeaseBook, LeaseRecord, LeaseState, NoAddress, OFFER_HOLD, Offer};
pub use catalogue::{KNOWN, Known, ValueType, option_name};
pub use further::{FurtherOption, OptionError};
pub use message::{Kind, Message, Op, ParseError};
pub use options::Options;
pub use proxy::{BOOT_SERVER_PORT, boot_server};
pub use relay::{RELAY_SOURCE_PORT, RelayInfo};
pub use route::{Arrival, Destination, NoSubnet, select_subnet};

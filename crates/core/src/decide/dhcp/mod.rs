//! Which address a client gets, and what it is answered.
//!
//! The order of use: parse the datagram, choose the subnet with [`select_subnet`], then [`Responder::answer`] with the boot
//! information that the boot plan gave. A reply that grants a lease carries a record that must be on disk before the reply
//! leaves.

mod answer;
mod book;
mod proxy;
mod route;

pub use answer::{Answer, BootInfo, BootTarget, NoReply, Responder};
pub use book::{LeaseBook, NoAddress, OFFER_HOLD, Offer, Wanting};
pub use proxy::{BOOT_SERVER_PORT, boot_server};
pub use route::{Arrival, Destination, NoSubnet, select_subnet};

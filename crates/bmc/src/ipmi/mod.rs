//! IPMI 2.0 over the network (IPMI v2.0, revision 1.1, section 13).
//!
//! [`packet`] writes and reads what is on the wire, [`cipher`] makes keys and codes, [`session`] is the log-in and what follows it, without
//! IO; [`Ipmi`] is the driver, over UDP.

mod cipher;
mod driver;
pub mod packet;
pub mod session;

pub use cipher::Suite;
pub use driver::Ipmi;

/// The port of controllers (ASF 2.0, section 3.2.4.1).
pub const PORT: u16 = 623;

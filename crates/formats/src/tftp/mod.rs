//! TFTP: the wire codec, option negotiation, and one transfer as a state machine.
//!
//! [`Packet`] reads and writes datagrams. [`Terms::negotiate`] answers the options of a read
//! request. [`Sender`] and [`Receiver`] are the two ends of one transfer; the driver moves bytes and
//! calls them again when [`Sender::deadline`] or [`Receiver::deadline`] has come.

pub use options::{Limits, Terms, Wishes};
pub use packet::{ErrorCode, Packet, ParseError, RawOptions};
pub use path::{PathError, ServedPath};
pub use receive::{Receiver, ReceiverState};
pub use send::{Sender, SenderState, Transmit};

mod options;
mod packet;
mod path;
mod receive;
mod send;

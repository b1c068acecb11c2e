//! DHCP on the wire (RFC 2131, RFC 2132): messages, options, relay information, the catalogue of options.

pub mod catalogue;
pub mod code;
mod message;
mod options;
mod relay;

pub use catalogue::{KNOWN, Known, ValueType, option_name};
pub use message::{Kind, Message, Op, ParseError};
pub use options::Options;
pub use relay::{RELAY_SOURCE_PORT, RelayInfo};

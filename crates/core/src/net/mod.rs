//! MAC addresses, address ranges, subnets and their arithmetic.

mod mac;
mod range;
mod subnet;

pub use mac::{MAC_MEND, Mac, MacError};
pub use range::{AddressRange, RangeError};
pub use subnet::{Mode, Newcomers, Subnet, SubnetDraft};

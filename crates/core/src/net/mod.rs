//! MAC addresses, address ranges, subnets, reservations and their arithmetic.

mod mac;
mod range;
mod reservation;
mod subnet;

pub use mac::{MAC_MEND, Mac, MacError};
pub use range::{AddressRange, RANGE_MEND, RangeError};
pub use reservation::{CLIENT_MEND, ClientTextError, Reservation, ReservationDraft, ReservedFor};
pub use subnet::{
    Held, Holding, HttpBoot, Mode, Newcomers, Picture, Proposal, Reason, Span, Subnet, SubnetDraft,
    Surroundings, suggest,
};

//! Subnets and reservations as people enter them; a proposal from an interface; who is at an address.

mod address;
mod draft;
mod identity;
mod picture;
mod reservation;
mod suggest;

pub use draft::SubnetDraft;
pub use identity::{Claim, Identity};
pub use picture::{Held, Holding, Picture, Span};
pub use reservation::ReservationDraft;
pub use suggest::{Proposal, Reason, Surroundings, suggest};

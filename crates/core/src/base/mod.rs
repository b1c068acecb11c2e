//! What everything else is written with: names, identities, faults, address ranges, texts with values in them.
//!
//! Nothing here knows what a machine or a subnet is.

mod fault;
mod id;
pub mod name;
pub mod range;
pub mod template;

pub use fault::{Fault, Faults};
pub use id::Id;

/// A size as people read it: `7.84 MiB`.
#[must_use]
pub fn size_text(bytes: u64) -> String {
    humansize::format_size(bytes, humansize::BINARY)
}

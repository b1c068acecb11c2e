//! One file a record type: its row, and what can be done with it.

mod answers;
mod image;
pub(crate) mod install;
mod lease;
mod loader;
mod machine;
mod reservation;
mod subnet;

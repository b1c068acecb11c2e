//! One file a record type: its row, and what can be done with it.

mod answers;
mod image;
pub(crate) mod install;
mod label;
mod lease;
mod loader;
mod machine;
mod menu;
mod reservation;
mod settings;
mod subnet;

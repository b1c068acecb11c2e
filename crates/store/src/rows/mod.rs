//! One file a record type: its row, and what can be done with it.

pub(crate) mod address_note;
mod answers;
mod edition;
pub(crate) mod history;
mod image;
pub(crate) mod install;
pub(crate) mod job;
mod label;
mod lease;
mod loader;
mod location;
pub(crate) mod log;
mod machine;
mod menu;
mod reservation;
pub(crate) mod rule;
mod settings;
mod subnet;
mod survey;
pub(crate) mod webhook;

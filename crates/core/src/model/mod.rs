//! The entities as values, and what is true of one of them alone.
//!
//! Nothing here looks another entity up: whatever needs the snapshot is in [`decide`](crate::decide).

pub mod agent;
pub mod answers;
pub mod condition;
pub mod image;
pub mod install;
pub mod job;
pub mod label;
pub mod lease;
pub mod loader;
pub mod location;
pub mod machine;
pub mod menu;
pub mod option;
pub mod parameter;
mod pci;
pub mod reservation;
pub mod rule;
pub mod service;
pub mod settings;
pub mod subnet;
pub mod survey;
pub mod values;
pub mod webhook;

pub use lastmile_survey::{compare, facts};

//! What is decided: what a machine gets, what an answer file says, whether what a person entered is accepted.
//!
//! Everything here is a function of the snapshot ([`site`](crate::site)), of what came in, and of the present time.

pub mod advice;
pub mod answers;
pub mod boot;
pub mod dhcp;
pub mod image;
pub mod install;
pub mod job;
pub mod loader;
pub mod machine;
pub mod menu;
pub mod references;
pub mod rename;
pub mod rule;
pub mod settings;
mod spreadsheet;
pub mod subnet;
pub mod survey;

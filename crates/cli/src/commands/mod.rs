//! The client's commands: one file a noun.

pub(crate) mod answers;
pub(crate) mod api_reference;
pub(crate) mod check;
mod edited;
pub(crate) mod export;
mod files;
pub(crate) mod handover;
pub(crate) mod history;
pub(crate) mod image;
pub(crate) mod install;
pub(crate) mod label;
pub(crate) mod loader;
pub(crate) mod machine;
pub(crate) mod menu;
mod naming;
pub(crate) mod reference;
pub(crate) mod settings;
pub(crate) mod status;
pub(crate) mod subnet;
pub(crate) mod trace;
pub(crate) mod wait;

//! The client's commands: one file or folder a noun.

pub(crate) mod answers;
pub(crate) mod api_reference;
pub(crate) mod check;
pub(crate) mod export;
mod files;
pub(crate) mod history;
pub(crate) mod image;
pub(crate) mod install;
pub(crate) mod job;
pub(crate) mod label;
pub(crate) mod loader;
pub(crate) mod location;
pub(crate) mod machine;
pub(crate) mod menu;
mod object;
pub(crate) mod overview;
mod pages;
pub(crate) mod proposal;
pub(crate) mod reference;
pub(crate) mod rule;
pub(crate) mod settings;
pub(crate) mod status;
pub(crate) mod subnet;
pub(crate) mod survey;
mod toml_file;
pub(crate) mod webhook;

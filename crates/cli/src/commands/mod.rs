//! The client's commands: one file a noun.

pub(crate) mod answers;
pub(crate) mod api_reference;
pub(crate) mod check;
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

use std::path::Path;

use serde::de::DeserializeOwned;

use crate::output::Failure;

/// Reads a TOML file that a person wrote; `mend` says where an example of one is to be had.
fn read_toml<T: DeserializeOwned>(path: &Path, mend: &'static str) -> Result<T, Failure> {
    let wrong = |what: String| Failure::Input { place: path.display().to_string(), what, mend };
    let text = std::fs::read_to_string(path).map_err(|error| wrong(error.to_string()))?;
    toml::from_str(&text).map_err(|error| wrong(error.to_string()))
}

//! The client's commands: one file a noun.

pub(crate) mod answers;
pub(crate) mod check;
mod files;
pub(crate) mod image;
pub(crate) mod install;
pub(crate) mod loader;
pub(crate) mod machine;
pub(crate) mod reference;
pub(crate) mod status;
pub(crate) mod subnet;
pub(crate) mod trace;

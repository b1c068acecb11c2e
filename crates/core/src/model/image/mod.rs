//! Images, their immutable revisions, and manifests.

mod hash;
mod manifest;
mod recognition;
mod revision;
mod volume;

pub use hash::{Sha256, Sha256Error};
pub use manifest::{FileEntry, Manifest, check_files};
pub use recognition::{Edition, Found, Recognition};
pub(crate) use revision::check_title;
pub use revision::{Family, Image, ImageKind, Revision, Start};
pub use volume::{Holding, Volume, VolumePlace};

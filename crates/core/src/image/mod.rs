//! Images, their immutable revisions, and manifests.

mod hash;
mod manifest;
mod revision;

pub use hash::{Sha256, Sha256Error};
pub use manifest::{FileEntry, Manifest, check_files};
pub use revision::{Family, Image, ImageKind, Revision, RevisionDraft};

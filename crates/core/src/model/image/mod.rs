//! Images, their immutable revisions, and manifests.

mod draft;
mod hash;
pub mod iso;
mod manifest;
pub mod recognise;
mod revision;
mod source;
mod volume;

pub use draft::RevisionDraft;
pub use hash::{Sha256, Sha256Error};
pub use manifest::{FileEntry, Manifest, check_files};
pub use revision::{Family, Image, ImageKind, Revision, Start};
pub use source::{Extent, Pieces, ReadAt, read_pieces};
pub use volume::{Holding, Volume, VolumePlace};

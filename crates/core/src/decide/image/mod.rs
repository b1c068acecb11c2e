//! What files are, recognised from what is in them, and the check of a revision before it is saved.

mod draft;
mod families;
mod recognise;

pub use draft::RevisionDraft;
pub use recognise::{FileSet, Said, recognise};

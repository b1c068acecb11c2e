//! What a network boot program is, recognised from what is in it, and the check of a loader before it is saved.

mod draft;
mod identify;
mod packaged;

pub use draft::LoaderDraft;
pub use identify::identify;
pub use packaged::{CANDIDATES, Candidate, PackagedFile, is_packaged};

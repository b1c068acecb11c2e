//! Menus as people enter them, and as they are kept.

mod draft;
mod record;

pub use draft::{ActionDraft, EntryDraft, MenuDraft};

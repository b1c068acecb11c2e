//! Machines and labels as people enter them; names and addresses by pattern.

mod draft;
mod label;
mod naming;

pub use draft::{MachineDraft, StandingDraft};
pub use label::LabelDraft;
pub use naming::{CountBy, NamedMachine, Naming, NamingDraft};

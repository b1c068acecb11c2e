//! Machines and labels as people enter them; names and addresses by pattern.

mod adopt;
mod chosen;
mod default_boot;
mod draft;
pub mod import;
mod label;
mod naming;

pub use adopt::Adoption;
pub use chosen::chosen;
pub use default_boot::{DefaultBootDraft, NotDefaultBoot};
pub use draft::MachineDraft;
pub use label::LabelDraft;
pub use naming::{CountBy, NamedMachine, Naming, NamingDraft};
pub(crate) use naming::{check_pattern, fill};

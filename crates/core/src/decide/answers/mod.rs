//! Layers of settings put on each other and filled with a machine's values ([`resolve()`]); the whole ([`Resolved`]) written in
//! the language of an installer ([`write()`]).

mod cards;
mod collisions;
mod layers;
mod lint;
mod resolve;
mod resolved;
mod support;
mod write;

pub(crate) use cards::missing as missing_cards;
pub use collisions::Collisions;
pub use lint::{Finding, Lint, lint, pairing_faults};
pub use resolve::{Resolution, Subject, questions, resolve};
pub use resolved::{Account, Addressing, Disks, Link, LinkKind, Mount, Place, Resolved, Source};
pub use support::{Feature, support_table, warnings};
pub use write::{AnswerFile, Target, file_names, write};

//! OS-neutral install settings, and the file that each installer reads.
//!
//! Layers ([`Settings`], each of a [`Scope`]) are put on each other and filled with a machine's values ([`resolve`]); the
//! whole ([`Resolved`]) is written in the language of an installer ([`write()`]).

mod fragments;
mod layers;
mod lint;
mod password;
mod resolve;
mod resolved;
mod secret;
mod settings;
mod support;
mod write;

use jiff::Timestamp;
pub use layers::{Layer, Scope};
pub use lint::{Finding, Lint, lint, pairing_faults};
pub use password::{CryptHash, Keeping, Password, PasswordError, PasswordInput, PasswordShown, SALT_BYTES};
pub use resolve::{Resolution, Subject, questions, resolve};
pub use resolved::{Account, Addressing, Disks, Link, LinkKind, Mount, Place, Resolved, Source};
pub use secret::{DoesNotOpen, KEY_BYTES, NONCE_BYTES, SealKey, Sealed};
pub use settings::{
    Ask, AtEnd, BondMode, BootMode, DiskMatch, FileSystem, Firewall, Format, Interface, Keyboard, Layout,
    MandatoryAccess, Network, NotKeyboard, Question, Repository, Root, Security, Settings, Size, Software,
    Storage, Sudo, User, Volume,
};
pub use support::{Feature, lacks, table as support_table, warnings};
pub use write::{AnswerFile, Target, file_names, write};

use crate::Id;

/// One version of the settings of a scope. Nothing in it ever changes.
#[derive(Debug, Clone, PartialEq)]
pub struct AnswersVersion {
    /// Identity.
    pub id: Id<AnswersVersion>,
    /// What it is said of.
    pub scope: Scope,
    /// 1, 2, 3 …
    pub number: u32,
    /// When it was saved.
    pub created: Timestamp,
    /// The settings.
    pub settings: Settings<Password>,
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// Answers as the demo's quay servers have them.
    pub(crate) fn quay_server() -> AnswersVersion {
        AnswersVersion {
            id: Id::generate(),
            scope: Scope::Answers("quay-server".into()),
            number: 1,
            created: Timestamp::UNIX_EPOCH,
            settings: settings::tests::settled(&settings::tests::draft()).unwrap(),
        }
    }
}

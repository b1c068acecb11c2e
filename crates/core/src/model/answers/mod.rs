//! OS-neutral install settings, of which there are layers, and the secrets in them.

pub(crate) mod fragments;
mod layer;
mod password;
mod secret;
mod settings;
mod version;

pub use fragments::places;
pub(crate) use fragments::position;
pub use layer::{Layer, Scope};
pub use password::{
    CryptHash, EXAMPLE_PASSPHRASE, EXAMPLE_PASSWORD, Keeping, Password, PasswordError, PasswordInput,
    PasswordShown, SALT_BYTES,
};
pub use secret::{DoesNotOpen, KEY_BYTES, NONCE_BYTES, SealKey, Sealed};
pub use settings::{
    AnswerKind, AtEnd, BondMode, BootMode, DiskMatch, FileSystem, Firewall, Format, Interface, Keyboard,
    MandatoryAccess, Network, NotKeyboard, Prefer, Question, Repository, Root, Security, Settings, Size,
    Software, Storage, Sudo, User, Volume, take_answers,
};
pub use version::AnswersVersion;
#[cfg(test)]
pub(crate) use version::tests::quay_server;

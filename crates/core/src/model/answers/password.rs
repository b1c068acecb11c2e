//! Passwords: entered in clear or as a hash, kept as a hash or encrypted, never shown.

use std::fmt;

use serde::{Deserialize, Serialize};
use sha_crypt::{Sha512Params, sha512_crypt_b64};
use thiserror::Error;
use zeroize::{Zeroize, ZeroizeOnDrop};

use super::{NONCE_BYTES, SealKey, Sealed};

/// Random bytes that a hash is salted with.
pub const SALT_BYTES: usize = 12;
/// Rounds of SHA-512-crypt: its own default, which every crypt(3) reads without a parameter.
const ROUNDS: usize = 5000;
/// Shortest password that is taken.
const MIN_LENGTH: usize = 8;
/// The password that the example of answers has. Whoever reads the documents knows it.
pub const EXAMPLE_PASSWORD: &str = "change me before use";
/// The passphrase that the example of answers has.
pub const EXAMPLE_PASSPHRASE: &str = "a long passphrase";

/// A password as a person enters it: `plain` is hashed at once and never kept; `hash` is a crypt(3) hash; `sealed` is kept
/// encrypted too, for formats that take no hash; "set" leaves it as it was.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, Zeroize, ZeroizeOnDrop)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PasswordInput {
    /// As it is already: what reading gives in the place of a password, so that what was read can be saved again.
    Set,
    /// In clear: hashed at once, and only the hash is kept.
    Plain(String),
    /// As a crypt(3) hash: `$6$…` (SHA-512), `$5$…` (SHA-256) or `$y$…` (yescrypt).
    Hash(String),
    /// In clear, and kept encrypted beside its hash, for the formats that take no hash.
    Sealed(String),
}

/// What is kept of a password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Password {
    /// Its hash; `None` for a passphrase, which no format takes as a hash.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hash: Option<CryptHash>,
    /// The password itself, encrypted; `None` where its hash is enough.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sealed: Option<Sealed>,
    /// Whether it was given as the example has it. Nothing is armed with such a one.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_example: bool,
}

/// A crypt(3) hash.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CryptHash(String);

/// What is shown of a password: that there is one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PasswordShown {
    /// There is one.
    Set,
}

/// Why a password is not taken.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PasswordError {
    /// Too short.
    #[error("the password has fewer than 8 characters")]
    Short,
    /// Not of any form that installers take.
    #[error("the hash is none of $6$…, $5$… or $y$…")]
    Form,
    /// A hash cannot be made of it.
    #[error("the password cannot be hashed")]
    Unusable,
    /// Line breaks and such: no installer's file can hold them.
    #[error("the password has control characters")]
    Control,
    /// It is to stay as it is, and there is none yet.
    #[error("it is to stay as it is, and none was saved before")]
    NotSet,
    /// An installer's reader would take it for another.
    #[error(
        "the passphrase begins or ends with a blank or ends in a backslash, which installers read as something else"
    )]
    Ends,
    /// A passphrase as a hash.
    #[error("a passphrase is needed in clear: a hash opens no disk")]
    NoHash,
}

impl PasswordError {
    /// What to do about it.
    #[must_use]
    pub const fn fix(&self) -> &'static str {
        match self {
            Self::Short => "Give at least 8 characters.",
            Self::Form => {
                "Paste a crypt(3) hash, as `mkpasswd -m sha-512` writes it, or give the password as `plain`."
            }
            Self::Unusable => "Choose another.",
            Self::Control => "Leave line breaks, tabs and the like out.",
            Self::NotSet => {
                "Give it as `plain`, or as `sealed` where the format takes no hash, or a crypt(3) hash as `hash`."
            }
            Self::Ends => "Leave that out, or put another character behind it.",
            Self::NoHash => "Give it as `plain`; it is kept encrypted.",
        }
    }
}

/// The key and the fresh randomness that keeping a password takes.
#[derive(Debug)]
pub struct Keeping<'a> {
    /// The key that is sealed with.
    pub key: &'a SealKey,
    /// What a hash is salted with.
    pub salt: [u8; SALT_BYTES],
    /// What sealing needs.
    pub nonce: [u8; NONCE_BYTES],
}

impl fmt::Debug for PasswordInput {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("PasswordInput(…)")
    }
}

impl fmt::Debug for CryptHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("CryptHash(…)")
    }
}

impl PasswordInput {
    /// What is kept of a password: its hash, by SHA-512-crypt where it is given in clear. `before` is what was kept at
    /// its place until now.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn keep(&self, keeping: &Keeping<'_>, before: Option<&Password>) -> Result<Password, PasswordError> {
        match self {
            Self::Set => before.cloned().ok_or(PasswordError::NotSet),
            Self::Plain(plain) => {
                let hash = Some(CryptHash::of(plain, keeping.salt)?);
                Ok(Password { hash, sealed: None, is_example: plain == EXAMPLE_PASSWORD })
            }
            Self::Sealed(plain) => Ok(Password {
                hash: Some(CryptHash::of(plain, keeping.salt)?),
                sealed: Some(keeping.key.seal(plain, keeping.nonce)),
                is_example: plain == EXAMPLE_PASSWORD,
            }),
            Self::Hash(hash) => {
                Ok(Password { hash: Some(CryptHash::parse(hash)?), sealed: None, is_example: false })
            }
        }
    }

    /// What is kept of a passphrase: it, encrypted.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn keep_passphrase(
        &self,
        keeping: &Keeping<'_>,
        before: Option<&Password>,
    ) -> Result<Password, PasswordError> {
        match self {
            Self::Set => before.cloned().ok_or(PasswordError::NotSet),
            Self::Plain(plain) | Self::Sealed(plain) => {
                // A preseed file strips blanks, and a backslash joins the next line.
                if plain.trim() != plain.as_str() || plain.ends_with('\\') {
                    return Err(PasswordError::Ends);
                }
                let sealed = Some(keeping.key.seal(check(plain)?, keeping.nonce));
                Ok(Password { hash: None, sealed, is_example: plain == EXAMPLE_PASSPHRASE })
            }
            Self::Hash(_) => Err(PasswordError::NoHash),
        }
    }
}

fn check(plain: &str) -> Result<&str, PasswordError> {
    if plain.chars().any(char::is_control) {
        return Err(PasswordError::Control);
    }
    if plain.chars().count() < MIN_LENGTH { Err(PasswordError::Short) } else { Ok(plain) }
}

impl CryptHash {
    /// The SHA-512-crypt hash of a password in clear.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn of(plain: &str, salt: [u8; SALT_BYTES]) -> Result<Self, PasswordError> {
        let plain = check(plain)?;
        let params = Sha512Params::new(ROUNDS).map_err(|_| PasswordError::Unusable)?;
        let salt = salt_text(salt);
        let hash = sha512_crypt_b64(plain.as_bytes(), salt.as_bytes(), &params);
        hash.map(|hash| Self(format!("$6${salt}${hash}"))).map_err(|_| PasswordError::Unusable)
    }

    fn parse(hash: &str) -> Result<Self, PasswordError> {
        let known = ["$6$", "$5$", "$y$"].iter().any(|prefix| hash.starts_with(prefix));
        let crypt = |c: char| c.is_ascii_alphanumeric() || matches!(c, '$' | '.' | '/' | '=' | ',');
        if known && hash.len() > 20 && hash.chars().all(crypt) {
            Ok(Self(hash.into()))
        } else {
            Err(PasswordError::Form)
        }
    }
}

impl CryptHash {
    /// The hash, for the answer file.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// 16 characters of crypt(3)'s alphabet: six bits each.
fn salt_text(salt: [u8; SALT_BYTES]) -> String {
    const ALPHABET: &[u8; 64] = b"./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";
    let bits = salt.chunks(3).flat_map(|three| {
        let word = three.iter().fold(0_u32, |word, byte| word << 8 | u32::from(*byte));
        [18, 12, 6, 0].map(|shift| (word >> shift & 63) as usize)
    });
    bits.map(|place| char::from(ALPHABET[place])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keep(input: &PasswordInput) -> Result<Password, PasswordError> {
        let key = SealKey::new([3; crate::model::answers::KEY_BYTES]);
        input.keep(&Keeping { key: &key, salt: [7; SALT_BYTES], nonce: [1; NONCE_BYTES] }, None)
    }

    #[test]
    fn a_password_in_clear_becomes_a_hash_that_crypt_knows() {
        let kept = keep(&PasswordInput::Plain("tern bay 7".into())).unwrap();
        let hash = kept.hash.unwrap();
        sha_crypt::sha512_check("tern bay 7", hash.as_str()).unwrap();
        assert!(sha_crypt::sha512_check("tern bay 8", hash.as_str()).is_err());
        assert_eq!(hash.as_str().split('$').nth(2).unwrap().len(), 16);
        assert!(kept.sealed.is_none());
        let both = keep(&PasswordInput::Sealed("tern bay 7".into())).unwrap();
        assert!(both.hash == Some(hash) && both.sealed.is_some());
    }

    #[test]
    fn what_is_no_password_is_refused_and_nothing_shows() {
        assert_eq!(keep(&PasswordInput::Plain("short".into())), Err(PasswordError::Short));
        assert_eq!(keep(&PasswordInput::Plain("tern\nbay at dusk".into())), Err(PasswordError::Control));
        assert_eq!(keep(&PasswordInput::Hash("tern bay 7".into())), Err(PasswordError::Form));
        assert_eq!(keep(&PasswordInput::Hash("$6$salt$hash\nd-i x".into())), Err(PasswordError::Form));
        assert_eq!(keep(&PasswordInput::Set), Err(PasswordError::NotSet));
        let shown = format!("{:?}", PasswordInput::Plain("tern bay 7".into()));
        assert!(!shown.contains("tern"));
    }
}

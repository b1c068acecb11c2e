//! Passwords: entered in clear or as a hash, kept and served as a hash only, never shown.

use std::fmt;

use serde::{Deserialize, Serialize};
use sha_crypt::{Sha512Params, sha512_crypt_b64};
use thiserror::Error;
use zeroize::{Zeroize, ZeroizeOnDrop};

/// Random octets that a hash is salted with.
pub const SALT_BYTES: usize = 12;
/// Rounds of SHA-512-crypt: its own default, which every crypt(3) reads without a parameter.
const ROUNDS: usize = 5000;
/// Shortest password that is taken.
const MIN_LENGTH: usize = 8;

/// A password as a person enters it.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, Zeroize, ZeroizeOnDrop)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PasswordInput {
    /// In clear: hashed at once, never stored.
    Plain(String),
    /// As a crypt(3) hash: `$6$…` (SHA-512), `$5$…` (SHA-256) or `$y$…` (yescrypt).
    Hash(String),
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
    /// The hash to keep; a password in clear is hashed by SHA-512-crypt with a salt made of `salt`.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn settle(&self, salt: [u8; SALT_BYTES]) -> Result<CryptHash, PasswordError> {
        match self {
            Self::Plain(plain) if plain.chars().count() < MIN_LENGTH => Err(PasswordError::Short),
            Self::Plain(plain) => {
                let params = Sha512Params::new(ROUNDS).map_err(|_| PasswordError::Unusable)?;
                let salt = salt_text(salt);
                let hash = sha512_crypt_b64(plain.as_bytes(), salt.as_bytes(), &params);
                hash.map(|hash| CryptHash(format!("$6${salt}${hash}"))).map_err(|_| PasswordError::Unusable)
            }
            Self::Hash(hash) => {
                let known = ["$6$", "$5$", "$y$"].iter().any(|prefix| hash.starts_with(prefix));
                let crypt = |c: char| c.is_ascii_alphanumeric() || matches!(c, '$' | '.' | '/' | '=' | ',');
                if known && hash.len() > 20 && hash.chars().all(crypt) {
                    Ok(CryptHash(hash.clone()))
                } else {
                    Err(PasswordError::Form)
                }
            }
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
        let word = three.iter().fold(0_u32, |word, octet| word << 8 | u32::from(*octet));
        [18, 12, 6, 0].map(|shift| (word >> shift & 63) as usize)
    });
    bits.map(|place| char::from(ALPHABET[place])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_in_clear_becomes_a_hash_that_crypt_knows() {
        let hash = PasswordInput::Plain("tern bay 7".into()).settle([7; SALT_BYTES]).unwrap();
        sha_crypt::sha512_check("tern bay 7", hash.as_str()).unwrap();
        assert!(sha_crypt::sha512_check("tern bay 8", hash.as_str()).is_err());
        assert_eq!(hash.as_str().split('$').nth(2).unwrap().len(), 16);
    }

    #[test]
    fn what_is_no_password_is_refused_and_nothing_shows() {
        let settle = |input: PasswordInput| input.settle([0; SALT_BYTES]);
        assert_eq!(settle(PasswordInput::Plain("short".into())), Err(PasswordError::Short));
        assert_eq!(settle(PasswordInput::Hash("tern bay 7".into())), Err(PasswordError::Form));
        assert_eq!(settle(PasswordInput::Hash("$6$salt$hash\nd-i x".into())), Err(PasswordError::Form));
        let shown = format!("{:?}", PasswordInput::Plain("tern bay 7".into()));
        assert!(!shown.contains("tern"));
    }
}

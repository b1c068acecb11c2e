//! The phrase that is asked for before a line that erases: against accidents, not against enemies.

use std::fmt;

use serde::{Deserialize, Serialize};
use sha2::Sha512;

use crate::model::answers::{CryptHash, PasswordError, SALT_BYTES};

/// Rounds of PBKDF2 (RFC 8018): what `grub-mkpasswd-pbkdf2` takes.
const ROUNDS: u32 = 10_000;
/// Bytes of PBKDF2's result.
const LENGTH: usize = 64;

/// A phrase, kept as the hashes that loaders compare with.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Guard {
    /// `grub.pbkdf2.sha512.…` (GNU GRUB manual, section 17.1).
    pbkdf2: String,
    /// `$6$…` (crypt(3)), for PXELINUX and for the service itself.
    crypt: String,
}

impl fmt::Debug for Guard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Guard(…)")
    }
}

impl Guard {
    /// Hashes a phrase with random bytes.
    ///
    /// # Errors
    /// It is too short to keep anybody from an accident.
    pub fn new(phrase: &str, salt: [u8; SALT_BYTES]) -> Result<Self, PasswordError> {
        let crypt = CryptHash::of(phrase, salt)?;
        let mut key = [0; LENGTH];
        pbkdf2::pbkdf2_hmac::<Sha512>(phrase.as_bytes(), &salt, ROUNDS, &mut key);
        let digits = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X}")).collect::<String>();
        Ok(Self {
            pbkdf2: format!("grub.pbkdf2.sha512.{ROUNDS}.{}.{}", digits(&salt), digits(&key)),
            crypt: crypt.as_str().into(),
        })
    }

    /// Stands for a phrase in a preview; nothing opens it.
    pub(crate) fn unset() -> Self {
        Self { pbkdf2: "(hash)".into(), crypt: "(hash)".into() }
    }

    /// The hash for GRUB's `password_pbkdf2`.
    #[must_use]
    pub fn pbkdf2(&self) -> &str {
        &self.pbkdf2
    }

    /// The hash for PXELINUX's `MENU PASSWD`.
    #[must_use]
    pub fn crypt(&self) -> &str {
        &self.crypt
    }

    /// Whether that is the phrase.
    #[must_use]
    pub fn opens(&self, phrase: &str) -> bool {
        sha_crypt::sha512_check(phrase, &self.crypt).is_ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_hashes_are_of_the_phrase() {
        let guard = Guard::new("erase it all", [7; SALT_BYTES]).unwrap();
        assert!(guard.opens("erase it all") && !guard.opens("erase it al"));
        assert!(guard.crypt().starts_with("$6$"));
        let fields: Vec<&str> = guard.pbkdf2().split('.').collect();
        assert_eq!(fields[..5], ["grub", "pbkdf2", "sha512", "10000", "070707070707070707070707"]);
        // RFC 6070's way of checking, with the parameters at hand: worked out by Python's hashlib.
        assert!(fields[5].starts_with("D14F0C12BCF599505373C4F2DE6F36F6"), "{}", fields[5]);
        assert!(!format!("{guard:?}").contains("erase"));
        assert!(Guard::new("no", [0; SALT_BYTES]).is_err());
    }
}

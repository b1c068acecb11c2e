//! Secrets that a format needs in clear: kept encrypted, with a key that lies outside the database.

use std::fmt;

use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use hmac::{Hmac, Mac};
use serde::{Deserialize, Serialize};
use sha2::Sha256;
use thiserror::Error;
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

/// Bytes of a key.
pub const KEY_BYTES: usize = 32;
/// Random bytes that each sealing needs (XChaCha20's nonce).
pub const NONCE_BYTES: usize = 24;

/// What a sealed text is bound to, so that it opens as nothing else.
const PURPOSE: &[u8] = b"lastmile answers";

/// The key that secrets are sealed with: XChaCha20-Poly1305 (RFC 8439, with the extended nonce).
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub struct SealKey([u8; KEY_BYTES]);

/// A text that only the holder of the key can read: nonce and ciphertext, in hexadecimal digits.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sealed(String);

/// That a sealed text was not made with this key, or was changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("the secret does not open: the key beside the database is not the one it was sealed with")]
pub struct DoesNotOpen;

impl fmt::Debug for SealKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SealKey(…)")
    }
}

impl fmt::Debug for Sealed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Sealed(…)")
    }
}

impl SealKey {
    /// A key of random bytes.
    #[must_use]
    pub const fn new(bytes: [u8; KEY_BYTES]) -> Self {
        Self(bytes)
    }

    /// A key of its own for another purpose, of which nothing leads back to this one (HMAC with SHA-256, RFC 2104).
    #[must_use]
    pub fn derive(&self, purpose: &str) -> [u8; KEY_BYTES] {
        // HMAC takes keys of any length.
        let code = <Hmac<Sha256> as Mac>::new_from_slice(&self.0).map(|mut hmac| {
            hmac.update(purpose.as_bytes());
            hmac.finalize().into_bytes()
        });
        code.unwrap_or_default().into()
    }

    /// Seals a text. `nonce` must be fresh and random.
    #[must_use]
    pub fn seal(&self, text: &str, nonce: [u8; NONCE_BYTES]) -> Sealed {
        let cipher = XChaCha20Poly1305::new(&self.0.into());
        let payload = Payload { msg: text.as_bytes(), aad: PURPOSE };
        // The cipher refuses only what is longer than 256 GiB.
        let closed = cipher.encrypt(&XNonce::from(nonce), payload).unwrap_or_default();
        Sealed(hex::encode([nonce.as_slice(), &closed].concat()))
    }

    /// The text that was sealed.
    ///
    /// # Errors
    /// That it is not of this key.
    pub fn open(&self, sealed: &Sealed) -> Result<Zeroizing<String>, DoesNotOpen> {
        let bytes = hex::decode(&sealed.0).map_err(|_| DoesNotOpen)?;
        let (nonce, closed) = bytes.split_first_chunk::<NONCE_BYTES>().ok_or(DoesNotOpen)?;
        let cipher = XChaCha20Poly1305::new(&self.0.into());
        let payload = Payload { msg: closed, aad: PURPOSE };
        let open = cipher.decrypt(&XNonce::from(*nonce), payload).map_err(|_| DoesNotOpen)?;
        String::from_utf8(open).map(Zeroizing::new).map_err(|_| DoesNotOpen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_opens_with_its_key_alone_and_unchanged() {
        let key = SealKey::new([7; KEY_BYTES]);
        let sealed = key.seal("tern bay at dusk", [1; NONCE_BYTES]);
        assert_eq!(key.open(&sealed).unwrap().as_str(), "tern bay at dusk");
        assert_eq!(SealKey::new([8; KEY_BYTES]).open(&sealed), Err(DoesNotOpen));
        let mut changed = sealed.clone();
        changed.0.replace_range(60..61, if changed.0.as_bytes()[60] == b'0' { "1" } else { "0" });
        assert_eq!(key.open(&changed), Err(DoesNotOpen));
        assert_eq!(key.open(&Sealed("00ff".into())), Err(DoesNotOpen));
        assert!(!format!("{sealed:?}{key:?}").contains('7') && !sealed.0.contains("tern"));
    }
}

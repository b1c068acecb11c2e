//! The survey's agent, as the service knows it: what the two tell each other, and the secret by which an agent shows of which boot
//! it is.

use std::fmt;

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use hmac::{Hmac, Mac as _};
use jiff::{SignedDuration, Timestamp};
use lastmile_formats::mac::Mac;
pub use lastmile_survey::messages::*;
use sha2::Sha256;
use thiserror::Error;

/// How long after its boot an agent may connect for the first time or again: machines wait in the survey for weeks.
const LIFETIME: SignedDuration = SignedDuration::from_hours(24 * 60);
/// Bytes of a token: MAC address, milliseconds, code.
const ADDRESS: usize = 6;
const MILLIS: usize = 8;
const CODE: usize = 16;

/// The service's own secret, by which it knows the tokens that it gave.
#[derive(Clone, PartialEq, Eq)]
pub struct TokenKey([u8; 32]);

impl TokenKey {
    /// Takes 32 random bytes.
    #[must_use]
    pub const fn new(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// The bytes, for the store.
    #[must_use]
    pub const fn reveal(&self) -> &[u8; 32] {
        &self.0
    }

    /// HMAC with SHA-256 (RFC 2104), cut to its first 16 bytes.
    fn code(&self, said: &[u8]) -> [u8; CODE] {
        let mut code = [0; CODE];
        // HMAC takes keys of any length.
        if let Ok(mut hmac) = Hmac::<Sha256>::new_from_slice(&self.0) {
            hmac.update(said);
            code.copy_from_slice(&hmac.finalize().into_bytes()[..CODE]);
        }
        code
    }
}

impl fmt::Debug for TokenKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("TokenKey(…)")
    }
}

/// Which machine was started, and when: what a token says, if it is one of ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AgentToken {
    /// The MAC address that it boots from.
    pub mac: Mac,
    /// When it was given, to the millisecond.
    pub given: Timestamp,
}

/// Why a text is no token.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum TokenError {
    /// It is none, or not of this service.
    #[error("the agent's token is not one that this service gave")]
    Unknown,
    /// It was given too long ago.
    #[error("the agent's token is too old: the machine has to be started anew")]
    Expired,
}

impl AgentToken {
    /// The token as text: 40 characters that are safe in URLs and on kernels' command lines.
    #[must_use]
    pub fn write(&self, key: &TokenKey) -> String {
        let mut bytes = Vec::with_capacity(ADDRESS + MILLIS + CODE);
        bytes.extend(self.mac.octets());
        bytes.extend(self.given.as_millisecond().to_be_bytes());
        bytes.extend(key.code(&bytes));
        URL_SAFE_NO_PAD.encode(bytes)
    }

    /// Reads a token that this service gave.
    ///
    /// # Errors
    /// [`TokenError`], if it is of somebody else, changed or too old.
    pub fn read(text: &str, key: &TokenKey, now: Timestamp) -> Result<Self, TokenError> {
        let bytes = URL_SAFE_NO_PAD.decode(text).map_err(|_| TokenError::Unknown)?;
        let (said, code) = bytes.split_at_checked(ADDRESS + MILLIS).ok_or(TokenError::Unknown)?;
        let expected = key.code(said);
        // Every byte is compared, so that the time taken says nothing of where they differ.
        let differs = expected.iter().zip(code).fold(0, |differs, (one, other)| differs | (one ^ other));
        if code.len() != CODE || differs != 0 {
            return Err(TokenError::Unknown);
        }
        let (mac, given) = said.split_at(ADDRESS);
        let mac = <[u8; ADDRESS]>::try_from(mac).ok().and_then(|mac| Mac::new(mac).ok());
        let given = <[u8; MILLIS]>::try_from(given)
            .ok()
            .and_then(|given| Timestamp::from_millisecond(i64::from_be_bytes(given)).ok());
        let (Some(mac), Some(given)) = (mac, given) else { return Err(TokenError::Unknown) };
        if now.duration_since(given) > LIFETIME {
            return Err(TokenError::Expired);
        }
        Ok(Self { mac, given })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_this_service_gave_is_taken_and_not_for_ever() {
        let (key, other) = (TokenKey::new([7; 32]), TokenKey::new([8; 32]));
        let token = AgentToken {
            mac: "02:00:5e:00:53:01".parse().unwrap(),
            given: "2026-11-23T14:02:00Z".parse().unwrap(),
        };
        let text = token.write(&key);
        assert_eq!(text.len(), 40);
        let later = |hours| token.given + SignedDuration::from_hours(hours);
        assert_eq!(AgentToken::read(&text, &key, later(1)), Ok(token));
        assert_eq!(AgentToken::read(&text, &key, later(24 * 61)), Err(TokenError::Expired));
        assert_eq!(AgentToken::read(&text, &other, later(1)), Err(TokenError::Unknown));
        for at in 0..text.len() {
            let mut changed = text.clone().into_bytes();
            changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
            let changed = String::from_utf8(changed).unwrap();
            assert_eq!(AgentToken::read(&changed, &key, later(1)), Err(TokenError::Unknown), "{at}");
            assert_eq!(AgentToken::read(&text[..at], &key, later(1)), Err(TokenError::Unknown), "{at}");
        }
    }
}

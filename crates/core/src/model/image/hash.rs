//! A SHA-256 digest (FIPS 180-4).

use std::{fmt, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use sha2::Digest;

/// A SHA-256 digest, written as 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Sha256([u8; 32]);

/// A text that is no digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is no SHA-256 digest of 64 hexadecimal digits")]
pub struct Sha256Error(String);

impl Sha256 {
    /// Wraps a digest.
    #[must_use]
    pub const fn new(digest: [u8; 32]) -> Self {
        Self(digest)
    }

    /// The digest of `bytes`.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        Self(sha2::Sha256::digest(bytes).into())
    }

    /// The 32 octets.
    #[must_use]
    pub const fn octets(&self) -> &[u8; 32] {
        &self.0
    }

    /// The first 12 digits, for tables.
    #[must_use]
    pub fn short(&self) -> String {
        self.to_string().chars().take(12).collect()
    }
}

impl fmt::Display for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|octet| write!(f, "{octet:02x}"))
    }
}

impl fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Sha256 {
    type Err = Sha256Error;

    fn from_str(text: &str) -> Result<Self, Sha256Error> {
        let error = || Sha256Error(text.into());
        if text.len() != 64 || !text.is_ascii() {
            return Err(error());
        }
        let mut digest = [0_u8; 32];
        for (octet, pair) in digest.iter_mut().zip(text.as_bytes().chunks(2)) {
            let pair = std::str::from_utf8(pair).map_err(|_| error())?;
            *octet = u8::from_str_radix(pair, 16).map_err(|_| error())?;
        }
        Ok(Self(digest))
    }
}

impl Serialize for Sha256 {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Sha256 {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

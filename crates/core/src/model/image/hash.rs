//! A SHA-256 digest (FIPS 180-4).

use std::{fmt, str::FromStr};

use hex::FromHex;
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

    /// The 32 bytes.
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
        f.write_str(&hex::encode(self.0))
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
        <[u8; 32]>::from_hex(text).map(Self).map_err(|_| Sha256Error(text.into()))
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

//! The secret by which a machine reads its answer file.

use std::fmt;

/// An unguessable text, made for one install. It never shows itself in debug output.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Token(String);

impl Token {
    /// Wraps a text of URL-safe characters with at least 128 bits of randomness.
    #[must_use]
    pub const fn new(text: String) -> Self {
        Self(text)
    }

    /// The text itself, for URLs that only the machine is given, and for the store.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Token(…)")
    }
}

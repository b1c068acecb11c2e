//! Typed identifiers.

use std::{cmp::Ordering, fmt, hash, marker::PhantomData, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use uuid::Uuid;

/// The identifier of one `T`: a UUID (RFC 9562), version 7 where this service made it.
///
/// The type parameter keeps a machine's id from being used where an image's is wanted.
pub struct Id<T> {
    uuid: Uuid,
    of: PhantomData<fn() -> T>,
}

impl<T> Id<T> {
    /// Wraps a UUID.
    #[must_use]
    pub const fn new(uuid: Uuid) -> Self {
        Self { uuid, of: PhantomData }
    }

    /// A fresh id, ordered by the time of making. Made by the driver of the core, never inside a decision.
    #[must_use]
    pub fn generate() -> Self {
        Self::new(Uuid::now_v7())
    }

    /// The UUID itself.
    #[must_use]
    pub const fn uuid(self) -> Uuid {
        self.uuid
    }
}

impl<T> Clone for Id<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Id<T> {}

impl<T> PartialEq for Id<T> {
    fn eq(&self, other: &Self) -> bool {
        self.uuid == other.uuid
    }
}

impl<T> Eq for Id<T> {}

impl<T> PartialOrd for Id<T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl<T> Ord for Id<T> {
    fn cmp(&self, other: &Self) -> Ordering {
        self.uuid.cmp(&other.uuid)
    }
}

impl<T> hash::Hash for Id<T> {
    fn hash<H: hash::Hasher>(&self, state: &mut H) {
        self.uuid.hash(state);
    }
}

impl<T> fmt::Debug for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.uuid, f)
    }
}

impl<T> fmt::Display for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.uuid, f)
    }
}

impl<T> FromStr for Id<T> {
    type Err = uuid::Error;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Uuid::from_str(text).map(Self::new)
    }
}

impl<T> Serialize for Id<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.uuid.serialize(serializer)
    }
}

impl<'de, T> Deserialize<'de> for Id<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Uuid::deserialize(deserializer).map(Self::new)
    }
}

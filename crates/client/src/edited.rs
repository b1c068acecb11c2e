//! What was read, with which saved form of it this is.

use std::ops::Deref;

use serde::{Serialize, Serializer};

/// A thing that people change, as it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edited<T> {
    /// The thing.
    pub value: T,
    /// Which saved form it is: what [`Client::based_on`](crate::Client::based_on) takes.
    pub etag: Option<String>,
}

impl<T> Deref for Edited<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

/// As the thing alone.
impl<T: Serialize> Serialize for Edited<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.value.serialize(serializer)
    }
}

//! Values between columns and types.

use std::{collections::BTreeMap, fmt::Display, str::FromStr};

use jiff::Timestamp;
use lastmile_core::model::option::FurtherOption;
use serde::{Serialize, de::DeserializeOwned};

use crate::StoreError;

/// Names the row that a value cannot be read from.
pub(crate) struct Row<'a> {
    pub(crate) table: &'static str,
    pub(crate) key: &'a str,
}

impl Row<'_> {
    fn error(&self, what: String) -> StoreError {
        StoreError::Value { table: self.table, row: self.key.into(), what }
    }

    /// A value that is written as its own text.
    pub(crate) fn text<T: FromStr<Err: Display>>(&self, text: &str) -> Result<T, StoreError> {
        text.parse().map_err(|error| self.error(format!("'{text}': {error}")))
    }

    /// The same, where it may be absent.
    pub(crate) fn maybe<T: FromStr<Err: Display>>(
        &self,
        text: Option<&str>,
    ) -> Result<Option<T>, StoreError> {
        text.map(|text| self.text(text)).transpose()
    }

    /// A value that is written as JSON.
    pub(crate) fn json<T: DeserializeOwned>(&self, text: &str) -> Result<T, StoreError> {
        serde_json::from_str(text).map_err(|error| self.error(error.to_string()))
    }

    /// Further DHCP options, written as JSON of names and texts.
    pub(crate) fn options(&self, text: &str) -> Result<Vec<FurtherOption>, StoreError> {
        let texts: BTreeMap<String, String> = self.json(text)?;
        let read = |(name, text): (&String, &String)| FurtherOption::read(name, text);
        texts.iter().map(read).collect::<Result<_, _>>().map_err(|error| self.error(error.to_string()))
    }

    /// An enum that is written as its serde name.
    pub(crate) fn name<T: DeserializeOwned>(&self, name: &str) -> Result<T, StoreError> {
        let value = serde_json::Value::String(name.into());
        serde_json::from_value(value).map_err(|error| self.error(error.to_string()))
    }

    pub(crate) fn time(&self, millis: i64) -> Result<Timestamp, StoreError> {
        Timestamp::from_millisecond(millis).map_err(|error| self.error(error.to_string()))
    }

    pub(crate) fn maybe_time(&self, millis: Option<i64>) -> Result<Option<Timestamp>, StoreError> {
        millis.map(|millis| self.time(millis)).transpose()
    }

    pub(crate) fn count(&self, number: i32) -> Result<u32, StoreError> {
        u32::try_from(number).map_err(|error| self.error(error.to_string()))
    }
}

/// JSON of a value.
///
/// # Errors
/// [`StoreError::Unwritable`] if it has none: nothing is stored in its place.
pub(crate) fn json(value: &impl Serialize) -> Result<String, StoreError> {
    serde_json::to_string(value).map_err(|error| StoreError::Unwritable { reason: error.to_string() })
}

/// Further DHCP options as JSON.
pub(crate) fn options(options: &[FurtherOption]) -> Result<String, StoreError> {
    json(&FurtherOption::texts(options))
}

/// The serde name of an enum without content.
pub(crate) fn name(value: &impl Serialize) -> Result<String, StoreError> {
    match serde_json::to_value(value) {
        Ok(serde_json::Value::String(name)) => Ok(name),
        other => Err(StoreError::Unwritable { reason: format!("a name was expected, not {other:?}") }),
    }
}

pub(crate) fn count(number: u32) -> i32 {
    i32::try_from(number).unwrap_or(i32::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_json_is_refused_and_not_stored_as_nothing() {
        let keyed = BTreeMap::from([((1, 2), "a key that is no text")]);
        assert!(matches!(json(&keyed), Err(StoreError::Unwritable { .. })));
        assert!(matches!(name(&Some(3)), Err(StoreError::Unwritable { .. })));
        assert_eq!(name(&lastmile_core::model::subnet::Mode::Lease).unwrap(), "lease");
    }
}

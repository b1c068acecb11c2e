//! What is wrong with something a person entered: where, what, and how to fix it.

use std::fmt;

use lastmile_formats::iso9660::Defect;
use serde::{Deserialize, Serialize};

/// One thing that is wrong with an input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Fault {
    /// Path of the offending field, as the API names it: `pools[1]`, `network`.
    pub place: String,
    /// What is wrong, with the value that is wrong.
    pub what: String,
    /// What to do about it.
    #[serde(alias = "mend")]
    pub fix: String,
}

impl From<Defect> for Fault {
    fn from(defect: Defect) -> Self {
        Self { place: defect.place, what: defect.what, fix: defect.fix }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}. {}", self.place, self.what, self.fix)
    }
}

/// Collects every fault of one input, so that a person hears of all of them at once.
#[derive(Debug, Default)]
pub struct Faults(Vec<Fault>);

impl Faults {
    /// An empty collection.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Records one fault.
    pub fn add(&mut self, place: impl Into<String>, what: impl Into<String>, fix: impl Into<String>) {
        self.0.push(Fault { place: place.into(), what: what.into(), fix: fix.into() });
    }

    /// Keeps the value of a parse, or records its error (whose text says what is wrong) and gives `None`.
    pub fn keep<T, E: fmt::Display>(
        &mut self,
        place: impl Into<String>,
        result: Result<T, E>,
        fix: impl Into<String>,
    ) -> Option<T> {
        match result {
            Ok(value) => Some(value),
            Err(error) => {
                self.add(place, error.to_string(), fix);
                None
            }
        }
    }

    /// Whether nothing was wrong so far.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Gives `value()` if nothing was wrong.
    ///
    /// `value` may itself return `None`, for the case that a part it needs was recorded as faulty.
    ///
    /// # Errors
    /// Every fault recorded, in the order of entry.
    pub fn into_result<T>(self, value: impl FnOnce() -> Option<T>) -> Result<T, Vec<Fault>> {
        if self.0.is_empty() {
            if let Some(value) = value() {
                return Ok(value);
            }
            return Err(vec![Fault {
                place: String::new(),
                what: "incomplete".into(),
                fix: "Give every required field.".into(),
            }]);
        }
        Err(self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_kept_under_its_former_name_is_read() {
        let kept = r#"{"place": "kernel", "what": "it is not there", "mend": "Name another."}"#;
        assert_eq!(serde_json::from_str::<Fault>(kept).unwrap().fix, "Name another.");
    }
}

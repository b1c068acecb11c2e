//! Editions as HTTP carries them, and what two forms of a thing differ in.

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A place in which what a caller wants saved is not what is saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct DraftDifference {
    /// Where: names of members joined by dots.
    pub place: String,
    /// What the caller wants there, as JSON; nothing if it is left out.
    pub yours: Option<String>,
    /// What is there now, as JSON; nothing if it is left out.
    pub saved: Option<String>,
}

/// The ETag of an edition (RFC 9110, section 8.8.3).
#[must_use]
pub fn etag(edition: u64) -> String {
    format!("\"{edition}\"")
}

/// The edition that an ETag names; `None` if this service gave no such tag.
#[must_use]
pub fn parse_etag(tag: &str) -> Option<u64> {
    tag.strip_prefix('"')?.strip_suffix('"')?.parse().ok()
}

/// The places in which `yours` differs from `saved`, in alphabetical order. What is null, empty or left out is the same.
#[must_use]
pub fn differences(yours: &Value, saved: &Value) -> Vec<DraftDifference> {
    let mut found = Vec::new();
    compare("", Some(yours), Some(saved), &mut found);
    found
}

fn compare(place: &str, yours: Option<&Value>, saved: Option<&Value>, found: &mut Vec<DraftDifference>) {
    let (yours, saved) = (yours.filter(|value| !is_empty(value)), saved.filter(|value| !is_empty(value)));
    if yours == saved {
        return;
    }
    let empty = serde_json::Map::new();
    let members = |value: Option<&Value>| match value {
        None => Some(empty.clone()),
        Some(Value::Object(members)) => Some(members.clone()),
        Some(_) => None,
    };
    if let (Some(one), Some(other)) = (members(yours), members(saved)) {
        let mut names: Vec<&String> = one.keys().chain(other.keys()).collect();
        names.sort_unstable();
        names.dedup();
        for name in names {
            let inner = if place.is_empty() { name.clone() } else { format!("{place}.{name}") };
            compare(&inner, one.get(name), other.get(name), found);
        }
        return;
    }
    let text = |value: Option<&Value>| value.map(ToString::to_string);
    found.push(DraftDifference { place: place.into(), yours: text(yours), saved: text(saved) });
}

fn is_empty(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Array(all) => all.is_empty(),
        Value::Object(all) => all.is_empty(),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn places_that_differ_are_named() {
        let yours =
            json!({ "name": "auklet", "labels": ["kiosk"], "details": { "rack": "r1" }, "menu": null });
        let saved = json!({ "name": "auklet", "labels": [], "details": { "rack": "r2", "berth": "3" } });
        let found = differences(&yours, &saved);
        let lines: Vec<_> =
            found.iter().map(|d| (d.place.as_str(), d.yours.as_deref(), d.saved.as_deref())).collect();
        assert_eq!(
            lines,
            [
                ("details.berth", None, Some("\"3\"")),
                ("details.rack", Some("\"r1\""), Some("\"r2\"")),
                ("labels", Some("[\"kiosk\"]"), None),
            ]
        );
        assert!(differences(&saved, &saved).is_empty());
    }

    #[test]
    fn a_tag_is_read_back_and_others_are_not() {
        assert_eq!(parse_etag(&etag(17)), Some(17));
        assert!(["17", "W/\"17\"", "\"x\"", ""].iter().all(|tag| parse_etag(tag).is_none()));
    }
}

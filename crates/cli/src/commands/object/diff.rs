//! What a change makes of a thing, for people.

use lastmile_api::{FieldChange, field_changes};
use serde::Serialize;
use serde_json::Value;
use similar::TextDiff;

use crate::commands::toml_file;

/// Lines around a difference that are shown with it.
const AROUND: usize = 2;

/// The values that differ, one a line; where lists of tables differ, the lines of the whole that do.
pub(super) fn text<T: Serialize>(noun: &str, name: &str, before: &T, after: &T) -> String {
    let changes = field_changes(before, after);
    if changes.is_empty() {
        return format!("{noun} {name}: nothing changes\n");
    }
    let mut text = format!("{noun} {name}\n");
    if changes.iter().any(is_nested) {
        let (before, after) = (toml_file::text(before), toml_file::text(after));
        let diff = TextDiff::from_lines(&before, &after);
        for line in diff.unified_diff().context_radius(AROUND).to_string().lines() {
            let line = if line.starts_with("@@") { "…" } else { line };
            text.push_str(&format!("  {line}\n"));
        }
        return text;
    }
    let width = changes.iter().map(|change| change.place.len()).max().unwrap_or(0);
    for FieldChange { place, before, after } in &changes {
        text.push_str(&format!("  {place:width$}  {} → {}\n", shown(before), shown(after)));
    }
    text
}

fn parsed(json: &Option<String>) -> Value {
    json.as_ref().and_then(|json| serde_json::from_str(json).ok()).unwrap_or_default()
}

fn is_nested(change: &FieldChange) -> bool {
    let has_tables = |value: Value| match value {
        Value::Array(all) => all.iter().any(|one| one.is_object() || one.is_array()),
        Value::Object(_) => true,
        Value::String(text) => text.contains('\n'),
        _ => false,
    };
    has_tables(parsed(&change.before)) || has_tables(parsed(&change.after))
}

/// A value as people write it.
pub(in crate::commands) fn shown(json: &Option<String>) -> String {
    match parsed(json) {
        Value::Null => "(none)".into(),
        Value::String(text) => text,
        Value::Array(all) => {
            let words = all.into_iter().map(|one| match one {
                Value::String(text) => text,
                other => other.to_string(),
            });
            words.collect::<Vec<_>>().join(", ")
        }
        Value::Bool(is) => if is { "yes" } else { "no" }.into(),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn single_values_stand_beside_each_other() {
        let before = json!({ "router": "192.0.2.1", "pools": ["a-b"], "vlan": null, "probe": true });
        let after = json!({ "router": "192.0.2.254", "pools": ["a-b", "c-d"], "vlan": 40, "probe": false });
        assert_eq!(
            text("subnet", "quay", &before, &after),
            "subnet quay\n  pools   a-b → a-b, c-d\n  probe   yes → no\n  router  192.0.2.1 → 192.0.2.254\n  vlan    (none) → 40\n"
        );
        assert_eq!(text("subnet", "quay", &after, &after), "subnet quay: nothing changes\n");
    }

    #[test]
    fn lists_of_tables_are_shown_by_their_lines() {
        let before = json!({ "title": "Quay", "entries": [{ "key": "a", "title": "One" }] });
        let after = json!({ "title": "Quay", "entries": [{ "key": "a", "title": "Two" }] });
        let text = text("menu", "quay", &before, &after);
        assert!(text.contains("-title = \"One\"") && text.contains("+title = \"Two\""), "{text}");
        assert!(text.contains(" key = \"a\"") && !text.contains("@@"), "{text}");
    }
}

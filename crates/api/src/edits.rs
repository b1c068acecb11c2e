//! Changes of single values: `KEY=VALUE` as people write it, applied to a draft of whatever kind.

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::{Map, Value};

use lastmile_core::base::Fault;

/// What is done with a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum EditKind {
    /// The value takes the place of the one there; an empty one leaves none.
    Set,
    /// The value comes to a list, unless it is in it.
    Append,
    /// The value is taken from a list; without a value, the key is emptied.
    Drop,
}

/// One change of one value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Edit {
    /// What is done.
    pub kind: EditKind,
    /// The field, with dots between the names of nested ones: `labels`, `details.rack`.
    pub key: String,
    /// The value as text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
}

/// A value that was changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FieldChange {
    /// The field, with dots between the names of nested ones.
    pub place: String,
    /// What was there, as JSON; nothing if it was empty.
    pub before: Option<String>,
    /// What is there now, as JSON; nothing if it is empty.
    pub after: Option<String>,
}

/// What differs between two forms of one thing.
#[must_use]
pub fn field_changes<T: Serialize>(before: &T, after: &T) -> Vec<FieldChange> {
    let value = |form: &T| serde_json::to_value(form).unwrap_or_default();
    crate::differences(&value(after), &value(before))
        .into_iter()
        .map(|found| FieldChange { place: found.place, before: found.saved, after: found.yours })
        .collect()
}

/// Applies changes to a draft, in their order.
///
/// # Errors
/// Every change that names no field, or whose value does not fit it; its place is the change's key.
pub fn apply<T: Serialize + DeserializeOwned>(draft: &T, edits: &[Edit]) -> Result<T, Vec<Fault>> {
    let mut tree = serde_json::to_value(draft).unwrap_or_default();
    let mut faults = Vec::new();
    for edit in edits {
        match edited::<T>(&tree, edit) {
            Ok(next) => tree = next,
            Err(fault) => faults.push(fault),
        }
    }
    if !faults.is_empty() {
        return Err(faults);
    }
    serde_json::from_value(tree).map_err(|error| vec![fault("", error.to_string(), FIX)])
}

const FIX: &str = "`show --json` of the thing has its fields.";

fn fault(key: &str, what: String, fix: &str) -> Fault {
    Fault { place: key.into(), what, fix: fix.into() }
}

/// The tree with one change, if it is still a `T` then. Text is taken for what the field is: text first, else a number, a truth
/// value or a table.
fn edited<T: DeserializeOwned>(tree: &Value, edit: &Edit) -> Result<Value, Fault> {
    let wrong = |what: String, fix: &str| Err(fault(&edit.key, what, fix));
    let mut why = None;
    for value in readings(edit) {
        let mut next = tree.clone();
        match put(&mut next, edit, value) {
            Ok(()) => {}
            Err(what) => return wrong(what, "See `show` for what is there."),
        }
        match serde_json::from_value::<T>(next.clone()) {
            Ok(_) => return Ok(next),
            Err(error) => {
                // What is said of the text as it was given helps most.
                why.get_or_insert(error.to_string());
            }
        }
    }
    wrong(why.unwrap_or_default(), FIX)
}

/// What a text may mean, the likeliest first.
fn readings(edit: &Edit) -> Vec<Option<Value>> {
    let Some(text) = &edit.value else { return vec![None] };
    if text.is_empty() && edit.kind == EditKind::Set {
        return vec![None, Some(Value::String(String::new()))];
    }
    let mut readings = vec![Some(Value::String(text.clone()))];
    match text.as_str() {
        "yes" => readings.push(Some(true.into())),
        "no" => readings.push(Some(false.into())),
        other => readings.extend(serde_json::from_str(other).ok().map(Some)),
    }
    if edit.kind == EditKind::Set {
        // One value of a list that is set whole.
        readings.push(Some(Value::Array(vec![Value::String(text.clone())])));
    }
    readings
}

/// Puts a value to its place.
fn put(tree: &mut Value, edit: &Edit, value: Option<Value>) -> Result<(), String> {
    let (above, last) =
        edit.key.rsplit_once('.').map_or(("", edit.key.as_str()), |(above, last)| (above, last));
    if last.is_empty() {
        return Err(format!("'{}' names no field", edit.key));
    }
    let mut place = tree;
    for name in above.split('.').filter(|name| !name.is_empty()) {
        let Value::Object(fields) = place else { return Err(format!("{above} has no fields")) };
        place = fields.entry(name).or_insert(Value::Null);
        if place.is_null() {
            *place = Value::Object(Map::new());
        }
    }
    let Value::Object(fields) = place else { return Err(format!("{above} has no fields")) };
    match (edit.kind, value) {
        (EditKind::Set, Some(value)) => drop(fields.insert(last.into(), value)),
        (EditKind::Append, Some(value)) => {
            let list = fields.entry(last).or_insert(Value::Null);
            if list.is_null() {
                *list = Value::Array(Vec::new());
            }
            let Value::Array(list) = list else { return Err(format!("{} is not a list; set it", edit.key)) };
            if !list.contains(&value) {
                list.push(value);
            }
        }
        (EditKind::Append, None) => return Err("there is no value to append".into()),
        (EditKind::Drop, Some(value)) => {
            let Some(Value::Array(list)) = fields.get_mut(last) else {
                return Err(format!("{} is not a list; drop it without a value", edit.key));
            };
            let before = list.len();
            list.retain(|one| *one != value);
            if list.len() == before {
                let text = edit.value.as_deref().unwrap_or_default();
                return Err(format!("'{text}' is not in {}", edit.key));
            }
        }
        (EditKind::Drop | EditKind::Set, None) => {
            if fields.remove(last).is_none() && edit.kind == EditKind::Drop {
                return Err(format!("{} is not there", edit.key));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

    #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
    #[serde(deny_unknown_fields, default)]
    struct Draft {
        name: String,
        vlan: Option<u16>,
        probe: bool,
        labels: Vec<String>,
        details: BTreeMap<String, String>,
    }

    fn changed(edits: &[(EditKind, &str, Option<&str>)]) -> Result<Draft, String> {
        let draft = Draft {
            name: "holm-quay".into(),
            vlan: Some(40),
            labels: vec!["kiosk".into()],
            details: [("rack".to_owned(), "r1".to_owned())].into(),
            probe: true,
        };
        let edit = |(kind, key, value): &(EditKind, &str, Option<&str>)| Edit {
            kind: *kind,
            key: (*key).into(),
            value: value.map(str::to_owned),
        };
        let edits: Vec<Edit> = edits.iter().map(edit).collect();
        apply(&draft, &edits)
            .map_err(|faults| faults.iter().map(|fault| format!("{}: {}", fault.place, fault.what)).collect())
    }

    use EditKind::{Append, Drop, Set};

    #[test]
    fn text_becomes_what_the_field_is() {
        let draft = changed(&[
            (Set, "vlan", Some("7")),
            (Set, "probe", Some("no")),
            (Set, "details.rack", Some("7")),
            (Set, "name", Some("12")),
            (Append, "labels", Some("spare")),
            (Append, "labels", Some("kiosk")),
        ]);
        let draft = draft.unwrap();
        assert_eq!((draft.vlan, draft.probe, draft.name.as_str()), (Some(7), false, "12"));
        assert_eq!((draft.details["rack"].as_str(), draft.labels.len()), ("7", 2));
    }

    #[test]
    fn values_are_dropped_and_emptied() {
        let draft = changed(&[
            (Drop, "labels", Some("kiosk")),
            (Set, "vlan", Some("")),
            (Drop, "details.rack", None),
        ]);
        assert_eq!(draft.unwrap(), Draft { name: "holm-quay".into(), probe: true, ..Draft::default() });
        assert!(changed(&[(Drop, "labels", None)]).unwrap().labels.is_empty());
    }

    #[test]
    fn what_does_not_fit_is_said_of_each() {
        let said = changed(&[
            (Set, "vlan", Some("lots")),
            (Set, "colour", Some("blue")),
            (Drop, "labels", Some("spare")),
            (Append, "name", Some("x")),
        ]);
        let said = said.unwrap_err();
        for part in ["vlan: ", "unknown field `colour`", "'spare' is not in labels", "name is not a list"] {
            assert!(said.contains(part), "{part}: {said}");
        }
    }
}

//! What layers of settings come to, with the origin of every value.

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use crate::model::answers::{AtEnd, Layer, Password, Settings};

/// What layers come to.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Merged {
    /// The settings as a tree of JSON.
    pub(super) tree: Value,
    /// Where each value comes from, by its path: `users.purser.full_name`.
    pub(super) origins: BTreeMap<String, Layer>,
}

/// What holds where nobody says otherwise.
fn built_in() -> Settings<Password> {
    Settings {
        locale: Some("C.UTF-8".into()),
        keyboard: Some("us".into()),
        time_zone: Some("UTC".into()),
        at_end: Some(AtEnd::Restart),
        ..Settings::default()
    }
}

/// Puts layers on each other, earlier ones first.
pub(super) fn merge<'a>(layers: impl IntoIterator<Item = (Layer, &'a Settings<Password>)>) -> Merged {
    let mut merged = Merged { tree: Value::Object(Map::new()), origins: BTreeMap::new() };
    merged.put(&Layer::BuiltIn, &built_in());
    for (layer, settings) in layers {
        merged.put(&layer, settings);
    }
    merged
}

impl Merged {
    fn put(&mut self, layer: &Layer, settings: &Settings<Password>) {
        for path in &settings.without {
            self.take_away(path);
        }
        let Ok(Value::Object(mut tree)) = serde_json::to_value(settings) else { return };
        tree.remove("without");
        if let Value::Object(base) = &mut self.tree {
            overlay(base, tree, "", layer, &mut self.origins);
        }
    }

    fn take_away(&mut self, path: &str) {
        let (parent, key) = path.rsplit_once('.').map_or((None, path), |(parent, key)| (Some(parent), key));
        let mut place = &mut self.tree;
        for step in parent.into_iter().flat_map(|parent| parent.split('.')) {
            let Some(next) = place.get_mut(step) else { return };
            place = next;
        }
        if let Value::Object(place) = place {
            place.remove(key);
        }
        forget(&mut self.origins, path);
    }
}

fn forget(origins: &mut BTreeMap<String, Layer>, path: &str) {
    let below = format!("{path}.");
    origins.retain(|known, _| known != path && !known.starts_with(&below));
}

fn overlay(
    base: &mut Map<String, Value>,
    upper: Map<String, Value>,
    above: &str,
    layer: &Layer,
    origins: &mut BTreeMap<String, Layer>,
) {
    for (key, value) in upper {
        let path = if above.is_empty() { key.clone() } else { format!("{above}.{key}") };
        match value {
            // A password is one value, however it is kept.
            Value::Object(inner) if !is_one_value(&path) => {
                let below = base.entry(key).or_insert_with(|| Value::Object(Map::new()));
                if !below.is_object() {
                    *below = Value::Object(Map::new());
                    forget(origins, &path);
                }
                if inner.is_empty() {
                    origins.insert(path.clone(), layer.clone());
                }
                if let Value::Object(below) = below {
                    overlay(below, inner, &path, layer, origins);
                }
            }
            value => {
                forget(origins, &path);
                base.insert(key, value);
                origins.insert(path, layer.clone());
            }
        }
    }
}

fn is_one_value(path: &str) -> bool {
    path == "storage.encrypt"
        || path == "root.password"
        || (path.starts_with("users.") && path.ends_with(".password"))
        || (path.starts_with("questions.") && path.matches('.').count() == 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::answers::User;

    #[test]
    fn later_layers_override_single_keys_and_every_value_keeps_its_origin() {
        let user = |full_name: &str| User { full_name: Some(full_name.into()), ..User::default() };
        let site = Settings::<Password> {
            ntp: Some(vec!["time.gannet.example".into()]),
            time_zone: Some("Europe/London".into()),
            users: [("purser".into(), user("Purser")), ("clerk".into(), user("Clerk"))].into(),
            ..Settings::default()
        };
        let label = Settings {
            without: vec!["users.clerk".into(), "ntp".into()],
            users: [("purser".into(), User { groups: Some(vec!["dialout".into()]), ..User::default() })]
                .into(),
            ..Settings::default()
        };
        let machine = Settings { time_zone: Some("Europe/Oslo".into()), ..Settings::default() };
        let kiosk = Layer::Label("kiosk".into());
        let gate = Layer::Machine("auklet-gate".into());
        let merged = merge([(Layer::Site, &site), (kiosk.clone(), &label), (gate.clone(), &machine)]);
        let settings: Settings<Password> = serde_json::from_value(merged.tree).unwrap();
        assert_eq!(settings.time_zone.as_deref(), Some("Europe/Oslo"));
        assert_eq!(settings.ntp, None);
        assert_eq!(settings.users.len(), 1);
        assert_eq!(settings.users["purser"].full_name.as_deref(), Some("Purser"));
        let origins: Vec<_> = merged.origins.iter().map(|(path, layer)| format!("{path}: {layer}")).collect();
        assert_eq!(
            origins,
            [
                "at_end: built in",
                "keyboard: built in",
                "locale: built in",
                "time_zone: machine auklet-gate",
                "users.purser.full_name: site",
                "users.purser.groups: label kiosk",
            ]
        );
    }

    #[test]
    fn a_password_is_replaced_whole() {
        let with = |hash: bool| Settings::<Password> {
            storage: Some(crate::model::answers::Storage {
                encrypt: Some(Password {
                    hash: hash.then(|| serde_json::from_str("\"x\"").unwrap()),
                    sealed: (!hash).then(|| serde_json::from_str("\"00\"").unwrap()),
                    is_example: false,
                }),
                ..crate::model::answers::Storage::default()
            }),
            ..Settings::default()
        };
        let (below, above) = (with(true), with(false));
        let merged = merge([(Layer::Site, &below), (Layer::Answers("quay".into()), &above)]);
        let settings: Settings<Password> = serde_json::from_value(merged.tree).unwrap();
        assert_eq!(settings, Settings { storage: above.storage, ..built_in() });
    }
}

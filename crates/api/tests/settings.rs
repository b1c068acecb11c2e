//! What is made of the schema of the settings: the example file and the console's form.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeSet;

use lastmile_api::{
    PasswordInput, Settings,
    settings::{Field, Kind, example, fields},
};
use serde_json::Value;

/// The console's copy, which is built before anything of Rust is.
const FORM: &str = "../../console/src/answers/fields.gen.json";

/// To accept a change: `make contract`, then review the file.
#[test]
fn the_consoles_form_has_every_key() {
    let made = serde_json::to_string_pretty(&fields()).unwrap() + "\n";
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        std::fs::write(FORM, &made).unwrap();
    }
    let kept = std::fs::read_to_string(FORM).unwrap_or_default();
    assert!(
        made == kept,
        "the console's form is not what the settings are; run `make contract` and review it"
    );
}

#[test]
fn the_example_is_a_settings_file_as_it_is_and_with_all_that_it_shows() {
    let text = example();
    let said: Settings<PasswordInput> = toml::from_str(&text).unwrap();
    assert!(said.locale.is_some() && said.users["purser"].password.is_some(), "{said:?}");
    let lines = text.lines().skip_while(|line| !line.starts_with("##"));
    let all: Vec<&str> = lines.map(|line| line.strip_prefix("# ").unwrap_or(line)).collect();
    let all = all.join("\n");
    let whole: Settings<PasswordInput> =
        toml::from_str(&all).unwrap_or_else(|error| panic!("{error}\n{all}"));
    let whole = serde_json::to_value(&whole).unwrap();
    let mut shown = BTreeSet::new();
    gather_shown(&whole, "", &mut shown);
    let mut known = BTreeSet::new();
    gather_known(&fields(), "", &mut known);
    // Of texts at places the names are shown only.
    known.retain(|path| !path.starts_with("formats."));
    shown.retain(|path| !path.starts_with("formats."));
    assert_eq!(shown, known);
}

/// The path of everything that is said; names of one's choice are `*`.
fn gather_shown(value: &Value, at: &str, shown: &mut BTreeSet<String>) {
    const NAMED: [&str; 7] = [
        "users",
        "storage.disks",
        "network.interfaces",
        "software.repositories",
        "last_steps",
        "first_boot",
        "questions",
    ];
    match value {
        Value::Object(items) => {
            for (key, item) in items {
                let key = if NAMED.contains(&at) { "*" } else { key };
                let path = if at.is_empty() { key.to_owned() } else { format!("{at}.{key}") };
                gather_shown(item, &path, shown);
            }
        }
        Value::Array(items) if items.iter().any(Value::is_object) => {
            items.iter().for_each(|item| gather_shown(item, at, shown));
        }
        _ => {
            // How a password is given is not a key of its own.
            shown.insert(at.trim_end_matches(".plain").to_owned());
        }
    }
}

fn gather_known(fields: &[Field], at: &str, known: &mut BTreeSet<String>) {
    for field in fields {
        let path = if at.is_empty() { field.key.clone() } else { format!("{at}.{}", field.key) };
        match &field.kind {
            Kind::Table { fields } | Kind::Listed { fields, .. } => gather_known(fields, &path, known),
            Kind::Named { of, .. } => match &**of {
                Kind::Table { fields } => gather_known(fields, &format!("{path}.*"), known),
                _ => {
                    known.insert(format!("{path}.*"));
                }
            },
            _ => {
                known.insert(path);
            }
        }
    }
}

#[test]
fn every_key_is_explained_and_shown() {
    fn each(fields: &[Field], at: &str) {
        for field in fields {
            let path = format!("{at}.{}", field.key);
            assert!(!field.help.is_empty(), "{path} has no documentation");
            match &field.kind {
                Kind::Table { fields } if field.key == "formats" => assert_eq!(fields.len(), 5),
                Kind::Table { fields } | Kind::Listed { fields, .. } => each(fields, &path),
                Kind::Named { of, .. } => {
                    assert!(field.example.is_some(), "{path} has no example: #[schema(example = …)]");
                    if let Kind::Table { fields } = &**of {
                        each(fields, &path);
                    }
                }
                Kind::Text | Kind::Number | Kind::YesNo | Kind::List | Kind::Choice { .. } => {
                    assert!(field.example.is_some(), "{path} has no example: #[schema(example = …)]");
                }
                Kind::LongText | Kind::Password | Kind::Passphrase | Kind::Answer => {}
            }
        }
    }
    each(&fields(), "");
}

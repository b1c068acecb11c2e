//! An example of a settings file: every key with its meaning and a value.

use std::fmt::Write;

use lastmile_core::model::answers::{EXAMPLE_PASSPHRASE, EXAMPLE_PASSWORD};
use serde_json::Value;

use super::{Field, Kind, fields};

/// What stands before the keys.
const HEAD: &str = "\
# Settings of a system that is to be installed, in words that no installer has made. Save them with
#   lastmile answers add NAME --from FILE
# Every key may be left out. Settings of the whole site (`site:`), of a label (`label:NAME`) and of a machine
# (`machine:NAME`) are files of the same form: later ones override single keys of earlier ones, in the order site,
# answers, labels, machine. Texts may name the machine's values, as in \"{{ name }}\", \"{{ address }}\", \"{{ details.rack }}\".
# What begins with # and a key is not said: take the # away.

";

/// What is said and not only shown: enough for a system that somebody can log in to.
const SAID: [&str; 9] = [
    "locale",
    "keyboard",
    "time_zone",
    "users",
    "users.purser.full_name",
    "users.purser.password",
    "users.purser.sudo",
    "storage.logical_volumes",
    "software.packages",
];

/// The widest line of a comment, in characters.
const WIDTH: usize = 110;

/// A settings file in TOML with every key, most of them as comments.
#[must_use]
pub fn example() -> String {
    let mut file = HEAD.to_owned();
    table(&mut file, "", &fields());
    file
}

fn path(table: &str, key: &str) -> String {
    if table.is_empty() { key.into() } else { format!("{table}.{key}") }
}

/// Whether a key, or anything below it, is said.
fn is_said(path: &str) -> bool {
    SAID.iter()
        .any(|said| said.strip_prefix(path).is_some_and(|rest| rest.is_empty() || rest.starts_with('.')))
}

/// The keys of a table: plain ones first, because TOML counts what follows a table's heading to that table.
fn table(file: &mut String, at: &str, fields: &[Field]) {
    for field in fields {
        plain(file, at, field);
    }
    for field in fields {
        tables(file, at, field);
    }
}

fn plain(file: &mut String, at: &str, field: &Field) {
    let value = match &field.kind {
        Kind::Table { .. } | Kind::Named { .. } | Kind::Listed { .. } => return,
        Kind::Password => format!(r#"{{ plain = "{EXAMPLE_PASSWORD}" }}"#),
        Kind::Passphrase => format!(r#"{{ plain = "{EXAMPLE_PASSPHRASE}" }}"#),
        Kind::LongText => "\"\"".into(),
        Kind::Answer => r#""number"  # text, number, yes-no, or { choice = ["north", "south"] }"#.into(),
        Kind::Choice { choices } => {
            let chosen = field.example.as_ref().map(toml).unwrap_or_default();
            format!("{chosen}  # {}", choices.join(", "))
        }
        Kind::Text | Kind::Number | Kind::YesNo | Kind::List => {
            field.example.as_ref().map(toml).unwrap_or_default()
        }
    };
    comment(file, &field.help);
    let sign = if is_said(&path(at, &field.key)) { "" } else { "# " };
    let _ = writeln!(file, "{sign}{} = {value}", field.key);
}

fn tables(file: &mut String, at: &str, field: &Field) {
    let at = path(at, &field.key);
    let sign = if is_said(&at) { "" } else { "# " };
    let name = || match &field.example {
        Some(Value::Object(example)) => example.iter().next(),
        _ => None,
    };
    match &field.kind {
        Kind::Table { fields } if fields.iter().all(|field| matches!(field.kind, Kind::LongText)) => {
            // Places for texts: their names are enough.
            let names: Vec<&str> = fields.iter().map(|field| field.key.as_str()).collect();
            let _ = writeln!(file, "\n# [{at}]");
            comment(file, &format!("Any of: {}.", names.join(", ")));
        }
        Kind::Table { fields } => {
            file.push('\n');
            comment(file, &field.help);
            let _ = writeln!(file, "{sign}[{at}]");
            table(file, &at, fields);
        }
        Kind::Named { of, .. } => {
            let Some((name, value)) = name() else { return };
            file.push('\n');
            comment(file, &field.help);
            match &**of {
                Kind::Table { fields } => {
                    let _ = writeln!(file, "{sign}[{at}.{name}]");
                    table(file, &format!("{at}.{name}"), fields);
                }
                _ => {
                    let _ = writeln!(file, "{sign}[{at}]\n{sign}{name} = {}", toml(value));
                }
            }
        }
        Kind::Listed { fields, .. } => {
            file.push('\n');
            comment(file, &field.help);
            let _ = writeln!(file, "{sign}[[{at}]]");
            table(file, &at, fields);
        }
        _ => {}
    }
}

/// A comment, broken into lines.
fn comment(file: &mut String, text: &str) {
    let mut line = String::from("##");
    for word in text.split_whitespace() {
        if line.chars().count() + 1 + word.chars().count() > WIDTH {
            let _ = writeln!(file, "{line}");
            line = "##".into();
        }
        line.push(' ');
        line.push_str(word);
    }
    if line != "##" {
        let _ = writeln!(file, "{line}");
    }
}

/// A value as TOML writes it in one line.
fn toml(value: &Value) -> String {
    match value {
        Value::Array(items) => format!("[{}]", items.iter().map(toml).collect::<Vec<_>>().join(", ")),
        Value::Object(items) => {
            let items: Vec<_> = items.iter().map(|(key, item)| format!("{key} = {}", toml(item))).collect();
            format!("{{ {} }}", items.join(", "))
        }
        // JSON's strings, numbers and truth values are TOML's (TOML 1.0, Basic strings).
        other => other.to_string(),
    }
}

//! Things as TOML: files that people write, and what is written for them.

use std::path::Path;

use lastmile_client::Edited;
use serde::{Serialize, de::DeserializeOwned};

use crate::output::{Failure, Output};

/// How the first line of a written file begins that says which saved form it is.
const MARK: &str = "# edition ";

/// A file that a person wrote, or changed after `show` had written it.
pub(super) struct Written<T> {
    pub(super) value: T,
    /// The saved form that it was made from, if it says so.
    pub(super) etag: Option<String>,
}

/// Reads a file as it is; `-` is standard input.
///
/// # Errors
/// That it cannot be read; `fix` says what to give.
pub(super) fn read_text(path: &Path, fix: &'static str) -> Result<String, Failure> {
    let read = if path.as_os_str() == "-" {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(path)
    };
    read.map_err(|error| Failure::Input { place: path.display().to_string(), what: error.to_string(), fix })
}

/// Reads a TOML file; `fix` says where an example of one is to be had. `-` is standard input.
///
/// # Errors
/// That it cannot be read, or where it is not what it should be.
pub(super) fn read<T: DeserializeOwned>(path: &Path, fix: &'static str) -> Result<Written<T>, Failure> {
    let text = read_text(path, fix)?;
    let etag = text.lines().find_map(|line| {
        let number = line.strip_prefix(MARK)?.split(|c: char| !c.is_ascii_digit()).next()?;
        (!number.is_empty()).then(|| format!("\"{number}\""))
    });
    let value = toml::from_str(&text).map_err(|error| {
        let what = renamed(error.message())
            .map_or_else(|| error.to_string(), |hint| format!("{}{hint}", error.to_string().trim_end()));
        Failure::Input { place: path.display().to_string(), what, fix }
    })?;
    Ok(Written { value, etag })
}

/// Keys that had other names in earlier versions.
const RENAMED: [(&str, &str); 6] = [
    ("layout", "logical_volumes = true in the place of layout = \"lvm\""),
    ("size", "prefer = \"small\" or \"large\" in the place of size = \"smallest\" or \"largest\""),
    ("ask", "text in the place of ask"),
    ("when", "shown_if in the place of when"),
    ("facts", "details in the place of facts"),
    ("standing", "default_boot in the place of standing"),
];

fn renamed(message: &str) -> Option<String> {
    let field = message.strip_prefix("unknown field `")?.split('`').next()?;
    let (_, hint) = RENAMED.iter().find(|(old, _)| *old == field)?;
    Some(format!("\nThis version has {hint}."))
}

/// A thing as TOML. What it does not have is not in it.
pub(super) fn text<T: Serialize>(value: &T) -> String {
    toml::to_string(value).unwrap_or_default()
}

/// The same below something, for people: without what is empty.
pub(super) fn indented<T: Serialize>(value: &T) -> String {
    let is_said = |line: &&str| !line.is_empty() && !line.ends_with("= []");
    text(value).lines().filter(is_said).map(|line| format!("  {line}\n")).collect()
}

/// Shows a thing as the file that `change --from` reads; its first line says which saved form it is.
pub(super) fn show<T: Serialize>(out: &Output, edited: &Edited<T>, text: impl FnOnce(&T) -> String) {
    out.show(edited, |edited| {
        let number = edited.etag.as_deref().map(|etag| etag.trim_matches('"'));
        let mark = number.map(|number| {
            format!("{MARK}{number}: a file with this line is not saved over a later one; remove it to save it anyway\n")
        });
        mark.unwrap_or_default() + &text(&edited.value)
    });
}

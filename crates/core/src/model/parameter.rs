//! A kernel parameter, and where it comes from.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{base::Fault, model::values::Values};

/// Where a parameter comes from, in the order in which they are merged.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// What the installer's family needs to find its answers.
    Family,
    /// The image's revision.
    Image,
    /// The answers.
    Answers,
    /// A label of the machine, by name.
    Label(String),
    /// The machine itself.
    Machine,
    /// The menu's entry.
    Entry,
    /// The service: what the survey's agent needs.
    Service,
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Family => f.write_str("installer family"),
            Self::Image => f.write_str("image"),
            Self::Answers => f.write_str("answers"),
            Self::Label(name) => write!(f, "label {name}"),
            Self::Machine => f.write_str("machine"),
            Self::Entry => f.write_str("menu entry"),
            Self::Service => f.write_str("service"),
        }
    }
}

/// One word of the result.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Parameter {
    /// The word.
    pub word: String,
    /// Where it comes from.
    pub origin: Origin,
    /// The words of earlier levels that it takes the place of.
    pub replaces: Vec<String>,
}

/// What one level says of a kernel's parameters.
#[derive(Debug, Clone, Copy, Default)]
pub struct Said<'a> {
    /// Words that it adds. They may name the machine's values (`{{ address }}`).
    pub words: &'a [String],
    /// Keys of which it removes all words of earlier levels: `quiet`, `console`.
    pub without: &'a [String],
}

/// Checks the key of parameters to remove before it is saved.
///
/// # Errors
/// What is wrong with it; the place is left to the caller.
pub fn check_removed(key: &str) -> Result<(), Fault> {
    if !key.is_empty() && key.chars().all(|c| c.is_ascii_graphic() && !matches!(c, '=' | '{' | '}')) {
        return Ok(());
    }
    Err(Fault {
        place: String::new(),
        what: format!("'{key}' is not the key of a kernel parameter"),
        fix: "Name the key alone, as in quiet or console: all words of that key are removed.".into(),
    })
}

/// Checks a parameter before it is saved.
///
/// # Errors
/// What is wrong with it; the place is left to the caller.
pub fn check_parameter(word: &str) -> Result<(), Fault> {
    if word.is_empty() || word.chars().any(char::is_control) {
        return Err(Fault {
            place: String::new(),
            what: "empty, or with control characters".into(),
            fix: "Give each kernel parameter as one word on one line.".into(),
        });
    }
    if let Some(key) = word.strip_prefix('!') {
        return Err(Fault {
            place: String::new(),
            what: format!("'{word}' begins with '!'"),
            fix: format!(
                "To remove a parameter of an earlier level, name its key in without_parameters: {key}."
            ),
        });
    }
    let filled = Values::example().fill(word).map_err(|error| error.fault())?;
    if filled.trim().is_empty() || filled.trim().contains(char::is_whitespace) {
        return Err(Fault {
            place: String::new(),
            what: format!("'{word}' is not one word"),
            fix: "Give each word as a parameter of its own: loaders disagree about blanks in one.".into(),
        });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_removed_is_named_by_its_key() {
        assert!(check_removed("quiet").is_ok() && check_removed("netcfg/get_nameservers").is_ok());
        for bad in ["", "console=ttyS0", "two words", "{{ name }}"] {
            assert!(check_removed(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn what_cannot_be_filled_is_refused() {
        assert!(check_parameter("ip={{ address }}").is_ok() && check_parameter("---").is_ok());
        for bad in [
            "",
            "a\nb",
            "!quiet",
            "ip={{ addres }}",
            "{{",
            "quiet splash",
            "{{ 'a b' }}",
            "{% if false %}x{% endif %}",
        ] {
            assert!(check_parameter(bad).is_err(), "{bad}");
        }
    }
}

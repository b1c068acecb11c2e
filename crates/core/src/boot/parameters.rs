//! Kernel parameters from several levels, merged: the result, and the origin of each word.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::values::{Bound, Values};
use crate::Fault;

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

/// Merges the words of levels, given in their order, with a machine's values put in.
///
/// A later level's `key=value` takes the place of all words of that key from earlier levels; within one level a key may
/// stand several times (`console=` does). `!key` takes the key's words away. What fails to fill is left out: it was
/// checked when it was saved.
#[must_use]
pub fn merge<'a>(
    levels: impl IntoIterator<Item = (Origin, &'a [String])>,
    values: &Values,
) -> Vec<Parameter> {
    let values = Bound::from(values.clone());
    let mut merged: Vec<Parameter> = Vec::new();
    for (origin, words) in levels {
        let filled: Vec<String> = words.iter().filter_map(|word| values.fill(word).ok()).collect();
        for word in filled.iter().filter(|word| !word.is_empty()) {
            let gone = key(word.strip_prefix('!').unwrap_or(word));
            let mut replaces = Vec::new();
            merged.retain(|earlier| {
                let stays = earlier.origin == origin || key(&earlier.word) != gone;
                if !stays {
                    replaces.push(earlier.word.clone());
                }
                stays
            });
            if !word.starts_with('!') {
                merged.push(Parameter { word: word.clone(), origin: origin.clone(), replaces });
            }
        }
    }
    merged
}

fn key(word: &str) -> &str {
    word.split_once('=').map_or(word, |(key, _)| key)
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
            mend: "Give each kernel parameter as one word on one line.".into(),
        });
    }
    Values::example().fill(word).map(drop).map_err(|error| error.fault())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn later_levels_go_before_earlier_and_say_so() {
        let words = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
        let levels = [
            (Origin::Image, words("quiet console=tty0 console=ttyS0 ip=dhcp")),
            (Origin::Label("chart".into()), words("console=ttyS1,115200n8 !quiet")),
            (Origin::Machine, words("ip={{address}}:::{{netmask}} vga=791")),
        ];
        let merged = merge(
            levels.iter().map(|(origin, words)| (origin.clone(), words.as_slice())),
            &Values::example(),
        );
        let shown: Vec<_> = merged.iter().map(|p| format!("{} ({})", p.word, p.origin)).collect();
        assert_eq!(
            shown,
            [
                "console=ttyS1,115200n8 (label chart)",
                "ip=192.0.2.50:::255.255.255.0 (machine)",
                "vga=791 (machine)"
            ]
        );
        assert_eq!(merged[0].replaces, ["console=tty0", "console=ttyS0"]);
    }

    #[test]
    fn what_cannot_be_filled_is_refused() {
        assert!(check_parameter("ip={{ address }}").is_ok() && check_parameter("---").is_ok());
        for bad in ["", "a\nb", "ip={{ addres }}", "{{"] {
            assert!(check_parameter(bad).is_err(), "{bad}");
        }
    }
}

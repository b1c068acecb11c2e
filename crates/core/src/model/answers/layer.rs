//! Layers of settings: which there are.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{base::Id, model::machine::Machine};

/// What a set of settings is said of.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Scope {
    /// The whole site.
    Site,
    /// What is named when an install is armed.
    Answers(String),
    /// All machines of a label.
    Label(String),
    /// One machine.
    Machine(Id<Machine>),
}

/// Where a value comes from. A later one goes before an earlier.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Layer {
    /// What holds where nobody says otherwise.
    BuiltIn,
    /// The site.
    Site,
    /// The answers, by name.
    Answers(String),
    /// A label of the machine, by name.
    Label(String),
    /// The machine, by name.
    Machine(String),
}

impl fmt::Display for Layer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::BuiltIn => f.write_str("built in"),
            Self::Site => f.write_str("site"),
            Self::Answers(name) => write!(f, "answers {name}"),
            Self::Label(name) => write!(f, "label {name}"),
            Self::Machine(name) => write!(f, "machine {name}"),
        }
    }
}

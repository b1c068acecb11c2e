//! What rules say of one machine, as values.

use std::{collections::BTreeMap, fmt};

use crate::model::{
    image::Sha256,
    job::{JobKind, Task},
    rule::RuleMode,
};

/// What a rule gives a machine, in the order in which people are shown it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum What {
    /// Its name: it is registered by it.
    Name,
    /// A reserved address.
    Address,
    /// A label.
    Label(String),
    /// A detail.
    Detail(String),
    /// What it boots while no install is armed.
    DefaultBoot,
    /// A job that is done first.
    Job(JobKind),
    /// An armed install.
    Install,
}

/// As the fields of a machine are named; `labels.kiosk` is one label.
impl fmt::Display for What {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name => f.write_str("name"),
            Self::Label(label) => write!(f, "labels.{label}"),
            Self::Detail(detail) => write!(f, "details.{detail}"),
            Self::Address => f.write_str("address"),
            Self::DefaultBoot => f.write_str("default_boot"),
            Self::Job(kind) => write!(f, "jobs.{kind}"),
            Self::Install => f.write_str("install"),
        }
    }
}

/// What would be otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Effect {
    /// By which rule.
    pub rule: String,
    /// What.
    pub what: What,
    /// What there is now; nothing if there is nothing.
    pub before: Option<String>,
    /// What there is then.
    pub after: String,
    /// Whether it is done without a person.
    pub is_immediate: bool,
    /// Why it cannot be done.
    pub obstacle: Option<String>,
}

/// What a rule would give and does not, as a person has said otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// The rule.
    pub rule: String,
    /// What.
    pub what: What,
    /// Why it stays, in words.
    pub why: String,
}

/// Whether a rule holds of a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// The rule.
    pub rule: String,
    /// What becomes of what it says.
    pub mode: RuleMode,
    /// Whether its condition holds.
    pub holds: bool,
    /// The parts of its condition that do not, each with why, where there is more to say.
    pub failing: Vec<(String, Option<String>)>,
}

/// What rules say of one machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Every rule that is not off, in the order in which they are followed.
    pub verdicts: Vec<Verdict>,
    /// What would be otherwise.
    pub effects: Vec<Effect>,
    /// What stays as a person has said.
    pub kept: Vec<Kept>,
    /// The counter of each rule whose pattern has one.
    pub counters: BTreeMap<String, i64>,
    /// The jobs that are to be armed.
    pub jobs: Vec<Task>,
    /// What is installed, where an install is to be armed.
    pub install: Option<ArmedWith>,
    /// Whether somebody has to give it a name first: it is not registered, and no rule names it.
    pub lacks_name: bool,
}

impl Outcome {
    /// What there is to do: nothing stands in its way.
    pub fn possible(&self) -> impl Iterator<Item = &Effect> {
        self.effects.iter().filter(|effect| effect.obstacle.is_none() && !self.lacks_name)
    }

    /// Told from every other outcome: by what would be otherwise.
    #[must_use]
    pub fn digest(&self) -> String {
        self.digest_by(|effect| effect.after.as_str())
    }

    /// The same, whatever numbers names and addresses have: they go on while others are given theirs.
    #[must_use]
    pub fn uncounted_digest(&self) -> String {
        let is_counted = |effect: &Effect| {
            matches!(effect.what, What::Name | What::Address) && self.counters.contains_key(&effect.rule)
        };
        self.digest_by(|effect| if is_counted(effect) { "" } else { effect.after.as_str() })
    }

    fn digest_by<'a>(&'a self, value: impl Fn(&'a Effect) -> &'a str) -> String {
        let line = |effect: &'a Effect| format!("{} {} {}\n", effect.rule, effect.what, value(effect));
        let lines: String = self.effects.iter().map(line).collect();
        Sha256::of(lines.as_bytes()).to_string()[..16].to_owned()
    }
}

/// What is installed by which answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArmedWith {
    /// The image's name.
    pub image: String,
    /// The answers' name.
    pub answers: String,
}

impl fmt::Display for ArmedWith {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} with {}", self.image, self.answers)
    }
}

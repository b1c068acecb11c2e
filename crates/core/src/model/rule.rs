//! A rule: a condition on what was measured, and what follows for machines of which it holds.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_formats::mac::Mac;
use serde::{Deserialize, Serialize};

use super::{condition::FactCondition, job::Task, machine::DefaultBoot};

/// What becomes of what a rule says.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Default,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RuleMode {
    /// Nothing: it is kept, and not looked at.
    Off,
    /// It is proposed, and a person accepts it.
    #[default]
    Propose,
    /// It is done at once.
    Apply,
}

impl RuleMode {
    /// As it is written.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// A condition on what was measured, and what follows for machines of which it holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// Of several rules that say the same thing of one machine, the one of the highest rank is followed.
    pub rank: i32,
    /// What becomes of what it says.
    pub mode: RuleMode,
    /// Of which machines it holds.
    pub condition: FactCondition,
    /// Labels they get.
    pub labels: Vec<String>,
    /// Details they get, by pattern.
    pub details: BTreeMap<String, String>,
    /// Whether they get hall, row, rack and unit of the switch's port that they are plugged into.
    pub location: bool,
    /// What unknown machines are called, by pattern.
    pub machine_name: Option<String>,
    /// The address that is reserved for the NIC they booted from, by pattern.
    pub address: Option<String>,
    /// What they boot while no install is armed.
    pub default_boot: Option<DefaultBoot>,
    /// Jobs that are done on them first: nothing is armed until all of them are done.
    pub jobs: Vec<Task>,
    /// Whether an install is armed on them, if they never had one.
    pub arm: bool,
    /// The image it is armed with, by name; that of their labels if left out.
    pub image: Option<String>,
    /// The answers it is armed with, by name; those of their labels if left out.
    pub answers: Option<String>,
    /// Machines that it changes within an hour by itself at most.
    pub hourly_limit: u32,
}

impl Rule {
    /// Everything in it that values are put into.
    fn patterns(&self) -> impl Iterator<Item = &String> {
        self.machine_name.iter().chain(&self.address).chain(self.details.values())
    }

    /// Whether its condition or one of its patterns names a value; a pattern that only has the word in it counts, too.
    #[must_use]
    pub fn names(&self, name: &str) -> bool {
        self.condition.names(name) || self.patterns().any(|pattern| pattern.contains(name))
    }

    /// Whether it counts the machines that it names.
    #[must_use]
    pub fn counts(&self) -> bool {
        self.machine_name.iter().chain(&self.address).any(|pattern| pattern.contains("counter"))
    }
}

/// That something is proposed for whoever has an address, and waits for a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposal {
    /// The address that the survey was started from.
    pub mac: Mac,
    /// Since when.
    pub since: Timestamp,
    /// The digest of what was proposed when a person declined it: the same is not proposed again.
    pub declined: Option<String>,
}

/// That a rule changed a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleUse {
    /// When.
    pub at: Timestamp,
    /// The rule's name.
    pub rule: String,
    /// The machine's name then.
    pub machine: String,
    /// The address that its survey was started from.
    pub mac: Mac,
    /// The counter that its pattern was given.
    pub counter: Option<i64>,
    /// What was changed, in words: `labels: kiosk`.
    pub changes: Vec<String>,
    /// Who accepted it; nobody where the rule did it by itself.
    pub by: Option<String>,
}

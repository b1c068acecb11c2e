//! Rules, what they say of machines, what they propose, and where machines are.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_core::{
    decide::rule::{Effect, Kept, LocationRow, Outcome, RuleDraft, Verdict},
    model::{
        location::Location,
        machine::Given,
        rule::{RuleMode, RuleUse},
    },
};
use serde::{Deserialize, Serialize};

use crate::Stage;

/// A rule, and what it did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleView {
    /// Its name.
    pub name: String,
    /// As it was entered.
    pub rule: RuleDraft,
    /// Surveyed machines and newcomers of which it holds now.
    pub holds: usize,
    /// Those for whom it proposes something that nobody has accepted or declined yet.
    pub waiting: usize,
    /// How often it changed a machine.
    pub uses: i64,
    /// When it last did.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_used: Option<Timestamp>,
    /// Machines that it changed by itself within the last hour.
    pub last_hour: i64,
}

/// What a rule would change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct EffectView {
    /// The rule.
    pub rule: String,
    /// What: `name`, `address`, `labels.LABEL`, `details.DETAIL`, `default_boot` or `install`.
    pub what: String,
    /// What there is now.
    pub before: Option<String>,
    /// What there is then.
    pub after: String,
    /// Whether it is done without a person.
    pub is_immediate: bool,
    /// Why it cannot be done.
    pub obstacle: Option<String>,
}

impl From<&Effect> for EffectView {
    fn from(effect: &Effect) -> Self {
        Self {
            rule: effect.rule.clone(),
            what: effect.what.to_string(),
            before: effect.before.clone(),
            after: effect.after.clone(),
            is_immediate: effect.is_immediate,
            obstacle: effect.obstacle.clone(),
        }
    }
}

/// What a rule would change and does not, as a person has said otherwise.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct KeptView {
    /// The rule.
    pub rule: String,
    /// What.
    pub what: String,
    /// Why it stays.
    pub why: String,
}

impl From<&Kept> for KeptView {
    fn from(kept: &Kept) -> Self {
        Self { rule: kept.rule.clone(), what: kept.what.to_string(), why: kept.why.clone() }
    }
}

/// A part of a condition that does not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FailingPart {
    /// The part, as it was entered.
    pub part: String,
    /// Why, where there is more to say.
    pub why: Option<String>,
}

/// Whether a rule holds of a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct VerdictView {
    /// The rule.
    pub rule: String,
    /// What becomes of what it says.
    pub mode: RuleMode,
    /// Whether its condition holds.
    pub holds: bool,
    /// The parts of its condition that do not.
    pub failing: Vec<FailingPart>,
}

impl From<&Verdict> for VerdictView {
    fn from(verdict: &Verdict) -> Self {
        let part =
            |(part, why): &(String, Option<String>)| FailingPart { part: part.clone(), why: why.clone() };
        Self {
            rule: verdict.rule.clone(),
            mode: verdict.mode,
            holds: verdict.holds,
            failing: verdict.failing.iter().map(part).collect(),
        }
    }
}

/// What rules say of one machine or newcomer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineRules {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// Every rule that is not off, in the order in which they are followed.
    pub rules: Vec<VerdictView>,
    /// What would change now.
    pub effects: Vec<EffectView>,
    /// What stays as a person has said.
    pub kept: Vec<KeptView>,
    /// Whether it is not registered, and no rule gives it a name.
    pub lacks_name: bool,
    /// What rules gave it, by what it is.
    pub given: BTreeMap<String, Given>,
    /// When rules changed it, the latest first.
    pub uses: Vec<RuleUseView>,
}

/// One time that a rule changed a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleUseView {
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// The rule.
    pub rule: String,
    /// The machine's name then.
    pub machine: String,
    /// The MAC address that its survey was started from.
    pub mac: String,
    /// What was changed.
    pub changes: Vec<String>,
    /// Who accepted it; nobody where the rule did it by itself.
    pub by: Option<String>,
}

impl From<RuleUse> for RuleUseView {
    fn from(used: RuleUse) -> Self {
        Self {
            at: used.at,
            rule: used.rule,
            machine: used.machine,
            mac: used.mac.to_string(),
            changes: used.changes,
            by: used.by,
        }
    }
}

/// A rule that is tried before it is saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleTrialRequest {
    /// Its name: it takes the place of the one that is called so.
    pub name: String,
    /// The rule.
    pub rule: RuleDraft,
    /// Rows that are given at most; 500 if left out.
    #[serde(default)]
    pub limit: Option<usize>,
}

/// What a rule would do to every machine and newcomer that was surveyed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleTrial {
    /// How many were surveyed.
    pub surveyed: usize,
    /// Of how many it holds.
    pub holds: usize,
    /// How many it would change.
    pub changes: usize,
    /// For how many something stands in its way.
    pub obstacles: usize,
    /// A row each: first where something stands in the way, then where something changes, then where it holds, then the others, those
    /// first that fail by the fewest parts.
    pub rows: Vec<RuleTrialRow>,
}

/// What a rule would do to one machine or newcomer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleTrialRow {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// What it is, in one line.
    pub summary: String,
    /// Whether the condition holds.
    pub holds: bool,
    /// The parts of the condition that do not.
    pub failing: Vec<FailingPart>,
    /// What the rule would change.
    pub effects: Vec<EffectView>,
    /// What stays as a person has said.
    pub kept: Vec<KeptView>,
}

/// For which machines rules are run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RulesRun {
    /// Machines by name, and newcomers by MAC address.
    #[serde(default)]
    pub who: Vec<String>,
    /// Every one that was surveyed.
    #[serde(default)]
    pub all: bool,
    /// Whether installs are armed also on machines that had one before.
    #[serde(default)]
    pub arm_again: bool,
}

/// What rules did to one machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleRun {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// What was changed.
    pub effects: Vec<EffectView>,
    /// What waits for a person now.
    pub proposed: Vec<EffectView>,
    /// What was to be done and was refused, with why.
    pub refused: Vec<String>,
}

/// What rules propose for one machine or newcomer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ProposalView {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// The MAC address that its survey was started from.
    pub mac: String,
    /// Whether it is registered.
    pub is_registered: bool,
    /// What it is, in one line.
    pub summary: String,
    /// Since when something is proposed.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// What would change.
    pub effects: Vec<EffectView>,
    /// Whether it is not registered, and no rule gives it a name: somebody has to adopt it first.
    pub lacks_name: bool,
    /// Tells this from anything else that is proposed for it later.
    pub digest: String,
}

impl ProposalView {
    /// Of whoever is called so.
    #[must_use]
    pub fn new(
        who: String,
        mac: String,
        is_registered: bool,
        summary: String,
        since: Timestamp,
        said: &Outcome,
    ) -> Self {
        Self {
            who,
            mac,
            is_registered,
            summary,
            since,
            effects: said.effects.iter().map(EffectView::from).collect(),
            lacks_name: said.lacks_name,
            digest: said.digest(),
        }
    }
}

/// Proposals that a person accepts or declines.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProposalsChosen {
    /// Whose.
    pub proposals: Vec<ProposalChosen>,
}

/// One of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProposalChosen {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// The digest of what the person has seen. If something else is proposed now, it is refused; left out, whatever is proposed is
    /// meant.
    #[serde(default)]
    pub digest: Option<String>,
}

/// A table of locations.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LocationsImport {
    /// CSV (RFC 4180) with a head: switch, port, hall, row, rack, unit.
    pub csv: String,
    /// Whether locations that it does not have are removed.
    #[serde(default)]
    pub replace: bool,
}

/// What becomes of the table of locations.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LocationsReport {
    /// Ports that were not there.
    pub new: usize,
    /// Ports that are elsewhere now.
    pub changed: usize,
    /// Ports that are where they were.
    pub unchanged: usize,
    /// Ports that are not there any more.
    pub removed: usize,
    /// A row each.
    pub rows: Vec<LocationRow>,
}

/// Ports whose locations are removed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LocationsRemove {
    /// The switch.
    pub switch: String,
    /// Its ports; all of them if none is named.
    #[serde(default)]
    pub ports: Vec<String>,
}

/// Where a port of a switch is, and who is plugged into it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LocationView {
    /// The port, and where it is.
    #[serde(flatten)]
    pub location: Location,
    /// The machine's name or the newcomer's MAC address, as surveys found.
    pub who: Option<String>,
}

/// A rack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RackView {
    /// Its hall; empty if nothing is said.
    pub hall: String,
    /// Its row.
    pub row: String,
    /// Its name.
    pub rack: String,
    /// How many units it has, as far as is known.
    pub height: u16,
    /// What is in it, from the highest unit down; last what is in the rack and nobody knows where.
    pub units: Vec<RackUnitView>,
}

/// Units of a rack that belong together.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RackUnitView {
    /// The lowest; nothing where only the rack is known.
    pub from: Option<u16>,
    /// The highest.
    pub to: Option<u16>,
    /// Who is there: nobody, or several where two are said to be in one place.
    pub occupants: Vec<RackOccupant>,
    /// The switch ports that end here, as in `sw-tern-1 Ethernet1/4`.
    pub ports: Vec<String>,
}

/// Who is in a unit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RackOccupant {
    /// The machine's name, or the newcomer's MAC address.
    pub who: String,
    /// How far a registered machine is; nothing for a newcomer.
    pub stage: Option<Stage>,
    /// Whether it is registered, and was never seen: it is expected.
    pub is_expected: bool,
    /// What it is, in one line, where it was surveyed.
    pub summary: Option<String>,
}

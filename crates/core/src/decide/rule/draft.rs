//! Rules as people enter them.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, name},
    decide::{
        job::check_task,
        machine::{DefaultBootDraft, check_pattern},
        references::check_armed,
    },
    model::{
        condition::{FactCondition, NAMES},
        job::Task,
        label::USUAL_RANK,
        rule::{Rule, RuleMode},
    },
    site::Site,
};

/// Machines that a rule changes within an hour by itself, where nobody says how many.
pub const USUAL_LIMIT: u32 = 50;
/// What no rule may be called: paths of the API end so.
const WORDS: [&str; 2] = ["try", "run"];
/// The most that may be said.
const MOST_LIMIT: u32 = 100_000;
/// What patterns may name beside what conditions may: the first only those of names and addresses.
const COUNTER: &str = "counter";
const MAC_BARE: &str = "mac_bare";

/// A rule as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct RuleDraft {
    /// Of several rules that say the same thing of one machine, the one of the highest rank is followed; of equal ranks, the last
    /// by name.
    pub rank: i32,
    /// What becomes of what it says: `propose`, `apply` or `off`.
    pub mode: RuleMode,
    /// Of which machines it holds, as in `product == 'MK-8' and location.rack == 'r12'`.
    pub condition: String,
    /// Labels they get.
    pub labels: Vec<String>,
    /// Details they get, by name, each a pattern.
    pub details: BTreeMap<String, String>,
    /// Whether they get hall, row, rack and unit of the switch's port that they are plugged into, by the table of locations.
    pub location: bool,
    /// What unknown machines are called: a pattern, as in `kiosk-{{ counter | pad(2) }}`. The counter is one more than the last that
    /// the rule gave, past those whose name or address is in use.
    pub name: Option<String>,
    /// The address that is reserved for the network card they booted from, if it has none: a pattern.
    pub address: Option<String>,
    /// What they boot while no install is armed, in the place of their local disk.
    pub default_boot: Option<DefaultBootDraft>,
    /// Jobs that are done on them first, one of a kind: nothing is armed until all of them are done.
    pub jobs: Vec<Task>,
    /// Whether an install is armed on them. One that ever had an install is left alone.
    pub arm: bool,
    /// The image it is armed with; that of their labels if left out.
    pub image: Option<String>,
    /// The answers it is armed with; those of their labels if left out.
    pub answers: Option<String>,
    /// Machines that it changes by itself within an hour at most. Further ones are proposed.
    pub hourly_limit: u32,
}

impl Default for RuleDraft {
    fn default() -> Self {
        Self {
            rank: USUAL_RANK,
            mode: RuleMode::default(),
            condition: String::new(),
            labels: Vec::new(),
            details: BTreeMap::new(),
            location: false,
            name: None,
            address: None,
            default_boot: None,
            jobs: Vec::new(),
            arm: false,
            image: None,
            answers: None,
            hourly_limit: USUAL_LIMIT,
        }
    }
}

impl RuleDraft {
    /// A rule in the form in which it is entered.
    #[must_use]
    pub fn of(site: &Site, rule: &Rule) -> Self {
        Self {
            rank: rule.rank,
            mode: rule.mode,
            condition: rule.condition.as_str().into(),
            labels: rule.labels.clone(),
            details: rule.details.clone(),
            location: rule.location,
            name: rule.machine_name.clone(),
            address: rule.address.clone(),
            default_boot: rule.default_boot.as_ref().map(|boot| DefaultBootDraft::from_boot(site, boot)),
            jobs: rule.jobs.clone(),
            arm: rule.arm,
            image: rule.image.clone(),
            answers: rule.answers.clone(),
            hourly_limit: rule.hourly_limit,
        }
    }

    /// Checks the draft.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, name: &str, site: &Site) -> Result<Rule, Vec<Fault>> {
        let mut faults = Faults::new();
        let rule = self.read(&mut faults, name, site);
        if self.does_nothing() {
            let fix = "Give it labels, details, location, name, address, default_boot, jobs or arm.";
            faults.add("labels", "nothing follows of it", fix);
        }
        faults.into_result(|| rule)
    }

    /// The same while it is being written: nothing need follow of it yet.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check_unfinished(&self, name: &str, site: &Site) -> Result<Rule, Vec<Fault>> {
        let mut faults = Faults::new();
        let rule = self.read(&mut faults, name, site);
        faults.into_result(|| rule)
    }

    fn does_nothing(&self) -> bool {
        self.labels.is_empty()
            && self.details.is_empty()
            && !(self.location || self.arm)
            && self.name.is_none()
            && self.address.is_none()
            && self.default_boot.is_none()
            && self.jobs.is_empty()
    }

    fn read(&self, faults: &mut Faults, name: &str, site: &Site) -> Option<Rule> {
        faults.keep("name", name::check_thing_name(name), name::THING_NAME_FIX);
        if WORDS.contains(&name) {
            faults.add("name", format!("'{name}' is what is done with rules"), "Choose another name.");
        }
        let condition = match FactCondition::new(&self.condition) {
            Ok(condition) => Some(condition),
            Err(fault) => {
                faults.add("condition", fault.what, fault.fix);
                None
            }
        };
        let mut labels = self.labels.clone();
        labels.sort();
        labels.dedup();
        for label in &labels {
            faults.keep("labels", name::check_thing_name(label), name::THING_NAME_FIX);
        }
        for (detail, text) in &self.details {
            let place = format!("details.{detail}");
            faults.keep(place.clone(), name::check_detail_name(detail), name::DETAIL_NAME_FIX);
            check_filled(faults, place, text, &[MAC_BARE]);
        }
        for (place, text) in [("name", &self.name), ("address", &self.address)] {
            if let Some(text) = text {
                check_filled(faults, place.into(), text, &[COUNTER, MAC_BARE]);
            }
        }
        let default_boot = self.default_boot.as_ref().and_then(|boot| boot.check(faults, site));
        self.check_jobs(faults, site);
        check_armed(faults, self.image.as_deref(), self.answers.as_deref(), site);
        if !self.arm && (self.image.is_some() || self.answers.is_some()) {
            let fix = "Set arm = true as well, or leave image and answers out.";
            faults.add("arm", "an image or answers are named, and nothing is armed", fix);
        }
        if self.hourly_limit == 0 || self.hourly_limit > MOST_LIMIT {
            let fix = "Give 1 to 100,000 machines; mode = propose has it change none by itself.";
            faults.add("hourly_limit", format!("{} machines an hour", self.hourly_limit), fix);
        }
        Some(Rule {
            name: name.into(),
            rank: self.rank,
            mode: self.mode,
            condition: condition?,
            labels,
            details: self.details.clone(),
            location: self.location,
            machine_name: self.name.clone(),
            address: self.address.clone(),
            default_boot,
            jobs: self.jobs.clone(),
            arm: self.arm,
            image: self.image.clone(),
            answers: self.answers.clone(),
            hourly_limit: self.hourly_limit,
        })
    }
}

impl RuleDraft {
    fn check_jobs(&self, faults: &mut Faults, site: &Site) {
        let mut kinds = BTreeSet::new();
        for (index, task) in self.jobs.iter().enumerate() {
            let place = format!("jobs.{index}");
            for fault in check_task(task, site) {
                faults.add(fault.place.replace("task", &place), fault.what, fault.fix);
            }
            if !matches!(task, Task::BurnIn(_)) {
                let fix = "A rule arms burn-ins. Others are armed by people: `lastmile job arm`, `lastmile machine run`.";
                faults.add(place, format!("no rule arms a job of kind {}", task.kind()), fix);
            } else if !kinds.insert(task.kind()) {
                faults.add(
                    place,
                    format!("there is another {} before it", task.kind()),
                    "Leave one of them out.",
                );
            }
        }
    }
}

/// Checks a pattern that may name these beside what conditions may.
fn check_filled(faults: &mut Faults, place: String, text: &str, more: &[&str]) {
    let names: Vec<&str> = NAMES.iter().chain(more).copied().collect();
    if let Err(fault) = check_pattern(text, &names) {
        faults.add(place, fault.what, fault.fix);
    }
}

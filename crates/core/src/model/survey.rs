//! A survey on record: what one boot of the survey measured.

use jiff::Timestamp;
use lastmile_formats::mac::Mac;
use lastmile_survey::compare::Difference;
use uuid::Uuid;

use super::{agent::Survey, machine::Machine, pci::name_devices};
use crate::base::{Id, size_text};

/// What one boot measured. It is written again while the boot goes on, as disks and neighbours appear late.
#[derive(Debug, Clone, PartialEq)]
pub struct SurveyRecord {
    /// The boot.
    pub boot: Uuid,
    /// The MAC address that it was started from.
    pub mac: Mac,
    /// The machine that had that address then, if one was registered.
    pub machine: Option<Id<Machine>>,
    /// The boot of its survey before, with which it was compared; nothing for the first.
    pub previous: Option<Uuid>,
    /// When the first report came.
    pub began: Timestamp,
    /// When the last one came.
    pub at: Timestamp,
    /// What was measured.
    pub survey: Survey,
    /// What is different since the survey before.
    pub changes: Vec<Difference>,
}

impl SurveyRecord {
    /// The record of a report, which is the first or a later one of its boot: `earlier` is the machine's latest survey.
    #[must_use]
    pub fn of_report(
        boot: Uuid,
        mac: Mac,
        machine: Option<Id<Machine>>,
        survey: Survey,
        earlier: Option<&Self>,
        now: Timestamp,
    ) -> Self {
        let mut survey = survey.plain();
        name_devices(&mut survey.facts);
        let same = earlier.filter(|earlier| earlier.boot == boot);
        let changes = match (same, earlier) {
            // What was different stays so; what this boot finds late is not.
            (Some(same), _) => same.changes_with(&survey),
            (None, Some(before)) => survey.facts.changes_since(&before.survey.facts),
            (None, None) => Vec::new(),
        };
        let began = same.map_or(now, |same| same.began);
        let previous = same.map_or_else(|| earlier.map(|before| before.boot), |same| same.previous);
        Self { boot, mac, machine, previous, began, at: now, survey, changes }
    }

    /// What is different since the survey before, once this boot has measured something more.
    fn changes_with(&self, survey: &Survey) -> Vec<Difference> {
        if self.previous.is_none() {
            return Vec::new();
        }
        let late = survey.facts.changes_since(&self.survey.facts);
        let mut changes = self.changes.clone();
        for found in late {
            match changes.iter_mut().find(|change| change.place == found.place) {
                Some(change) => change.now = found.now,
                None => changes.push(found),
            }
        }
        changes.retain(|change| change.before != change.now);
        changes
    }

    /// The whole machine in one line: what it is, and what is in it.
    #[must_use]
    pub fn summary(&self) -> String {
        let what = self.survey.facts.hardware();
        what.into_iter().chain([self.inside()]).collect::<Vec<_>>().join(", ")
    }

    /// What is in the machine, in one line: its cores, memory, disks and network cards.
    #[must_use]
    pub fn inside(&self) -> String {
        let facts = &self.survey.facts;
        let some = |count: usize, one: &str| match count {
            0 => format!("no {one}"),
            1 => format!("1 {one}"),
            count => format!("{count} {one}s"),
        };
        let cores = usize::try_from(facts.cpu.cores).unwrap_or_default();
        let disks: u64 = facts.disks.iter().map(|disk| disk.size).sum();
        let on_disks =
            if facts.disks.is_empty() { String::new() } else { format!(" of {}", size_text(disks)) };
        let parts = [
            some(cores, "core"),
            size_text(facts.memory.mib << 20),
            format!("{}{on_disks}", some(facts.disks.len(), "disk")),
            some(facts.nics.len(), "network card"),
        ];
        parts.join(", ")
    }

    /// Every address that a machine of this hardware may speak from: that it was started from, and those of its cards.
    pub fn macs(&self) -> impl Iterator<Item = Mac> {
        let cards = self.survey.facts.nics.iter().map(|nic| nic.mac).filter(|mac| *mac != self.mac);
        std::iter::once(self.mac).chain(cards)
    }
}

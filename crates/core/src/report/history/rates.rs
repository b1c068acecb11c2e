//! How installs went: success and durations, by what they have in common, and day by day.

use std::collections::BTreeMap;

use jiff::{SignedDuration, civil::Date, tz::TimeZone};
use serde::{Deserialize, Serialize};

use super::Recorded;
use crate::model::install::InstallState;

/// What stands for installs that have no subnet, or machines without labels.
const NONE: &str = "(none)";

/// What installs are put together by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum GroupBy {
    /// Their image.
    #[default]
    Image,
    /// Their image's revision.
    Revision,
    /// The subnet that the machine booted on.
    Subnet,
    /// The labels that the machine had; an install counts for each of them.
    Label,
}

impl GroupBy {
    fn of(self, install: &Recorded) -> Vec<String> {
        match self {
            Self::Image => vec![install.image.clone()],
            Self::Revision => vec![format!("{} r{}", install.image, install.image_revision)],
            Self::Subnet => vec![install.subnet.clone().unwrap_or_else(|| NONE.into())],
            Self::Label if install.labels.is_empty() => vec![NONE.into()],
            Self::Label => install.labels.clone(),
        }
    }
}

/// How the installs of one group went.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tally {
    /// What they have in common.
    pub group: String,
    /// How many were armed.
    pub armed: u32,
    /// How many go on.
    pub open: u32,
    /// How many reached `installed`.
    pub installed: u32,
    /// How many failed.
    pub failed: u32,
    /// How many stalled.
    pub stalled: u32,
    /// How many were cancelled.
    pub cancelled: u32,
    /// Of those that ended and were not cancelled, how many per cent reached `installed`. Nothing while there are none.
    pub success_percent: Option<f64>,
    /// Seconds from the first sign of the boot to the end, of those that reached `installed`: the shortest,
    pub shortest_secs: Option<u64>,
    /// the middle one,
    pub median_secs: Option<u64>,
    /// the one that nine of ten do not go beyond,
    pub ninth_decile_secs: Option<u64>,
    /// and the longest.
    pub longest_secs: Option<u64>,
}

/// How the installs that ended on one day went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Day {
    /// The day (UTC).
    #[cfg_attr(feature = "schema", schema(value_type = String, format = Date))]
    pub day: Date,
    /// How many reached `installed`.
    pub installed: u32,
    /// How many failed.
    pub failed: u32,
    /// How many stalled.
    pub stalled: u32,
    /// How many were cancelled.
    pub cancelled: u32,
}

/// How installs went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rates {
    /// All of them together.
    pub all: Tally,
    /// By what they have in common; most installs first.
    pub groups: Vec<Tally>,
    /// By the day on which they ended; days without any are left out.
    pub days: Vec<Day>,
}

/// How these installs went.
#[must_use]
pub fn rates(installs: &[Recorded], by: GroupBy) -> Rates {
    let mut groups: BTreeMap<String, Gathered> = BTreeMap::new();
    let mut days: BTreeMap<Date, Day> = BTreeMap::new();
    let mut all = Gathered::default();
    for install in installs {
        all.add(install);
        for group in by.of(install) {
            groups.entry(group).or_default().add(install);
        }
        if let Some(ended) = install.ended_at {
            let day = ended.to_zoned(TimeZone::UTC).date();
            let none = || Day { day, installed: 0, failed: 0, stalled: 0, cancelled: 0 };
            let day = days.entry(day).or_insert_with(none);
            match install.state {
                InstallState::Installed => day.installed += 1,
                InstallState::Failed => day.failed += 1,
                InstallState::Stalled => day.stalled += 1,
                InstallState::Cancelled => day.cancelled += 1,
                InstallState::Armed | InstallState::Booting | InstallState::Installing => {}
            }
        }
    }
    let mut groups: Vec<Tally> =
        groups.into_iter().map(|(group, gathered)| gathered.into_tally(group)).collect();
    groups.sort_by(|a, b| b.armed.cmp(&a.armed).then_with(|| a.group.cmp(&b.group)));
    Rates { all: all.into_tally("all".into()), groups, days: days.into_values().collect() }
}

#[derive(Default)]
struct Gathered {
    tally: Tally,
    took: Vec<SignedDuration>,
}

impl Gathered {
    fn add(&mut self, install: &Recorded) {
        let tally = &mut self.tally;
        tally.armed += 1;
        let count = match install.state {
            InstallState::Armed | InstallState::Booting | InstallState::Installing => &mut tally.open,
            InstallState::Installed => &mut tally.installed,
            InstallState::Failed => &mut tally.failed,
            InstallState::Stalled => &mut tally.stalled,
            InstallState::Cancelled => &mut tally.cancelled,
        };
        *count += 1;
        self.took.extend(install.took());
    }

    fn into_tally(mut self, group: String) -> Tally {
        self.took.sort_unstable();
        let last = self.took.len().saturating_sub(1);
        // The nearest rank: what so many tenths of them do not go beyond.
        let at = |tenths: usize| {
            let place = (self.took.len() * tenths).div_ceil(10).saturating_sub(1).min(last);
            self.took.get(place).and_then(|span| u64::try_from(span.as_secs()).ok())
        };
        let tally = self.tally;
        let ended = tally.installed + tally.failed + tally.stalled;
        let success = 100.0 * f64::from(tally.installed) / f64::from(ended.max(1));
        Tally {
            group,
            success_percent: (ended > 0).then(|| (success * 10.0).round() / 10.0),
            shortest_secs: at(0),
            median_secs: at(5),
            ninth_decile_secs: at(9),
            longest_secs: at(10),
            ..tally
        }
    }
}

#[cfg(test)]
#[path = "rates_tests.rs"]
mod tests;

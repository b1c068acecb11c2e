//! How long nothing may be seen of an install, stage by stage, before it counts as stalled.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{Install, InstallState, Step, StepKind};
use crate::{Faults, trace::Diagnosis};

/// Longest limit, in minutes: a week.
const MOST_MINUTES: u32 = 7 * 24 * 60;

/// How long nothing may be seen of an install in each stage, in minutes; 0 for as long as it takes. One that is armed
/// and whose machine was not switched on yet has no limit, nor has one that waits for answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct StageLimits {
    /// From one sign of the boot to the next, as far as the kernel.
    pub loading_minutes: u32,
    /// From the kernel to the answer file.
    pub starting_minutes: u32,
    /// From the answer file to the installer's end; each of its log lines is a sign of life.
    pub installing_minutes: u32,
    /// From the answer file to the end, whatever is heard meanwhile: beyond it the install has failed.
    pub whole_minutes: u32,
}

impl Default for StageLimits {
    fn default() -> Self {
        Self { loading_minutes: 30, starting_minutes: 30, installing_minutes: 120, whole_minutes: 24 * 60 }
    }
}

impl StageLimits {
    /// Adds what is wrong with them to `faults`, each at its own place.
    pub(crate) fn check(&self, faults: &mut Faults) {
        let limits = [
            ("loading_minutes", self.loading_minutes),
            ("starting_minutes", self.starting_minutes),
            ("installing_minutes", self.installing_minutes),
            ("whole_minutes", self.whole_minutes),
        ];
        for (name, minutes) in limits {
            if minutes > MOST_MINUTES {
                let mend =
                    format!("Give at most {MOST_MINUTES} minutes, which are a week, or 0 for no limit.");
                faults.add(format!("limits.{name}"), "longer than a week", mend);
            }
        }
    }
}

/// An install that went beyond a limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Overdue {
    /// What was seen last, or what is overdue, in words.
    after: &'static str,
    /// The limit.
    minutes: u32,
    /// Whether it is the limit of the whole.
    is_whole: bool,
}

impl Install {
    /// Whether it is beyond one of its limits at `now`. `heard` is the last sign of it that is in no step: a log line, or
    /// the start of a service that heard nothing before.
    #[must_use]
    pub fn overdue(&self, limits: &StageLimits, heard: Timestamp, now: Timestamp) -> Option<Overdue> {
        let is_beyond = |since: Timestamp, minutes: u32| {
            minutes > 0 && now.duration_since(since) > SignedDuration::from_mins(minutes.into())
        };
        if !self.state.is_open() || !self.open_questions.is_empty() {
            return None;
        }
        if self.installing_at.is_some_and(|began| is_beyond(began, limits.whole_minutes)) {
            return Some(Overdue { after: "", minutes: limits.whole_minutes, is_whole: true });
        }
        let is_kernel_fetched = self.kernel_fetches > 0;
        let (after, minutes) = match self.state {
            InstallState::Booting if is_kernel_fetched => ("its kernel was fetched", limits.starting_minutes),
            InstallState::Booting => ("it was seen booting", limits.loading_minutes),
            InstallState::Installing => ("the installer was heard of", limits.installing_minutes),
            _ => return None,
        };
        let since = self.last_step_at.max(heard);
        is_beyond(since, minutes).then_some(Overdue { after, minutes, is_whole: false })
    }

    /// Ends an install that is beyond a limit, with what its trace means. `None` if it has ended already.
    #[must_use]
    pub fn end_overdue(
        &self,
        overdue: Overdue,
        diagnoses: &[Diagnosis],
        now: Timestamp,
    ) -> Option<(Self, Step)> {
        let meant =
            diagnoses.first().map(|found| format!(": {}; {}. {}", found.seen, found.means, found.mend));
        let meant = meant.unwrap_or_default();
        let minutes = overdue.minutes;
        if overdue.is_whole {
            let reason = format!("took longer than {minutes} minutes{meant}");
            return self.stop(InstallState::Failed, StepKind::Overdue, reason, now);
        }
        let reason = format!("nothing was seen of it for {minutes} minutes after {}{meant}", overdue.after);
        self.stop(InstallState::Stalled, StepKind::Stalled, reason, now)
    }
}

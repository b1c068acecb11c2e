//! An install of which nothing was seen for too long.

use jiff::{SignedDuration, Timestamp};

use crate::model::install::{Install, InstallState, StageLimits, Step, StepKind};

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

    /// Ends an install that is beyond a limit, with what its trace means, where that is known. `None` if it has ended already.
    #[must_use]
    pub fn end_overdue(
        &self,
        overdue: Overdue,
        meaning: Option<&str>,
        now: Timestamp,
    ) -> Option<(Self, Step)> {
        let meant = meaning.map(|meaning| format!(": {meaning}")).unwrap_or_default();
        let minutes = overdue.minutes;
        if overdue.is_whole {
            let reason = format!("took longer than {minutes} minutes{meant}");
            return self.stop(InstallState::Failed, StepKind::Overdue, reason, now);
        }
        let reason = format!("nothing was seen of it for {minutes} minutes after {}{meant}", overdue.after);
        self.stop(InstallState::Stalled, StepKind::Stalled, reason, now)
    }
}

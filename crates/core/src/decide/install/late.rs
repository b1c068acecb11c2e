//! What is heard of an install after its end: reports that come late, and whoever asks with its token.

use std::net::IpAddr;

use jiff::Timestamp;

use super::Evidence;
use crate::model::install::{Install, InstallState, Outcome, ReportStage, Step, StepKind};

/// Addresses that are kept of those who were refused: whoever makes them up fills no record.
const REFUSED_KEPT: usize = 16;

impl Install {
    /// What a report says that comes when the install has ended already.
    ///
    /// An installer that was taken for stalled, or that reported a failure which a person then fixed at the machine,
    /// may still reach its end: that is what the record says then. What was cancelled stays so, with a step that tells
    /// what the machine did all the same.
    pub(super) fn see_late(&self, evidence: &Evidence, now: Timestamp) -> Option<(Self, Step)> {
        let Evidence::Report(ReportStage::Done, text) = evidence else { return None };
        let said = text.as_deref().unwrap_or("the installer has finished");
        let mut next = self.clone();
        match self.state {
            InstallState::Stalled | InstallState::Failed => {
                next.end(InstallState::Installed, None, now);
            }
            InstallState::Cancelled if self.last_step != Some(StepKind::Done) => {}
            _ => return None,
        }
        Some(next.stepped(StepKind::Done, format!("{said}, after the install was {}", self.state), now))
    }

    /// Takes what the host said at its first start. It says that its installer was through, whether that report came or
    /// not. `None` if it said so before.
    #[must_use]
    pub fn booted(&self, outcome: Outcome) -> Option<(Self, Step)> {
        if self.outcome.is_some() {
            return None;
        }
        let mut next = self.clone();
        let (now, detail) = (outcome.at, outcome.summary());
        match self.state {
            InstallState::Installed | InstallState::Cancelled => {}
            _ => next.end(InstallState::Installed, None, now),
        }
        next.outcome = Some(outcome);
        Some(next.stepped(StepKind::Booted, detail, now))
    }

    /// Notes that somebody elsewhere asked with its token, and was refused. `None` if it is on record already.
    #[must_use]
    pub fn refuse(&self, from: IpAddr, what: &str, now: Timestamp) -> Option<(Self, Step)> {
        if self.refused_from.contains(&from) || self.refused_from.len() >= REFUSED_KEPT {
            return None;
        }
        let mut next = self.clone();
        next.refused_from.insert(from);
        let last_step_at = next.last_step_at;
        let (mut next, step) = next.stepped(
            StepKind::Refused,
            format!("{what} was asked for from {from}, not the machine"),
            now,
        );
        // Whoever that was: it is no sign of the machine.
        next.last_step_at = last_step_at;
        Some((next, step))
    }
}

//! How far an install is and how long it still takes, learned from earlier installs of the same image.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::model::install::{Install, InstallState, Step, StepKind};

/// Earlier installs that are learned from: the latest.
pub const LEARNED_FROM: usize = 20;

/// How an earlier install went: how long after the first sign of its boot it came to each milestone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Past {
    /// To its kernel, if that was seen.
    pub kernel: Option<SignedDuration>,
    /// To its answer file, if that was seen.
    pub answers: Option<SignedDuration>,
    /// To its end.
    pub total: SignedDuration,
}

impl Past {
    /// From the record of an install. `None` unless it reached `installed` and was seen booting. One that began several
    /// times is no measure.
    #[must_use]
    pub fn of(install: &Install, steps: &[Step]) -> Option<Self> {
        let began = install.booting_at?;
        let ended = install.ended_at.filter(|_| install.state == InstallState::Installed)?;
        if install.kernel_fetches > 1 {
            return None;
        }
        let after = |at: Timestamp| at.duration_since(began);
        let first = |kind| steps.iter().find(|step| step.kind == kind).map(|step| after(step.at));
        Some(Self {
            kernel: first(StepKind::Kernel),
            answers: install.installing_at.map(after),
            total: after(ended),
        })
    }
}

/// How installs of one image usually go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pace {
    kernel: SignedDuration,
    answers: SignedDuration,
    total: SignedDuration,
    learned_from: usize,
}

/// How far an install is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Progress {
    /// Per cent of the time that it takes, 0 to 99.
    pub percent: u8,
    /// Per cent that it stays at until the next milestone is seen.
    pub ceiling: u8,
    /// Seconds until its end, if it goes as those before it.
    pub left_secs: u64,
    /// Seconds that the whole takes.
    pub total_secs: u64,
    /// How many earlier installs say so.
    pub learned_from: usize,
    /// When this was so.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
}

impl Pace {
    /// Learns from earlier installs: the median of each milestone, so that one that hung a night long counts no more than
    /// any other. `None` if there are none.
    #[must_use]
    pub fn learn(past: &[Past]) -> Option<Self> {
        let total = median(past.iter().map(|past| past.total))?;
        let milestone = |of: fn(&Past) -> Option<SignedDuration>| {
            median(past.iter().filter_map(of)).unwrap_or_default().min(total)
        };
        let kernel = milestone(|past| past.kernel);
        let answers = milestone(|past| past.answers).max(kernel);
        Some(Self { kernel, answers, total, learned_from: past.len() })
    }

    /// How far an install is at `now`. It goes on with the clock from the last milestone as far as the next, and waits
    /// there. `None` unless it goes on and was seen booting.
    #[must_use]
    pub fn progress(&self, install: &Install, now: Timestamp) -> Option<Progress> {
        let began = install.booting_at?;
        let (from, to, since) = match install.state {
            InstallState::Installing => (self.answers, self.total, install.installing_at?),
            InstallState::Booting if install.kernel_fetches > 0 => {
                (self.kernel, self.answers, install.last_step_at)
            }
            InstallState::Booting => (SignedDuration::ZERO, self.kernel, began),
            _ => return None,
        };
        let place = (from + now.duration_since(since).max(SignedDuration::ZERO)).min(to);
        let percent = |place: SignedDuration| {
            let share = 100.0 * place.as_secs_f64() / self.total.as_secs_f64().max(f64::EPSILON);
            // Between 0 and 99, and so exact.
            share.clamp(0.0, 99.0) as u8
        };
        let secs = |span: SignedDuration| u64::try_from(span.as_secs()).unwrap_or(0);
        Some(Progress {
            percent: percent(place),
            ceiling: percent(to),
            left_secs: secs(self.total - place),
            total_secs: secs(self.total),
            learned_from: self.learned_from,
            at: now,
        })
    }
}

fn median(spans: impl Iterator<Item = SignedDuration>) -> Option<SignedDuration> {
    let mut spans: Vec<_> = spans.collect();
    spans.sort_unstable();
    spans.get(spans.len() / 2).copied()
}

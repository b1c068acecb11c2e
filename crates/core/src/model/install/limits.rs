//! How long nothing may be seen of an install, stage by stage.

use serde::{Deserialize, Serialize};

use crate::base::Faults;

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
                let fix =
                    format!("Give at most {MOST_MINUTES} minutes, which are a week, or 0 for no limit.");
                faults.add(format!("limits.{name}"), "longer than a week", fix);
            }
        }
    }
}

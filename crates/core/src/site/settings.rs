//! What holds for the whole site.

use serde::{Deserialize, Serialize};

use super::Site;
use crate::{Fault, Faults, install::StageLimits, machine::check_menu};

/// What holds for the whole site.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct SiteSettings {
    /// The menu of machines that neither their own settings nor their labels nor their subnet give one.
    pub menu: Option<String>,
    /// How often every file of every image is read again and held against its digest, in hours; 0 for never.
    pub verify_hours: u32,
    /// How long nothing may be seen of an install before it counts as stalled.
    pub limits: StageLimits,
}

impl Default for SiteSettings {
    fn default() -> Self {
        Self { menu: None, verify_hours: 24, limits: StageLimits::default() }
    }
}

impl SiteSettings {
    /// Checks the settings.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, site: &Site) -> Result<(), Vec<Fault>> {
        let mut faults = Faults::new();
        check_menu(&mut faults, self.menu.as_deref(), site);
        if self.verify_hours > 24 * 366 {
            faults.add("verify_hours", "more than a year", "Give hours, or 0 for never.");
        }
        self.limits.check(&mut faults);
        faults.into_result(|| Some(()))
    }
}

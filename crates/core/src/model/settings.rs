//! What holds for the whole site.

use serde::{Deserialize, Serialize};

use crate::model::install::StageLimits;

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
    /// Whether people may run commands, and work in a shell, on machines that run the survey.
    pub allow_commands: bool,
}

impl Default for SiteSettings {
    fn default() -> Self {
        Self { menu: None, verify_hours: 24, limits: StageLimits::default(), allow_commands: false }
    }
}

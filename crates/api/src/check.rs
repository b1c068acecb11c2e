//! What the preflight check found.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How serious a finding is.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    utoipa::ToSchema,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Severity {
    /// Machines will not boot.
    Fault,
    /// Some machines will not boot, or will not for long.
    Warning,
    /// Worth knowing.
    Note,
    /// Looked at, and well.
    Good,
}

impl Severity {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Finding {
    /// How serious it is.
    pub severity: Severity,
    /// What was looked at: `interface`, `ports`, `rights`, `other servers`, `firewall`, `pools`, `loaders`, `files`,
    /// `disk`, `clock`, `machines`, `survey`, `rules`, `self-test`.
    pub topic: String,
    /// Where: an interface, a subnet, a port, a file.
    #[serde(rename = "where")]
    pub place: String,
    /// What was found.
    pub what: String,
    /// What to do; empty where all is well.
    pub fix: String,
}

/// The whole check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct CheckReport {
    /// When it was begun.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// What was looked at, the heaviest first.
    pub findings: Vec<Finding>,
}

impl CheckReport {
    /// How many findings there are of a severity.
    #[must_use]
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }
}

//! What is recorded of an install on its way, and what an installer reports.

use std::fmt;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How often a machine may boot as far as the kernel of one install. The third time still runs; the
/// boot after it goes to the local disk.
pub const MAX_KERNEL_FETCHES: u32 = 3;

/// What an installer, or the host it made, says of itself.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::VariantArray,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[strum(parse_err_ty = UnknownStage, parse_err_fn = UnknownStage::new)]
pub enum ReportStage {
    /// The installer runs and has read its answers.
    Started,
    /// The installer has finished.
    Done,
    /// The installer gave up.
    Failed,
    /// The installed system runs.
    Booted,
}

/// A word that is no report.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is no report; known are started, done, failed, booted")]
pub struct UnknownStage(String);

impl UnknownStage {
    fn new(text: &str) -> Self {
        Self(text.into())
    }
}

impl fmt::Display for ReportStage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.into())
    }
}

/// The kinds of entry in an install's record.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::VariantArray,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[strum(parse_err_ty = String, parse_err_fn = unknown_step)]
pub enum StepKind {
    /// A person armed it.
    Armed,
    /// A person answered what was left open.
    Answered,
    /// An address was granted.
    Lease,
    /// A loader's file was fetched.
    Loader,
    /// The menu was fetched.
    Menu,
    /// The machine waits on its screen for answers.
    Waits,
    /// The kernel was fetched.
    Kernel,
    /// An initrd was fetched.
    Initrd,
    /// The answer file was fetched.
    Answers,
    /// The installer reported that it runs.
    Started,
    /// The installer reported its end.
    Done,
    /// The installer reported that it failed.
    Failed,
    /// The host that it made started, and said what it is.
    Booted,
    /// It was stopped, having begun too often.
    Stalled,
    /// It took longer than it may.
    Overdue,
    /// Its answer file or a report was asked for from elsewhere, and refused.
    Refused,
    /// A person called it off.
    Cancelled,
}

fn unknown_step(text: &str) -> String {
    format!("'{text}' is no step of an install")
}

impl StepKind {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One entry in an install's record.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Step {
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// What.
    pub kind: StepKind,
    /// The particulars, for a person.
    pub detail: String,
}

//! What is recorded of an install on its way, and what an installer reports.

use std::{fmt, str::FromStr};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How often a machine may boot as far as the kernel of one install. The third time still runs; the
/// boot after it goes to the local disk.
pub const MAX_KERNEL_FETCHES: u32 = 3;

/// What an installer, or the host it made, says of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ReportStage {
    /// The installer runs and has read its answers.
    Started,
    /// The installer is through.
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

impl fmt::Display for ReportStage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Started => "started",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Booted => "booted",
        })
    }
}

impl FromStr for ReportStage {
    type Err = UnknownStage;

    fn from_str(text: &str) -> Result<Self, UnknownStage> {
        match text {
            "started" => Ok(Self::Started),
            "done" => Ok(Self::Done),
            "failed" => Ok(Self::Failed),
            "booted" => Ok(Self::Booted),
            other => Err(UnknownStage(other.into())),
        }
    }
}

/// The kinds of entry in an install's record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
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

impl StepKind {
    pub(crate) const NAMES: [(Self, &str); 17] = [
        (Self::Armed, "armed"),
        (Self::Answered, "answered"),
        (Self::Lease, "lease"),
        (Self::Loader, "loader"),
        (Self::Menu, "menu"),
        (Self::Waits, "waits"),
        (Self::Kernel, "kernel"),
        (Self::Initrd, "initrd"),
        (Self::Answers, "answers"),
        (Self::Started, "started"),
        (Self::Done, "done"),
        (Self::Failed, "failed"),
        (Self::Booted, "booted"),
        (Self::Stalled, "stalled"),
        (Self::Overdue, "overdue"),
        (Self::Refused, "refused"),
        (Self::Cancelled, "cancelled"),
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        Self::NAMES.iter().find(|(kind, _)| *kind == self).map_or("", |(_, name)| name)
    }
}

impl FromStr for StepKind {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let named = Self::NAMES.iter().find(|(_, name)| *name == text);
        named.map(|(kind, _)| *kind).ok_or_else(|| format!("'{text}' is no step of an install"))
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

//! What somebody should know first: what needs attention, what is in progress, what happened today.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{InstallRow, JobRow, Status};

/// What kind of thing needs attention, in the order in which it is shown.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    utoipa::ToSchema,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum AttentionKind {
    /// Nothing can be recorded.
    Recording,
    /// An install failed.
    Failed,
    /// An install stalled.
    Stalled,
    /// A machine waits for answers to questions.
    Question,
    /// A burn-in failed, or nothing is heard of it any more.
    BurnIn,
    /// Disks of a machine say that they expect to fail.
    Disk,
    /// A machine became something else than was expected.
    Differs,
    /// An image is not served.
    Image,
    /// An install's token was used from elsewhere.
    Refused,
    /// Deliveries of a webhook do not arrive.
    Webhook,
    /// Rules propose something, and nobody has accepted or declined it.
    Proposals,
    /// Machines were seen that nobody has registered.
    Newcomers,
    /// The site lacks something without which no machine boots.
    SetUp,
}

impl AttentionKind {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One thing that needs attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Attention {
    /// What kind of thing.
    pub kind: AttentionKind,
    /// What it is about: a machine's, an image's, a webhook's name.
    pub subject: String,
    /// The install, where it is about one.
    pub install: Option<i64>,
    /// The job, where it is about one.
    pub job: Option<i64>,
    /// What is wrong.
    pub what: String,
    /// What to do next.
    pub next: String,
    /// Since when.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub at: Option<Timestamp>,
}

/// How many installs ended today, and how.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Today {
    /// Installs that were armed.
    pub armed: usize,
    /// Installed.
    pub installed: usize,
    /// Failed.
    pub failed: usize,
    /// Stalled.
    pub stalled: usize,
    /// Cancelled.
    pub cancelled: usize,
}

/// What somebody should know first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Overview {
    /// What needs attention, the most urgent first.
    pub attention: Vec<Attention>,
    /// How many things need attention; at most 100 of them are listed.
    pub attention_total: usize,
    /// Installs in progress, those that have come furthest first; at most 50.
    pub in_progress: Vec<InstallRow>,
    /// How many installs are in progress.
    pub in_progress_total: usize,
    /// Jobs in progress, the latest first; at most 50.
    pub jobs: Vec<JobRow>,
    /// How many jobs are in progress.
    pub jobs_total: usize,
    /// What happened since midnight, in the time zone of the service.
    pub today: Today,
    /// Installs that ended today, the latest first; at most 20.
    pub ended: Vec<InstallRow>,
    /// The state of the service.
    pub service: Status,
}

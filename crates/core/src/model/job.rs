//! A job on record: a piece of work that the agent is given.

use jiff::Timestamp;
use lastmile_formats::mac::Mac;
pub use lastmile_survey::job::*;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::{agent::Finish, machine::Machine};
use crate::base::Id;

/// How far a job is.
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
    strum::EnumString,
    strum::Display,
    strum::VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum JobState {
    /// Waits for the machine to run the survey.
    Armed,
    /// The agent is at it.
    Running,
    /// It has ended, and nothing went wrong.
    Done,
    /// It has ended, and something went wrong.
    Failed,
    /// Nothing was heard of it for too long, or the survey was started for it too often without coming to it.
    Stalled,
    /// A person cancelled it.
    Cancelled,
}

impl JobState {
    /// Every state, in the order of a job's life.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// Whether it still goes on.
    #[must_use]
    pub const fn is_open(self) -> bool {
        matches!(self, Self::Armed | Self::Running)
    }

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One piece of work on one machine, as it is recorded.
#[derive(Debug, Clone, PartialEq)]
pub struct Job {
    /// 1, 2, 3 …: what people call it.
    pub number: i64,
    /// The address of the machine that it was armed for: its first, or that it was booting from.
    pub mac: Mac,
    /// The machine, if it was registered then.
    pub machine: Option<Id<Machine>>,
    /// Its name then; its address if it had none.
    pub machine_name: String,
    /// What is to be done.
    pub task: Task,
    /// What the machine does afterwards. Otherwise one that was started for this job restarts, and one that waited in the survey
    /// waits on.
    pub then: Option<Finish>,
    /// How far it is.
    pub state: JobState,
    /// Who armed it.
    pub armed_by: String,
    /// When.
    pub armed_at: Timestamp,
    /// The boot of the survey that does it, or did.
    pub boot: Option<Uuid>,
    /// When the agent began.
    pub began_at: Option<Timestamp>,
    /// When it ended, however it ended.
    pub ended_at: Option<Timestamp>,
    /// How often the survey's kernel was fetched since it was armed.
    pub kernel_fetches: u32,
    /// What came of it.
    pub result: Option<JobResult>,
    /// Why it failed, stalled or was cancelled.
    pub reason: Option<String>,
}

impl Job {
    /// As people call it: `job 12, burn-in of 30 min`.
    #[must_use]
    pub fn title(&self) -> String {
        format!("job {}, {}", self.number, self.task.summary())
    }
}

/// Something that happened to a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JobStep {
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// What, in words.
    pub text: String,
}

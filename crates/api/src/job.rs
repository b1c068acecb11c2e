//! Jobs as they are read.

use jiff::Timestamp;
use lastmile_core::model::{
    agent::Finish,
    job::{Job, JobKind, JobProgress, JobResult, JobState, JobStep, Task},
};
use serde::{Deserialize, Serialize};

use crate::LogLine;

/// One job in a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct JobRow {
    /// Its number.
    pub number: i64,
    /// The machine's name when it was armed; a MAC address if nobody had registered it.
    pub machine: String,
    /// What kind of work it is.
    pub kind: JobKind,
    /// What is to be done, in a few words.
    pub summary: String,
    /// How far it is.
    pub state: JobState,
    /// What the agent is at, while it runs and was heard of since the service started.
    pub progress: Option<JobProgress>,
    /// Whether the survey's agent is connected on the machine, while the job has not ended.
    pub is_connected: bool,
    /// Who armed it.
    pub armed_by: String,
    /// When it was armed.
    #[schema(value_type = String, format = DateTime)]
    pub armed_at: Timestamp,
    /// When the agent began.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub began_at: Option<Timestamp>,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// What came of it, in a line.
    pub outcome: Option<String>,
}

impl JobRow {
    /// A job as lists show it.
    #[must_use]
    pub fn new(job: &Job, progress: Option<JobProgress>, is_connected: bool) -> Self {
        let found = || job.result.as_ref().map(JobResult::summary);
        Self {
            number: job.number,
            machine: job.machine_name.clone(),
            kind: job.task.kind(),
            summary: job.task.summary(),
            state: job.state,
            progress: progress.filter(|_| job.state == JobState::Running),
            is_connected: is_connected && job.state.is_open(),
            armed_by: job.armed_by.clone(),
            armed_at: job.armed_at,
            began_at: job.began_at,
            ended_at: job.ended_at,
            outcome: job.reason.clone().or_else(found),
        }
    }
}

/// Jobs, and how many there are in all.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct JobList {
    /// One page of them.
    pub jobs: Vec<JobRow>,
    /// How many the filter lets through.
    pub total: i64,
}

/// One job, whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct JobDetail {
    /// What the list shows.
    #[serde(flatten)]
    pub job: JobRow,
    /// What is to be done.
    pub task: Task,
    /// What the machine does afterwards, where that was said.
    pub then: Option<Finish>,
    /// What came of it.
    pub result: Option<JobResult>,
    /// What happened to it, oldest first.
    pub steps: Vec<JobStep>,
    /// What it wrote, oldest first, as far as it is kept.
    pub log: Vec<LogLine>,
    /// The place of the line that it writes next among all that it wrote: 1, 2, 3 …
    pub log_next: i64,
}

/// Which jobs are listed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct JobsListQuery {
    /// Only those of this machine, by its name or a MAC address, also those that it did before it was called so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Only those in these states, separated by commas.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// Only those of this kind.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<JobKind>,
    /// At most so many; 100 if left out, and never more than 1000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// After skipping so many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<u32>,
}

/// Who attaches to a shell, and how.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct JobsShellQuery {
    /// What they are called: browsers send no headers of their own here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Whether they only look: what they type is not taken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub look: Option<bool>,
}

/// Bytes of a message of what is typed, at most.
pub const MOST_TYPED: usize = 64 << 10;

/// What the service says to whoever is at a shell, as JSON in a message of text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum ShellWord {
    /// Something that they should know.
    Notice {
        /// In words.
        text: String,
    },
    /// The shell is not there any more.
    Ended {
        /// Why, in words.
        text: String,
    },
}

/// Which jobs are meant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JobNumbers {
    /// Their numbers.
    pub numbers: Vec<i64>,
}

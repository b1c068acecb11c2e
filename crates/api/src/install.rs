//! Installs as they are read.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_core::{
    decide::install::Progress,
    model::{
        answers::Question,
        install::{Difference, Install, InstallState, Outcome, Step, StepKind},
    },
};
use serde::{Deserialize, Serialize};

/// One install in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct InstallRow {
    /// Its number.
    pub number: i64,
    /// The machine's name when armed.
    pub machine: String,
    /// The image's name.
    pub image: String,
    /// The revision's number.
    pub revision: u32,
    /// The answers' name.
    pub answers: String,
    /// The version's number.
    pub answers_version: u32,
    /// How far it is.
    pub state: InstallState,
    /// The last thing that was seen of the machine: how far it came.
    pub last_step: Option<StepKind>,
    /// When that was.
    #[schema(value_type = String, format = DateTime)]
    pub last_step_at: Timestamp,
    /// Who armed it.
    pub armed_by: String,
    /// When it was armed.
    #[schema(value_type = String, format = DateTime)]
    pub armed_at: Timestamp,
    /// When the machine was first seen booting.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub booting_at: Option<Timestamp>,
    /// When the answers were first fetched.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub installing_at: Option<Timestamp>,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// How far it is, as installs of this image before it went; nothing before the first of them, or unless it goes on.
    pub progress: Option<Progress>,
    /// The subnet that the machine booted on.
    pub subnet: Option<String>,
    /// The labels that the machine had when it was armed.
    pub labels: Vec<String>,
    /// Whether the image runs from memory: a start of it, with nothing put on a disk.
    pub is_stateless: bool,
    /// From how many addresses that are not the machine's somebody asked with its token, and was refused.
    pub refused: usize,
    /// Why it failed, stalled or was cancelled.
    pub reason: Option<String>,
    /// How many questions nobody answered yet: while there are any, the machine waits on its screen.
    pub waits_for: usize,
    /// How many things of the host it made are not as expected; nothing while the host said nothing.
    pub differs: Option<usize>,
}

/// One install, whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct InstallDetail {
    /// What the list shows.
    #[serde(flatten)]
    pub install: InstallRow,
    /// SHA-256 over all files of the image revision.
    pub manifest_hash: Option<String>,
    /// SHA-256 of the answer file as served last.
    pub answer_hash: Option<String>,
    /// How many boots came as far as the kernel.
    pub kernel_fetches: u32,
    /// What was answered to questions, by their names.
    pub asked: BTreeMap<String, String>,
    /// Questions that nobody answered yet: the machine waits for them.
    pub open_questions: BTreeMap<String, Question>,
    /// What the host that it made said of itself at its first start, and what was expected.
    pub outcome: Option<Outcome>,
    /// What of it is not as expected.
    pub differences: Vec<Difference>,
    /// Everything that was seen, oldest first.
    pub steps: Vec<Step>,
    /// What the installer wrote while it worked, oldest first, as far as it is kept.
    pub log: Vec<LogLine>,
}

/// A line that an installer wrote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LogLine {
    /// When it arrived.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// What it says.
    pub line: String,
}

/// Installs by their numbers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InstallNumbers {
    /// Their numbers.
    pub numbers: Vec<i64>,
}

/// A page of installs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct InstallList {
    /// Newest first.
    pub installs: Vec<InstallRow>,
    /// How many the filter lets through in all.
    pub total: i64,
}

/// Which installs are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct InstallsListQuery {
    /// Only those of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Only those in one of these states, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// At most so many; 100 if left out, 1,000 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// After skipping so many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<u32>,
}

impl InstallRow {
    /// From the record. The token stays where it is.
    #[must_use]
    pub fn new(install: &Install, progress: Option<Progress>) -> Self {
        Self {
            number: install.number,
            machine: install.machine_name.clone(),
            image: install.image.clone(),
            revision: install.image_revision,
            answers: install.answers_name.clone(),
            answers_version: install.answers_version,
            state: install.state,
            last_step: install.last_step,
            last_step_at: install.last_step_at,
            armed_by: install.armed_by.clone(),
            armed_at: install.armed_at,
            booting_at: install.booting_at,
            installing_at: install.installing_at,
            ended_at: install.ended_at,
            progress,
            subnet: install.subnet.clone(),
            labels: install.labels.clone(),
            is_stateless: install.is_stateless,
            refused: install.refused_from.len(),
            reason: install.reason.clone(),
            waits_for: install.open_questions.len(),
            differs: install.outcome.as_ref().map(|outcome| outcome.differences().len()),
        }
    }
}

impl InstallDetail {
    /// From the record. The token stays where it is.
    #[must_use]
    pub fn new(row: InstallRow, install: &Install, steps: Vec<Step>, log: Vec<LogLine>) -> Self {
        Self {
            install: row,
            manifest_hash: install.manifest_hash.map(|hash| hash.to_string()),
            answer_hash: install.answer_hash.map(|hash| hash.to_string()),
            kernel_fetches: install.kernel_fetches,
            outcome: install.outcome.clone(),
            differences: install.outcome.as_ref().map(Outcome::differences).unwrap_or_default(),
            asked: install.asked.clone(),
            open_questions: install.open_questions.clone(),
            steps,
            log,
        }
    }
}

//! The survey's system and what it measured.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_core::model::{
    compare::{Difference, Spread},
    facts::Facts,
    image::FileEntry,
    survey::SurveyRecord,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// What the survey's system is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SurveyBuild {
    /// The image's name; `survey` and the like if left out. The next revision of it is made if there is one.
    pub name: Option<String>,
    /// Where its kernel and drivers come from.
    pub kernel: KernelSource,
    /// A tar archive that was uploaded before: its files are put beside the system's own, from the root on.
    pub add: Option<FileEntry>,
}

/// Where a kernel and its modules come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "from", rename_all = "kebab-case")]
pub enum KernelSource {
    /// Those that the service's host runs.
    Host,
    /// Debian packages that were uploaded before: one of a kernel, and any of firmware.
    Packages {
        /// The package files.
        files: Vec<FileEntry>,
    },
    /// A kernel, and a tar archive of its folder of modules, that were uploaded before.
    Files {
        /// The kernel.
        kernel: FileEntry,
        /// The archive.
        modules: FileEntry,
    },
}

/// What a survey measured of a machine or a newcomer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FactsView {
    /// Whose: a machine's name, or a newcomer's MAC address.
    pub who: String,
    /// The survey.
    #[serde(flatten)]
    pub survey: SurveyRow,
    /// What the service's own program measured.
    pub facts: Facts,
    /// What the site's own programs found, by their names.
    #[schema(value_type = BTreeMap<String, Object>)]
    pub found: BTreeMap<String, serde_json::Value>,
    /// What could not be measured, and why.
    pub faults: Vec<String>,
    /// The survey's agent, while it is connected.
    pub agent: Option<AgentView>,
}

/// One survey in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct SurveyRow {
    /// The boot that it was made in.
    #[schema(value_type = String)]
    pub boot: Uuid,
    /// The MAC address that the machine was started from.
    pub mac: String,
    /// When the first report came.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// When the last one came: disks and neighbours appear late.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// The whole machine in one line.
    pub summary: String,
    /// What is different since the survey before.
    pub changes: Vec<Difference>,
}

/// The survey's agent on a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AgentView {
    /// From where it is connected.
    pub from: String,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// What it is doing.
    pub doing: String,
}

impl From<&SurveyRecord> for SurveyRow {
    fn from(record: &SurveyRecord) -> Self {
        Self {
            boot: record.boot,
            mac: record.mac.to_string(),
            began: record.began,
            at: record.at,
            summary: record.summary(),
            changes: record.changes.clone(),
        }
    }
}

/// How two machines differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FactsComparison {
    /// The one machine.
    pub left: String,
    /// The other.
    pub right: String,
    /// Each fact that differs: of the left one (`before`) and of the right one (`now`). What tells every machine from every other,
    /// such as serial numbers, is left out.
    pub differences: Vec<Difference>,
}

/// Whose facts are on the other side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FactsCompareQuery {
    /// A machine's name or a newcomer's MAC address.
    pub with: String,
}

/// How alike the machines of a label are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LabelComparison {
    /// The label.
    pub label: String,
    /// Its machines that were surveyed.
    pub surveyed: usize,
    /// Those that were not.
    pub unsurveyed: Vec<String>,
    /// Those that are in something otherwise than most of them.
    pub different: Vec<String>,
    /// In which facts they differ; what every machine has of its own, such as serial numbers, is left out.
    pub facts: Vec<Spread>,
}

//! Machines as they are read.

use jiff::Timestamp;
use lastmile_core::{
    decide::machine::{DefaultBootDraft, NamedMachine},
    model::install::{InstallState, StepKind},
    report::trace::Diagnosis,
};
use serde::{Deserialize, Serialize};

use crate::TraceLine;

/// Where a machine is, in the order in which somebody should look at it.
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
    strum::VariantArray,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Stage {
    /// Its last install failed.
    Failed,
    /// Its last install was stopped, having begun too often.
    Stalled,
    /// The installer has its answers.
    Installing,
    /// It was seen booting an install.
    Booting,
    /// An install waits for it to boot.
    Armed,
    /// Nothing was ever installed on it from here.
    Idle,
    /// It holds what was last installed.
    Installed,
}

impl Stage {
    /// The stage of a machine whose last install, if any, stands as `latest`.
    #[must_use]
    pub const fn of(latest: Option<InstallState>, ever_installed: bool) -> Self {
        match latest {
            Some(InstallState::Failed) => Self::Failed,
            Some(InstallState::Stalled) => Self::Stalled,
            Some(InstallState::Installing) => Self::Installing,
            Some(InstallState::Booting) => Self::Booting,
            Some(InstallState::Armed) => Self::Armed,
            Some(InstallState::Installed) => Self::Installed,
            Some(InstallState::Cancelled) | None if ever_installed => Self::Installed,
            Some(InstallState::Cancelled) | None => Self::Idle,
        }
    }

    /// Every stage, in that order.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

impl std::str::FromStr for Stage {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let named = Self::ALL.iter().copied().find(|stage| stage.as_str() == text);
        named.ok_or_else(|| {
            let all: Vec<&str> = Self::ALL.iter().map(|stage| stage.as_str()).collect();
            format!("there is no stage '{text}'; there are {}", all.join(", "))
        })
    }
}

/// What a machine holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Installed {
    /// The image's name.
    pub image: String,
    /// The revision's number.
    pub revision: u32,
    /// The install that put it there.
    pub install: i64,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Whether the image has a newer revision by now.
    pub behind: bool,
    /// In how many things the host said it is otherwise than expected; nothing while it has said nothing.
    pub differs: Option<usize>,
}

/// One machine in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineRow {
    /// Its name.
    pub name: String,
    /// Its NICs' addresses; the first is the one it is shown by.
    pub macs: Vec<String>,
    /// Where it is.
    pub stage: Stage,
    /// The last thing seen of its last install: how far it came.
    pub last_step: Option<StepKind>,
    /// Its last install's number.
    pub install: Option<i64>,
    /// The image that its last install puts on it.
    pub target: Option<String>,
    /// What it holds.
    pub installed: Option<Installed>,
    /// The address lent to it.
    #[schema(value_type = Option<String>)]
    pub address: Option<std::net::Ipv4Addr>,
    /// What it does when no install is armed.
    pub default_boot: DefaultBootDraft,
    /// Its labels.
    pub labels: Vec<String>,
    /// When it was last seen on the wire, or its install last moved.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Timestamp>,
    /// The values of the columns that were asked for, in their order; nothing where a value is not known of the machine.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<Option<String>>,
}

/// One machine, whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineDetail {
    /// What the list shows.
    #[serde(flatten)]
    pub machine: MachineRow,
    /// When it was registered.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// The addresses that are reserved for its NICs.
    #[schema(value_type = Vec<String>)]
    pub reserved: Vec<std::net::Ipv4Addr>,
    /// What it gets if it boots now.
    pub plan: PlanView,
    /// DHCP options of its own.
    pub options: std::collections::BTreeMap<String, String>,
    /// What is known of it.
    pub details: std::collections::BTreeMap<String, String>,
    /// Kernel parameters of its own.
    pub parameters: Vec<String>,
    /// Keys of kernel parameters of earlier levels that it does without.
    pub without_parameters: Vec<String>,
    /// The menu it is shown, where it is its own.
    pub menu: Option<String>,
    /// The answers that its live image is given at each start.
    pub live_answers: Option<String>,
    /// What stops its last boot, as far as it was recognised.
    pub diagnoses: Vec<Diagnosis>,
    /// What it did on the wire since the service started, oldest first, within bounds.
    pub trace: Vec<TraceLine>,
}

/// What a machine gets if it boots now, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct PlanView {
    /// What it gets, in a few words.
    pub gets: String,
    /// Why: the first rule that applied.
    pub why: String,
    /// Kernel parameters of what starts, with their origins, and what is secret left out.
    pub parameters: Vec<lastmile_core::model::parameter::Parameter>,
    /// The loader that each kind of firmware is given; none if the machine gets no boot information.
    pub loaders: Vec<LoaderChoice>,
    /// The menu in the loader's language, with what is secret left out.
    pub menu: Option<String>,
}

/// The loader for one kind of firmware.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LoaderChoice {
    /// The kind of firmware.
    pub architecture: String,
    /// Only for clients of this vendor class, where the loader says so.
    pub class: Option<String>,
    /// Only for clients of this user class, where the loader says so.
    pub user_class: Option<String>,
    /// The path it is told.
    pub file: String,
}

/// A page of machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineList {
    /// In the order asked for.
    pub machines: Vec<MachineRow>,
    /// How many the filter lets through in all.
    pub total: usize,
    /// How many there are at each stage, whatever the filter.
    pub stages: std::collections::BTreeMap<String, usize>,
}

/// What a list of machines is ordered by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum MachineSort {
    /// Who needs somebody first, then who moves, then the rest.
    #[default]
    Stage,
    /// By name.
    Name,
    /// Last seen first.
    Seen,
    /// By what they hold.
    Image,
}

/// Which machines are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MachinesListQuery {
    /// Only those whose name, MAC address, address, label or image holds this text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Only those with all of these labels, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Only those at one of these stages, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// Only those of which this holds, by what surveys measured and people said of them: `memory_gib >= 256 and disks | length > 2`.
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    #[param(rename = "where")]
    pub condition: Option<String>,
    /// The order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(inline)]
    pub sort: Option<MachineSort>,
    /// Further columns, by what surveys measured and people said, joined by semicolons: `product;memory_gib;disks | length`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<String>,
    /// Order by such a value, in the place of `sort`: `memory_gib`. Machines of which it is not known come last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sort_by: Option<String>,
    /// The other way round.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reverse: Option<bool>,
    /// At most so many; 100 if left out, 1,000 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// After skipping so many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<u32>,
}

/// What names and addresses by pattern make of every machine that is meant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct NamingView {
    /// In the order in which they were counted.
    pub machines: Vec<NamedMachine>,
    /// Of how many something stands in the way.
    pub unfit: usize,
}

//! An install as it is recorded.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Outcome, StepKind, Token};
use crate::{
    base::Id,
    model::{
        answers::{AnswersVersion, Question},
        image::{Revision, Sha256},
        machine::Machine,
    },
};

/// How far an install is.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, strum::IntoStaticStr, strum::VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum InstallState {
    /// Waits for the machine to boot.
    Armed,
    /// The machine was seen booting.
    Booting,
    /// The installer has its answers.
    Installing,
    /// The installer reported its end.
    Installed,
    /// The installer reported that it failed, or it took longer than it may.
    Failed,
    /// Nothing was seen of it for too long, or it began too often without reaching its end.
    Stalled,
    /// A person called it off.
    Cancelled,
}

impl InstallState {
    /// Every state, in the order of an install's life.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// Whether it still goes on.
    #[must_use]
    pub const fn is_open(self) -> bool {
        matches!(self, Self::Armed | Self::Booting | Self::Installing)
    }

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

impl std::fmt::Display for InstallState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}

impl std::str::FromStr for InstallState {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let named = Self::ALL.iter().copied().find(|state| state.as_str() == text);
        named.ok_or_else(|| format!("'{text}' is no state of an install"))
    }
}

/// One recorded attempt to put one image revision with one version of answers on one machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Install {
    /// 1, 2, 3 …: what people call it.
    pub number: i64,
    /// The machine.
    pub machine: Id<Machine>,
    /// Its name when armed.
    pub machine_name: String,
    /// What is installed.
    pub revision: Id<Revision>,
    /// The image's name.
    pub image: String,
    /// The image's title.
    pub image_title: String,
    /// The revision's number.
    pub image_revision: u32,
    /// Digest over all files of the revision; `None` while some of them were not read yet.
    pub manifest_hash: Option<Sha256>,
    /// The answers.
    pub answers: Id<AnswersVersion>,
    /// Their name.
    pub answers_name: String,
    /// Their version's number.
    pub answers_version: u32,
    /// The machine's labels when it was armed.
    pub labels: Vec<String>,
    /// The name of the subnet that the machine booted on, or was last seen on when it was armed.
    pub subnet: Option<String>,
    /// Whether the image runs from memory: a start of it, with nothing put on a disk.
    pub is_stateless: bool,
    /// The layers of settings that it was armed with, the answers among them, earlier ones first.
    pub layers: Vec<Id<AnswersVersion>>,
    /// What was answered to questions, by their names.
    pub asked: BTreeMap<String, String>,
    /// Questions that nobody answered yet: until then the machine waits.
    pub open_questions: BTreeMap<String, Question>,
    /// How far it is.
    pub state: InstallState,
    /// What lets the machine read its answer file and report.
    pub token: Token,
    /// Who armed it.
    pub armed_by: String,
    /// When.
    pub armed_at: Timestamp,
    /// When the machine was first seen booting.
    pub booting_at: Option<Timestamp>,
    /// When the answers were first fetched.
    pub installing_at: Option<Timestamp>,
    /// When it ended, however it ended.
    pub ended_at: Option<Timestamp>,
    /// Digest of the answer file as served last.
    pub answer_hash: Option<Sha256>,
    /// How many boots came as far as the kernel.
    pub kernel_fetches: u32,
    /// Where its answer file or its reports were asked for with its token, and refused: addresses that are not the
    /// machine's.
    pub refused_from: BTreeSet<IpAddr>,
    /// What the host that it made said of itself at its first start.
    pub outcome: Option<Outcome>,
    /// Why it failed, stalled or was cancelled.
    pub reason: Option<String>,
    /// The last thing seen of the machine: how far it came.
    pub last_step: Option<StepKind>,
    /// When that was.
    pub last_step_at: Timestamp,
}

impl Install {
    /// What it is called before its number: an install, or the start of a host that runs from memory.
    #[must_use]
    pub const fn action(&self) -> &'static str {
        if self.is_stateless { "start" } else { "install" }
    }
}

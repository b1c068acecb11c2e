//! What is to be done on a machine, and what came of it.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

/// Minutes that a burn-in works memory and processor, unless it is said otherwise.
pub const USUAL_BURN_IN: u32 = 30;
/// Minutes after which a burn-in ends at the latest, unless it is said otherwise: a full read of a large disk takes a day.
pub const USUAL_BURN_IN_LIMIT: u32 = 24 * 60;
/// Minutes that a command may take, unless it is said otherwise.
pub const USUAL_COMMAND_LIMIT: u32 = 10;
/// Minutes that a shell may stay open, unless it is said otherwise.
pub const USUAL_SHELL_LIMIT: u32 = 60;
/// Minutes that a machine shows where it is, unless it is said otherwise.
pub const USUAL_LOCATE: u32 = 15;
/// Minutes that any task may take at most: a week.
pub const LONGEST: u32 = 7 * 24 * 60;

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Task {
    /// Measure the machine anew.
    Survey,
    /// Work memory, processor, disks and network hard, and see whether they make mistakes.
    BurnIn(BurnIn),
    /// Run a command.
    Command(RunCommand),
    /// Open a shell that people use from afar.
    Shell(OpenShell),
    /// Show people in the hall which machine it is.
    Locate(Locate),
}

/// A burn-in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct BurnIn {
    /// How long memory and processor are worked.
    pub minutes: u32,
    /// When it ends at the latest: a disk that was not read to its end by then makes it fail.
    pub limit_minutes: u32,
    /// What is left out.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<BurnInPart>))]
    pub without: BTreeSet<BurnInPart>,
}

impl Default for BurnIn {
    fn default() -> Self {
        Self { minutes: USUAL_BURN_IN, limit_minutes: USUAL_BURN_IN_LIMIT, without: BTreeSet::new() }
    }
}

impl BurnIn {
    /// Whether a part is tested.
    #[must_use]
    pub fn has(&self, part: BurnInPart) -> bool {
        !self.without.contains(&part)
    }
}

/// What a burn-in tests.
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
    strum::IntoStaticStr,
    strum::EnumString,
    strum::VariantNames,
    strum::VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum BurnInPart {
    /// Patterns are written to all memory that is free, and read again.
    Memory,
    /// Every core computes what is known.
    Cpu,
    /// Every disk is read from end to end.
    Disks,
    /// Data are sent from the service and back.
    Network,
}

/// A command, run without a shell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RunCommand {
    /// The program and what it is told.
    pub words: Vec<String>,
    /// After how long it is ended.
    #[serde(default = "usual_command_limit")]
    pub limit_minutes: u32,
}

const fn usual_command_limit() -> u32 {
    USUAL_COMMAND_LIMIT
}

/// A shell: it is open from when the machine comes to it until it is left, for whoever attaches to it meanwhile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct OpenShell {
    /// After how long it is ended.
    pub limit_minutes: u32,
}

impl Default for OpenShell {
    fn default() -> Self {
        Self { limit_minutes: USUAL_SHELL_LIMIT }
    }
}

/// Lights and screen of a machine that people look for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Locate {
    /// How long.
    pub minutes: u32,
    /// A disk whose light is switched on alone, by serial number or by the name that the survey gave it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<String>,
}

impl Default for Locate {
    fn default() -> Self {
        Self { minutes: USUAL_LOCATE, disk: None }
    }
}

/// The kinds of tasks.
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
    strum::IntoStaticStr,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum JobKind {
    /// [`Task::Survey`].
    Survey,
    /// [`Task::BurnIn`].
    BurnIn,
    /// [`Task::Command`].
    Command,
    /// [`Task::Shell`].
    Shell,
    /// [`Task::Locate`].
    Locate,
}

impl Task {
    /// Its kind.
    #[must_use]
    pub const fn kind(&self) -> JobKind {
        match self {
            Self::Survey => JobKind::Survey,
            Self::BurnIn(_) => JobKind::BurnIn,
            Self::Command(_) => JobKind::Command,
            Self::Shell(_) => JobKind::Shell,
            Self::Locate(_) => JobKind::Locate,
        }
    }

    /// In how many minutes it has ended at the latest.
    #[must_use]
    pub const fn limit_minutes(&self) -> u32 {
        match self {
            Self::Survey => USUAL_COMMAND_LIMIT,
            Self::BurnIn(burn_in) => burn_in.limit_minutes,
            Self::Command(command) => command.limit_minutes,
            Self::Shell(shell) => shell.limit_minutes,
            Self::Locate(locate) => locate.minutes,
        }
    }

    /// Whether people say what is done, so that the site has to allow it.
    #[must_use]
    pub const fn is_command(&self) -> bool {
        matches!(self, Self::Command(_) | Self::Shell(_))
    }

    /// In a few words: `burn-in of 30 min, without disks`.
    #[must_use]
    pub fn summary(&self) -> String {
        match self {
            Self::Survey => "survey".into(),
            Self::BurnIn(burn_in) => {
                let without: Vec<&str> = burn_in.without.iter().map(|part| (*part).into()).collect();
                let without = if without.is_empty() {
                    String::new()
                } else {
                    format!(", without {}", without.join(" and "))
                };
                format!("burn-in of {} min{without}", burn_in.minutes)
            }
            Self::Command(command) => format!("command {}", command.words.join(" ")),
            Self::Shell(_) => "shell".into(),
            Self::Locate(Locate { disk: Some(disk), .. }) => format!("locate disk {disk}"),
            Self::Locate(_) => "locate".into(),
        }
    }
}

/// How far a job is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JobProgress {
    /// The share that is done, from 0 to 1, where that is known.
    pub share: Option<f64>,
    /// What it is at, in a few words.
    pub text: String,
    /// Seconds until its end, where that is known.
    pub left_secs: Option<u64>,
}

/// What came of a job. It failed if there are faults.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JobResult {
    /// What went wrong, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<String>,
    /// What a burn-in found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burn_in: Option<BurnInFound>,
    /// What a command or a shell ended with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_status: Option<i32>,
    /// What was switched on for people to see, each with where it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub shown: Vec<String>,
    /// What the site's own programs said before and after it, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub found: BTreeMap<String, serde_json::Value>,
}

impl JobResult {
    /// That it could not be done.
    #[must_use]
    pub fn failed(why: impl Into<String>) -> Self {
        Self { faults: vec![why.into()], ..Self::default() }
    }

    /// In a line: what went wrong, else what was found.
    #[must_use]
    pub fn summary(&self) -> String {
        if !self.faults.is_empty() {
            return self.faults.join("; ");
        }
        match (&self.burn_in, self.exit_status) {
            (Some(found), _) => found.summary(),
            (None, Some(status)) => format!("ended with status {status}"),
            (None, None) if !self.shown.is_empty() => format!("shown: {}", self.shown.join(", ")),
            (None, None) => "done".into(),
        }
    }
}

/// What a burn-in found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BurnInFound {
    /// Of memory, if that was tested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<MemoryFound>,
    /// Of the processor, if that was tested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu: Option<CpuFound>,
    /// Of each disk that was read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub disks: Vec<DiskFound>,
    /// Of the network, if that was tested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<NetworkFound>,
    /// The hottest that each sensor was.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub temperatures: Vec<Temperature>,
    /// Errors that the memory controller corrected meanwhile, where the kernel counts them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub corrected_errors: Option<u64>,
    /// Errors that it could not correct.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uncorrected_errors: Option<u64>,
}

impl BurnInFound {
    /// In a line: `memory: 3 passes over 410 MiB; processor: 2 threads; disks: 2 read; network: 940 and 880 Mbit/s; hottest 61 °C`.
    #[must_use]
    pub fn summary(&self) -> String {
        let count = |count: u64, one: &str, more: &str| match count {
            1 => format!("1 {one}"),
            count => format!("{count} {more}"),
        };
        let memory = self.memory.as_ref().map(|memory| {
            format!("memory: {} over {} MiB", count(memory.passes, "pass", "passes"), memory.mib)
        });
        let cpu =
            self.cpu.as_ref().map(|cpu| format!("processor: {}", count(cpu.threads, "thread", "threads")));
        let read = self.disks.iter().filter(|disk| disk.is_whole()).count() as u64;
        let disks = (!self.disks.is_empty()).then(|| format!("{} read", count(read, "disk", "disks")));
        let network = self.network.as_ref().map(|network| {
            format!("network: {:.0} Mbit/s in, {:.0} Mbit/s out", network.in_mbit_s, network.out_mbit_s)
        });
        let hottest = self.temperatures.iter().map(|sensor| sensor.highest).max_by(f64::total_cmp);
        let hottest = hottest.map(|degrees| format!("hottest {degrees:.0} °C"));
        [memory, cpu, disks, network, hottest].into_iter().flatten().collect::<Vec<_>>().join("; ")
    }
}

/// What was found of memory.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MemoryFound {
    /// How much was tested, in MiB: what was free.
    pub mib: u64,
    /// How often every pattern was written to all of it, and read again.
    pub passes: u64,
    /// Words of 8 bytes that were read otherwise than they were written.
    pub errors: u64,
    /// The first of them: what was written, and what was read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_error: Option<String>,
}

/// What was found of the processor.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CpuFound {
    /// How many threads computed at once: one for each that the processor runs.
    pub threads: u64,
    /// How often they computed what is known, together.
    pub rounds: u64,
    /// How often something else came of it.
    pub errors: u64,
}

/// What was found of a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DiskFound {
    /// The kernel's name of it in this boot.
    pub name: String,
    /// Its serial number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// Its size, in bytes.
    pub size: u64,
    /// How much of it was read, in bytes; what could not be read counts.
    pub read: u64,
    /// In how many milliseconds.
    pub took_ms: u64,
    /// Pieces of 1 MiB that could not be read.
    pub errors: u64,
    /// The first of them: where, and what the kernel said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_error: Option<String>,
}

impl DiskFound {
    /// Whether it was read to its end.
    #[must_use]
    pub const fn is_whole(&self) -> bool {
        self.read >= self.size
    }

    /// How fast, in MiB a second.
    #[must_use]
    #[allow(clippy::cast_precision_loss, reason = "of a rate, not all digits count")]
    pub fn mib_s(&self) -> f64 {
        self.read as f64 / f64::from(1 << 20) / (self.took_ms.max(1) as f64 / 1000.0)
    }
}

/// What was found of the network, between the machine and the service.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NetworkFound {
    /// To the machine, in Mbit a second.
    pub in_mbit_s: f64,
    /// From the machine, in Mbit a second.
    pub out_mbit_s: f64,
}

/// How hot something was.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Temperature {
    /// The sensor, by its driver and label: `coretemp Package id 0`.
    pub sensor: String,
    /// The highest, in degrees Celsius.
    pub highest: f64,
    /// From where on it is damaged, as its driver says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub critical: Option<f64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_is_read_as_people_write_it_and_said_in_words() {
        let read = |text: &str| serde_json::from_str::<Task>(text);
        let task = read(r#"{"kind": "burn-in", "minutes": 5, "without": ["disks", "network"]}"#).unwrap();
        assert_eq!(task.summary(), "burn-in of 5 min, without disks and network");
        assert_eq!((task.kind(), task.limit_minutes()), (JobKind::BurnIn, USUAL_BURN_IN_LIMIT));
        let Task::BurnIn(burn_in) = task else { panic!("it is one") };
        assert!(burn_in.has(BurnInPart::Memory) && !burn_in.has(BurnInPart::Disks));
        let command = read(r#"{"kind": "command", "words": ["lsblk", "-f"]}"#).unwrap();
        assert_eq!(command.summary(), "command lsblk -f");
        assert_eq!(command.limit_minutes(), USUAL_COMMAND_LIMIT);
        assert!(read(r#"{"kind": "burn-in", "hours": 5}"#).is_err());
        assert!(read(r#"{"kind": "erase"}"#).is_err());
    }

    #[test]
    fn what_went_wrong_goes_before_what_was_found() {
        let found = BurnInFound {
            memory: Some(MemoryFound { mib: 410, passes: 3, ..MemoryFound::default() }),
            cpu: Some(CpuFound { threads: 1, rounds: 9, errors: 0 }),
            disks: vec![DiskFound { size: 10 << 20, read: 10 << 20, took_ms: 500, ..DiskFound::default() }],
            network: Some(NetworkFound { in_mbit_s: 941.3, out_mbit_s: 880.0 }),
            temperatures: vec![
                Temperature { sensor: "a".into(), highest: 61.4, critical: None },
                Temperature { sensor: "b".into(), highest: 40.0, critical: None },
            ],
            ..BurnInFound::default()
        };
        assert!((found.disks[0].mib_s() - 20.0).abs() < 0.001);
        let mut result = JobResult { burn_in: Some(found), ..JobResult::default() };
        assert_eq!(
            result.summary(),
            "memory: 3 passes over 410 MiB; processor: 1 thread; 1 disk read; network: 941 Mbit/s in, 880 Mbit/s out; hottest 61 °C"
        );
        result.faults = vec!["memory: 2 words differ".into(), "disk sda: 1 piece cannot be read".into()];
        assert_eq!(result.summary(), "memory: 2 words differ; disk sda: 1 piece cannot be read");
    }
}

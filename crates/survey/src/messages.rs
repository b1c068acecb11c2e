//! What the agent and the service tell each other, as JSON in the text messages of one WebSocket (RFC 6455).
//!
//! The agent connects to [`PATH`] with the token of its boot, and says [`FromAgent::Hello`] first. What has to be recorded
//! carries a sequence number and is kept by the agent until the service says [`ToAgent::Recorded`]; what was said before a
//! connection broke is said again on the next one, so everything recorded is told by what it is about, and taken once.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::{
    facts::Facts,
    job::{JobProgress, JobResult, Task},
};

/// Where the agent connects to, on the listener that machines are served by.
pub const PATH: &str = "/agent";
/// Where it connects to beside, to measure the network: the service sends messages of bytes for [`LOAD_SECS`], then takes those that
/// the agent sends for as long.
pub const LOAD_PATH: &str = "/agent/load";
/// How long each direction of the network is measured, in seconds.
pub const LOAD_SECS: u64 = 3;
/// Bytes of a message while it is measured.
pub const LOAD_MESSAGE: usize = 64 << 10;
/// Where it connects to beside, for a shell: `?job=7` says which job's. The agent sends what the shell writes as messages of bytes; the
/// service sends what was typed so, and [`ToShell`] as text.
pub const SHELL_PATH: &str = "/agent/shell";
/// Bytes of a message of a shell, at most.
pub const MOST_SHELL: usize = 64 << 10;
/// The vendor class of the agent's own DHCP client (RFC 2132, section 9.13), by which it is told from firmware.
pub const DHCP_CLASS: &str = "lastmile-survey";
/// The version of these messages. A service takes those of its own version only: agent and service are built together.
pub const VERSION: u32 = 3;
/// Longest message, in bytes: facts of a machine with hundreds of disks are a tenth of it.
pub const MOST_MESSAGE: usize = 4 << 20;

/// What the agent says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FromAgent {
    /// Its number, for what has to be recorded: 1, 2, 3 … in one boot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sequence: Option<u64>,
    /// The message.
    #[serde(flatten)]
    pub said: Said,
}

/// A message of the agent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "said", rename_all = "kebab-case")]
pub enum Said {
    /// The first message of each connection.
    Hello(Hello),
    /// What was measured. Later surveys of one boot take the place of earlier ones: disks and neighbours appear late.
    Survey(Box<Survey>),
    /// What the agent is doing, for people who look at the machine from afar.
    Doing {
        /// In a few words.
        text: String,
    },
    /// How a job goes.
    Job {
        /// Its number.
        number: i64,
        /// What is new.
        news: News,
    },
}

/// What is new of a job.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "news", rename_all = "kebab-case")]
pub enum News {
    /// It has begun.
    Began,
    /// How far it is.
    Progress(JobProgress),
    /// What it wrote.
    Log {
        /// The number of the first of these lines: 1, 2, 3 … in one job. Lines that were let go of leave a gap.
        first: u64,
        /// The lines.
        lines: Vec<String>,
    },
    /// It has ended.
    Ended(Box<JobResult>),
}

/// Who connects.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Hello {
    /// [`VERSION`].
    pub version: u32,
    /// This boot, told from others.
    pub boot: Uuid,
    /// Seconds since the kernel started.
    pub up_secs: f64,
    /// The job that it is at.
    #[serde(default)]
    pub job: Option<i64>,
}

/// What one boot measured.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Survey {
    /// What the agent itself measured.
    pub facts: Facts,
    /// What the site's own programs found, by their names.
    #[serde(default)]
    pub found: BTreeMap<String, serde_json::Value>,
    /// What could not be measured, and why.
    #[serde(default)]
    pub faults: Vec<String>,
}

impl Survey {
    /// The same without what terminals act on: what firmware, devices, file systems and programs call themselves is shown to people.
    #[must_use]
    pub fn plain(self) -> Self {
        let Ok(mut value) = serde_json::to_value(&self) else { return self };
        make_plain(&mut value);
        // Texts are still texts.
        serde_json::from_value(value).unwrap_or(self)
    }
}

fn make_plain(value: &mut serde_json::Value) {
    use serde_json::Value;
    match value {
        Value::String(text) if text.chars().any(char::is_control) => {
            text.retain(|c| !c.is_control() || matches!(c, '\n' | '\t'));
        }
        Value::Array(all) => all.iter_mut().for_each(make_plain),
        Value::Object(all) => {
            let named = std::mem::take(all).into_iter().map(|(name, mut value)| {
                make_plain(&mut value);
                (name.chars().filter(|c| !c.is_control()).collect(), value)
            });
            *all = named.collect();
        }
        _ => {}
    }
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum ToAgent {
    /// The answer to [`Said::Hello`].
    Welcome {
        /// The present time.
        now: Timestamp,
        /// What the machine is called; nothing while nobody registered it.
        machine: Option<String>,
    },
    /// A message is on record, and with it all before.
    Recorded {
        /// Its number.
        sequence: u64,
    },
    /// What the machine is called now, and what it waits for: shown on its screen.
    Waits {
        /// Its name.
        machine: Option<String>,
        /// Its labels.
        #[serde(default)]
        labels: Vec<String>,
        /// Its details.
        #[serde(default)]
        details: BTreeMap<String, String>,
        /// In a few words.
        text: String,
    },
    /// A job is to be done. One that was begun in this boot is not begun again.
    Job {
        /// Its number.
        number: i64,
        /// What is to be done.
        task: Task,
    },
    /// A job is not to be done any more.
    CancelJob {
        /// Its number.
        number: i64,
    },
    /// Nothing more is to be done here.
    Finish(Finish),
}

/// What the service says about a shell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum ToShell {
    /// So many bytes of what it wrote are on record: first of all on each connection, then after every message. The agent keeps the
    /// rest, and sends it again on the next connection, so that each byte is on record once.
    Recorded {
        /// How many, from the beginning of the job on.
        bytes: u64,
    },
    /// Its screen has another size.
    Size(ScreenSize),
}

/// The size of the screen that a shell is shown on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ScreenSize {
    /// Characters of a line.
    pub columns: u16,
    /// Lines.
    pub rows: u16,
}

impl Default for ScreenSize {
    /// What terminals have had since the first ones.
    fn default() -> Self {
        Self { columns: 80, rows: 24 }
    }
}

/// How a survey ends.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
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
pub enum Finish {
    /// The machine starts anew, and gets what its boot plan says then.
    Restart,
    /// It is switched off.
    PowerOff,
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_devices_call_themselves_does_nothing_to_a_terminal() {
        let mut survey = Survey::default();
        survey.facts.system.product = Some("MS-20\u{1b}[2J\u{7}".into());
        survey.faults = vec!["two\nlines".into()];
        survey.found = [("raid\u{9b}".to_owned(), json!({ "name\r": ["a\u{1b}]0;x\u{7}", 7] }))].into();
        let plain = survey.clone().plain();
        assert_eq!(plain.facts.system.product.as_deref(), Some("MS-20[2J"));
        assert_eq!(plain.faults, survey.faults);
        assert_eq!(plain.found, [("raid".to_owned(), json!({ "name": ["a]0;x", 7] }))].into());
        assert_eq!(Survey::default().plain(), Survey::default());
    }
}

//! What the event stream tells.

use serde::{Deserialize, Serialize};

use crate::{InstallRow, JobRow, LogLine, MachineRow, Work};

/// Something changed. Sent as a server-sent event (WHATWG HTML, section 9.2) with one of these as its data.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Event {
    /// A machine changed, or was seen on the wire.
    Machine {
        /// The machine as it is now.
        machine: Box<MachineRow>,
    },
    /// A machine that nobody registered was seen on the wire.
    Newcomer {
        /// Its MAC address.
        mac: String,
    },
    /// A machine was removed.
    Gone {
        /// Its name.
        name: String,
    },
    /// An install moved on.
    Install {
        /// The install as it is now.
        install: Box<InstallRow>,
    },
    /// An installer wrote lines.
    Log {
        /// The install's number.
        install: i64,
        /// The lines.
        lines: Vec<LogLine>,
    },
    /// A job moved on.
    Job {
        /// The job as it is now.
        job: Box<JobRow>,
    },
    /// A job wrote lines.
    #[serde(rename = "job-log")]
    JobLog {
        /// Its number.
        job: i64,
        /// The place of the first of the lines among all that the job wrote: 1, 2, 3 …
        first: i64,
        /// The lines.
        lines: Vec<LogLine>,
    },
    /// A delivery was made, tried, or is to be made.
    Delivery {
        /// The webhook's name.
        webhook: String,
    },
    /// A subnet or one of its reservations was changed, added or removed.
    Subnet {
        /// The subnet's name.
        name: String,
    },
    /// A loader was added or removed.
    Loader {
        /// Its name.
        name: String,
    },
    /// A menu was changed, added or removed.
    Menu {
        /// Its name.
        name: String,
    },
    /// What is said of a label was changed.
    Label {
        /// Its name.
        name: String,
    },
    /// What applies to the whole site was changed.
    Settings,
    /// Answers, or another layer of settings, were changed, added or removed.
    Answers {
        /// The answers' name, `site:`, `label:NAME` or `machine:NAME`.
        name: String,
    },
    /// An image or one of its revisions changed, came or went.
    Image {
        /// The image's name.
        name: String,
    },
    /// A rule was changed, added or removed, or changed a machine.
    Rule {
        /// The rule's name.
        name: String,
    },
    /// What rules propose is otherwise now.
    Proposals,
    /// The table of locations was changed.
    Locations,
    /// Something that takes longer than a moment went on, or ended.
    Work {
        /// How far it is.
        work: Work,
    },
    /// Events were lost because the reader was too slow: everything must be read again.
    Lagged,
}

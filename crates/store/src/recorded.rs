//! What is told to those who watch.

use lastmile_core::{
    base::Id,
    model::{
        answers::Scope,
        install::{Install, Step},
        job::{Job, JobStep},
        machine::Machine,
    },
};

use lastmile_formats::mac::Mac;

use crate::LogLine;

/// What was recorded, for those who watch: told in the order of the commits, after the snapshot has it.
#[derive(Debug, Clone)]
pub enum Recorded {
    /// A subnet or its reservations were changed, added or removed.
    Subnet {
        /// Its name.
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
    /// An image or one of its revisions was changed, added or removed.
    Image {
        /// Its name.
        name: String,
    },
    /// Answers, or another layer of settings, were changed, added or removed.
    Answers {
        /// Which.
        scope: Scope,
    },
    /// A machine was changed or added.
    Machine {
        /// Which.
        id: Id<Machine>,
    },
    /// A machine was removed, or has another name now.
    MachineGone {
        /// The name it had.
        name: String,
    },
    /// An install moved on.
    Install {
        /// As it is now.
        install: Box<Install>,
        /// What moved it.
        step: Step,
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
        /// As it is now.
        job: Box<Job>,
        /// What moved it.
        step: JobStep,
    },
    /// A job wrote lines.
    JobLog {
        /// Its number.
        job: i64,
        /// The place of the first of the lines.
        first: i64,
        /// The lines.
        lines: Vec<LogLine>,
    },
    /// A machine or a newcomer was surveyed.
    Survey {
        /// The address that it was started from.
        mac: Mac,
        /// Which machine, if it is registered.
        machine: Option<Id<Machine>>,
    },
    /// A rule was changed, added or removed, or changed a machine.
    Rule {
        /// Its name.
        name: String,
    },
    /// What rules propose is otherwise now.
    Proposals,
    /// The table of locations was changed.
    Locations,
    /// A webhook or one of its deliveries was changed, added or removed.
    Webhook {
        /// The webhook's name.
        name: String,
    },
}

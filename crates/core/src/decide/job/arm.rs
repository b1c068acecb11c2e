//! The check before a job is recorded.

use std::sync::Arc;

use jiff::Timestamp;
use lastmile_formats::mac::Mac;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults},
    decide::machine::chosen,
    model::{
        agent::Finish,
        job::{BurnInPart, Job, JobState, LONGEST, Task},
        machine::{DefaultBoot, Machine},
    },
    site::Site,
};

/// Jobs that may wait for one machine.
const MOST_WAITING: usize = 20;
/// Words of a command, and bytes of all of them.
const MOST_WORDS: usize = 256;
const MOST_BYTES: usize = 32 << 10;

/// What a person wants done on which machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ArmJobs {
    /// Names or MAC addresses of machines.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub machines: Vec<String>,
    /// Every machine that has all of these labels, too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    /// What is to be done.
    pub task: Task,
    /// What they do afterwards. Otherwise a machine that was started for the job restarts, and one that waited in the survey waits on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<Finish>,
}

/// A job that nothing stands in the way of; it has no number yet.
#[derive(Debug, Clone, PartialEq)]
pub struct JobDraft {
    /// The machine, if it is registered.
    pub machine: Option<Arc<Machine>>,
    /// The address that it is known by.
    pub mac: Mac,
    /// What is to be done.
    pub task: Task,
    /// What the machine does afterwards.
    pub then: Option<Finish>,
}

impl JobDraft {
    /// The record of it.
    #[must_use]
    pub fn into_job(self, number: i64, armed_by: &str, now: Timestamp) -> Job {
        let name = self.machine.as_ref().map_or_else(|| self.mac.to_string(), |machine| machine.name.clone());
        Job {
            number,
            mac: self.mac,
            machine: self.machine.map(|machine| machine.id),
            machine_name: name,
            task: self.task,
            then: self.then,
            state: JobState::Armed,
            armed_by: armed_by.into(),
            armed_at: now,
            boot: None,
            began_at: None,
            ended_at: None,
            kernel_fetches: 0,
            result: None,
            reason: None,
        }
    }
}

impl ArmJobs {
    /// A job for each machine, or none.
    ///
    /// # Errors
    /// Everything that stands in the way of any of them.
    pub fn check(&self, site: &Site) -> Result<Vec<JobDraft>, Vec<Fault>> {
        let mut faults = Faults::new();
        for fault in check_task(&self.task, site) {
            faults.add(fault.place, fault.what, fault.fix);
        }
        let machines = match chosen(site, &self.machines, &self.labels) {
            Ok(machines) => machines,
            Err(more) => {
                more.into_iter().for_each(|fault| faults.add(fault.place, fault.what, fault.fix));
                Vec::new()
            }
        };
        if !machines.is_empty() && site.survey_image(None).is_none() {
            faults.add("", "there is no image of kind survey", "Build one with `lastmile survey build`.");
        }
        let is_several = machines.len() > 1;
        let mut drafts = Vec::with_capacity(machines.len());
        for machine in machines {
            let place = || if is_several { machine.name.clone() } else { "machine".to_owned() };
            if machine.default_boot == DefaultBoot::Ignored {
                faults.add(
                    place(),
                    format!("{} is set to be ignored", machine.name),
                    "Give it another default boot first, or it would never boot the survey.",
                );
            }
            let Some(mac) = machine.macs.first().copied() else {
                faults.add(
                    place(),
                    format!("{} has no MAC address", machine.name),
                    "Give it one: `lastmile machine change NAME --append macs=MAC`.",
                );
                continue;
            };
            if site.open_jobs(mac).len() >= MOST_WAITING {
                faults.add(
                    place(),
                    format!("{MOST_WAITING} jobs of {} have not ended yet", machine.name),
                    "Wait for some, or cancel them: `lastmile job list --state armed,running`.",
                );
            }
            drafts.push(JobDraft {
                mac,
                machine: Some(machine.clone()),
                task: self.task.clone(),
                then: self.then,
            });
        }
        faults.into_result(|| Some(drafts))
    }
}

/// What is wrong with a piece of work, whatever the machine.
#[must_use]
pub fn check_task(task: &Task, site: &Site) -> Vec<Fault> {
    let mut faults = Vec::new();
    let mut add = |place: &str, what: String, fix: &str| {
        faults.push(Fault { place: place.into(), what, fix: fix.into() });
    };
    let minutes = |minutes: u32| (1..=LONGEST).contains(&minutes);
    let range = format!("it is a number from 1 to {LONGEST}");
    if task.is_command() && !site.settings().allow_commands {
        add(
            "task",
            "this site does not allow commands and shells on machines".into(),
            "An administrator allows them: `lastmile settings change --set allow_commands=true`.",
        );
    }
    match task {
        Task::Survey => {}
        Task::BurnIn(burn_in) => {
            if !minutes(burn_in.minutes) {
                add("task.minutes", range.clone(), "Give the minutes that memory and processor are worked.");
            }
            if !minutes(burn_in.limit_minutes) || burn_in.limit_minutes < burn_in.minutes {
                let fix = "Give the minutes after which it ends at the latest: at least as many as memory and processor are worked.";
                add("task.limit_minutes", range, fix);
            }
            let all = <BurnInPart as strum::VariantArray>::VARIANTS;
            if all.iter().all(|part| !burn_in.has(*part)) {
                add("task.without", "nothing is left to be tested".into(), "Leave fewer parts out.");
            }
        }
        Task::Shell(shell) => {
            if !minutes(shell.limit_minutes) {
                add("task.limit_minutes", range, "Give the minutes after which it is ended.");
            }
        }
        Task::Locate(locate) => {
            if !minutes(locate.minutes) {
                add("task.minutes", range, "Give the minutes that the machine shows where it is.");
            }
            if locate.disk.as_ref().is_some_and(|disk| disk.trim().is_empty()) {
                add("task.disk", "it is empty".into(), "Give the disk's serial number, or leave it out.");
            }
        }
        Task::Command(command) => {
            let bytes: usize = command.words.iter().map(String::len).sum();
            let is_empty = command.words.first().is_none_or(|word| word.trim().is_empty());
            if is_empty || command.words.len() > MOST_WORDS || bytes > MOST_BYTES {
                add(
                    "task.words",
                    format!("a command has between 1 and {MOST_WORDS} words, of {MOST_BYTES} bytes together"),
                    "Give the program and what it is told; a longer one is put into the survey with `lastmile survey build --add`.",
                );
            } else if command.words.iter().any(|word| word.contains('\0')) {
                add("task.words", "a word of it has a zero byte".into(), "Leave it out.");
            }
            if !minutes(command.limit_minutes) {
                add("task.limit_minutes", range, "Give the minutes after which it is ended.");
            }
        }
    }
    faults
}

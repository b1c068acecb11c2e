//! `lastmile job …`

mod shell;
mod watch;

use std::{path::PathBuf, process::ExitCode, str::FromStr};

use clap::{Args, Subcommand, builder::PossibleValuesParser};
use jiff::SignedDuration;
use lastmile_api::{
    ArmJobs, BurnIn, BurnInFound, BurnInPart, Finish, JobDetail, JobKind, JobNumbers, JobResult, JobRow,
    JobState, JobsListQuery, Locate, LogLine, RunCommand, Task,
};
use lastmile_client::Client;
pub(crate) use shell::{OnMachine, on_machine};
use strum::VariantNames;
pub(crate) use watch::Watch;

use super::pages;
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, clock, columns, duration, or_dash, pairs, size},
};

/// `lastmile job …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List jobs, newest first.
    List {
        /// Only those of this machine, by name or MAC address.
        #[arg(long, add = complete::machines())]
        machine: Option<String>,
        /// Only those in these states, separated by commas: armed, running, done, failed, stalled, cancelled.
        #[arg(long)]
        state: Option<String>,
        /// Only those of this kind.
        #[arg(long, value_parser = PossibleValuesParser::new(JobKind::VARIANTS))]
        kind: Option<String>,
        /// At most so many; all of them if left out.
        #[arg(long)]
        limit: Option<u32>,
    },
    /// Show one job: what came of it, and everything that happened to it.
    Show {
        /// Its number.
        number: i64,
    },
    /// Arm a job: a machine that runs the survey begins at once, another one boots the survey at its next network boot. Of several
    /// machines all are armed, or none.
    Arm(Arm),
    /// Wait until jobs have ended: exits with 0 if all of them are done, else with 1.
    Wait {
        /// Their numbers; every job that has not ended if left out.
        numbers: Vec<i64>,
        /// Wait no longer than this, as in 90m or 2h30m.
        #[arg(long, value_name = "TIME")]
        timeout: Option<SignedDuration>,
    },
    /// Show what a job wrote.
    Log {
        /// Its number.
        number: i64,
        /// Go on showing what it writes, until it ends or Ctrl-C.
        #[arg(long)]
        follow: bool,
    },
    /// Use a shell that is open on a machine, or wait for it: Ctrl-] leaves it open.
    Attach {
        /// Its number.
        number: i64,
        /// Only look: what is typed here is not taken.
        #[arg(long)]
        look: bool,
    },
    /// Write what a shell's screen showed: a recording of a terminal (asciicast, version 2).
    Recording {
        /// Its number.
        number: i64,
        /// The file that it is written to; standard output if left out.
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Cancel jobs. What was done of them stays done.
    Cancel {
        /// Their numbers.
        #[arg(required = true)]
        numbers: Vec<i64>,
        /// Check whether they can be cancelled, and cancel none.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
}

/// What is done on which machines.
#[derive(Debug, Args)]
pub(crate) struct Arm {
    /// The machines, by name or MAC address.
    #[arg(required_unless_present = "label", value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine with this label, too; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// What is done: measure the machine anew, work it hard to see whether it makes mistakes, or show where it is.
    #[arg(long, value_parser = PossibleValuesParser::new(["survey", "burn-in", "locate"]))]
    kind: String,
    /// Of a burn-in: minutes that memory and processor are worked, usually 30. Of locate: how long it shows where it is, usually 15.
    #[arg(long, value_name = "MINUTES")]
    minutes: Option<u32>,
    /// Of a burn-in: minutes after which it ends at the latest, though disks are not read to their ends. Usually 1440.
    #[arg(long, value_name = "MINUTES")]
    limit_minutes: Option<u32>,
    /// Of locate: the disk whose light is switched on, by serial number or the survey's name for it; otherwise the machine's lights are.
    #[arg(long, value_name = "DISK")]
    disk: Option<String>,
    /// Of a burn-in: what is left out; may be repeated.
    #[arg(long, value_name = "PART", value_parser = PossibleValuesParser::new(BurnInPart::VARIANTS))]
    without: Vec<String>,
    /// What the machine does afterwards. If left out, one that was started for the job restarts, and one that waited in the survey
    /// waits on.
    #[arg(long, value_parser = PossibleValuesParser::new(Finish::VARIANTS))]
    then: Option<String>,
    /// Wait until all have ended: exits with 0 if all of them are done, else with 1.
    #[arg(long, conflicts_with = "dry_run")]
    wait: bool,
    /// Check whether it can be armed, and arm nothing.
    #[arg(long)]
    dry_run: bool,
}

/// A command that is run on machines.
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// The machines, by name or MAC address.
    #[arg(required_unless_present = "label", value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine with this label, too; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// Minutes after which it is ended.
    #[arg(long, value_name = "MINUTES", default_value = "10")]
    limit_minutes: u32,
    /// Do not wait for its end: `lastmile job log` shows what it wrote.
    #[arg(long)]
    detach: bool,
    /// Check whether it can be run, and run nothing.
    #[arg(long)]
    dry_run: bool,
    /// The command, after --. It is run without a shell: -- sh -c '…' has one.
    #[arg(last = true, required = true, value_name = "COMMAND")]
    words: Vec<String>,
}

/// Reads a word that clap has checked.
fn read<T: FromStr>(text: &str) -> Result<T, Failure> {
    text.parse().map_err(|_| Failure::Broken(format!("'{text}' is not understood")))
}

impl Arm {
    fn request(&self) -> Result<ArmJobs, Failure> {
        let stray = match self.kind.as_str() {
            "burn-in" => self.disk.is_some().then_some("--disk is of locate"),
            "locate" => (self.limit_minutes.is_some() || !self.without.is_empty())
                .then_some("--limit-minutes and --without are of a burn-in"),
            _ => (self.minutes.is_some()
                || self.limit_minutes.is_some()
                || !self.without.is_empty()
                || self.disk.is_some())
            .then_some("a survey takes no --minutes, --limit-minutes, --without or --disk"),
        };
        if let Some(what) = stray {
            return Err(Failure::usage("--kind", what.to_owned(), "Leave them out, or give another --kind."));
        }
        let task = match self.kind.as_str() {
            "burn-in" => {
                let usual = BurnIn::default();
                let minutes = self.minutes.unwrap_or(usual.minutes);
                Task::BurnIn(BurnIn {
                    minutes,
                    limit_minutes: self.limit_minutes.unwrap_or(usual.limit_minutes.max(minutes)),
                    without: self.without.iter().map(|part| read(part)).collect::<Result<_, _>>()?,
                })
            }
            "locate" => {
                let minutes = self.minutes.unwrap_or(Locate::default().minutes);
                Task::Locate(Locate { minutes, disk: self.disk.clone() })
            }
            _ => Task::Survey,
        };
        Ok(ArmJobs {
            machines: self.machines.clone(),
            labels: self.label.clone(),
            task,
            then: self.then.as_deref().map(read).transpose()?,
        })
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::List { machine, state, kind, limit } => {
            out.list(&list(machine, state, kind, limit, client).await?, rows);
        }
        Command::Show { number } => out.show(&client.jobs_read(number).await?, show),
        Command::Arm(args) => {
            let jobs = client.trying(args.dry_run).jobs_arm(&args.request()?).await?;
            if args.wait {
                return Watch::new(&jobs, false).until_ended(None, client, out).await;
            }
            out.show(&jobs, |jobs| {
                let lines = jobs.iter().map(|job| armed(job, args.dry_run) + "\n");
                lines.collect::<String>() + super::object::saved(args.dry_run)
            });
        }
        Command::Wait { numbers, timeout } => {
            let mut jobs = Vec::new();
            for number in &numbers {
                jobs.push(client.jobs_read(*number).await?.job);
            }
            if numbers.is_empty() {
                jobs = list(None, Some("armed,running".into()), None, None, client).await?;
            }
            return Watch::new(&jobs, false).until_ended(timeout, client, out).await;
        }
        Command::Log { number, follow: false } => {
            let log = client.jobs_read(number).await?.log;
            out.show(&log[..], |lines| lines.iter().map(|line| log_line(line) + "\n").collect());
        }
        Command::Log { number, follow: true } => {
            let job = client.jobs_read(number).await?.job;
            Watch::new(&[job], true).until_ended(None, client, out).await?;
        }
        Command::Attach { number, look } => {
            let job = client.jobs_read(number).await?.job;
            return shell::attach(&job, look, client, out).await;
        }
        Command::Recording { number, to } => {
            let recording = client.jobs_recording(number).await?;
            match to {
                Some(file) => {
                    std::fs::write(&file, &recording)?;
                    out.say(&format!("{} bytes in {}", recording.len(), file.display()));
                }
                None => out.line(recording.trim_end()),
            }
        }
        Command::Cancel { numbers, dry_run, confirm } => {
            if !dry_run {
                let what = numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                confirm.ask(&format!("Cancel job {what}? What was done stays done."))?;
            }
            let jobs = client.trying(dry_run).jobs_cancel(&JobNumbers { numbers }).await?;
            out.show(&jobs, |jobs| {
                let verb = if dry_run { "would be" } else { "is" };
                let line =
                    |job: &JobRow| format!("job {} of {} {verb} {}\n", job.number, job.machine, job.state);
                jobs.iter().map(line).collect::<String>() + super::object::saved(dry_run)
            });
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// `lastmile machine run …`
pub(crate) async fn run_on(args: Run, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let command = RunCommand { words: args.words, limit_minutes: args.limit_minutes };
    let asked =
        ArmJobs { machines: args.machines, labels: args.label, task: Task::Command(command), then: None };
    let jobs = client.trying(args.dry_run).jobs_arm(&asked).await?;
    if args.dry_run || args.detach {
        out.show(&jobs, |jobs| {
            let lines = jobs.iter().map(|job| armed(job, args.dry_run) + "\n");
            lines.collect::<String>() + super::object::saved(args.dry_run)
        });
        return Ok(ExitCode::SUCCESS);
    }
    for job in jobs.iter().filter(|job| !job.is_connected) {
        out.warn(&format!(
            "{} does not run the survey: job {} begins at its next network boot. Ctrl-C leaves it armed",
            job.machine, job.number
        ));
    }
    Watch::new(&jobs, true).until_ended(None, client, out).await
}

async fn list(
    machine: Option<String>,
    state: Option<String>,
    kind: Option<String>,
    limit: Option<u32>,
    client: &Client,
) -> Result<Vec<JobRow>, Failure> {
    let kind = kind.as_deref().map(read).transpose()?;
    pages::all(limit, async |limit, offset| {
        let query = JobsListQuery {
            machine: machine.clone(),
            state: state.clone(),
            kind,
            limit: Some(limit),
            offset: Some(offset),
        };
        let page = client.jobs_list(&query).await?;
        Ok::<_, Failure>((page.jobs, usize::try_from(page.total).unwrap_or_default()))
    })
    .await
}

pub(crate) fn rows(jobs: &[JobRow]) -> Table {
    let row = |job: &JobRow| {
        [
            job.number.to_string().into(),
            job.machine.clone().into(),
            job.summary.clone().into(),
            Cell::state(state(job)),
            Cell::duration(took(job)),
            Cell::ago(Some(job.ended_at.or(job.began_at).unwrap_or(job.armed_at))),
            job.armed_by.clone().into(),
            Cell::maybe(job.outcome.clone().or_else(|| progress(job))),
        ]
    };
    let head = ["no", "machine", "job", "state", "duration", "since", "armed by", "outcome or progress"];
    columns(head, jobs.iter().map(row)).note(if jobs.is_empty() {
        "No jobs. `lastmile job arm` arms one.\n"
    } else {
        ""
    })
}

/// The state, and that an armed job waits for its machine, or a running one is not heard of.
fn state(job: &JobRow) -> String {
    match (job.state, job.is_connected) {
        (JobState::Running, false) => "running, not connected".into(),
        (state, _) => state.to_string(),
    }
}

fn took(job: &JobRow) -> Option<u64> {
    let span = job.began_at.zip(job.ended_at).map(|(from, to)| to.duration_since(from))?;
    u64::try_from(span.as_secs()).ok()
}

/// How far it is, in a line.
fn progress(job: &JobRow) -> Option<String> {
    let progress = job.progress.as_ref()?;
    let share = progress.share.map(|share| format!("{:.0} %", share * 100.0));
    let left = progress.left_secs.map(|secs| format!("{} left", duration(secs)));
    let text = Some(progress.text.clone()).filter(|text| !text.is_empty());
    Some([share, left, text].into_iter().flatten().collect::<Vec<_>>().join(", "))
}

fn armed(job: &JobRow, is_dry_run: bool) -> String {
    let verb = if is_dry_run { "would be" } else { "is" };
    let when = if job.is_connected { "at once" } else { "at its next network boot" };
    format!("job {} {verb} armed: {} on {}, {when}", job.number, job.summary, job.machine)
}

fn log_line(line: &LogLine) -> String {
    format!("{}  {}", clock(line.at), line.line)
}

fn show(detail: &JobDetail) -> String {
    let job = &detail.job;
    let time = |at: Option<jiff::Timestamp>| or_dash(at.map(clock));
    let mut lines = vec![
        ("job", job.number.to_string()),
        ("machine", job.machine.clone()),
        ("task", job.summary.clone()),
        ("state", state(job)),
        ("armed", format!("{} by {}", clock(job.armed_at), job.armed_by)),
        ("begun", time(job.began_at)),
        ("ended", time(job.ended_at)),
    ];
    lines.extend(took(job).map(|secs| ("duration", duration(secs))));
    lines.extend(progress(job).map(|progress| ("progress", progress)));
    // What went wrong is told one by one below.
    let is_told = detail.result.as_ref().is_some_and(|result| !result.faults.is_empty());
    lines.extend(job.outcome.clone().filter(|_| !is_told).map(|outcome| ("outcome", outcome)));
    lines.extend(detail.then.map(|then| ("afterwards", then.to_string())));
    lines.extend(detail.result.iter().flat_map(of_result));
    if job.kind == JobKind::Shell {
        lines.push(("recording", format!("`lastmile job recording {}` writes what it showed", job.number)));
    }
    if !detail.log.is_empty() {
        lines.push((
            "log",
            format!("{} lines; `lastmile job log {}` shows them", detail.log.len(), job.number),
        ));
    }
    let mut text = pairs(lines);
    text.push('\n');
    let row = |step: &lastmile_api::JobStep| [Cell::clock(Some(step.at)), step.text.clone().into()];
    text + &columns(["at", "step"], detail.steps.iter().map(row)).text()
}

fn of_result(result: &JobResult) -> Vec<(&'static str, String)> {
    let mut lines: Vec<(&'static str, String)> =
        result.faults.iter().map(|fault| ("fault", fault.clone())).collect();
    lines.extend(result.burn_in.iter().flat_map(of_burn_in));
    lines.extend(result.exit_status.map(|status| ("exit status", status.to_string())));
    lines.extend(result.shown.iter().map(|light| ("shown", light.clone())));
    lines.extend(result.found.iter().map(|(name, value)| ("found", format!("{name}: {value}"))));
    lines
}

fn of_burn_in(found: &BurnInFound) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    if let Some(memory) = &found.memory {
        let (mib, passes, errors) = (memory.mib, memory.passes, memory.errors);
        lines.push(("memory", format!("{mib} MiB, passes: {passes}, errors: {errors}")));
    }
    if let Some(cpu) = &found.cpu {
        lines.push((
            "processor",
            format!("threads: {}, rounds: {}, errors: {}", cpu.threads, cpu.rounds, cpu.errors),
        ));
    }
    for disk in &found.disks {
        let serial = disk.serial.as_ref().map(|serial| format!(" {serial}")).unwrap_or_default();
        let line = format!(
            "{}{serial}: {} of {} read, {:.0} MiB/s, errors: {}",
            disk.name,
            size(disk.read),
            size(disk.size),
            disk.mib_s(),
            disk.errors
        );
        lines.push(("disk", line));
    }
    if let Some(network) = &found.network {
        let line = format!("{:.0} Mbit/s in, {:.0} Mbit/s out", network.in_mbit_s, network.out_mbit_s);
        lines.push(("network", line));
    }
    for sensor in &found.temperatures {
        let limit = sensor.critical.map(|critical| format!(", of at most {critical:.0} °C"));
        lines.push((
            "temperature",
            format!("{}: {:.0} °C{}", sensor.sensor, sensor.highest, limit.unwrap_or_default()),
        ));
    }
    if let (Some(corrected), Some(uncorrected)) = (found.corrected_errors, found.uncorrected_errors) {
        let line = format!("errors corrected: {corrected}, not corrected: {uncorrected}");
        lines.push(("controller", line));
    }
    lines
}

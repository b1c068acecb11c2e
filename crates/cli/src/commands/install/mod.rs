//! `lastmile install …`

pub(crate) mod wait;

use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::{Args, Subcommand};
use futures_util::StreamExt;
use lastmile_api::{
    ArmPreview, ArmSeveral, AskedRequest, Event, Fault, InstallDetail, InstallNumbers, InstallRow,
    InstallState, InstallsListQuery, LogLine,
};
use lastmile_client::Client;

use super::{answers::asked_of, pages, toml_file::read_text};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, clock, columns, duration, or_dash, pairs, some_names},
};

/// `lastmile install …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List installs, newest first.
    List {
        /// Only those of this machine, by name or MAC address.
        #[arg(long, add = complete::machines())]
        machine: Option<String>,
        /// Only those in these states, separated by commas: armed, booting, installing, installed, failed, stalled,
        /// cancelled.
        #[arg(long)]
        state: Option<String>,
        /// At most so many; all of them if left out.
        #[arg(long)]
        limit: Option<u32>,
    },
    /// Show one install and everything that was seen of it.
    Show {
        /// Its number.
        number: i64,
    },
    /// Arm an install: the machine gets it at its next network boot, once. Of several machines all are armed, or none.
    Arm(Arm),
    /// Wait until installs have ended: exits with 0 if all of them are installed, else with 1.
    Wait(wait::Arguments),
    /// Answer questions that an install waits for. The machine goes on by itself.
    Answer {
        /// Its number.
        number: i64,
        /// Answers, as NAME=ANSWER; `lastmile install show` lists the questions.
        #[arg(required = true, value_name = "NAME=ANSWER")]
        asked: Vec<String>,
        /// Check the answers and show what would come of them, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Show what the installer wrote while it worked.
    Log {
        /// Its number.
        number: i64,
        /// Go on showing what it writes, until it ends or Ctrl-C.
        #[arg(long)]
        follow: bool,
    },
    /// Arm ended installs again: each image's current revision, with the same answers; all of them, or none.
    Retry {
        /// Their numbers.
        #[arg(required = true)]
        numbers: Vec<i64>,
        /// Check whether they can be armed again, and arm none.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
    /// Cancel installs.
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

/// What is installed on which machines.
#[derive(Debug, Args)]
pub(crate) struct Arm {
    /// The machines, by name or MAC address.
    #[arg(required_unless_present_any = ["label", "from"], value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine with this label, too; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// A file with a machine's name on each line, too; `-` for standard input. What follows a # is ignored.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// The image's name; if left out, that of each machine's label.
    #[arg(long, add = complete::images())]
    image: Option<String>,
    /// The answers' name; if left out, those of each machine's label.
    #[arg(long, add = complete::answers())]
    answers: Option<String>,
    /// An answer to one of their questions, as NAME=ANSWER. For what is left open, the machine waits.
    #[arg(long, value_name = "NAME=ANSWER")]
    asked: Vec<String>,
    /// Show what each machine would get and lose, and arm nothing. Exits with 1 if there is an obstacle.
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    confirm: Confirm,
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::List { machine, state, limit } => {
            out.list(&list(machine, state, limit, client).await?, rows);
        }
        Command::Show { number } => out.show(&client.installs_read(number).await?, show),
        Command::Arm(args) => return arm(args, client, out).await,
        Command::Wait(args) => return wait::run(&args, client, out).await,
        Command::Log { number, follow } => log(number, follow, client, out).await?,
        Command::Cancel { numbers, dry_run, confirm } => {
            if !dry_run {
                let what = numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                confirm.ask(&format!("Cancel install {what}? What its installer has done stays done."))?;
            }
            let client = client.trying(dry_run);
            // Of several, those that have ended meanwhile stay as they are; one that has ended is a mistake.
            let installs = match numbers[..] {
                [number] => vec![client.installs_cancel(number).await?],
                _ => client.installs_cancel_several(&InstallNumbers { numbers }).await?,
            };
            out.show(&installs, |installs| {
                let verb = if dry_run { "would be" } else { "is" };
                let line = |install: &InstallRow| {
                    format!("install {} of {} {verb} {}\n", install.number, install.machine, install.state)
                };
                installs.iter().map(line).collect()
            });
        }
        Command::Retry { numbers, dry_run, confirm } => {
            if !dry_run {
                let what = numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                confirm
                    .ask(&format!("Arm install {what} again? What is installed on the machines is lost."))?;
            }
            let numbers = InstallNumbers { numbers };
            let installs = client.trying(dry_run).installs_retry_several(&numbers).await?;
            out.show(&installs, |installs| {
                let lines = installs.iter().map(|install| armed(install, dry_run) + "\n");
                lines.collect::<String>() + super::object::saved(dry_run)
            });
        }
        Command::Answer { number, asked, dry_run } => {
            let request = AskedRequest { asked: asked_of(&asked)? };
            let install = client.trying(dry_run).installs_answer(number, &request).await?;
            out.show(&install, |install| {
                let machine = &install.machine;
                let said = match install.waits_for {
                    0 => format!("install {number} of {machine} has all its answers: the machine goes on\n"),
                    open => format!("install {number} of {machine} waits for {open} more\n"),
                };
                said + super::object::saved(dry_run)
            });
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn list(
    machine: Option<String>,
    state: Option<String>,
    limit: Option<u32>,
    client: &Client,
) -> Result<Vec<InstallRow>, Failure> {
    let machine = match machine {
        // The record knows machines by their names.
        Some(text) if text.contains(':') => Some(client.machines_read(&text).await?.value.machine.name),
        other => other,
    };
    pages::all(limit, async |limit, offset| {
        let query = InstallsListQuery {
            machine: machine.clone(),
            state: state.clone(),
            limit: Some(limit),
            offset: Some(offset),
        };
        let page = client.installs_list(&query).await?;
        Ok::<_, Failure>((page.installs, usize::try_from(page.total).unwrap_or_default()))
    })
    .await
}

async fn arm(args: Arm, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let mut machines = args.machines;
    if let Some(from) = args.from {
        machines.extend(names(&from)?);
    }
    let asked = asked_of(&args.asked)?;
    let several =
        ArmSeveral { machines, labels: args.label, image: args.image, answers: args.answers, asked };
    let preview = client.installs_preview(&several).await;
    if args.dry_run {
        return Ok(show_preview(&preview?, out));
    }
    // What stands in the way is said by the call that arms.
    let preview = preview.unwrap_or_default();
    let holding: Vec<&str> = preview
        .iter()
        .filter(|machine| machine.holds.is_some() && machine.faults.is_empty())
        .map(|machine| machine.machine.as_str())
        .collect();
    if !holding.is_empty() && preview.iter().all(|machine| machine.faults.is_empty()) {
        args.confirm.ask(&loses(&holding))?;
    }
    let installs = client.installs_arm_several(&several).await?;
    out.show(&installs, |installs| installs.iter().map(|install| armed(install, false) + "\n").collect());
    Ok(ExitCode::SUCCESS)
}

/// What somebody is asked before machines lose what is installed on them.
fn loses(holding: &[&str]) -> String {
    let named = some_names(holding);
    match holding.len() {
        1 => format!("{named} has a system installed, and would lose it. Arm the install?"),
        count => {
            format!("{count} machines have a system installed, and would lose it: {named}. Arm the installs?")
        }
    }
}

async fn log(number: i64, follow: bool, client: &Client, out: &Output) -> Result<(), Failure> {
    // Listened to before what was is read, so that nothing falls between.
    let live = if follow { Some(Box::pin(client.events_stream().await?)) } else { None };
    let detail = client.installs_read(number).await?;
    let Some(mut live) = live else {
        out.show(&detail.log[..], |lines| lines.iter().map(|line| log_line(line) + "\n").collect());
        return Ok(());
    };
    let tell = |line: &LogLine| {
        if out.is_json() {
            out.json_line(line);
        } else {
            out.line(&log_line(line));
        }
    };
    detail.log.iter().for_each(tell);
    let mut is_open = detail.install.state.is_open();
    let last = detail.log.last().map(|line| line.at);
    while is_open && let Some(event) = live.next().await {
        match event {
            Event::Log { install, lines } if install == number => {
                lines.iter().filter(|line| last.is_none_or(|last| line.at > last)).for_each(tell);
            }
            Event::Install { install } if install.number == number => is_open = install.state.is_open(),
            _ => {}
        }
    }
    Ok(())
}

fn log_line(line: &LogLine) -> String {
    format!("{}  {}", clock(line.at), line.line)
}

/// What arming would do; fails if it would be refused.
fn show_preview(machines: &[ArmPreview], out: &Output) -> ExitCode {
    out.list(machines, preview_table);
    let is_refused = machines.iter().any(|machine| !machine.faults.is_empty());
    if is_refused { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}

fn preview_table(machines: &[ArmPreview]) -> Table {
    let row = |machine: &ArmPreview| {
        [
            machine.machine.clone().into(),
            Cell::maybe(machine.holds.as_ref()),
            Cell::clock(machine.since),
            Cell::maybe(machine.gets.as_ref()),
            Cell::maybe(machine.answers.as_ref()),
            Cell::maybe(machine.host_name.as_ref()),
            Cell::maybe(Some(machine.takes.join(" and ")).filter(|takes| !takes.is_empty())),
            Cell::list(&machine.asks),
        ]
    };
    let head = [
        "machine",
        "image now",
        "since",
        "would get",
        "answers",
        "host name",
        "erased disk",
        "open questions",
    ];
    let mut note = String::new();
    let mut say = |machine: &ArmPreview, kind: &str, fault: &Fault| {
        let place = if fault.place.is_empty() { String::new() } else { format!("{}: ", fault.place) };
        note.push_str(&format!("\n{}: {kind}: {place}{}. {}", machine.machine, fault.what, fault.fix));
    };
    for machine in machines {
        machine.faults.iter().for_each(|fault| say(machine, "obstacle", fault));
        machine.warnings.iter().for_each(|fault| say(machine, "warning", fault));
    }
    let refused = machines.iter().filter(|machine| !machine.faults.is_empty()).count();
    let held = machines.iter().filter(|machine| machine.holds.is_some() && machine.faults.is_empty()).count();
    note.push_str(&match (refused, machines.len()) {
        (0, 1) => "\nDry run: the machine would be armed.\n".into(),
        (0, all) => format!("\nDry run: all {all} would be armed; {held} would lose an installed system.\n"),
        (refused, all) => format!("\nDry run: none would be armed, as {refused} of {all} cannot be.\n"),
    });
    columns(head, machines.iter().map(row)).note(note)
}

fn armed(install: &InstallRow, is_dry_run: bool) -> String {
    let waits = match install.waits_for {
        0 => "",
        _ => ", and waits there until its questions are answered (`lastmile install answer`)",
    };
    let verb = if is_dry_run { "would be" } else { "is" };
    format!(
        "install {} {verb} armed: {} gets {} r{} with answers {} v{} at its next network boot{waits}",
        install.number,
        install.machine,
        install.image,
        install.revision,
        install.answers,
        install.answers_version
    )
}

/// The names in a file, one a line.
fn names(file: &Path) -> Result<Vec<String>, Failure> {
    let text = read_text(file, "Give a file with a machine's name on each line, or - for standard input.")?;
    let name = |line: &str| line.split('#').next().unwrap_or_default().trim().to_owned();
    Ok(text.lines().map(name).filter(|name| !name.is_empty()).collect())
}

pub(crate) fn rows(installs: &[InstallRow]) -> Table {
    let row = |install: &InstallRow| {
        [
            install.number.to_string().into(),
            install.machine.clone().into(),
            format!("{} r{}", install.image, install.revision).into(),
            format!("{} v{}", install.answers, install.answers_version).into(),
            Cell::state(state(install)),
            Cell::maybe(install.last_step.map(|step| step.as_str())),
            progress(install).map_or_else(|| took(install), Cell::from),
            Cell::ago(Some(install.last_step_at)),
            install.armed_by.clone().into(),
        ]
    };
    let head =
        ["no", "machine", "image", "answers", "state", "last step", "duration", "last seen", "armed by"];
    columns(head, installs.iter().map(row))
}

/// How far it is, and what of it needs somebody.
fn state(install: &InstallRow) -> String {
    let mut state = install.state.to_string();
    if install.waits_for > 0 {
        state.push_str(", waits for answers");
    }
    if let Some(count) = install.differs.filter(|count| *count > 0) {
        state.push_str(&format!(", {count} not as expected"));
    }
    if install.refused > 0 {
        state.push_str(", refused elsewhere");
    }
    state
}

/// How far it is, as those before it went.
fn progress(install: &InstallRow) -> Option<String> {
    let progress = install.progress?;
    Some(format!("{} %, {} left", progress.percent, duration(progress.left_secs)))
}

/// From the first sign of the boot to the end.
pub(crate) fn took(install: &InstallRow) -> Cell {
    let span = install.booting_at.zip(install.ended_at).map(|(from, to)| to.duration_since(from));
    let secs = span.filter(|_| install.state == InstallState::Installed);
    Cell::duration(secs.map(|span| u64::try_from(span.as_secs()).unwrap_or_default()))
}

fn show(detail: &InstallDetail) -> String {
    let install = &detail.install;
    let time = |at: Option<jiff::Timestamp>| or_dash(at.map(clock));
    let mut lines = vec![
        ("install", install.number.to_string()),
        ("machine", install.machine.clone()),
        ("image", format!("{} r{}", install.image, install.revision)),
        ("manifest", or_dash(detail.manifest_hash.as_ref())),
        ("answers", format!("{} v{}", install.answers, install.answers_version)),
        ("answer file", or_dash(detail.answer_hash.as_ref())),
        ("state", install.state.to_string()),
        ("armed", format!("{} by {}", clock(install.armed_at), install.armed_by)),
        ("booting", time(install.booting_at)),
        ("installing", time(install.installing_at)),
        ("ended", time(install.ended_at)),
        ("kernel starts", detail.kernel_fetches.to_string()),
    ];
    if let Some(progress) = install.progress {
        let far = format!(
            "{} %, learned from {} before it; {} left of {}",
            progress.percent,
            progress.learned_from,
            duration(progress.left_secs),
            duration(progress.total_secs)
        );
        lines.push(("progress", far));
    }
    if let Some(subnet) = &install.subnet {
        lines.push(("subnet", subnet.clone()));
    }
    if install.refused > 0 {
        let from = format!("its token was used from {} other addresses, which were refused", install.refused);
        lines.push(("warning", from));
    }
    if !detail.log.is_empty() {
        let told =
            format!("{} lines; `lastmile install log {}` shows them", detail.log.len(), install.number);
        lines.push(("log", told));
    }
    if let Some(reason) = &install.reason {
        lines.push(("reason", reason.clone()));
    }
    if let Some(outcome) = &detail.outcome {
        let actual = &outcome.actual;
        lines.extend([
            ("host", or_dash(actual.host_name.as_ref())),
            ("address", or_dash(actual.address.as_ref())),
            ("system", or_dash(actual.os.as_ref())),
            ("kernel", or_dash(actual.kernel.as_ref())),
        ]);
    }
    for difference in &detail.differences {
        let said = format!("{}: {}; expected: {}", difference.what, difference.actual, difference.expected);
        lines.push(("differs", said));
    }
    for (key, answer) in &detail.asked {
        lines.push(("answered", format!("{key}: {answer}")));
    }
    for (key, question) in &detail.open_questions {
        lines.push(("waits for", format!("{key}: {}", question.text)));
    }
    let mut text = pairs(lines);
    text.push('\n');
    let first = detail.steps.first().map(|step| step.at);
    let row = |step: &lastmile_api::Step| {
        let after = first.map(|first| step.at.duration_since(first).as_secs_f64());
        [
            Cell::clock(Some(step.at)),
            format!("+{:.1} s", after.unwrap_or(0.0)).into(),
            step.kind.as_str().into(),
            step.detail.clone().into(),
        ]
    };
    text + &columns(["at", "after", "step", "detail"], detail.steps.iter().map(row)).text()
}

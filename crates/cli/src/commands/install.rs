use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::Subcommand;
use futures_util::StreamExt;
use lastmile_api::{
    ArmPreview, ArmRequest, ArmSeveral, AskedRequest, Event, Fault, InstallDetail, InstallNumbers,
    InstallRow, InstallState, InstallsListQuery, LogLine,
};
use lastmile_client::Client;

use super::answers::asked_of;
use crate::output::{Failure, Output, ago, clock, duration, or_dash, pairs, table};

/// `lastmile install …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Arm an install: the machine gets it at its next network boot, once. Several are armed all, or none.
    Arm {
        /// The machines' names.
        #[arg(required_unless_present_any = ["label", "from"])]
        machines: Vec<String>,
        /// Every machine with this label, too; given several times, with all of them.
        #[arg(long)]
        label: Vec<String>,
        /// A file with a machine's name a line, too; `-` for standard input. What follows a # is passed over.
        #[arg(long, value_name = "FILE")]
        from: Option<PathBuf>,
        /// The image's name.
        #[arg(long)]
        image: String,
        /// The answers' name.
        #[arg(long)]
        answers: String,
        /// An answer to one of their questions, as NAME=ANSWER. What is left open, the machine waits for.
        #[arg(long, value_name = "NAME=ANSWER")]
        asked: Vec<String>,
        /// Show what would become of each machine, and arm nothing. Exits with 1 if anything stands in the way.
        #[arg(long)]
        dry_run: bool,
    },
    /// Answer questions that an install waits for. The machine goes on by itself.
    Answer {
        /// Its number.
        number: i64,
        /// Answers, as NAME=ANSWER; `lastmile install show` names what is asked.
        #[arg(required = true, value_name = "NAME=ANSWER")]
        asked: Vec<String>,
    },
    /// List installs, newest first.
    List {
        /// Only those of this machine.
        #[arg(long)]
        machine: Option<String>,
        /// Only those in these states, joined by commas: armed, booting, installing, installed, failed,
        /// stalled, cancelled.
        #[arg(long)]
        state: Option<String>,
        /// At most so many.
        #[arg(long, default_value_t = 100)]
        limit: u32,
    },
    /// Show one install and everything that was seen of it.
    Show {
        /// Its number.
        number: i64,
    },
    /// Show what the installer wrote while it worked.
    Log {
        /// Its number.
        number: i64,
        /// Go on showing what it writes, until it ends or Ctrl-C.
        #[arg(long)]
        follow: bool,
    },
    /// Arm what ended installs were to do once more: each image's current revision, with the same answers; all of them,
    /// or none.
    Retry {
        /// Their numbers.
        #[arg(required = true)]
        numbers: Vec<i64>,
    },
    /// Call installs off.
    Cancel {
        /// Their numbers.
        #[arg(required = true)]
        numbers: Vec<i64>,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::Arm { mut machines, label, from, image, answers, asked, dry_run } => {
            let asked = asked_of(&asked)?;
            // Programs get a list wherever there may be several, however many there are then.
            let is_one = machines.len() == 1 && label.is_empty() && from.is_none();
            if let Some(from) = from {
                machines.extend(names(&from)?);
            }
            if dry_run {
                let several = ArmSeveral { machines, labels: label, image, answers, asked };
                return Ok(preview(&client.installs_preview(&several).await?, out));
            }
            if let Some(machine) = machines.first().filter(|_| is_one) {
                let install = client
                    .installs_arm(&ArmRequest { machine: machine.clone(), image, answers, asked })
                    .await?;
                out.show(&install, armed);
            } else {
                let several = ArmSeveral { machines, labels: label, image, answers, asked };
                let installs = client.installs_arm_several(&several).await?;
                out.show(&installs, |installs| {
                    installs.iter().map(|install| armed(install) + "\n").collect()
                });
            }
        }
        Command::List { machine, state, limit } => {
            let query = InstallsListQuery { machine, state, limit: Some(limit), offset: None };
            out.show(&client.installs_list(&query).await?, |list| rows(&list.installs));
        }
        Command::Show { number } => out.show(&client.installs_read(number).await?, show),
        Command::Log { number, follow } => log(number, follow, client, out).await?,
        Command::Cancel { numbers } => {
            let is = |install: &InstallRow| format!("install {} is {}", install.number, install.state);
            if let [number] = numbers[..] {
                out.show(&client.installs_cancel(number).await?, is);
            } else {
                let installs = client.installs_cancel_several(&InstallNumbers { numbers }).await?;
                out.show(&installs, |installs| installs.iter().map(|install| is(install) + "\n").collect());
            }
        }
        Command::Retry { numbers } => {
            if let [number] = numbers[..] {
                out.show(&client.installs_retry(number).await?, armed);
            } else {
                let installs = client.installs_retry_several(&InstallNumbers { numbers }).await?;
                out.show(&installs, |installs| {
                    installs.iter().map(|install| armed(install) + "\n").collect()
                });
            }
        }
        Command::Answer { number, asked } => {
            let request = AskedRequest { asked: asked_of(&asked)? };
            let install = client.installs_answer(number, &request).await?;
            out.show(&install, |install| match install.waits_for {
                0 => format!(
                    "install {number} of {} has all its answers: the machine goes on",
                    install.machine
                ),
                open => format!("install {number} of {} waits for {open} more", install.machine),
            });
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn log(number: i64, follow: bool, client: &Client, out: &Output) -> Result<(), Failure> {
    // Listened to before what was is read, so that nothing falls between.
    let live = if follow { Some(Box::pin(client.events_stream().await?)) } else { None };
    let detail = client.installs_read(number).await?;
    let Some(mut live) = live else {
        out.show(&detail.log, |lines| lines.iter().map(|line| log_line(line) + "\n").collect());
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
fn preview(machines: &[ArmPreview], out: &Output) -> ExitCode {
    out.show(&machines, |machines| preview_table(machines));
    let is_refused = machines.iter().any(|machine| !machine.faults.is_empty());
    if is_refused { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}

fn preview_table(machines: &[ArmPreview]) -> String {
    let row = |machine: &ArmPreview| {
        [
            machine.machine.clone(),
            or_dash(machine.holds.as_ref()),
            or_dash(machine.since.map(clock)),
            or_dash(machine.gets.as_ref()),
            or_dash(machine.host_name.as_ref()),
            or_dash(Some(machine.takes.join(" and ")).filter(|takes| !takes.is_empty())),
            or_dash(Some(machine.asks.join(", ")).filter(|asks| !asks.is_empty())),
        ]
    };
    let head = ["machine", "holds now", "since", "would get", "as", "loses what is on", "would wait for"];
    let mut text = table(head, machines.iter().map(row));
    let mut say = |machine: &ArmPreview, kind: &str, fault: &Fault| {
        let place = if fault.place.is_empty() { String::new() } else { format!("{}: ", fault.place) };
        text.push_str(&format!("\n{}: {kind}{place}{}. {}", machine.machine, fault.what, fault.fix));
    };
    for machine in machines {
        machine.faults.iter().for_each(|fault| say(machine, "stands in the way: ", fault));
        machine.warnings.iter().for_each(|fault| say(machine, "look at ", fault));
    }
    let refused = machines.iter().filter(|machine| !machine.faults.is_empty()).count();
    let held = machines.iter().filter(|machine| machine.holds.is_some() && machine.faults.is_empty()).count();
    text.push_str(&match (refused, machines.len()) {
        (0, 1) => "\nThe machine would be armed; nothing was.\n".into(),
        (0, all) => {
            let hold = if held == 1 { "holds" } else { "hold" };
            format!("\nAll {all} would be armed, {held} of which {hold} something; nothing was.\n")
        }
        (refused, all) => format!("\nNone would be armed: {refused} of {all} cannot be.\n"),
    });
    text
}

fn armed(install: &InstallRow) -> String {
    let waits = match install.waits_for {
        0 => "",
        _ => ", and waits there until its questions are answered (`lastmile install answer`)",
    };
    format!(
        "install {} is armed: {} gets {} r{} with answers {} v{} at its next network boot{waits}",
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
    let text = if file.as_os_str() == "-" {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(file)
    };
    let wrong = |error: std::io::Error| Failure::Input {
        place: file.display().to_string(),
        what: error.to_string(),
        fix: "Give a file with a machine's name a line, or - for standard input.",
    };
    let name = |line: &str| line.split('#').next().unwrap_or_default().trim().to_owned();
    Ok(text.map_err(wrong)?.lines().map(name).filter(|name| !name.is_empty()).collect())
}

pub(crate) fn rows(installs: &[InstallRow]) -> String {
    let row = |install: &InstallRow| {
        [
            install.number.to_string(),
            install.machine.clone(),
            format!("{} r{}", install.image, install.revision),
            format!("{} v{}", install.answers, install.answers_version),
            state(install),
            or_dash(install.last_step.map(|step| step.as_str())),
            progress(install).unwrap_or_else(|| took(install)),
            ago(Some(install.last_step_at)),
            install.armed_by.clone(),
        ]
    };
    let head = ["no", "machine", "image", "answers", "state", "last step", "took or is", "moved", "armed by"];
    table(head, installs.iter().map(row))
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
        state.push_str(", asked for from elsewhere");
    }
    state
}

/// How far it is, as those before it went.
fn progress(install: &InstallRow) -> Option<String> {
    let progress = install.progress?;
    Some(format!("{} %, {} left", progress.percent, duration(progress.left_secs)))
}

/// From the first sign of the boot to the end.
pub(crate) fn took(install: &InstallRow) -> String {
    let span =
        install.booting_at.zip(install.ended_at).map(|(from, to)| to.duration_since(from).as_secs_f64());
    or_dash(
        span.filter(|_| install.state == InstallState::Installed)
            .map(|secs| if secs < 10.0 { format!("{secs:.1} s") } else { format!("{secs:.0} s") }),
    )
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
            "{} % by the clock of {} before it, {} left of {}",
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
        let from = format!("asked for with its token from {} other addresses, and refused", install.refused);
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
        lines.push(("waits for", format!("{key}: {}", question.ask)));
    }
    let mut text = pairs(lines);
    text.push('\n');
    let first = detail.steps.first().map(|step| step.at);
    let row = |step: &lastmile_api::Step| {
        let after = first.map(|first| step.at.duration_since(first).as_secs_f64());
        [
            clock(step.at),
            format!("+{:.1} s", after.unwrap_or(0.0)),
            step.kind.as_str().into(),
            step.detail.clone(),
        ]
    };
    text + &table(["at", "after", "step", "what was seen"], detail.steps.iter().map(row))
}

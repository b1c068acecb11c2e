//! A shell on a machine, on this terminal.

use std::{
    io::{IsTerminal, Read, Write, stderr, stdin, stdout},
    process::ExitCode,
};

use clap::Args;
use lastmile_api::{ArmJobs, JobKind, JobRow, JobState, OpenShell, ScreenSize, ShellWord, Task};
use lastmile_client::{Client, Heard, Shell};
use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};
use terminal_size::{Height, Width, terminal_size};
use tokio::{
    signal::unix::{SignalKind, signal},
    sync::mpsc,
};

use super::{armed, list};
use crate::{
    complete,
    output::{Failure, Output},
};

/// What leaves a shell open: Ctrl-].
const LEAVE: u8 = 0x1d;
/// What ends what is typed: Ctrl-D.
const NO_MORE: u8 = 0x04;
/// Bytes that are read of what is typed at once, and pieces of it that wait.
const PIECE: usize = 4096;
const WAITING: usize = 16;

/// `lastmile machine shell …`
#[derive(Debug, Args)]
pub(crate) struct OnMachine {
    /// The machine, by name or MAC address.
    #[arg(value_name = "MACHINE", add = complete::machines())]
    machine: String,
    /// Minutes after which it is ended.
    #[arg(long, value_name = "MINUTES", default_value = "60")]
    limit_minutes: u32,
    /// Only open it: `lastmile job attach` or the console is used for it later.
    #[arg(long)]
    detach: bool,
    /// Check whether it can be opened, and open none.
    #[arg(long)]
    dry_run: bool,
}

/// `lastmile machine shell …`
pub(crate) async fn on_machine(args: OnMachine, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let open = Some("armed,running".to_owned());
    let there =
        list(Some(args.machine.clone()), open, Some(JobKind::Shell.to_string()), None, client).await?;
    let job = match there.into_iter().next() {
        Some(job) if !args.dry_run => {
            let of = format!("job {}, opened by {}", job.number, job.armed_by);
            out.warn(&format!("{} has a shell already: {of}. This is that one", job.machine));
            job
        }
        _ => {
            let task = Task::Shell(OpenShell { limit_minutes: args.limit_minutes });
            let asked = ArmJobs { machines: vec![args.machine], labels: Vec::new(), task, then: None };
            let jobs = client.trying(args.dry_run).jobs_arm(&asked).await?;
            if args.dry_run || args.detach {
                out.show(&jobs, |jobs| {
                    let lines = jobs.iter().map(|job| armed(job, args.dry_run) + "\n");
                    lines.collect::<String>() + super::super::object::saved(args.dry_run)
                });
                return Ok(ExitCode::SUCCESS);
            }
            jobs.into_iter().next().ok_or_else(|| Failure::Broken("the service armed nothing".into()))?
        }
    };
    if !job.is_connected {
        out.warn(&format!(
            "{} does not run the survey: job {} begins at its next network boot. Ctrl-] leaves it armed",
            job.machine, job.number
        ));
    }
    attach(&job, false, client, out).await
}

/// Shows the shell of a job on this terminal, until it ends or is left.
pub(crate) async fn attach(
    job: &JobRow,
    is_looking: bool,
    client: &Client,
    out: &Output,
) -> Result<ExitCode, Failure> {
    let shell = client.jobs_shell(job.number, is_looking).await?;
    let does = if is_looking { "is looked at" } else { "is typed into" };
    out.warn(&format!("job {} on {} {does} here. Ctrl-] leaves it open", job.number, job.machine));
    let ended = Screen { shell, is_looking, keys: keys() }.run().await?;
    match ended {
        End::Left => {
            out.warn(&format!("job {0} is still open: `lastmile job attach {0}`", job.number));
            Ok(ExitCode::SUCCESS)
        }
        End::Ended(text) => {
            out.warn(&format!("job {} has ended: {text}", job.number));
            let is_done = client.jobs_read(job.number).await?.job.state == JobState::Done;
            Ok(if is_done { ExitCode::SUCCESS } else { ExitCode::FAILURE })
        }
    }
}

/// How it ended here.
enum End {
    /// It goes on elsewhere.
    Left,
    /// It is not there any more, for this reason.
    Ended(String),
}

/// This terminal, while it shows a shell.
struct Screen {
    shell: Shell,
    is_looking: bool,
    keys: mpsc::Receiver<Vec<u8>>,
}

impl Screen {
    async fn run(mut self) -> Result<End, Failure> {
        let raw = Raw::begin();
        let mut resized = signal(SignalKind::window_change()).map_err(Failure::from)?;
        self.tell_size().await?;
        loop {
            tokio::select! {
                heard = self.shell.hear() => match heard? {
                    Some(Heard::Written(bytes)) => show(&bytes)?,
                    Some(Heard::Word(ShellWord::Notice { text })) => notice(&raw, &text),
                    Some(Heard::Word(ShellWord::Ended { text })) => return Ok(End::Ended(text)),
                    None => return Ok(End::Ended("the connection ended".into())),
                },
                Some(keys) = self.keys.recv() => {
                    let left = keys.iter().position(|key| *key == LEAVE).filter(|_| raw.is_raw());
                    let typed = &keys[..left.unwrap_or(keys.len())];
                    if !typed.is_empty() && !self.is_looking {
                        self.shell.type_in(typed).await?;
                    }
                    if left.is_some() {
                        return Ok(End::Left);
                    }
                }
                Some(()) = resized.recv() => self.tell_size().await?,
            }
        }
    }

    async fn tell_size(&mut self) -> Result<(), Failure> {
        let Some((Width(columns), Height(rows))) = terminal_size() else { return Ok(()) };
        if !self.is_looking {
            self.shell.resize(ScreenSize { columns, rows }).await?;
        }
        Ok(())
    }
}

fn show(bytes: &[u8]) -> Result<(), Failure> {
    let mut out = stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush()).map_err(Failure::from)
}

/// On a line of its own, whatever is on the screen.
fn notice(raw: &Raw, text: &str) {
    let end = if raw.is_raw() { "\r\n" } else { "\n" };
    // Whoever closed it does not read it.
    let _ = write!(stderr(), "{end}[{text}]{end}");
}

/// What is typed, read by a thread of its own: a read of a terminal cannot be given up. What comes from elsewhere ends with Ctrl-D, so
/// that the shell ends, too.
fn keys() -> mpsc::Receiver<Vec<u8>> {
    let (say, keys) = mpsc::channel(WAITING);
    std::thread::spawn(move || {
        let mut piece = [0; PIECE];
        loop {
            let typed = match stdin().lock().read(&mut piece) {
                Ok(0) | Err(_) if stdin().is_terminal() => return,
                Ok(0) | Err(_) => vec![NO_MORE],
                Ok(length) => piece[..length].to_vec(),
            };
            let is_last = typed == [NO_MORE];
            if say.blocking_send(typed).is_err() || is_last {
                return;
            }
        }
    });
    keys
}

/// The terminal passes every key on as it is, until this is dropped.
struct Raw(Option<Termios>);

impl Raw {
    fn begin() -> Self {
        let before = Some(stdin()).filter(IsTerminal::is_terminal).and_then(|stdin| tcgetattr(stdin).ok());
        if let Some(before) = &before {
            let mut raw = before.clone();
            raw.make_raw();
            // A terminal that does not take it works, line by line.
            let _ = tcsetattr(stdin(), OptionalActions::Now, &raw);
        }
        Self(before)
    }

    const fn is_raw(&self) -> bool {
        self.0.is_some()
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        if let Some(before) = &self.0 {
            // Nobody can be told any more.
            let _ = tcsetattr(stdin(), OptionalActions::Now, before);
        }
    }
}

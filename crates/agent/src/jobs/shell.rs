//! A shell that people use from afar: on a terminal of its own, carried over a connection of its own.
//!
//! What the shell writes is kept until the service has it on record, and said again on another connection if it had not: nothing of it
//! is lost, and nothing is there twice. Without the service the shell waits.

use std::{collections::VecDeque, convert::Infallible, io, time::Duration};

use futures_util::{SinkExt, StreamExt};
use lastmile_survey::{
    job::{JobResult, OpenShell},
    messages::{MOST_SHELL, SHELL_PATH, ScreenSize, ToShell},
};
use nix::{
    sys::signal::{Signal, killpg},
    unistd::Pid,
};
use pty_process::{OwnedReadPty, OwnedWritePty, Size};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    process::{Child, Command},
    sync::watch,
    time::{Instant, interval, sleep, sleep_until, timeout},
};
use tokio_tungstenite::{WebSocketStream, tungstenite::Message};

use super::{CANCELLED, Doing, command::of_status};
use crate::{
    hooks::SEARCHED,
    session::{Session, SessionError},
};

/// Between tries to connect.
const PAUSE: Duration = Duration::from_millis(500);
/// How long the service may be silent; it is asked for a sign of life meanwhile.
const SILENCE: Duration = Duration::from_secs(45);
const SIGN_OF_LIFE: Duration = Duration::from_secs(15);
/// How long a connection may take.
const CONNECT: Duration = Duration::from_secs(10);
/// How long what a shell that has ended wrote last is carried.
const LAST_WORDS: Duration = Duration::from_secs(2);
/// Bytes that are sent at once, and that are kept at most: a shell that writes faster than it is recorded waits.
const PIECE: usize = 16 << 10;
const MOST_KEPT: usize = 256 << 10;
/// What terminals are called that understand the usual sequences.
const TERMINAL: &str = "xterm-256color";

pub(super) async fn run(doing: &Doing<'_>, asked: &OpenShell) -> JobResult {
    let Some(session) = &doing.bench.session else {
        return JobResult::failed("there is no service that people could use it from");
    };
    let Some(command) = doing.bench.hardware.shell() else {
        return JobResult::failed(
            "there is no shell in the survey's system: `lastmile survey build` takes the one of the package busybox-static, where it \
             is installed",
        );
    };
    let (mut screen, mut child) = match open(doing, command) {
        Ok(opened) => opened,
        Err(error) => return JobResult::failed(format!("the shell cannot be run: {error}")),
    };
    let group = child.id().and_then(|id| i32::try_from(id).ok()).map(Pid::from_raw);
    let end = Instant::now() + doing.limit;
    let why = tokio::select! {
        status = until_left(&mut screen, &mut child, session, doing.number) => return of_status(status),
        () = sleep_until(end) => format!("it was open longer than {} min and was ended", asked.limit_minutes),
        () = doing.stop() => CANCELLED.into(),
    };
    if let Some(group) = group {
        // Gone already is as good. What the shell has put into the background ends with its terminal.
        let _ = killpg(group, Signal::SIGKILL);
    }
    JobResult::failed(why)
}

/// The terminal that a shell is on, from the other side.
struct Screen {
    written: OwnedReadPty,
    typed: OwnedWritePty,
    /// What was written and is not on record.
    kept: VecDeque<u8>,
    /// Bytes that are on record.
    recorded: u64,
    /// Until when it is read, once its shell has ended.
    ends: Option<Instant>,
    /// Whether nothing more is read of it.
    is_at_end: bool,
}

fn open(doing: &Doing<'_>, mut command: Command) -> Result<(Screen, Child), pty_process::Error> {
    let (terminal, inside) = pty_process::open()?;
    let usual = ScreenSize::default();
    terminal.resize(Size::new(usual.rows, usual.columns))?;
    command.env("PATH", SEARCHED).env("TERM", TERMINAL);
    command.envs(doing.bench.about.borrow().told()).kill_on_drop(true);
    let child = pty_process::Command::from(command).spawn(inside)?;
    let (written, typed) = terminal.into_split();
    let screen = Screen { written, typed, kept: VecDeque::new(), recorded: 0, ends: None, is_at_end: false };
    Ok((screen, child))
}

/// Carries until the shell is left, and all that it wrote is on record.
async fn until_left(
    screen: &mut Screen,
    child: &mut Child,
    session: &Session,
    job: i64,
) -> io::Result<std::process::ExitStatus> {
    let (say, has_ended) = watch::channel(false);
    let ends = async {
        let status = child.wait().await;
        say.send_replace(true);
        status
    };
    let (status, ()) = tokio::join!(ends, screen.carry(session, job, has_ended));
    status
}

/// Why carrying stopped.
enum Stopped {
    /// Nothing is on the terminal any more, and all of it is on record.
    Left,
    /// The connection broke.
    Broke,
}

impl From<tokio_tungstenite::tungstenite::Error> for Stopped {
    fn from(_: tokio_tungstenite::tungstenite::Error) -> Self {
        Self::Broke
    }
}

impl From<SessionError> for Stopped {
    fn from(_: SessionError) -> Self {
        Self::Broke
    }
}

impl Screen {
    /// Carries what is written and typed, on one connection after another.
    async fn carry(&mut self, session: &Session, job: i64, mut has_ended: watch::Receiver<bool>) {
        while let Err(Stopped::Broke) = self.on_one_connection(session, job, &mut has_ended).await {
            sleep(PAUSE).await;
        }
    }

    async fn on_one_connection(
        &mut self,
        session: &Session,
        job: i64,
        has_ended: &mut watch::Receiver<bool>,
    ) -> Result<Infallible, Stopped> {
        let path = format!("{SHELL_PATH}?job={job}");
        let connected = timeout(CONNECT, session.connect(&path, MOST_SHELL)).await;
        let mut socket = connected.map_err(|_| Stopped::Broke)??;
        let mut heard = Instant::now();
        let mut sign_of_life = interval(SIGN_OF_LIFE);
        let mut piece = vec![0; PIECE];
        // Nothing is sent before it is known what is on record.
        let mut is_known = false;
        loop {
            if is_known && self.is_at_end && self.kept.is_empty() {
                let _ = timeout(CONNECT, socket.close(None)).await;
                return Err(Stopped::Left);
            }
            // What it left in the background may keep the terminal open; what it wrote itself is read to its end.
            let ends = (is_known && !self.is_at_end && *has_ended.borrow())
                .then(|| *self.ends.get_or_insert_with(|| Instant::now() + LAST_WORDS));
            let can_read = is_known && !self.is_at_end && self.kept.len() < MOST_KEPT;
            tokio::select! {
                message = socket.next() => {
                    heard = Instant::now();
                    match message.ok_or(Stopped::Broke)?? {
                        Message::Binary(typed) => self.type_in(&typed).await,
                        Message::Text(text) => match serde_json::from_str(&text) {
                            Ok(ToShell::Size(size)) => self.resize(size),
                            Ok(ToShell::Recorded { bytes }) => {
                                self.forget_recorded(bytes);
                                if !is_known {
                                    is_known = true;
                                    self.send_kept(&mut socket).await?;
                                }
                            }
                            // A word of a later service.
                            Err(_) => {}
                        },
                        Message::Close(_) => return Err(Stopped::Broke),
                        _ => {}
                    }
                }
                // The kernel says so once nobody has the terminal open any more (EIO), or there is nothing more.
                written = self.written.read(&mut piece), if can_read => match written {
                    Ok(0) | Err(_) => self.is_at_end = true,
                    Ok(length) => {
                        self.kept.extend(&piece[..length]);
                        send(&mut socket, Message::binary(piece[..length].to_vec())).await?;
                    }
                },
                Ok(()) = has_ended.changed(), if !*has_ended.borrow() => {}
                () = sleep_until(ends.unwrap_or(heard)), if ends.is_some() => self.is_at_end = true,
                _ = sign_of_life.tick() => send(&mut socket, Message::Ping(Vec::new().into())).await?,
                () = sleep_until(heard + SILENCE) => return Err(Stopped::Broke),
            }
        }
    }

    /// So many bytes are on record.
    fn forget_recorded(&mut self, bytes: u64) {
        let more =
            usize::try_from(bytes.saturating_sub(self.recorded)).unwrap_or(usize::MAX).min(self.kept.len());
        self.kept.drain(..more);
        self.recorded += more as u64;
    }

    /// Sends what was sent on another connection and is not on record.
    async fn send_kept(&mut self, socket: &mut WebSocketStream<TcpStream>) -> Result<(), Stopped> {
        let kept: Vec<u8> = self.kept.iter().copied().collect();
        for piece in kept.chunks(PIECE) {
            send(socket, Message::binary(piece.to_vec())).await?;
        }
        Ok(())
    }

    /// A program that does not read what is typed does not stop what is written: what does not fit is let go of, as terminals do.
    async fn type_in(&mut self, typed: &[u8]) {
        // A terminal that nobody has open any more takes nothing.
        let _ = timeout(PAUSE, self.typed.write_all(typed)).await;
    }

    fn resize(&self, ScreenSize { columns, rows }: ScreenSize) {
        // A size that the kernel does not take leaves the one before.
        let _ = self.typed.resize(Size::new(rows, columns));
    }
}

async fn send(socket: &mut WebSocketStream<TcpStream>, message: Message) -> Result<(), Stopped> {
    Ok(timeout(SILENCE, socket.send(message)).await.map_err(|_| Stopped::Broke)??)
}

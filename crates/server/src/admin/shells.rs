//! Shells on machines: people at them, and their recordings.

use std::{sync::Arc, time::Duration};

use axum::{
    extract::{
        State,
        ws::{Message, WebSocket, WebSocketUpgrade, rejection::WebSocketUpgradeRejection},
    },
    http::{StatusCode, header},
    response::{IntoResponse, Response},
};
use lastmile_api::{Event, JobsShellQuery, MOST_TYPED, Problem, ScreenSize, ShellWord};
use lastmile_core::model::job::{Job, JobKind, JobState};
use lastmile_formats::asciicast::Recording;
use lastmile_store::{OnScreen, ScreenEvent};
use tokio::{
    sync::broadcast::error::RecvError,
    time::{Instant, interval, sleep_until, timeout},
};

use super::{
    Admin,
    installs::plain_name,
    reject::{Path, Query, Reject},
};
use crate::wire::{Shell, Typed};

/// How long whoever is attached may be silent; they are asked for a sign of life meanwhile.
const SILENCE: Duration = Duration::from_secs(60);
const SIGN_OF_LIFE: Duration = Duration::from_secs(15);
/// Characters of a line, and lines, that a screen has at most.
const MOST_SIZE: u16 = 1000;
/// How long what a shell wrote last is waited for once its job has ended: that comes on another connection.
const LAST_WORDS: Duration = Duration::from_millis(500);

/// Attaches to a shell (RFC 6455): what it writes comes as messages of bytes, what is typed goes so. The size of the screen is sent as
/// text, a `ScreenSize`; the service says `ShellWord`s as text. Whoever leaves does not end the shell.
#[utoipa::path(
    get, operation_id = "jobs_shell", path = "/jobs/{number}/shell", tag = "jobs", params(("number" = i64, Path), JobsShellQuery),
    responses(
        (status = 101, description = "The connection is that of the shell from now on"),
        (status = 404, body = Problem), (status = 409, body = Problem), (status = 426, body = Problem)
    )
)]
pub(super) async fn attach(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
    Query(query): Query<JobsShellQuery>,
    upgrade: Result<WebSocketUpgrade, WebSocketUpgradeRejection>,
) -> Result<Response, Reject> {
    let job = shell_job(&admin, number).await?;
    if !job.state.is_open() {
        return Err(Reject::conflict(format!("job {number} has ended already: {}", job.state)));
    }
    let upgrade = upgrade.map_err(|error| {
        let said = format!("a shell is a WebSocket (RFC 6455), and this is none: {error}");
        Reject::new(StatusCode::UPGRADE_REQUIRED, "Not a WebSocket", said)
    })?;
    let who = plain_name(query.who.as_deref());
    let is_looking = query.look.unwrap_or(false);
    let upgrade = upgrade.max_message_size(MOST_TYPED).max_frame_size(MOST_TYPED);
    Ok(upgrade.on_upgrade(move |socket| async move {
        let verb = if is_looking { "looks at" } else { "is at" };
        note(&admin, number, format!("{who} {verb} the shell")).await;
        let shell = admin.app.wire.shells.of(number);
        let mut person = Person { admin: &admin, job, shell: &shell, socket, is_looking, is_told: false };
        // Whose connection breaks has left, too.
        let _ = person.run().await;
        if is_open(&admin, number) {
            note(&admin, number, format!("{who} has left the shell")).await;
        } else {
            admin.app.wire.shells.forget(number);
        }
    }))
}

/// What a shell's screen showed so far, as a recording of a terminal (asciicast, version 2).
#[utoipa::path(
    get, operation_id = "jobs_recording", path = "/jobs/{number}/recording", tag = "jobs", params(("number" = i64, Path)),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn recording(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
) -> Result<Response, Reject> {
    let job = shell_job(&admin, number).await?;
    let events = admin.app.records.store.read(move |tx| tx.job_screen(number)).await?;
    let name = format!("attachment; filename=\"job-{number}.cast\"");
    let headers =
        [(header::CONTENT_TYPE, "text/plain; charset=utf-8".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, recorded(&job, &events)).into_response())
}

/// As a recording: it begins with the first thing that was seen.
fn recorded(job: &Job, events: &[ScreenEvent]) -> String {
    let since = events.first().map_or(job.armed_at, |event| event.at);
    let first = events.iter().find_map(|event| match event.what {
        OnScreen::Size(size) => Some(size),
        OnScreen::Written(_) => None,
    });
    let ScreenSize { columns, rows } = first.unwrap_or_default();
    let mut recording =
        Recording::begin(columns, rows, since.as_second(), &format!("shell on {}", job.machine_name));
    for event in events {
        let after = u64::try_from(event.at.duration_since(since).as_millis()).unwrap_or_default();
        match &event.what {
            OnScreen::Written(bytes) => recording.write(after, bytes),
            OnScreen::Size(ScreenSize { columns, rows }) => recording.resize(after, *columns, *rows),
        }
    }
    recording.finish()
}

async fn shell_job(admin: &Admin, number: i64) -> Result<Job, Reject> {
    let found = admin.app.records.store.read(move |tx| tx.job(number)).await?;
    let (job, _) = found.ok_or_else(|| Reject::not_found("job", number))?;
    if job.task.kind() != JobKind::Shell {
        return Err(Reject::conflict(format!("{} is no shell", job.title())));
    }
    Ok(job)
}

async fn note(admin: &Admin, number: i64, text: String) {
    if let Err(error) = admin.app.records.note_at_shell(number, text).await {
        tracing::error!(job = number, "who is at a shell was not recorded: {error}");
    }
}

fn is_open(admin: &Admin, number: i64) -> bool {
    admin.app.records.site().all_open_jobs().any(|job| job.number == number)
}

/// Reads the size of a screen.
fn size_of(text: &str) -> Result<ScreenSize, String> {
    let size: ScreenSize = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let is_one = |number: u16| (1..=MOST_SIZE).contains(&number);
    let is_size = is_one(size.columns) && is_one(size.rows);
    is_size.then_some(size).ok_or_else(|| format!("columns and rows are numbers from 1 to {MOST_SIZE}"))
}

/// Somebody at a shell.
struct Person<'a> {
    admin: &'a Admin,
    job: Job,
    shell: &'a Arc<Shell>,
    socket: WebSocket,
    /// Whether what they type is not taken.
    is_looking: bool,
    /// Whether they know that the machine does not take what they type.
    is_told: bool,
}

/// They have left, or are gone.
struct Left;

impl From<axum::Error> for Left {
    fn from(_: axum::Error) -> Self {
        Self
    }
}

impl Person<'_> {
    async fn run(&mut self) -> Result<(), Left> {
        let number = self.job.number;
        let mut events = self.admin.app.records.events.subscribe();
        let (recent, mut written) = self.shell.attach();
        self.send(Message::Binary(recent)).await?;
        if self.job.state == JobState::Armed {
            let text = format!("waits for {} to come to it", self.job.machine_name);
            self.say(&ShellWord::Notice { text }).await?;
        }
        let mut heard = Instant::now();
        let mut sign_of_life = interval(SIGN_OF_LIFE);
        let mut is_over = !is_open(self.admin, number);
        while !is_over {
            tokio::select! {
                message = self.socket.recv() => {
                    heard = Instant::now();
                    match message.ok_or(Left)?? {
                        Message::Binary(keys) => self.do_there(Typed::Keys(keys)).await?,
                        Message::Text(text) => match size_of(&text) {
                            Ok(size) => self.do_there(Typed::Size(size)).await?,
                            Err(error) => {
                                let text = format!("what was sent as text is no size of a screen: {error}");
                                self.say(&ShellWord::Notice { text }).await?;
                            }
                        },
                        Message::Close(_) => return Err(Left),
                        _ => {}
                    }
                }
                piece = written.recv() => match piece {
                    Ok(piece) => self.send(Message::Binary(piece)).await?,
                    Err(RecvError::Lagged(_)) => {
                        let text = "this connection is too slow: some of what was written is left out here".into();
                        self.say(&ShellWord::Notice { text }).await?;
                    }
                    Err(RecvError::Closed) => is_over = true,
                },
                event = events.recv() => match event {
                    Ok(Event::Job { job }) => is_over = job.number == number && job.ended_at.is_some(),
                    // What was missed may have been its end.
                    Err(RecvError::Lagged(_)) => is_over = !is_open(self.admin, number),
                    Err(RecvError::Closed) => is_over = true,
                    Ok(_) => {}
                },
                _ = sign_of_life.tick() => self.send(Message::Ping(Vec::new().into())).await?,
                () = sleep_until(heard + SILENCE) => return Err(Left),
                () = self.admin.stop.cancelled() => is_over = true,
            }
        }
        while let Ok(Ok(piece)) = timeout(LAST_WORDS, written.recv()).await {
            self.send(Message::Binary(piece)).await?;
        }
        let text = if self.admin.stop.is_cancelled() {
            "the service ends".to_owned()
        } else {
            self.how_it_ended().await
        };
        self.say(&ShellWord::Ended { text }).await?;
        Ok(timeout(SILENCE, self.socket.send(Message::Close(None))).await.map_err(|_| Left)??)
    }

    async fn how_it_ended(&mut self) -> String {
        let number = self.job.number;
        match self.admin.app.records.store.read(move |tx| tx.job(number)).await {
            Ok(Some((job, _))) => match (&job.reason, &job.result) {
                (Some(reason), _) => reason.clone(),
                (None, Some(result)) => result.summary(),
                (None, None) => job.state.to_string(),
            },
            _ => "it has ended".into(),
        }
    }

    async fn do_there(&mut self, typed: Typed) -> Result<(), Left> {
        if self.is_looking {
            return Ok(());
        }
        let is_typing = matches!(typed, Typed::Keys(_));
        let is_taken = self.shell.do_there(typed).await;
        if is_taken || !is_typing || self.is_told {
            self.is_told &= !is_taken;
            return Ok(());
        }
        self.is_told = true;
        let text = "the machine is not connected: what is typed now is lost".into();
        self.say(&ShellWord::Notice { text }).await
    }

    async fn say(&mut self, word: &ShellWord) -> Result<(), Left> {
        // These have no form that JSON cannot write.
        let text = serde_json::to_string(word).map_err(|_| Left)?;
        self.send(Message::Text(text.into())).await
    }

    async fn send(&mut self, message: Message) -> Result<(), Left> {
        Ok(timeout(SILENCE, self.socket.send(message)).await.map_err(|_| Left)??)
    }
}

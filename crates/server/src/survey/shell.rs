//! The connection that a shell on a machine is carried over: to people, and to the record.

use std::{sync::Arc, time::Duration};

use axum::extract::ws::{Message, WebSocket};
use lastmile_core::model::agent::ToShell;
use lastmile_store::OnScreen;
use tokio::time::{Instant, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

use crate::{
    records::Records,
    wire::{Shell, Typed},
};

/// How long the agent may be silent, and how long it may take to read: it sends a sign of life every 15 seconds.
const SILENCE: Duration = Duration::from_secs(60);

/// The connection does not go on.
struct Ended;

/// Carries the shell of a job until the connection ends, another one takes its place, or what it shows cannot be recorded.
pub(super) async fn carry(
    records: Arc<Records>,
    shell: Arc<Shell>,
    job: i64,
    socket: WebSocket,
    stop: CancellationToken,
) {
    let mut carried = Carried { records: &records, shell: &shell, job, socket };
    // However it ends: the agent connects again.
    let _ = stop.run_until_cancelled(carried.run()).await;
}

struct Carried<'a> {
    records: &'a Records,
    shell: &'a Shell,
    job: i64,
    socket: WebSocket,
}

impl Carried<'_> {
    async fn run(&mut self) -> Result<(), Ended> {
        let (mut typed, size, ahead) = self.shell.connect();
        // What the connection before has taken is on record first: from there on the agent says it again.
        let _held = self.shell.carry().await;
        let job = self.job;
        let written = self.records.store.read(move |tx| tx.job_screen_written(job)).await;
        let mut bytes = written.map_err(|error| {
            tracing::error!(job, "what a shell wrote cannot be read: {error}");
            Ended
        })?;
        self.say(ToShell::Recorded { bytes }).await?;
        // The same size again is recorded once more: what follows is shown on it.
        let mut next = vec![Typed::Keys(ahead), Typed::Size(size)];
        let mut heard = Instant::now();
        loop {
            match next.pop() {
                Some(Typed::Keys(keys)) if keys.is_empty() => continue,
                Some(Typed::Keys(keys)) => {
                    self.send(Message::Binary(keys)).await?;
                    continue;
                }
                Some(Typed::Size(size)) => {
                    self.record(OnScreen::Size(size)).await?;
                    self.say(ToShell::Size(size)).await?;
                    continue;
                }
                None => {}
            }
            tokio::select! {
                message = self.socket.recv() => {
                    heard = Instant::now();
                    match message {
                        Some(Ok(Message::Binary(piece))) => {
                            // On record first: nobody sees what is not.
                            self.record(OnScreen::Written(piece.to_vec())).await?;
                            bytes += piece.len() as u64;
                            self.shell.write(piece);
                            self.say(ToShell::Recorded { bytes }).await?;
                        }
                        Some(Ok(Message::Close(_)) | Err(_)) | None => return Err(Ended),
                        Some(Ok(_)) => {}
                    }
                }
                // Nobody types here any more: another connection has taken its place.
                done = typed.recv() => next.push(done.ok_or(Ended)?),
                () = sleep_until(heard + SILENCE) => return Err(Ended),
            }
        }
    }

    async fn record(&mut self, what: OnScreen) -> Result<(), Ended> {
        self.records.record_screen(self.job, what).await.then_some(()).ok_or(Ended)
    }

    async fn say(&mut self, word: ToShell) -> Result<(), Ended> {
        // These have no form that JSON cannot write.
        let text = serde_json::to_string(&word).map_err(|_| Ended)?;
        self.send(Message::Text(text.into())).await
    }

    async fn send(&mut self, message: Message) -> Result<(), Ended> {
        timeout(SILENCE, self.socket.send(message)).await.ok().and_then(Result::ok).ok_or(Ended)
    }
}

//! The connection that a shell on a machine is carried over: to people, and to the record.

use std::{sync::Arc, time::Duration};

use axum::extract::ws::{Message, WebSocket};
use lastmile_core::model::agent::ScreenSize;
use lastmile_store::OnScreen;
use tokio::time::{Instant, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

use crate::{
    records::Records,
    wire::{Shell, Typed},
};

/// How long the agent may be silent, and how long it may take to read: it sends a sign of life every 15 seconds.
const SILENCE: Duration = Duration::from_secs(60);

/// Carries the shell of a job until the connection ends, or what it shows cannot be recorded.
pub(super) async fn carry(
    records: Arc<Records>,
    shell: Arc<Shell>,
    job: i64,
    mut socket: WebSocket,
    stop: CancellationToken,
) {
    let (mut typed, size, ahead) = shell.connect();
    // The same size again is recorded once more: what follows is shown on it.
    if !resize(&records, job, &mut socket, size).await {
        return;
    }
    let mut next = (!ahead.is_empty()).then_some(Typed::Keys(ahead));
    let mut heard = Instant::now();
    loop {
        let went_on = match next.take() {
            Some(Typed::Keys(keys)) => send(&mut socket, Message::Binary(keys)).await,
            Some(Typed::Size(size)) => resize(&records, job, &mut socket, size).await,
            None => true,
        };
        if !went_on {
            return;
        }
        tokio::select! {
            message = socket.recv() => {
                heard = Instant::now();
                match message {
                    Some(Ok(Message::Binary(piece))) => {
                        // On record first: nobody sees what is not.
                        if !records.record_screen(job, OnScreen::Written(piece.to_vec())).await {
                            return;
                        }
                        shell.write(piece);
                    }
                    Some(Ok(Message::Close(_)) | Err(_)) | None => return,
                    Some(Ok(_)) => {}
                }
            }
            Some(done) = typed.recv() => next = Some(done),
            () = sleep_until(heard + SILENCE) => return,
            () = stop.cancelled() => return,
        }
    }
}

async fn resize(records: &Records, job: i64, socket: &mut WebSocket, size: ScreenSize) -> bool {
    // These have no form that JSON cannot write.
    let text = serde_json::to_string(&size).unwrap_or_default();
    records.record_screen(job, OnScreen::Size(size)).await && send(socket, Message::Text(text.into())).await
}

async fn send(socket: &mut WebSocket, message: Message) -> bool {
    matches!(timeout(SILENCE, socket.send(message)).await, Ok(Ok(())))
}

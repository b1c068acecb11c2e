//! The measurement of the network between a machine and the service: each direction for a few seconds, on a connection of its own.

use std::time::Duration;

use axum::{
    body::Bytes,
    extract::ws::{Message, WebSocket},
};
use lastmile_core::model::agent::{LOAD_MESSAGE, LOAD_SECS};
use tokio::time::{Instant, timeout_at};

/// How much longer than it should a measurement may take.
const GRACE: Duration = Duration::from_secs(10);

/// Sends, then takes, each for [`LOAD_SECS`]. An empty message says that the other direction begins.
pub(super) async fn carry(mut socket: WebSocket) {
    let end = Instant::now() + Duration::from_secs(LOAD_SECS);
    let message = Bytes::from(vec![0x5a; LOAD_MESSAGE]);
    while Instant::now() < end {
        let sent = timeout_at(end + GRACE, socket.send(Message::Binary(message.clone()))).await;
        if !matches!(sent, Ok(Ok(()))) {
            return;
        }
    }
    if !matches!(timeout_at(end + GRACE, socket.send(Message::Binary(Bytes::new()))).await, Ok(Ok(()))) {
        return;
    }
    // The agent counts what it sends, and is told once all of it is here.
    let end = Instant::now() + Duration::from_secs(LOAD_SECS) + GRACE;
    loop {
        match timeout_at(end, socket.recv()).await {
            Ok(Some(Ok(Message::Binary(bytes)))) if bytes.is_empty() => break,
            Ok(Some(Ok(Message::Close(_)))) | Ok(Some(Err(_)) | None) | Err(_) => return,
            Ok(Some(Ok(_))) => {}
        }
    }
    let _ = timeout_at(end, socket.send(Message::Binary(Bytes::new()))).await;
}

//! The network between the machine and the service, in both directions.

use std::time::Duration;

use futures_util::{SinkExt, StreamExt};
use lastmile_survey::{
    job::NetworkFound,
    messages::{LOAD_MESSAGE, LOAD_PATH, LOAD_SECS},
};
use tokio::time::{Instant, sleep, timeout};
use tokio_tungstenite::tungstenite::Message;

use crate::session::{Session, SessionError};

/// How long one try may take: a hall of machines is measured one after another.
const PATIENCE: Duration = Duration::from_secs(12 * 60 * 60);
/// How long it is tried again where there is no connection, and after which pause: a service may be away for a while.
const TRIES: Duration = Duration::from_secs(60 * 60);
const PAUSE: Duration = Duration::from_secs(10);

/// Measures both directions.
///
/// # Errors
/// Why it cannot be, in words.
pub(super) async fn measure(session: &Session) -> Result<NetworkFound, String> {
    let begun = Instant::now();
    loop {
        let error = match timeout(PATIENCE, carry(session)).await {
            Ok(Ok(found)) => return Ok(found),
            Ok(Err(error)) => error.to_string(),
            Err(_) => return Err(format!("it was not measured within {} h", PATIENCE.as_secs() / 3600)),
        };
        if begun.elapsed() > TRIES {
            return Err(error);
        }
        sleep(PAUSE).await;
    }
}

async fn carry(session: &Session) -> Result<NetworkFound, SessionError> {
    let mut socket = session.connect(LOAD_PATH, LOAD_MESSAGE).await?;
    let (mut bytes, mut begun) = (0, None);
    let in_mbit_s = loop {
        match socket.next().await.ok_or(SessionError::Closed)?? {
            Message::Binary(some) if some.is_empty() => break rate(bytes, begun),
            Message::Binary(some) => {
                // The first message began before it was asked for.
                match begun {
                    None => begun = Some(Instant::now()),
                    Some(_) => bytes += some.len(),
                }
            }
            Message::Close(_) => return Err(SessionError::Closed),
            _ => {}
        }
    };
    let (mut bytes, begun) = (0, Instant::now());
    let message = vec![0xa5; LOAD_MESSAGE];
    while begun.elapsed() < Duration::from_secs(LOAD_SECS) {
        socket.send(Message::Binary(message.clone().into())).await?;
        bytes += message.len();
    }
    socket.send(Message::Binary(Vec::new().into())).await?;
    // All of it is there once the service says so.
    while !matches!(socket.next().await.ok_or(SessionError::Closed)??, Message::Binary(_)) {}
    Ok(NetworkFound { in_mbit_s, out_mbit_s: rate(bytes, Some(begun)) })
}

/// Mbit a second.
#[allow(clippy::cast_precision_loss, reason = "of a rate, not all digits count")]
fn rate(bytes: usize, begun: Option<Instant>) -> f64 {
    let secs = begun.map_or(1.0, |begun| begun.elapsed().as_secs_f64());
    bytes as f64 * 8.0 / 1e6 / secs.max(0.001)
}

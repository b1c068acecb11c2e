//! The connection to the service: one, kept open, made again when it breaks.

mod outbox;

use std::{
    net::{IpAddr, SocketAddr},
    time::Duration,
};

use futures_util::{SinkExt, StreamExt};
use lastmile_survey::messages::{FromAgent, Hello, MOST_MESSAGE, PATH, Said, ToAgent, VERSION};
pub use outbox::Outbox;
use tokio::{
    net::{TcpSocket, TcpStream},
    sync::mpsc,
    time::{Instant, interval, sleep, sleep_until, timeout},
};
use tokio_tungstenite::{
    WebSocketStream, client_async_with_config,
    tungstenite::{
        self, Message,
        client::IntoClientRequest,
        http::{HeaderValue, header::AUTHORIZATION},
        protocol::WebSocketConfig,
    },
};
use uuid::Uuid;

use crate::status::Status;

/// Pauses between tries to connect: the first, and the longest. A service that was restarted is not asked by a whole hall at
/// once: each machine waits a little longer or shorter.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LAST_PAUSE: Duration = Duration::from_secs(15);
/// How long a connection may take, and how long the other side may be silent. It is asked for a sign of life meanwhile.
const CONNECT: Duration = Duration::from_secs(10);
const SILENCE: Duration = Duration::from_secs(45);
const SIGN_OF_LIFE: Duration = Duration::from_secs(15);

/// Who connects to where.
#[derive(Debug, Clone)]
pub struct Session {
    /// The service, as in `http://192.0.2.2:8080`.
    pub service: String,
    /// The token of this boot.
    pub token: String,
    /// This boot, told from others.
    pub boot: Uuid,
    /// When the kernel started.
    pub since: Instant,
    /// The address that is spoken from; any of the machine's if left out.
    pub from: Option<IpAddr>,
}

/// Why a connection was not made, or broke.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SessionError {
    #[error("the service's address {0} is not one: it is given as http://192.0.2.2:8080")]
    Address(String),
    #[error("it refuses: {0}")]
    Refused(String),
    #[error("it does not answer")]
    Silent,
    #[error("{0}")]
    Connection(#[from] std::io::Error),
    #[error("{0}")]
    Socket(Box<tungstenite::Error>),
    #[error("it closed the connection")]
    Closed,
}

impl From<tungstenite::Error> for SessionError {
    fn from(error: tungstenite::Error) -> Self {
        match error {
            tungstenite::Error::Http(response) => {
                let body = response.body().as_deref().unwrap_or_default();
                let text = String::from_utf8_lossy(body).trim().to_owned();
                Self::Refused(if text.is_empty() { response.status().to_string() } else { text })
            }
            other => Self::Socket(Box::new(other)),
        }
    }
}

impl Session {
    /// Stays connected for ever: sends what is in `outbox`, gives what the service says to `said`. Ends when nobody takes that
    /// any more.
    pub async fn run(&self, outbox: &Outbox, said: &mpsc::Sender<ToAgent>, status: &Status) {
        let mut pause = FIRST_PAUSE;
        while !said.is_closed() {
            let begun = Instant::now();
            let Err(error) = self.connected(outbox, said, status).await else { return };
            status.service(format!("{} is not connected: {error}", self.service));
            if begun.elapsed() > LAST_PAUSE {
                pause = FIRST_PAUSE;
            }
            let share = f64::from(getrandom::u32().unwrap_or_default()) / f64::from(u32::MAX);
            sleep(pause.mul_f64(0.5 + share)).await;
            pause = (pause * 2).min(LAST_PAUSE);
        }
    }

    /// One connection, to its end. Without an error only if nobody takes what is said.
    async fn connected(
        &self,
        outbox: &Outbox,
        said: &mpsc::Sender<ToAgent>,
        status: &Status,
    ) -> Result<(), SessionError> {
        let mut socket =
            timeout(CONNECT, self.connect(PATH, MOST_MESSAGE)).await.map_err(|_| SessionError::Silent)??;
        let hello = Hello {
            version: VERSION,
            boot: self.boot,
            up_secs: self.since.elapsed().as_secs_f64(),
            job: outbox.job(),
        };
        send(&mut socket, &FromAgent { sequence: None, said: Said::Hello(hello) }).await?;
        outbox.begin_again();
        status.service(format!("{}, connected", self.service));
        let mut heard = Instant::now();
        let mut sign_of_life = interval(SIGN_OF_LIFE);
        loop {
            tokio::select! {
                message = socket.next() => {
                    heard = Instant::now();
                    match message.ok_or(SessionError::Closed)?? {
                        Message::Text(text) => {
                            // A word of a later service that this agent does not know is passed over.
                            let Ok(word) = serde_json::from_str::<ToAgent>(&text) else { continue };
                            if let ToAgent::Recorded { sequence } = word {
                                outbox.recorded(sequence);
                            } else if said.send(word).await.is_err() {
                                return Ok(());
                            }
                        }
                        Message::Close(_) => return Err(SessionError::Closed),
                        _ => {}
                    }
                }
                message = outbox.next() => send(&mut socket, &message).await?,
                _ = sign_of_life.tick() => socket.send(Message::Ping(Vec::new().into())).await?,
                () = sleep_until(heard + SILENCE) => return Err(SessionError::Silent),
            }
        }
    }

    /// A connection to a path of the service, on which messages may have so many bytes.
    pub(crate) async fn connect(
        &self,
        path: &str,
        most: usize,
    ) -> Result<WebSocketStream<TcpStream>, SessionError> {
        let wrong = || SessionError::Address(self.service.clone());
        let place = self.service.strip_prefix("http://").ok_or_else(wrong)?;
        let place = if place.contains(':') { place.to_owned() } else { format!("{place}:80") };
        let mut request = format!("ws://{place}{path}").into_client_request()?;
        let bearer = HeaderValue::from_str(&format!("Bearer {}", self.token)).map_err(|_| wrong())?;
        request.headers_mut().insert(AUTHORIZATION, bearer);
        let place: SocketAddr = place.parse().map_err(|_| wrong())?;
        let stream = match self.from {
            Some(from) => {
                let socket = if from.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
                socket.bind((from, 0).into())?;
                socket.connect(place).await?
            }
            None => TcpStream::connect(place).await?,
        };
        stream.set_nodelay(true)?;
        let limits = WebSocketConfig::default().max_message_size(Some(most)).max_frame_size(Some(most));
        let (socket, _) = client_async_with_config(request, stream, Some(limits)).await?;
        Ok(socket)
    }
}

async fn send(socket: &mut WebSocketStream<TcpStream>, message: &FromAgent) -> Result<(), SessionError> {
    // These messages have no form that JSON cannot write.
    let text = serde_json::to_string(message).map_err(std::io::Error::other)?;
    Ok(timeout(SILENCE, socket.send(Message::text(text))).await.map_err(|_| SessionError::Silent)??)
}

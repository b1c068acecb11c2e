//! The connection to a shell on a machine (RFC 6455).

use futures_util::{SinkExt, StreamExt};
use lastmile_api::{JobsShellQuery, Problem, ScreenSize, ShellWord};
use reqwest::Url;
use tokio::net::TcpStream;
use tokio_tungstenite::{
    WebSocketStream, client_async,
    tungstenite::{self, Message, client::IntoClientRequest},
};

use crate::{Client, ClientError};

/// What is heard of a shell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Heard {
    /// It wrote something, for a terminal to show.
    Written(Vec<u8>),
    /// The service says something about it.
    Word(ShellWord),
}

/// A connection to a shell.
#[derive(Debug)]
pub struct Shell {
    server: String,
    socket: WebSocketStream<TcpStream>,
}

impl Client {
    /// Attaches to the shell of a job. Dropping the connection leaves the shell open.
    ///
    /// # Errors
    /// Why the service refuses, or is not reached.
    pub async fn jobs_shell(&self, number: i64, is_looking: bool) -> Result<Shell, ClientError> {
        let broken = |reason: String| ClientError::Connection { server: self.server.clone(), reason };
        let place = format!("{}{}/jobs/{number}/shell", self.server, lastmile_api::BASE);
        let mut place = Url::parse(&place).map_err(|error| broken(error.to_string()))?;
        let query = JobsShellQuery { who: Some(self.user.clone()), look: is_looking.then_some(true) };
        if let Some(who) = &query.who {
            place.query_pairs_mut().append_pair("who", who);
        }
        if is_looking {
            place.query_pairs_mut().append_pair("look", "true");
        }
        let addresses = place.socket_addrs(|| None).map_err(|error| broken(error.to_string()))?;
        let stream = TcpStream::connect(&addresses[..]).await.map_err(|error| broken(error.to_string()))?;
        // Of each key something is heard: none waits for the next.
        stream.set_nodelay(true).map_err(|error| broken(error.to_string()))?;
        let place = place.as_str().replacen("http", "ws", 1);
        let request = place.into_client_request().map_err(|error| broken(error.to_string()))?;
        match client_async(request, stream).await {
            Ok((socket, _)) => Ok(Shell { server: self.server.clone(), socket }),
            Err(tungstenite::Error::Http(refused)) => {
                let status = refused.status().as_u16();
                let body = refused.body().as_deref().unwrap_or_default();
                Err(match serde_json::from_slice::<Box<Problem>>(body) {
                    Ok(problem) => ClientError::Problem(problem),
                    Err(_) => broken(format!("it answered with status {status}")),
                })
            }
            Err(error) => Err(broken(error.to_string())),
        }
    }
}

impl Shell {
    /// What is heard next; nothing once the connection has ended.
    ///
    /// # Errors
    /// That the connection broke.
    pub async fn hear(&mut self) -> Result<Option<Heard>, ClientError> {
        loop {
            match self.socket.next().await.transpose().map_err(|error| broken(&self.server, &error))? {
                None | Some(Message::Close(_)) => return Ok(None),
                Some(Message::Binary(bytes)) => return Ok(Some(Heard::Written(bytes.into()))),
                // A word of a newer service that this client does not know is passed over.
                Some(Message::Text(text)) => {
                    if let Ok(word) = serde_json::from_str(&text) {
                        return Ok(Some(Heard::Word(word)));
                    }
                }
                Some(_) => {}
            }
        }
    }

    /// Types something.
    ///
    /// # Errors
    /// That the connection broke.
    pub async fn type_in(&mut self, keys: &[u8]) -> Result<(), ClientError> {
        self.send(Message::binary(keys.to_vec())).await
    }

    /// Says how large the screen is.
    ///
    /// # Errors
    /// That the connection broke.
    pub async fn resize(&mut self, size: ScreenSize) -> Result<(), ClientError> {
        // This has no form that JSON cannot write.
        self.send(Message::text(serde_json::to_string(&size).unwrap_or_default())).await
    }

    async fn send(&mut self, message: Message) -> Result<(), ClientError> {
        self.socket.send(message).await.map_err(|error| broken(&self.server, &error))
    }
}

fn broken(server: &str, error: &tungstenite::Error) -> ClientError {
    ClientError::Connection { server: server.to_owned(), reason: error.to_string() }
}

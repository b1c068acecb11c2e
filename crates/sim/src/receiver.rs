//! Somebody who is told when installs end: takes webhooks, and keeps what it was sent.

use std::{
    io,
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
};

use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
    task::JoinHandle,
};

/// Bytes of a body that are taken; who sends more is not answered.
const MOST_BODY: usize = 1024 * 1024;

/// What a receiver was sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// Request line and header, a line each, as they came.
    pub head: String,
    /// The content.
    pub body: String,
}

impl Delivery {
    /// The value of a header field, whatever the case of its name.
    #[must_use]
    pub fn field(&self, name: &str) -> Option<&str> {
        let fields = self.head.lines().filter_map(|line| line.split_once(':'));
        fields.filter(|(found, _)| found.eq_ignore_ascii_case(name)).map(|(_, value)| value.trim()).next()
    }
}

/// Listens on the loopback, on a port that is free, until the value is dropped.
#[derive(Debug)]
pub struct Receiver {
    address: SocketAddr,
    received: Arc<Mutex<Vec<Delivery>>>,
    task: JoinHandle<()>,
}

impl Receiver {
    /// Answers each delivery with the next of these status lines (`503 Service Unavailable`), and `200 OK` from then on.
    ///
    /// # Errors
    /// That there is no port.
    pub async fn start(answers: &'static [&'static str]) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let received: Arc<Mutex<Vec<Delivery>>> = Arc::default();
        let (kept, mut answers) = (received.clone(), answers.iter().copied());
        let task = tokio::spawn(async move {
            // One at a time: the order of what came is that of the answers.
            while let Ok((stream, _)) = listener.accept().await {
                if let Err(error) = take(stream, &kept, &mut answers).await {
                    tracing::debug!("a delivery was broken off: {error}");
                }
            }
        });
        Ok(Self { address, received, task })
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// What it was sent so far, oldest first.
    #[must_use]
    pub fn received(&self) -> Vec<Delivery> {
        self.received.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for Receiver {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn take(
    stream: TcpStream,
    kept: &Mutex<Vec<Delivery>>,
    answers: &mut impl Iterator<Item = &'static str>,
) -> io::Result<()> {
    let mut stream = BufReader::new(stream);
    let mut delivery = Delivery { head: String::new(), body: String::new() };
    loop {
        let before = delivery.head.len();
        stream.read_line(&mut delivery.head).await?;
        if delivery.head[before..].trim_end().is_empty() {
            break;
        }
    }
    let length = delivery.field("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
    if length > MOST_BODY {
        return Err(io::Error::other("its content is too long"));
    }
    let mut body = vec![0; length];
    stream.read_exact(&mut body).await?;
    delivery.body = String::from_utf8(body).map_err(io::Error::other)?;
    kept.lock().unwrap_or_else(PoisonError::into_inner).push(delivery);
    let status = answers.next().unwrap_or("200 OK");
    let body = if status.starts_with('2') { "kept" } else { "busy" };
    let answer = format!("HTTP/1.1 {status}\r\ncontent-length: 4\r\nconnection: close\r\n\r\n{body}");
    stream.get_mut().write_all(answer.as_bytes()).await?;
    stream.get_mut().shutdown().await
}

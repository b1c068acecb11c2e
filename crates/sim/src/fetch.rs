//! Fetching files by TFTP and HTTP.

use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr},
    time::Instant,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use lastmile_core::model::image::Sha256;
use lastmile_formats::tftp::{Packet, Receiver, ReceiverState, Wishes};
use reqwest::Response;
use tokio::net::UdpSocket;

use crate::SimError;

/// Largest UDP payload over IPv4.
const BUFFER: usize = 65_507;

fn failed(path: &str, why: impl Into<String>) -> SimError {
    SimError::Fetch { path: path.into(), why: why.into() }
}

/// What a fetch by TFTP ended with.
#[derive(Debug)]
pub(crate) enum TftpEnd {
    /// All of it.
    File(Vec<u8>),
    /// The service refused, as with a file that is not there.
    Refused(String),
}

/// A TFTP client.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Tftp {
    pub(crate) server: SocketAddr,
    /// The address it asks from, which is no other machine's: with one address for all, late packets to one machine's port
    /// reach the next that gets the port.
    pub(crate) own: Ipv4Addr,
    /// Ask for the size first and break off, as UEFI firmware does.
    pub(crate) probes: bool,
    pub(crate) wishes: Wishes,
}

impl Tftp {
    /// Fetches a file that must be there.
    pub(crate) async fn fetch(&self, path: &str) -> Result<Vec<u8>, SimError> {
        match self.try_fetch(path).await? {
            TftpEnd::File(file) => Ok(file),
            TftpEnd::Refused(why) => Err(failed(path, why)),
        }
    }

    /// Fetches a file that may be missing.
    pub(crate) async fn try_fetch(&self, path: &str) -> Result<TftpEnd, SimError> {
        if self.probes
            && let TftpEnd::Refused(why) = self.transfer(path, true).await?
        {
            return Ok(TftpEnd::Refused(why));
        }
        self.transfer(path, false).await
    }

    async fn transfer(&self, path: &str, only_size: bool) -> Result<TftpEnd, SimError> {
        let socket = UdpSocket::bind((self.own, 0)).await?;
        let mut receiver = Receiver::new(path, self.wishes, Instant::now());
        socket.send_to(receiver.request(), self.server).await?;
        let mut peer = self.server;
        let (mut file, mut buffer) = (Vec::new(), vec![0; BUFFER]);
        loop {
            let received = tokio::time::timeout_at(receiver.deadline().into(), socket.recv_from(&mut buffer));
            let now = Instant::now();
            let word = match received.await {
                Ok(received) => {
                    let (length, from) = received?;
                    // The first answer comes from the port of the transfer; only that is listened to then.
                    if peer == self.server {
                        peer = from;
                    } else if from != peer {
                        continue;
                    }
                    let Ok(packet) = Packet::parse(&buffer[..length]) else { continue };
                    if only_size && matches!(packet, Packet::OptionAck { .. }) {
                        socket.send_to(receiver.abort(now), peer).await?;
                        return Ok(TftpEnd::File(Vec::new()));
                    }
                    receiver.handle(&packet, &mut file, now)
                }
                Err(_) => receiver.on_deadline(Instant::now()),
            };
            if let Some(word) = word {
                socket.send_to(word, peer).await?;
            }
            match receiver.state() {
                ReceiverState::Running => {}
                ReceiverState::Done => return Ok(TftpEnd::File(file)),
                ReceiverState::Refused { message, .. } => return Ok(TftpEnd::Refused(message.clone())),
                ReceiverState::Lost => return Err(failed(path, "the service fell silent")),
                ReceiverState::BadOptions => {
                    return Err(failed(path, "the service granted options that were not asked for"));
                }
            }
        }
    }
}

/// A plain HTTP client.
#[derive(Debug, Clone)]
pub(crate) struct Http {
    client: reqwest::Client,
}

impl Http {
    /// Speaks from `own`, an address of this host.
    pub(crate) fn new(own: Ipv4Addr) -> Result<Self, SimError> {
        let client = reqwest::Client::builder()
            .no_proxy()
            .tls_built_in_root_certs(false)
            .local_address(IpAddr::from(own))
            .build();
        client.map(|client| Self { client }).map_err(|error| failed("http", error.to_string()))
    }

    /// Fetches a file and checks it against the digest that came with it (RFC 9530).
    pub(crate) async fn fetch(&self, url: &str) -> Result<Vec<u8>, SimError> {
        let response = self.send(url, self.client.get(url)).await?;
        let said = digest_of(&response);
        let file = response.bytes().await.map_err(|error| failed(url, error.to_string()))?.to_vec();
        check(url, &file, said.ok_or_else(|| failed(url, "no digest came with it"))?)?;
        Ok(file)
    }

    /// The digest the service announces for `url`.
    pub(crate) async fn digest(&self, url: &str) -> Result<Sha256, SimError> {
        let response = self.send(url, self.client.head(url)).await?;
        digest_of(&response).ok_or_else(|| failed(url, "no digest came with it"))
    }

    /// A plain GET whose answer does not matter, as installers' own tools make it.
    pub(crate) async fn get(&self, url: &str) -> Result<(), SimError> {
        self.send(url, self.client.get(url)).await.map(|_| ())
    }

    async fn send(&self, url: &str, request: reqwest::RequestBuilder) -> Result<Response, SimError> {
        let response = request.send().await.map_err(|error| failed(url, error.to_string()))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.unwrap_or_default();
        Err(failed(url, format!("{status}: {}", text.trim())))
    }
}

/// Holds a file against the digest that was announced for it.
pub(crate) fn check(path: &str, file: &[u8], said: Sha256) -> Result<(), SimError> {
    let found = Sha256::of(file);
    if found == said { Ok(()) } else { Err(SimError::Digest { path: path.into(), found, said }) }
}

fn digest_of(response: &Response) -> Option<Sha256> {
    let header = response.headers().get("repr-digest")?.to_str().ok()?;
    let text = header.strip_prefix("sha-256=:")?.strip_suffix(':')?;
    Some(Sha256::new(STANDARD.decode(text).ok()?.try_into().ok()?))
}

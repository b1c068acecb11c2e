//! Drives one transfer: moves bytes and sets timers; every decision is the core's.

use std::{
    fmt, io,
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};

use lastmile_core::tftp::{ErrorCode, Packet, RawOptions, Sender, SenderState, Terms, Transmit};
use tokio::net::UdpSocket;

use crate::content::{Content, ContentReader};

/// Largest packet a client sends in a transfer: an error with its text.
const REPLY_BUFFER: usize = 1024;

/// How a transfer ended.
#[derive(Debug)]
pub(super) enum Outcome {
    /// The client has all of it.
    Done(Report),
    /// The client only wanted the size.
    Probed,
    /// The client broke it off or fell silent.
    Failed(String),
}

/// The particulars of a finished transfer, for the trace.
#[derive(Debug)]
pub(super) struct Report {
    terms: Terms,
    took: Duration,
    retransmitted: u64,
    size: u64,
}

impl fmt::Display for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rate = self.size as f64 / self.took.as_secs_f64().max(1e-6) / 1e6;
        write!(
            f,
            "blksize {}, windowsize {}, {:.1} MB/s, {} blocks sent again",
            self.terms.blksize, self.terms.windowsize, rate, self.retransmitted
        )
    }
}

/// Sends `content` from a port of its own (RFC 1350, section 4) to the client.
pub(super) async fn send(
    content: &Content,
    (local, client): (IpAddr, SocketAddr),
    terms: Terms,
    agreed: RawOptions<'static>,
) -> io::Result<Outcome> {
    let mut reader = content.open().await?;
    let socket = UdpSocket::bind((local, 0)).await?;
    // Connected: the kernel drops what others send here.
    socket.connect(client).await?;
    let started = Instant::now();
    let mut sender = Sender::new(terms, agreed, content.size(), started);
    let mut packet = Vec::with_capacity(usize::from(terms.blksize) + 4);
    let mut buffer = [0; REPLY_BUFFER];
    loop {
        while let Some(transmit) = sender.poll() {
            fill(&mut packet, transmit, &mut reader).await?;
            match socket.send(&packet).await {
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => {
                    return Ok(Outcome::Failed("the client closed its port".into()));
                }
                Err(error) => return Err(error),
            }
        }
        match sender.state() {
            SenderState::Running => {}
            SenderState::Done => {
                let report = Report {
                    terms,
                    took: started.elapsed(),
                    retransmitted: sender.retransmitted(),
                    size: content.size(),
                };
                return Ok(Outcome::Done(report));
            }
            SenderState::Probed => return Ok(Outcome::Probed),
            SenderState::Refused { code, message } => {
                return Ok(Outcome::Failed(format!("the client broke off ({code:?}): {message}")));
            }
            SenderState::Lost => {
                return Ok(Outcome::Failed(format!(
                    "the client fell silent after {} of {} octets (blksize {})",
                    sender.delivered(),
                    content.size(),
                    terms.blksize
                )));
            }
        }
        match tokio::time::timeout_at(sender.deadline().into(), socket.recv(&mut buffer)).await {
            Ok(Ok(length)) => match Packet::parse(&buffer[..length]) {
                Ok(reply) => sender.handle(&reply, Instant::now()),
                Err(error) => tracing::debug!(%client, "no TFTP packet: {error}"),
            },
            Ok(Err(error)) if error.kind() == io::ErrorKind::ConnectionRefused => {
                return Ok(Outcome::Failed("the client closed its port".into()));
            }
            Ok(Err(error)) => return Err(error),
            Err(_) => sender.on_deadline(Instant::now()),
        }
    }
}

/// Writes the next packet into `packet`, in place of what was there.
async fn fill(packet: &mut Vec<u8>, transmit: Transmit, reader: &mut ContentReader) -> io::Result<()> {
    packet.clear();
    match transmit {
        Transmit::OptionAck(options) => *packet = Packet::OptionAck { options }.emit(),
        Transmit::Data { block, offset, length } => {
            packet.extend(Packet::data_header(block));
            packet.extend_from_slice(&reader.read(offset, length).await?);
            if packet.len() != length + 4 {
                let error =
                    Packet::Error { code: ErrorCode::Undefined, message: "the file became shorter".into() };
                *packet = error.emit();
            }
        }
    }
    Ok(())
}

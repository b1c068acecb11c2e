//! Drives one transfer: moves bytes and sets timers; every decision is the core's.

use std::{
    fmt, io,
    net::{IpAddr, SocketAddr, UdpSocket},
    thread,
    time::{Duration, Instant},
};

use lastmile_core::tftp::{Packet, RawOptions, Sender, SenderState, Terms, Transmit};
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

use crate::content::{BlockingReader, Content};

/// Largest packet a client sends in a transfer: an error with its text.
const REPLY_BUFFER: usize = 1024;
/// Octets of stack for a transfer's thread, which holds one small buffer and calls nothing deep: thousands fit.
const STACK: usize = 256 * 1024;

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
        write!(f, "blksize {}, windowsize {}, {rate:.1} MB/s", self.terms.blksize, self.terms.windowsize)?;
        if self.retransmitted > 0 {
            write!(f, ", {} blocks sent again", self.retransmitted)?;
        }
        Ok(())
    }
}

/// Sends `content` from a port of its own (RFC 1350, section 4) to the client.
///
/// A transfer is a thread that waits in the kernel: in lock-step every block costs one wait, and on an executor a
/// wait costs twice the system calls.
pub(super) async fn send(
    content: &Content,
    ends: (IpAddr, SocketAddr),
    terms: Terms,
    agreed: RawOptions<'static>,
    stop: CancellationToken,
) -> io::Result<Outcome> {
    let (content, (tell, told)) = (content.clone(), oneshot::channel());
    let work = move || {
        // Whoever asked for it may be gone: the service is going down.
        let _ = tell.send(transfer(&content, ends, terms, agreed, &stop));
    };
    thread::Builder::new().name("tftp-transfer".into()).stack_size(STACK).spawn(work)?;
    told.await.map_err(io::Error::other)?
}

fn transfer(
    content: &Content,
    (local, client): (IpAddr, SocketAddr),
    terms: Terms,
    agreed: RawOptions<'static>,
    stop: &CancellationToken,
) -> io::Result<Outcome> {
    let reader = content.open_blocking()?;
    let socket = UdpSocket::bind((local, 0))?;
    // Connected: the kernel drops what others send here.
    socket.connect(client)?;
    socket.set_read_timeout(Some(terms.timeout))?;
    let started = Instant::now();
    let mut sender = Sender::new(terms, agreed, content.size(), started);
    let mut packet = Vec::with_capacity(usize::from(terms.blksize) + 4);
    let mut buffer = [0; REPLY_BUFFER];
    while !stop.is_cancelled() {
        while let Some(transmit) = sender.poll() {
            fill(&mut packet, transmit, &reader)?;
            match socket.send(&packet) {
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => return Ok(closed()),
                Err(error) => return Err(error),
            }
        }
        if let Some(outcome) = outcome(&sender, terms, content.size(), started) {
            return Ok(outcome);
        }
        match socket.recv(&mut buffer) {
            Ok(length) => match Packet::parse(&buffer[..length]) {
                Ok(reply) => sender.handle(&reply, Instant::now()),
                Err(error) => tracing::debug!(%client, "no TFTP packet: {error}"),
            },
            Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => return Ok(closed()),
            // Waited as long as a block may take; the deadline itself may be later.
            Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) => {
                sender.on_deadline(Instant::now());
            }
            Err(error) => return Err(error),
        }
    }
    Ok(Outcome::Failed("the service is going down".into()))
}

fn closed() -> Outcome {
    Outcome::Failed("the client closed its port".into())
}

/// How the transfer ended, if it has.
fn outcome(sender: &Sender, terms: Terms, size: u64, started: Instant) -> Option<Outcome> {
    Some(match sender.state() {
        SenderState::Running => return None,
        SenderState::Done => {
            let (took, retransmitted) = (started.elapsed(), sender.retransmitted());
            Outcome::Done(Report { terms, took, retransmitted, size })
        }
        SenderState::Probed => Outcome::Probed,
        SenderState::Refused { code, message } => {
            Outcome::Failed(format!("the client broke off ({code:?}): {message}"))
        }
        SenderState::Lost => Outcome::Failed(format!(
            "the client fell silent after {} of {size} octets (blksize {})",
            sender.delivered(),
            terms.blksize
        )),
    })
}

/// Writes the next packet into `packet`, in place of what was there.
fn fill(packet: &mut Vec<u8>, transmit: Transmit, reader: &BlockingReader) -> io::Result<()> {
    packet.clear();
    match transmit {
        Transmit::OptionAck(options) => *packet = Packet::OptionAck { options }.emit(),
        Transmit::Data { block, offset, length } => {
            packet.extend(Packet::data_header(block));
            packet.resize(length + 4, 0);
            reader.read_exact_at(&mut packet[4..], offset)?;
        }
    }
    Ok(())
}

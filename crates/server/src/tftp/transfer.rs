//! Drives one transfer: moves bytes and sets timers; every decision is the core's.

use std::{
    io,
    net::{IpAddr, SocketAddr, UdpSocket},
    sync::atomic::{AtomicUsize, Ordering},
    thread,
    time::{Duration, Instant},
};

use lastmile_core::report::trace::{Datagram, TransferEnd};
use lastmile_formats::tftp::{Limits, Packet, RawOptions, Sender, SenderState, Terms};
use nix::sys::socket::{getsockopt, setsockopt, sockopt};
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

use super::{kept::Kept, outbox::Outbox};
use crate::{library::Content, limits::longest_transfer, link::v4};

/// Largest packet a client sends in a transfer: an error with its text.
const REPLY_BUFFER: usize = 1024;
/// Bytes of stack for a transfer's thread, which holds one small buffer and calls nothing deep: thousands fit.
const STACK: usize = 256 * 1024;
/// MTU assumed where the kernel does not say what the path carries.
const ETHERNET_MTU: i32 = 1500;

/// How long a client may leave the first packet unanswered, whatever time-out it asked for: the request may be forged.
const UNHEARD: Duration = Duration::from_secs(20);

/// A finished transfer, for the trace.
#[derive(Debug)]
pub(super) struct Outcome {
    pub(super) end: TransferEnd,
    pub(super) terms: Terms,
    pub(super) delivered: u64,
    pub(super) took: Duration,
    pub(super) retransmitted: u64,
    pub(super) packets: Vec<Datagram>,
    pub(super) left_out: u64,
}

/// What to send, and to whom.
#[derive(Debug)]
pub(super) struct Order {
    pub(super) content: Content,
    pub(super) local: IpAddr,
    pub(super) client: SocketAddr,
    /// The options of the request.
    pub(super) asked: RawOptions<'static>,
    /// The request itself, which the story begins with.
    pub(super) request: Datagram,
}

/// Sends `order` from a port of its own (RFC 1350, section 4) to the client.
///
/// A transfer is a thread that waits in the kernel: in lock-step every block costs one wait, and on an executor a
/// wait costs twice the system calls. Threads share the processors fairly, so many clients do.
pub(super) async fn send(order: Order, stop: CancellationToken) -> io::Result<Outcome> {
    let (tell, told) = oneshot::channel();
    let work = move || {
        // Whoever asked for it may be gone: the service is going down.
        let _ = tell.send(transfer(order, &stop));
    };
    thread::Builder::new().name("tftp-transfer".into()).stack_size(STACK).spawn(work)?;
    told.await.map_err(io::Error::other)?
}

fn transfer(order: Order, stop: &CancellationToken) -> io::Result<Outcome> {
    let Order { content, local, client, asked, request } = order;
    let reader = content.open_blocking()?;
    let socket = UdpSocket::bind((local, 0))?;
    // Connected: the kernel drops what others send here.
    socket.connect(client)?;
    let size = content.size();
    let (terms, agreed) = Terms::negotiate(&asked, size, Limits::for_mtu(path_mtu(&socket)));
    socket.set_read_timeout(Some(terms.timeout.min(UNHEARD)))?;
    let longest = longest_transfer(size);
    let mut is_heard = false;
    let crowd = Crowd::join();
    let ends = (v4(socket.local_addr()?), v4(client));
    let mut kept = Kept::new(request, ends);
    let started = Instant::now();
    let mut sender = Sender::new(terms, agreed, size, started);
    let mut outbox = Outbox::new(&socket, terms, size);
    let mut buffer = [0; REPLY_BUFFER];
    let end = loop {
        if stop.is_cancelled() {
            break TransferEnd::BrokenOff("the service is going down".into());
        }
        if !outbox.send_all(&mut sender, &reader, &socket, &mut kept)? {
            break closed();
        }
        if let Some(end) = end_of(&sender) {
            break end;
        }
        let taken = started.elapsed();
        if taken > longest || (!is_heard && taken > UNHEARD) {
            break TransferEnd::Stalled;
        }
        if crowd.is_dense() {
            // Whoever is answered at once would otherwise go on being served, and the others wait for it to end.
            thread::yield_now();
        }
        match socket.recv(&mut buffer) {
            Ok(length) => {
                is_heard = true;
                kept.heard(&buffer[..length]);
                match Packet::parse(&buffer[..length]) {
                    Ok(reply) => sender.handle(&reply, Instant::now()),
                    Err(error) => tracing::debug!(%client, "no TFTP packet: {error}"),
                }
            }
            Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => break closed(),
            // Waited as long as a block may take; the deadline itself may be later.
            Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) => {
                sender.on_deadline(Instant::now());
            }
            Err(error) => return Err(error),
        }
    };
    let (packets, left_out) = kept.into_packets();
    Ok(Outcome {
        terms,
        delivered: if end == TransferEnd::Done { size } else { sender.delivered() },
        took: started.elapsed(),
        retransmitted: sender.retransmitted(),
        packets,
        left_out,
        end,
    })
}

/// All transfers that are under way.
static TRANSFERS: AtomicUsize = AtomicUsize::new(0);
/// Transfers from which on they take turns by yielding: below it the scheduler is fair by itself.
const DENSE: usize = 8;

/// How many transfers are under way.
pub(super) fn transfers() -> usize {
    TRANSFERS.load(Ordering::Relaxed)
}

/// One transfer among all, as long as it lasts.
struct Crowd;

impl Crowd {
    fn join() -> Self {
        TRANSFERS.fetch_add(1, Ordering::Relaxed);
        Self
    }

    fn is_dense(&self) -> bool {
        transfers() > DENSE
    }
}

impl Drop for Crowd {
    fn drop(&mut self) {
        TRANSFERS.fetch_sub(1, Ordering::Relaxed);
    }
}

/// What the path to the client carries at once, as far as the kernel knows: the interface's MTU, or less where a
/// router on the way said so (RFC 1191).
fn path_mtu(socket: &UdpSocket) -> u16 {
    let mtu = getsockopt(socket, sockopt::IpMtu).unwrap_or(ETHERNET_MTU);
    u16::try_from(mtu).unwrap_or(u16::MAX)
}

/// Has the kernel cut what is sent at once into datagrams of `segment` bytes (udp(7), UDP_SEGMENT). `false` if it
/// does not know how.
pub(super) fn cut_into_segments(socket: &UdpSocket, segment: usize) -> bool {
    i32::try_from(segment).is_ok_and(|segment| setsockopt(socket, sockopt::UdpGsoSegment, &segment).is_ok())
}

fn closed() -> TransferEnd {
    TransferEnd::BrokenOff("the machine closed its port".into())
}

/// How the transfer ended, if it has.
fn end_of(sender: &Sender) -> Option<TransferEnd> {
    Some(match sender.state() {
        SenderState::Running => return None,
        SenderState::Done => TransferEnd::Done,
        SenderState::Probed => TransferEnd::Probed,
        SenderState::Refused { code, message } => TransferEnd::BrokenOff(format!("{code:?}: {message}")),
        SenderState::Lost => TransferEnd::Stalled,
    })
}

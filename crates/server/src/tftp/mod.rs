//! Serves files by TFTP: one task for the well-known port, one for each transfer.

mod kept;
mod outbox;
mod transfer;

use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4},
    sync::Arc,
};

use lastmile_core::report::trace::{Datagram, FileRequest, Seen, TransferEnd, Wire};
use lastmile_formats::tftp::{ErrorCode, Packet, RawOptions};
use tokio::{net::UdpSocket, sync::Semaphore};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    boot::{Asker, Parts, Refusal, RequestKind, Served, resolve},
    clock,
    limits::{Lines, PerSource},
    link::v4,
    wire::count,
};

/// Largest request: RFC 2347 keeps it within one datagram of 512 bytes.
const REQUEST_BUFFER: usize = 1024;
/// Transfers at once. A hall of 2,000 machines fits; beyond it requests are dropped, and clients ask again.
const TRANSFERS: usize = 4096;

/// Transfers of one source at once: a loader fetches few files at a time, and several machines may be behind one address.
const TRANSFERS_OF_ONE: usize = 64;
/// Writes that were refused.
static WRITES: Lines = Lines::new("TFTP writes that were refused");

/// Answers on the well-known port until told to stop.
pub(crate) async fn serve(parts: Parts, socket: UdpSocket, tasks: TaskTracker, stop: CancellationToken) {
    let transfers = Arc::new(Semaphore::new(TRANSFERS));
    let of_one = PerSource::new(TRANSFERS_OF_ONE);
    let local = socket.local_addr().map_or(IpAddr::from([0, 0, 0, 0]), |address| address.ip());
    let socket = Arc::new(socket);
    let mut buffer = vec![0; REQUEST_BUFFER];
    loop {
        let received = tokio::select! {
            () = stop.cancelled() => return,
            received = socket.recv_from(&mut buffer) => received,
        };
        let (length, from) = match received {
            Ok(received) => received,
            Err(error) => {
                // An ICMP error of an earlier reply; the socket itself is well.
                tracing::debug!("TFTP socket: {error}");
                continue;
            }
        };
        let Some(request) = read_request(&parts, &socket, &buffer[..length], from).await else { continue };
        let (permit, own) = (transfers.clone().try_acquire_owned(), of_one.take(from.ip()));
        let (Ok(permit), Some(own)) = (permit, own) else {
            count(&parts.wire.counts.tftp_refused);
            continue;
        };
        let (parts, socket, stop) = (parts.clone(), socket.clone(), stop.clone());
        tasks.spawn(async move {
            answer(&parts, &socket, (local, from), request, stop).await;
            drop((permit, own));
        });
    }
}

/// Finds a file by its name as it stands, or, as menus write paths for TFTP and HTTP alike, percent-encoded.
async fn resolve_either(parts: &Parts, asker: Asker, name: &str) -> Result<Served, Refusal> {
    let decoded = percent_encoding::percent_decode_str(name).decode_utf8_lossy();
    match resolve(parts, asker, name, RequestKind::default()).await {
        Err(Refusal::NotFound { .. }) if decoded != name => {
            resolve(parts, asker, &decoded, RequestKind::default()).await
        }
        found => found,
    }
}

struct Request {
    name: String,
    options: RawOptions<'static>,
    datagram: Datagram,
}

/// Reads a request; whatever else comes to this port is counted and left alone, or told what it is.
async fn read_request(parts: &Parts, socket: &UdpSocket, bytes: &[u8], from: SocketAddr) -> Option<Request> {
    match Packet::parse(bytes) {
        Ok(Packet::Read { name, mode, options }) => {
            if !mode.eq_ignore_ascii_case("octet") && !mode.eq_ignore_ascii_case("netascii") {
                count(&parts.wire.counts.tftp_refused);
                refuse(socket, from, ErrorCode::Illegal, "only modes octet and netascii are served").await;
                return None;
            }
            let owned = |(name, value): (std::borrow::Cow<'_, str>, std::borrow::Cow<'_, str>)| {
                (name.into_owned().into(), value.into_owned().into())
            };
            let local = socket.local_addr().map_or(SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 0), v4);
            let datagram = Datagram {
                at: clock::now(),
                from: v4(from),
                to: local,
                payload: bytes.into(),
                length: bytes.len(),
            };
            let options = options.into_iter().map(owned).collect();
            Some(Request { name: name.into_owned(), options, datagram })
        }
        Ok(Packet::Write { name }) => {
            count(&parts.wire.counts.tftp_refused);
            if WRITES.may_say() {
                tracing::warn!(%from, name = %name, "a TFTP write was refused");
            }
            refuse(socket, from, ErrorCode::Access, "nothing is written here").await;
            None
        }
        // Never answered: two services would answer each other for ever.
        Ok(Packet::Error { .. } | Packet::Data { .. } | Packet::Ack { .. } | Packet::OptionAck { .. })
        | Err(_) => {
            count(&parts.wire.counts.tftp_malformed);
            None
        }
    }
}

async fn answer(
    parts: &Parts,
    socket: &UdpSocket,
    (local, from): (IpAddr, SocketAddr),
    request: Request,
    stop: CancellationToken,
) {
    let asker = Asker::new(parts, from.ip());
    let Request { name, options, datagram } = request;
    let at = datagram.at;
    let (sender, receiver) = (datagram.from, datagram.to);
    let mut file = FileRequest::new(Wire::Tftp, sender, receiver, name);
    let served = match resolve_either(parts, asker, &file.path).await {
        Ok(served) => served,
        Err(refusal) => {
            let code = match &refusal {
                Refusal::Path(_)
                | Refusal::Stranger { .. }
                | Refusal::OtherMachine { .. }
                | Refusal::Phrase => ErrorCode::Access,
                Refusal::NotFound { .. } => ErrorCode::NotFound,
                Refusal::Damaged { .. } | Refusal::NotArmed(_) => ErrorCode::Undefined,
            };
            file.end = refusal.end();
            if !matches!(file.end, TransferEnd::NotFound { optional: true, .. }) {
                count(&parts.wire.counts.tftp_refused);
            }
            let text = refusal.to_string();
            file.packets = vec![datagram, error_packet((receiver, sender), code, &text)];
            refuse(socket, from, code, &text).await;
            if let Some(mac) = asker.mac {
                parts.records.trace(mac, at, Seen::File(Box::new(file)));
            }
            return;
        }
    };
    (file.role, file.what, file.decision) = (served.role, served.what, served.decision);
    file.size = served.content.size();
    let revision = served.revision;
    let order =
        transfer::Order { content: served.content, local, client: from, asked: options, request: datagram };
    match transfer::send(order, stop).await {
        Ok(outcome) => {
            let counter = match outcome.end {
                TransferEnd::Done => Some(&parts.wire.counts.tftp_done),
                TransferEnd::Probed => None,
                _ => Some(&parts.wire.counts.tftp_failed),
            };
            counter.map(count);
            file.end = outcome.end;
            file.terms = Some(outcome.terms);
            (file.delivered, file.took, file.retransmitted) =
                (outcome.delivered, outcome.took, outcome.retransmitted);
            (file.packets, file.left_out) = (outcome.packets, outcome.left_out);
        }
        Err(error) => {
            count(&parts.wire.counts.tftp_failed);
            tracing::error!(what = file.what, "cannot be sent: {error}");
            if let Some(revision) = revision {
                parts.records.mark_suspect(&parts.library, revision).await;
            }
            refuse(socket, from, ErrorCode::Undefined, "the file cannot be read").await;
            file.end = TransferEnd::Unreadable(error.to_string());
        }
    }
    let done = file.end == TransferEnd::Done;
    for mac in [served.mac, served.also].into_iter().flatten() {
        parts.records.trace(mac, at, Seen::File(Box::new(file.clone())));
    }
    if let Some(follows) = served.follows.filter(|_| done) {
        parts.follow(follows).await;
    }
}

fn error_packet((from, to): (SocketAddrV4, SocketAddrV4), code: ErrorCode, message: &str) -> Datagram {
    let payload = Packet::Error { code, message: message.into() }.emit().into_boxed_slice();
    Datagram { at: clock::now(), from, to, length: payload.len(), payload }
}

async fn refuse(socket: &UdpSocket, to: SocketAddr, code: ErrorCode, message: &str) {
    let packet = Packet::Error { code, message: message.into() };
    if let Err(error) = socket.send_to(&packet.emit(), to).await {
        tracing::debug!(%to, "a TFTP error could not be sent: {error}");
    }
}

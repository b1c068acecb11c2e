//! Serves files by TFTP: one task for the well-known port, one for each transfer.

mod kept;
mod outbox;
mod transfer;

use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4},
    sync::Arc,
};

use jiff::Timestamp;
use lastmile_core::{
    tftp::{ErrorCode, Packet, RawOptions},
    trace::{Datagram, FileRequest, Seen, TransferEnd, Wire},
};
use tokio::{net::UdpSocket, sync::Semaphore};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    boot::{Asker, Manner, Refusal, Served, resolve},
    link::v4,
    state::{App, count},
};

/// Largest request: RFC 2347 keeps it within one datagram of 512 octets.
const REQUEST_BUFFER: usize = 1024;
/// Transfers at once. A hall of 2,000 machines fits; beyond it requests are dropped, and clients ask again.
const TRANSFERS: usize = 4096;

/// Answers on the well-known port until told to stop.
pub(crate) async fn serve(app: Arc<App>, socket: UdpSocket, tasks: TaskTracker, stop: CancellationToken) {
    let transfers = Arc::new(Semaphore::new(TRANSFERS));
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
        let Some(request) = read_request(&app, &socket, &buffer[..length], from).await else { continue };
        let Ok(permit) = transfers.clone().try_acquire_owned() else {
            count(&app.counts.tftp_refused);
            continue;
        };
        let (app, socket, stop) = (app.clone(), socket.clone(), stop.clone());
        tasks.spawn(async move {
            answer(&app, &socket, (local, from), request, stop).await;
            drop(permit);
        });
    }
}

/// Finds a file by its name as it stands, or, as menus write paths for TFTP and HTTP alike, percent-encoded.
async fn resolve_either(app: &App, asker: Asker, name: &str) -> Result<Served, Refusal> {
    let decoded = percent_encoding::percent_decode_str(name).decode_utf8_lossy();
    match resolve(app, asker, name, Manner::default()).await {
        Err(Refusal::NotFound { .. }) if decoded != name => {
            resolve(app, asker, &decoded, Manner::default()).await
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
async fn read_request(app: &App, socket: &UdpSocket, bytes: &[u8], from: SocketAddr) -> Option<Request> {
    match Packet::parse(bytes) {
        Ok(Packet::Read { name, mode, options }) => {
            if !mode.eq_ignore_ascii_case("octet") && !mode.eq_ignore_ascii_case("netascii") {
                count(&app.counts.tftp_refused);
                refuse(socket, from, ErrorCode::Illegal, "only modes octet and netascii are served").await;
                return None;
            }
            let owned = |(name, value): (std::borrow::Cow<'_, str>, std::borrow::Cow<'_, str>)| {
                (name.into_owned().into(), value.into_owned().into())
            };
            let local = socket.local_addr().map_or(SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 0), v4);
            let datagram = Datagram {
                at: Timestamp::now(),
                from: v4(from),
                to: local,
                payload: bytes.into(),
                length: bytes.len(),
            };
            let options = options.into_iter().map(owned).collect();
            Some(Request { name: name.into_owned(), options, datagram })
        }
        Ok(Packet::Write { name }) => {
            count(&app.counts.tftp_refused);
            tracing::warn!(%from, name = %name, "a TFTP write was refused");
            refuse(socket, from, ErrorCode::Access, "nothing is written here").await;
            None
        }
        // Never answered: two services would answer each other for ever.
        Ok(Packet::Error { .. } | Packet::Data { .. } | Packet::Ack { .. } | Packet::OptionAck { .. })
        | Err(_) => {
            count(&app.counts.tftp_malformed);
            None
        }
    }
}

async fn answer(
    app: &Arc<App>,
    socket: &UdpSocket,
    (local, from): (IpAddr, SocketAddr),
    request: Request,
    stop: CancellationToken,
) {
    let asker = Asker::new(app, from.ip());
    let Request { name, options, datagram } = request;
    let at = datagram.at;
    let (sender, receiver) = (datagram.from, datagram.to);
    let mut file = FileRequest::new(Wire::Tftp, sender, receiver, name);
    let served = match resolve_either(app, asker, &file.path).await {
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
                count(&app.counts.tftp_refused);
            }
            let text = refusal.to_string();
            file.packets = vec![datagram, error_packet((receiver, sender), code, &text)];
            refuse(socket, from, code, &text).await;
            if let Some(mac) = asker.mac {
                app.trace(mac, at, Seen::File(Box::new(file)));
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
                TransferEnd::Done => Some(&app.counts.tftp_done),
                TransferEnd::Probed => None,
                _ => Some(&app.counts.tftp_failed),
            };
            counter.map(count);
            file.end = outcome.end;
            file.terms = Some(outcome.terms);
            (file.delivered, file.took, file.retransmitted) =
                (outcome.delivered, outcome.took, outcome.retransmitted);
            (file.packets, file.left_out) = (outcome.packets, outcome.left_out);
        }
        Err(error) => {
            count(&app.counts.tftp_failed);
            tracing::error!(what = file.what, "cannot be sent: {error}");
            if let Some(revision) = revision {
                app.doubt(revision).await;
            }
            refuse(socket, from, ErrorCode::Undefined, "the file cannot be read").await;
            file.end = TransferEnd::Unreadable(error.to_string());
        }
    }
    let done = file.end == TransferEnd::Done;
    if let Some(mac) = served.mac {
        app.trace(mac, at, Seen::File(Box::new(file)));
    }
    if let Some((machine, evidence)) = served.evidence.filter(|_| done) {
        app.see_or_log(machine, evidence).await;
    }
}

fn error_packet((from, to): (SocketAddrV4, SocketAddrV4), code: ErrorCode, message: &str) -> Datagram {
    let payload = Packet::Error { code, message: message.into() }.emit().into_boxed_slice();
    Datagram { at: Timestamp::now(), from, to, length: payload.len(), payload }
}

async fn refuse(socket: &UdpSocket, to: SocketAddr, code: ErrorCode, message: &str) {
    let packet = Packet::Error { code, message: message.into() };
    if let Err(error) = socket.send_to(&packet.emit(), to).await {
        tracing::debug!(%to, "a TFTP error could not be sent: {error}");
    }
}

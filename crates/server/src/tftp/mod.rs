//! Serves files by TFTP: one task for the well-known port, one for each transfer.

mod transfer;

use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

use lastmile_core::{
    tftp::{ErrorCode, Packet, RawOptions, Terms},
    trace::Wire,
};
use tokio::{net::UdpSocket, sync::Semaphore};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    boot::{Asker, Refusal, resolve},
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

struct Request {
    name: String,
    options: RawOptions<'static>,
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
            Some(Request { name: name.into_owned(), options: options.into_iter().map(owned).collect() })
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
    let asked = format!("TFTP {}", request.name);
    let served = match resolve(app, asker, &request.name).await {
        Ok(served) => served,
        Err(refusal) => {
            let (code, optional) = match &refusal {
                Refusal::Path(_) | Refusal::Stranger { .. } => (ErrorCode::Access, false),
                Refusal::NotFound { optional, .. } => (ErrorCode::NotFound, *optional),
                Refusal::Damaged { .. } => (ErrorCode::Undefined, false),
            };
            if !optional {
                count(&app.counts.tftp_refused);
            }
            refuse(socket, from, code, &refusal.to_string()).await;
            if let Some(mac) = asker.mac {
                let got = if optional {
                    "not there, and not needed".to_owned()
                } else {
                    format!("refused: {refusal}")
                };
                app.trace(mac, Wire::Tftp, asked, got);
            }
            return;
        }
    };
    let size = served.content.size();
    let (terms, agreed) = Terms::negotiate(&request.options, size, app.tftp_limits);
    let outcome = transfer::send(&served.content, (local, from), terms, agreed, stop).await;
    let got = match &outcome {
        Ok(transfer::Outcome::Done(report)) => {
            count(&app.counts.tftp_done);
            format!("{}, {size} octets, {report}", served.what)
        }
        Ok(transfer::Outcome::Probed) => format!("{}: only its size was asked, {size} octets", served.what),
        Ok(transfer::Outcome::Failed(why)) => {
            count(&app.counts.tftp_failed);
            format!("{}: {why}", served.what)
        }
        Err(error) => {
            count(&app.counts.tftp_failed);
            tracing::error!(what = served.what, "cannot be sent: {error}");
            refuse(socket, from, ErrorCode::Undefined, "the file cannot be read").await;
            format!("{}: cannot be read: {error}", served.what)
        }
    };
    if let Some(mac) = served.mac {
        app.trace(mac, Wire::Tftp, asked, got);
    }
    if let (Ok(transfer::Outcome::Done(_)), Some((machine, evidence))) = (outcome, served.evidence) {
        app.see_or_log(machine, evidence).await;
    }
}

async fn refuse(socket: &UdpSocket, to: SocketAddr, code: ErrorCode, message: &str) {
    let packet = Packet::Error { code, message: message.into() };
    if let Err(error) = socket.send_to(&packet.emit(), to).await {
        tracing::debug!(%to, "a TFTP error could not be sent: {error}");
    }
}

//! The boot listener's connections.
//!
//! Machines' HTTP clients are small. GRUB 2.06 reads header names letter by letter, so they are written
//! `Content-Length`, not `content-length`; without it the size of a file is unknown to it, and it refuses the file.

use std::{net::SocketAddr, sync::Arc, time::Duration};

use axum::{Extension, Router, extract::ConnectInfo};
use hyper::server::conn::http1;
use hyper_util::{
    rt::{TokioIo, TokioTimer},
    service::TowerToHyperService,
};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    net::TcpListener,
    sync::Semaphore,
    time::timeout,
};
use tokio_io_timeout::TimeoutStream;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use super::{
    sendfile::{FileStream, Runs},
    tls::Tls,
};
use crate::limits::PerSource;

/// Connections at once; beyond it new ones wait to be accepted.
const CONNECTIONS: usize = 8192;
/// Connections of one source at once: machines behind an address translation share one.
const CONNECTIONS_OF_ONE: usize = 256;
/// How long a client may read nothing of what it asked for.
const READ_TIMEOUT: Duration = Duration::from_secs(60);
/// How long a client may take to say what it wants.
const HEAD_TIMEOUT: Duration = Duration::from_secs(30);
/// Pause after a failed accept: no descriptors are left, and trying on at once would only burn the processor.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// Serves connections until told to stop; each then ends with the request it is at.
pub(crate) async fn serve(
    listener: TcpListener,
    router: Router,
    tls: Option<Tls>,
    tasks: TaskTracker,
    stop: CancellationToken,
) {
    let connections = Arc::new(Semaphore::new(CONNECTIONS));
    let of_one = PerSource::new(CONNECTIONS_OF_ONE);
    loop {
        let Ok(permit) = connections.clone().acquire_owned().await else { return };
        let accepted = tokio::select! {
            () = stop.cancelled() => return,
            accepted = listener.accept() => accepted,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                tracing::warn!("a connection was not accepted: {error}");
                tokio::time::sleep(ACCEPT_PAUSE).await;
                continue;
            }
        };
        // Closed at once: whoever has so many open waits for none of them.
        let Some(own) = of_one.take(peer.ip()) else { continue };
        // Small answers leave at once.
        let _ = stream.set_nodelay(true);
        let Ok(local) = stream.local_addr() else { continue };
        // By HTTPS bytes are encrypted here, and have to come through the service's memory.
        let runs = tls.is_none().then(Runs::default);
        let router =
            router.clone().layer(Extension(ConnectInfo(Ends { peer, local }))).layer(Extension(runs.clone()));
        let (tls, stop) = (tls.clone(), stop.clone());
        tasks.spawn(async move {
            match tls {
                None => {
                    connection(FileStream::new(stream, runs.unwrap_or_default()), peer, router, stop).await;
                }
                Some(tls) => match timeout(HEAD_TIMEOUT, tls.accept(stream)).await {
                    Ok(Ok(stream)) => connection(stream, peer, router, stop).await,
                    Ok(Err(error)) => tracing::info!(%peer, "HTTPS was not agreed on: {error}"),
                    Err(_) => tracing::debug!(%peer, "HTTPS was not agreed on in time"),
                },
            }
            drop((permit, own));
        });
    }
}

/// Both ends of a connection.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ends {
    pub(crate) peer: SocketAddr,
    pub(crate) local: SocketAddr,
}

async fn connection(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    peer: SocketAddr,
    router: Router,
    stop: CancellationToken,
) {
    let service = TowerToHyperService::new(router);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(READ_TIMEOUT));
    let stream = Box::pin(stream);
    let connection = http1::Builder::new()
        .title_case_headers(true)
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD_TIMEOUT)
        .serve_connection(TokioIo::new(stream), service)
        // The survey's agents keep theirs as a WebSocket.
        .with_upgrades();
    tokio::pin!(connection);
    let ended = tokio::select! {
        ended = connection.as_mut() => ended,
        () = stop.cancelled() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = ended {
        tracing::debug!(%peer, "a connection broke: {error}");
    }
}

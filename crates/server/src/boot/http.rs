//! The boot listener: machines only, no log-in. The same paths as TFTP, answer files, and reports.

use std::{net::SocketAddr, sync::Arc, time::Instant};

use axum::{
    Router,
    body::{Body, Bytes},
    extract::{ConnectInfo, Path, Query, State},
    http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
    routing::{any, get},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use jiff::Timestamp;
use lastmile_core::{
    install::{Install, ReportStage},
    trace::{FileRequest, Report, Role, Seen, TransferEnd, Wire},
};
use serde::Deserialize;

use super::{
    Asker, Refusal, Served,
    listener::Ends,
    machine_files::{self, TokenRefusal},
    resolve,
};
use crate::{
    content::Content,
    link::v4,
    state::{App, count},
};

/// Characters of a path and of a client's own name that the trace keeps.
const PATH_KEPT: usize = 512;
const AGENT_KEPT: usize = 128;
/// Longest text a report may carry; the rest is cut.
const REPORT_TEXT: usize = 1000;

/// The routes of the boot listener.
pub(crate) fn router(app: Arc<App>, secure: bool) -> Router {
    Router::new()
        .route("/answers/{token}/{file}", get(answer_file))
        .route("/report/{token}/{stage}", any(report))
        .fallback(file)
        .with_state(Boot { app, secure })
}

/// A listener's own part of every request.
#[derive(Clone)]
struct Boot {
    app: Arc<App>,
    /// Whether it speaks HTTPS.
    secure: bool,
}

async fn file(
    State(boot): State<Boot>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
) -> Response {
    let app = boot.app;
    if method != Method::GET && method != Method::HEAD {
        count(&app.counts.http_refused);
        return plain(StatusCode::METHOD_NOT_ALLOWED, "Files are read with GET or HEAD.\n");
    }
    let name = percent_encoding::percent_decode_str(uri.path()).decode_utf8_lossy().into_owned();
    let asker = Asker::new(&app, ends.peer.ip());
    let asked = Asked::new(ends, &method, &name, &headers, boot.secure);
    match resolve(&app, asker, &name).await {
        Ok(served) => serve(app, served, method == Method::HEAD, headers.get(header::RANGE), asked).await,
        Err(refusal) => {
            count(&app.counts.http_refused);
            if let Some(mac) = asker.mac {
                let file = asked.request(Role::Unknown, String::new(), refusal.end());
                app.trace(mac, asked.at, Seen::File(Box::new(file)));
            }
            let status = match refusal {
                Refusal::Path(_) => StatusCode::BAD_REQUEST,
                Refusal::NotFound { .. } => StatusCode::NOT_FOUND,
                Refusal::Damaged { .. } => StatusCode::SERVICE_UNAVAILABLE,
                Refusal::Stranger { .. } => StatusCode::FORBIDDEN,
            };
            plain(status, format!("{refusal}\n"))
        }
    }
}

/// A request as it came, for the trace.
struct Asked {
    at: Timestamp,
    began: Instant,
    ends: Ends,
    method: String,
    path: String,
    agent: Option<String>,
    secure: bool,
}

impl Asked {
    fn new(ends: Ends, method: &Method, path: &str, headers: &HeaderMap, secure: bool) -> Self {
        let agent = headers.get(header::USER_AGENT).and_then(|agent| agent.to_str().ok());
        Self {
            at: Timestamp::now(),
            began: Instant::now(),
            ends,
            method: method.to_string(),
            path: path.chars().filter(|character| !character.is_control()).take(PATH_KEPT).collect(),
            agent: agent.map(|agent| agent.chars().take(AGENT_KEPT).collect()),
            secure,
        }
    }

    fn request(&self, role: Role, what: String, end: TransferEnd) -> FileRequest {
        FileRequest {
            method: Some(self.method.clone()),
            agent: self.agent.clone(),
            secure: self.secure,
            role,
            what,
            end,
            took: self.began.elapsed(),
            ..FileRequest::new(Wire::Http, v4(self.ends.peer), v4(self.ends.local), self.path.clone())
        }
    }
}

/// Sends content with its digest (RFC 9530) and the range that was asked for (RFC 9110, section 14).
async fn serve(
    app: Arc<App>,
    served: Served,
    head: bool,
    range: Option<&HeaderValue>,
    asked: Asked,
) -> Response {
    let size = served.content.size();
    let range = match range.and_then(|range| range.to_str().ok()).map(|text| parse_range(text, size)) {
        None | Some(Wanted::Everything) => None,
        Some(Wanted::Part(start, end)) => Some((start, end)),
        Some(Wanted::Nothing) => {
            let unsatisfied =
                (StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, format!("bytes */{size}"))]);
            return unsatisfied.into_response();
        }
    };
    let sha256 = served.content.sha256();
    let reader = match served.content.open().await {
        Ok(reader) => reader,
        Err(error) => {
            tracing::error!(what = served.what, "cannot be read: {error}");
            if let Some(mac) = served.mac {
                let end = TransferEnd::Unreadable(error.to_string());
                let file = asked.request(served.role, served.what, end);
                app.trace(mac, asked.at, Seen::File(Box::new(file)));
            }
            return plain(StatusCode::SERVICE_UNAVAILABLE, "The file cannot be read.\n");
        }
    };
    let (start, end) = range.unwrap_or((0, size));
    let response = Response::builder()
        .status(if range.is_some() { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK })
        .header(header::CONTENT_TYPE, "application/octet-stream")
        .header(header::CONTENT_LENGTH, end - start)
        .header(header::ACCEPT_RANGES, "bytes")
        .header(header::ETAG, format!("\"{sha256}\""))
        .header("repr-digest", format!("sha-256=:{}:", STANDARD.encode(sha256.octets())));
    let response = match range {
        Some(_) => response.header(header::CONTENT_RANGE, format!("bytes {start}-{}/{size}", end - 1)),
        None => response,
    };
    let delivery = Delivery { app, served: Some(served), asked, size: end - start, sent: 0 };
    let body = if head {
        delivery.probed();
        Body::empty()
    } else {
        count(&delivery.app.counts.http_served);
        Body::from_stream(stream(reader, (start, end), size, delivery))
    };
    response.body(body).unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())
}

/// What is recorded once the last octet was handed over, or once it is certain that it will not be.
struct Delivery {
    app: Arc<App>,
    served: Option<Served>,
    asked: Asked,
    size: u64,
    sent: u64,
}

impl Delivery {
    /// The last octet is about to leave. `whole` says whether it was the whole file.
    async fn complete(mut self, whole: bool) {
        let evidence = self.served.as_mut().and_then(|served| served.evidence.take());
        self.trace(TransferEnd::Done);
        if let Some((machine, evidence)) = evidence.filter(|_| whole) {
            self.app.see_or_log(machine, evidence).await;
        }
    }

    /// The file could not be read on: it was changed or taken away underneath.
    fn unreadable(mut self, error: &std::io::Error) {
        tracing::error!(path = self.asked.path, "cannot be read: {error}");
        self.trace(TransferEnd::Unreadable(error.to_string()));
    }

    /// Only the head was asked for.
    fn probed(mut self) {
        self.trace(TransferEnd::Probed);
    }

    fn trace(&mut self, end: TransferEnd) {
        let Some(served) = self.served.take() else { return };
        let Some(mac) = served.mac else { return };
        let file = FileRequest {
            decision: served.decision,
            size: self.size,
            delivered: if end == TransferEnd::Done { self.size } else { self.sent },
            ..self.asked.request(served.role, served.what, end)
        };
        self.app.trace(mac, self.asked.at, Seen::File(Box::new(file)));
    }
}

impl Drop for Delivery {
    /// The connection ended before the file did.
    fn drop(&mut self) {
        self.trace(TransferEnd::BrokenOff("the machine closed the connection".into()));
    }
}

fn stream(
    mut reader: crate::content::ContentReader,
    (start, end): (u64, u64),
    size: u64,
    delivery: Delivery,
) -> impl futures_util::Stream<Item = std::io::Result<Bytes>> {
    async_stream::try_stream! {
        let mut at = start;
        let mut delivery = Some(delivery);
        if at == end && let Some(delivery) = delivery.take() {
            // Of an empty file there is no last octet to wait for.
            delivery.complete(true).await;
        }
        while at < end {
            let piece = match reader.read_on(at, end).await {
                Ok(piece) => piece,
                Err(error) => {
                    if let Some(delivery) = delivery.take() {
                        delivery.unreadable(&error);
                    }
                    Err(error)?
                }
            };
            at += piece.len() as u64;
            if let Some(delivery) = &mut delivery {
                delivery.sent = at - start;
            }
            // On record before the machine can act on the last octet. After it would be too late: a body of
            // known length is not asked for more.
            if at == end && let Some(delivery) = delivery.take() {
                delivery.complete(start == 0 && end == size).await;
            }
            yield piece;
        }
    }
}

/// What a Range header asks for.
#[derive(Debug, PartialEq, Eq)]
enum Wanted {
    /// All of it: also where the header is not understood (RFC 9110, section 14.2).
    Everything,
    /// From the first octet up to, not including, the last.
    Part(u64, u64),
    /// Nothing that is there.
    Nothing,
}

fn parse_range(text: &str, size: u64) -> Wanted {
    let Some((first, last)) = text.strip_prefix("bytes=").and_then(|range| range.split_once('-')) else {
        return Wanted::Everything;
    };
    let number = |text: &str| text.trim().parse::<u64>().ok();
    match (number(first), number(last)) {
        (Some(first), _) if first >= size => Wanted::Nothing,
        (Some(first), Some(last)) if last >= first => Wanted::Part(first, size.min(last.saturating_add(1))),
        (Some(first), None) if last.trim().is_empty() => Wanted::Part(first, size),
        (None, Some(0)) if first.trim().is_empty() => Wanted::Nothing,
        (None, Some(count)) if first.trim().is_empty() => Wanted::Part(size.saturating_sub(count), size),
        _ => Wanted::Everything,
    }
}

async fn answer_file(
    State(boot): State<Boot>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    method: Method,
    headers: HeaderMap,
    Path((token, file)): Path<(String, String)>,
) -> Response {
    let app = boot.app;
    // The token is a secret: the trace has the file's name alone.
    let asked = Asked::new(ends, &method, &file, &headers, boot.secure);
    match machine_files::answer_file(&app, ends.peer.ip(), &token, &file).await {
        Ok((install, text)) => {
            count(&app.counts.http_served);
            let digest = Content::Made(text.clone().into()).sha256();
            let size = text.len() as u64;
            let what = format!("answer file {}", digest.short());
            let request = FileRequest {
                size,
                delivered: size,
                ..asked.request(Role::Answers, what, TransferEnd::Done)
            };
            note(&app, &install, asked.at, Seen::File(Box::new(request)));
            let digest = format!("sha-256=:{}:", STANDARD.encode(digest.octets()));
            let headers = [("content-type", "text/plain; charset=utf-8".to_owned()), ("repr-digest", digest)];
            (headers, text).into_response()
        }
        Err(refusal) => refuse(&app, ends.peer, &refusal),
    }
}

/// What a report may say beside its stage.
#[derive(Debug, Deserialize)]
struct ReportText {
    text: Option<String>,
}

async fn report(
    State(boot): State<Boot>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    Path((token, stage)): Path<(String, String)>,
    Query(said): Query<ReportText>,
) -> Response {
    let (app, at) = (boot.app, Timestamp::now());
    let stage = match stage.parse::<ReportStage>() {
        Ok(stage) => stage,
        Err(error) => {
            count(&app.counts.http_refused);
            return plain(StatusCode::NOT_FOUND, format!("{error}\n"));
        }
    };
    let text =
        said.text.map(|text| text.chars().filter(|c| !c.is_control()).take(REPORT_TEXT).collect::<String>());
    match machine_files::report(&app, ends.peer.ip(), &token, stage, text.clone()).await {
        Ok(install) => {
            count(&app.counts.http_served);
            if let Some(install) = install {
                let report =
                    Report { from: v4(ends.peer), to: v4(ends.local), stage, text, install: install.number };
                note(&app, &install, at, Seen::Report(Box::new(report)));
            }
            plain(StatusCode::OK, "taken\n")
        }
        Err(refusal) => refuse(&app, ends.peer, &refusal),
    }
}

fn note(app: &App, install: &Install, at: Timestamp, seen: Seen) {
    let site = app.site();
    if let Some(mac) = site.machine_by_id(install.machine).and_then(|machine| machine.macs.first()) {
        app.trace(*mac, at, seen);
    }
}

fn refuse(app: &App, from: SocketAddr, refusal: &TokenRefusal) -> Response {
    count(&app.counts.http_refused);
    tracing::warn!(%from, "an answer file or report was refused: {refusal}");
    match refusal {
        TokenRefusal::Store(_) => plain(StatusCode::SERVICE_UNAVAILABLE, "Try again.\n"),
        // Why is in the log: whoever guesses tokens learns nothing here.
        _ => plain(StatusCode::FORBIDDEN, "Not for you, or not any more.\n"),
    }
}

fn plain(status: StatusCode, text: impl Into<Body>) -> Response {
    (status, [(header::CONTENT_TYPE, "text/plain; charset=utf-8")], text.into()).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_follow_rfc_9110() {
        for (text, wanted) in [
            ("bytes=0-9", Wanted::Part(0, 10)),
            ("bytes=5-", Wanted::Part(5, 100)),
            ("bytes=90-500", Wanted::Part(90, 100)),
            ("bytes=-10", Wanted::Part(90, 100)),
            ("bytes=-500", Wanted::Part(0, 100)),
            ("bytes=100-", Wanted::Nothing),
            ("bytes=-0", Wanted::Nothing),
            ("bytes=9-2", Wanted::Everything),
            ("bytes=0-1,5-6", Wanted::Everything),
            ("lines=1-2", Wanted::Everything),
        ] {
            assert_eq!(parse_range(text, 100), wanted, "{text}");
        }
        assert_eq!(parse_range("bytes=0-", 0), Wanted::Nothing);
    }
}

//! The boot listener: machines only, no log-in. The same paths as TFTP, answer files, and reports.

use std::{net::SocketAddr, sync::Arc, time::Instant};

use axum::{
    Extension, Router,
    body::Body,
    extract::{ConnectInfo, Path, Query, State},
    http::{HeaderMap, Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
    routing::{any, get},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use jiff::Timestamp;
use lastmile_core::{
    image::Sha256,
    install::{Actual, Install, ReportStage},
    trace::{FileRequest, Report, Role, Seen, TransferEnd, Wire},
};
use serde::Deserialize;

use super::{
    Asker, Manner, Media, Refusal, Served,
    delivery::{Delivery, Source, stream},
    listener::Ends,
    machine_files::{self, TokenRefusal},
    range::Wanted,
    resolve,
    sendfile::Runs,
};
use crate::{
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
        .route("/report/{token}/log", any(log))
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
    Extension(runs): Extension<Option<Runs>>,
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
    // Not part of the path: the trace never holds it.
    let phrase = uri.query().and_then(phrase);
    let head = method == Method::HEAD;
    match resolve(&app, asker, &name, Manner { phrase: phrase.as_deref(), head, folders: true }).await {
        // The links on a folder's page are relative to it.
        Ok(served) if served.media == Media::Folder && !uri.path().ends_with('/') => {
            let location = format!("{}/", uri.path());
            (StatusCode::MOVED_PERMANENTLY, [(header::LOCATION, location)]).into_response()
        }
        Ok(served) => serve(app, served, Asks { head, headers: &headers, runs }, asked).await,
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
                Refusal::Stranger { .. } | Refusal::OtherMachine { .. } | Refusal::Phrase => {
                    StatusCode::FORBIDDEN
                }
                Refusal::NotArmed(_) => StatusCode::CONFLICT,
            };
            plain(status, format!("{refusal}\n"))
        }
    }
}

/// What a person typed at the machine, where the loader hands it over.
fn phrase(query: &str) -> Option<String> {
    let value = query.split('&').find_map(|pair| pair.strip_prefix("phrase="))?;
    Some(percent_encoding::percent_decode_str(value).decode_utf8_lossy().into_owned())
}

/// What of a file is wanted, and how it can be sent.
struct Asks<'a> {
    /// Only what would be sent before it.
    head: bool,
    headers: &'a HeaderMap,
    /// The connection sends files by itself.
    runs: Option<Runs>,
}

/// A request as it came, for the trace.
pub(super) struct Asked {
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

    pub(super) const fn at(&self) -> Timestamp {
        self.at
    }

    pub(super) fn path(&self) -> &str {
        &self.path
    }

    pub(super) fn request(&self, role: Role, what: String, end: TransferEnd) -> FileRequest {
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

/// Sends content with its digest (RFC 9530), or the part of it that is wanted.
async fn serve(app: Arc<App>, served: Served, asks: Asks<'_>, asked: Asked) -> Response {
    let size = served.content.size();
    let tag = format!("\"{}\"", served.content.tag());
    let (part, start, end) = match Wanted::of(asks.headers, size, &tag) {
        Wanted::Everything => (false, 0, size),
        Wanted::Part(start, end) => (true, start, end),
        Wanted::Nothing => {
            let range = format!("bytes */{size}");
            return (StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, range)]).into_response();
        }
        Wanted::Unchanged => return (StatusCode::NOT_MODIFIED, [(header::ETAG, tag)]).into_response(),
    };
    let (sha256, media) = (served.content.sha256(), served.media);
    let source = match Source::open(&served.content, asks.runs).await {
        Ok(source) => source,
        Err(error) => return unreadable(&app, served, &asked, &error).await,
    };
    let mut response = Response::builder()
        .status(if part { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK })
        .header(header::CONTENT_TYPE, media.as_str())
        .header(header::CONTENT_LENGTH, end - start)
        .header(header::ACCEPT_RANGES, "bytes")
        .header(header::ETAG, tag);
    if let Some(sha256) = sha256 {
        response = response.header("repr-digest", repr_digest(&sha256));
    }
    if part {
        response = response.header(header::CONTENT_RANGE, format!("bytes {start}-{}/{size}", end - 1));
    }
    let delivery = Delivery::new(app.clone(), served, asked, end - start);
    let body = if asks.head {
        delivery.probed();
        Body::empty()
    } else {
        count(&app.counts.http_served);
        Body::from_stream(stream(source, (start, end), size, delivery))
    };
    response.body(body).unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())
}

async fn unreadable(app: &App, served: Served, asked: &Asked, error: &std::io::Error) -> Response {
    tracing::error!(what = served.what, "cannot be read: {error}");
    if let Some(revision) = served.revision {
        app.doubt(revision).await;
    }
    if let Some(mac) = served.mac {
        let file = asked.request(served.role, served.what, TransferEnd::Unreadable(error.to_string()));
        app.trace(mac, asked.at, Seen::File(Box::new(file)));
    }
    plain(StatusCode::SERVICE_UNAVAILABLE, "The file cannot be read.\n")
}

/// A digest as RFC 9530, section 3, writes it.
fn repr_digest(sha256: &Sha256) -> String {
    format!("sha-256=:{}:", STANDARD.encode(sha256.octets()))
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
            let digest = Sha256::of(text.as_bytes());
            let size = text.len() as u64;
            let what = format!("answer file {}", digest.short());
            let request = FileRequest {
                size,
                delivered: size,
                ..asked.request(Role::Answers, what, TransferEnd::Done)
            };
            note(&app, &install, asked.at, Seen::File(Box::new(request)));
            let digest = repr_digest(&digest);
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
    host_name: Option<String>,
    address: Option<String>,
    os: Option<String>,
    kernel: Option<String>,
    /// How its first-boot scripts ended: 0 for well.
    first_boot: Option<String>,
}

/// What a machine says of itself, as far as it is kept: one line of bounded length.
fn said(text: Option<String>) -> Option<String> {
    text.map(|text| text.chars().filter(|c| !c.is_control()).take(REPORT_TEXT).collect())
}

async fn report(
    State(boot): State<Boot>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    Path((token, stage)): Path<(String, String)>,
    Query(words): Query<ReportText>,
) -> Response {
    let (app, at) = (boot.app, Timestamp::now());
    let stage = match stage.parse::<ReportStage>() {
        Ok(stage) => stage,
        Err(error) => {
            count(&app.counts.http_refused);
            return plain(StatusCode::NOT_FOUND, format!("{error}\n"));
        }
    };
    let text = said(words.text);
    if stage == ReportStage::Booted {
        let actual = Actual {
            host_name: said(words.host_name),
            address: said(words.address),
            os: said(words.os),
            kernel: said(words.kernel),
            is_first_boot_failed: words.first_boot.is_some_and(|result| result != "0"),
        };
        return match machine_files::booted(&app, ends.peer.ip(), &token, actual).await {
            Ok(install) => {
                count(&app.counts.http_served);
                let report =
                    Report { from: v4(ends.peer), to: v4(ends.local), stage, text, install: install.number };
                note(&app, &install, at, Seen::Report(Box::new(report)));
                plain(StatusCode::OK, "taken\n")
            }
            Err(refusal) => refuse(&app, ends.peer, &refusal),
        };
    }
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

/// Longest content of one request to the log.
const MOST_LOG: usize = 64 * 1024;

/// What an installer wrote: as `text` in the query, as plain text, or as the JSON object that cloud-init's and
/// curtin's webhook reporters send, whose `description` is kept.
async fn log(
    State(boot): State<Boot>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    Path(token): Path<String>,
    Query(words): Query<ReportText>,
    body: Body,
) -> Response {
    let app = boot.app;
    let Ok(body) = axum::body::to_bytes(body, MOST_LOG).await else {
        count(&app.counts.http_refused);
        return plain(StatusCode::PAYLOAD_TOO_LARGE, "At most 64 KiB at a time.\n");
    };
    let said = words.text.unwrap_or_else(|| match serde_json::from_slice::<ReporterEvent>(&body) {
        Ok(event) => event.line(),
        Err(_) => String::from_utf8_lossy(&body).into_owned(),
    });
    match machine_files::log(&app, ends.peer.ip(), &token, &said).await {
        Ok(()) => {
            count(&app.counts.http_served);
            plain(StatusCode::OK, "taken\n")
        }
        Err(refusal) => refuse(&app, ends.peer, &refusal),
    }
}

/// An event as cloud-init's webhook reporter sends it (its reference: reporting).
#[derive(Debug, Deserialize)]
struct ReporterEvent {
    name: String,
    description: String,
    event_type: String,
    result: Option<String>,
}

impl ReporterEvent {
    fn line(&self) -> String {
        let result = self.result.as_ref().map(|result| format!(" {result}")).unwrap_or_default();
        format!("{} {}{result}: {}", self.event_type, self.name, self.description)
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

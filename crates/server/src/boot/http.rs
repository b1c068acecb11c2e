//! The boot listener: machines only, no log-in. The same paths as TFTP, answer files, and reports.

use std::{net::SocketAddr, time::Instant};

use axum::{
    Extension, Router,
    body::Body,
    extract::{ConnectInfo, Path, Query, State},
    http::{HeaderMap, Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
    routing::get,
};
use base64::{Engine, engine::general_purpose::STANDARD};
use jiff::Timestamp;
use lastmile_core::{
    model::{
        image::Sha256,
        install::{Actual, Install, ReportStage},
    },
    report::trace::{FileRequest, Report, Role, Seen, TransferEnd, Wire},
};
use serde::Deserialize;

use super::{
    Asker, Media, Refusal, RequestKind, Served,
    delivery::{Delivery, Source, stream},
    listener::Ends,
    machine_files::{self, TokenRefusal},
    range::Wanted,
    resolve,
    sendfile::Runs,
};
use crate::{boot::Parts, clock, limits::Lines, link::v4, wire::count};

/// Characters of a path and of a client's own name that the trace keeps.
const PATH_KEPT: usize = 512;
const AGENT_KEPT: usize = 128;
/// Longest text a report may carry; the rest is cut.
const REPORT_TEXT: usize = 1000;

/// The routes of the boot listener.
pub(crate) fn router(parts: Parts, secure: bool) -> Router {
    Router::new()
        .route("/answers/{token}/{file}", get(answer_file))
        .route("/report/{token}/log", get(log).post(log).head(only_get_and_post))
        .route("/report/{token}/{stage}", get(report).post(report).head(only_get_and_post))
        .fallback(file)
        .with_state(Boot { parts, secure })
}

/// Reports are made by GET or POST: whoever only looks whether the URL is there reports nothing (RFC 9110, section 9.2.1).
async fn only_get_and_post() -> Response {
    let allow = [(header::ALLOW, "GET, POST")];
    (StatusCode::METHOD_NOT_ALLOWED, allow, "Reports are made by GET or POST.\n").into_response()
}

/// A listener's own part of every request.
#[derive(Clone)]
struct Boot {
    parts: Parts,
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
    let parts = boot.parts;
    if method != Method::GET && method != Method::HEAD {
        count(&parts.wire.counts.http_refused);
        return plain(StatusCode::METHOD_NOT_ALLOWED, "Files are read with GET or HEAD.\n");
    }
    let name = percent_encoding::percent_decode_str(uri.path()).decode_utf8_lossy().into_owned();
    let asker = Asker::new(&parts, ends.peer.ip());
    let asked = Asked::new(ends, &method, &name, &headers, boot.secure);
    // Not part of the path: the trace never holds it.
    let phrase = uri.query().and_then(phrase);
    let head = method == Method::HEAD;
    match resolve(&parts, asker, &name, RequestKind { phrase: phrase.as_deref(), head, folders: true }).await
    {
        // The links on a folder's page are relative to it.
        Ok(served) if served.media == Media::Folder && !uri.path().ends_with('/') => {
            let location = format!("{}/", uri.path());
            (StatusCode::MOVED_PERMANENTLY, [(header::LOCATION, location)]).into_response()
        }
        Ok(served) => serve(parts, served, Asks { head, headers: &headers, runs }, asked).await,
        Err(refusal) => {
            count(&parts.wire.counts.http_refused);
            if let Some(mac) = asker.mac {
                let file = asked.request(Role::Unknown, String::new(), refusal.end());
                parts.records.trace(mac, asked.at, Seen::File(Box::new(file)));
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

/// What a person typed at the machine, where the loader hands it over. Not read as a form's field: loaders escape by RFC 3986,
/// where a `+` is a plus.
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
            at: clock::now(),
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
async fn serve(parts: Parts, served: Served, asks: Asks<'_>, asked: Asked) -> Response {
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
        Err(error) => return unreadable(&parts, served, &asked, &error).await,
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
    let delivery = Delivery::new(parts.clone(), served, asked, end - start);
    let body = if asks.head {
        delivery.probed();
        Body::empty()
    } else {
        count(&parts.wire.counts.http_served);
        Body::from_stream(stream(source, (start, end), size, delivery))
    };
    response.body(body).unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())
}

async fn unreadable(parts: &Parts, served: Served, asked: &Asked, error: &std::io::Error) -> Response {
    tracing::error!(what = served.what, "cannot be read: {error}");
    if let Some(revision) = served.revision {
        parts.records.mark_suspect(&parts.library, revision).await;
    }
    if let Some(mac) = served.mac {
        let file = asked.request(served.role, served.what, TransferEnd::Unreadable(error.to_string()));
        parts.records.trace(mac, asked.at, Seen::File(Box::new(file)));
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
    let parts = boot.parts;
    // The token is a secret: the trace has the file's name alone.
    let asked = Asked::new(ends, &method, &file, &headers, boot.secure);
    match machine_files::answer_file(&parts, ends.peer.ip(), &token, &file, method == Method::HEAD).await {
        Ok((install, text)) => {
            count(&parts.wire.counts.http_served);
            let digest = Sha256::of(text.as_bytes());
            let size = text.len() as u64;
            let what = format!("answer file {}", digest.short());
            let request = FileRequest {
                size,
                delivered: size,
                ..asked.request(Role::Answers, what, TransferEnd::Done)
            };
            note(&parts, &install, asked.at, Seen::File(Box::new(request)));
            let digest = repr_digest(&digest);
            let headers = [("content-type", "text/plain; charset=utf-8".to_owned()), ("repr-digest", digest)];
            (headers, text).into_response()
        }
        Err(refusal) => refuse(&parts, ends.peer, &refusal),
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
    let (parts, at) = (boot.parts, clock::now());
    let stage = match stage.parse::<ReportStage>() {
        Ok(stage) => stage,
        Err(error) => {
            count(&parts.wire.counts.http_refused);
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
        return match machine_files::booted(&parts, ends.peer.ip(), &token, actual).await {
            Ok(install) => {
                count(&parts.wire.counts.http_served);
                let report =
                    Report { from: v4(ends.peer), to: v4(ends.local), stage, text, install: install.number };
                note(&parts, &install, at, Seen::Report(Box::new(report)));
                plain(StatusCode::OK, "taken\n")
            }
            Err(refusal) => refuse(&parts, ends.peer, &refusal),
        };
    }
    match machine_files::report(&parts, ends.peer.ip(), &token, stage, text.clone()).await {
        Ok(install) => {
            count(&parts.wire.counts.http_served);
            if let Some(install) = install {
                let report =
                    Report { from: v4(ends.peer), to: v4(ends.local), stage, text, install: install.number };
                note(&parts, &install, at, Seen::Report(Box::new(report)));
            }
            plain(StatusCode::OK, "taken\n")
        }
        Err(refusal) => refuse(&parts, ends.peer, &refusal),
    }
}

/// How long a request to the log may take to come.
const LOG_TIMEOUT: std::time::Duration = std::time::Duration::from_secs(30);
/// Answer files and reports that were refused.
static REFUSALS: Lines = Lines::new("answer files and reports that were refused");

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
    let parts = boot.parts;
    let body = match tokio::time::timeout(LOG_TIMEOUT, axum::body::to_bytes(body, MOST_LOG)).await {
        Ok(Ok(body)) => body,
        Ok(Err(_)) => {
            count(&parts.wire.counts.http_refused);
            return plain(StatusCode::PAYLOAD_TOO_LARGE, "At most 64 KiB at a time.\n");
        }
        Err(_) => {
            count(&parts.wire.counts.http_refused);
            return plain(StatusCode::REQUEST_TIMEOUT, "The lines did not come.\n");
        }
    };
    let said = words.text.unwrap_or_else(|| match serde_json::from_slice::<ReporterEvent>(&body) {
        Ok(event) => event.line(),
        Err(_) => String::from_utf8_lossy(&body).into_owned(),
    });
    match machine_files::log(&parts, ends.peer.ip(), &token, &said).await {
        Ok(()) => {
            count(&parts.wire.counts.http_served);
            plain(StatusCode::OK, "taken\n")
        }
        Err(refusal) => refuse(&parts, ends.peer, &refusal),
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

fn note(parts: &Parts, install: &Install, at: Timestamp, seen: Seen) {
    let site = parts.records.site();
    if let Some(mac) = site.machine_by_id(install.machine).and_then(|machine| machine.macs.first()) {
        parts.records.trace(*mac, at, seen);
    }
}

fn refuse(parts: &Parts, from: SocketAddr, refusal: &TokenRefusal) -> Response {
    count(&parts.wire.counts.http_refused);
    if REFUSALS.may_say() {
        tracing::warn!(%from, "an answer file or report was refused: {refusal}");
    }
    match refusal {
        TokenRefusal::Store(_) => plain(StatusCode::SERVICE_UNAVAILABLE, "Try again.\n"),
        // Why is in the log: whoever guesses tokens learns nothing here.
        _ => plain(StatusCode::FORBIDDEN, "Not for you, or not any more.\n"),
    }
}

fn plain(status: StatusCode, text: impl Into<Body>) -> Response {
    (status, [(header::CONTENT_TYPE, "text/plain; charset=utf-8")], text.into()).into_response()
}

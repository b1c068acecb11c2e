//! The boot listener: machines only, no log-in. The same paths as TFTP, answer files, and reports.

use std::{net::SocketAddr, sync::Arc};

use axum::{
    Router,
    body::{Body, Bytes},
    extract::{ConnectInfo, Path, Query, State},
    http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
    routing::{any, get},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use lastmile_core::{install::ReportStage, trace::Wire};
use serde::Deserialize;

use super::{
    Asker, Refusal, Served,
    machine_files::{self, TokenRefusal},
    resolve,
};
use crate::{
    content::Content,
    state::{App, count},
};

/// Octets handed to the connection at once.
const PIECE: usize = 512 * 1024;
/// Longest text a report may carry; the rest is cut.
const REPORT_TEXT: usize = 1000;

/// The routes of the boot listener.
pub(crate) fn router(app: Arc<App>) -> Router {
    Router::new()
        .route("/answers/{token}/{file}", get(answer_file))
        .route("/report/{token}/{stage}", any(report))
        .fallback(file)
        .with_state(app)
}

async fn file(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
) -> Response {
    if method != Method::GET && method != Method::HEAD {
        count(&app.counts.http_refused);
        return plain(StatusCode::METHOD_NOT_ALLOWED, "Files are read with GET or HEAD.\n");
    }
    let name = percent_encoding::percent_decode_str(uri.path()).decode_utf8_lossy().into_owned();
    let asker = Asker::new(&app, from.ip());
    let asked = format!("{method} {name}");
    match resolve(&app, asker, &name).await {
        Ok(served) => serve(app, served, method == Method::HEAD, headers.get(header::RANGE), asked).await,
        Err(refusal) => {
            count(&app.counts.http_refused);
            if let Some(mac) = asker.mac {
                app.trace(mac, Wire::Http, asked, format!("refused: {refusal}"));
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

/// Sends content with its digest (RFC 9530) and the range that was asked for (RFC 9110, section 14).
async fn serve(
    app: Arc<App>,
    served: Served,
    head: bool,
    range: Option<&HeaderValue>,
    asked: String,
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
    let body = if head {
        Body::empty()
    } else {
        count(&app.counts.http_served);
        let delivered =
            Delivery { app, mac: served.mac, evidence: served.evidence, asked, what: served.what };
        Body::from_stream(stream(reader, start, end, size, delivered))
    };
    response.body(body).unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())
}

/// What is recorded once the last octet was handed over.
struct Delivery {
    app: Arc<App>,
    mac: Option<lastmile_core::net::Mac>,
    evidence: Option<(lastmile_core::Id<lastmile_core::machine::Machine>, lastmile_core::install::Evidence)>,
    asked: String,
    what: String,
}

impl Delivery {
    async fn complete(self, octets: u64) {
        if let Some(mac) = self.mac {
            self.app.trace(mac, Wire::Http, self.asked, format!("{}, {octets} octets", self.what));
        }
        if let Some((machine, evidence)) = self.evidence {
            self.app.see_or_log(machine, evidence).await;
        }
    }
}

fn stream(
    mut reader: crate::content::ContentReader,
    start: u64,
    end: u64,
    size: u64,
    delivery: Delivery,
) -> impl futures_util::Stream<Item = std::io::Result<Bytes>> {
    async_stream::try_stream! {
        let mut at = start;
        let mut delivery = Some(delivery);
        while at < end {
            let length = usize::try_from(end - at).unwrap_or(PIECE).min(PIECE);
            let piece = reader.read(at, length).await?;
            at += piece.len() as u64;
            // On record before the machine can act on the last octet. After it would be too late: a body of
            // known length is not asked for more.
            if at == size && let Some(delivery) = delivery.take() {
                delivery.complete(end - start).await;
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
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Path((token, file)): Path<(String, String)>,
) -> Response {
    match machine_files::answer_file(&app, from.ip(), &token, &file).await {
        Ok((install, text)) => {
            count(&app.counts.http_served);
            let digest = Content::Made(text.clone().into()).sha256();
            note(&app, &install, format!("GET {file}"), format!("answer file {}", digest.short()));
            let digest = format!("sha-256=:{}:", STANDARD.encode(digest.octets()));
            let headers = [("content-type", "text/plain; charset=utf-8".to_owned()), ("repr-digest", digest)];
            (headers, text).into_response()
        }
        Err(refusal) => refuse(&app, from, &refusal),
    }
}

/// What a report may say beside its stage.
#[derive(Debug, Deserialize)]
struct ReportText {
    text: Option<String>,
}

async fn report(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Path((token, stage)): Path<(String, String)>,
    Query(said): Query<ReportText>,
) -> Response {
    let stage = match stage.parse::<ReportStage>() {
        Ok(stage) => stage,
        Err(error) => {
            count(&app.counts.http_refused);
            return plain(StatusCode::NOT_FOUND, format!("{error}\n"));
        }
    };
    let text =
        said.text.map(|text| text.chars().filter(|c| !c.is_control()).take(REPORT_TEXT).collect::<String>());
    match machine_files::report(&app, from.ip(), &token, stage, text).await {
        Ok(install) => {
            count(&app.counts.http_served);
            if let Some(install) = install {
                note(&app, &install, format!("report {stage}"), "taken".into());
            }
            plain(StatusCode::OK, "taken\n")
        }
        Err(refusal) => refuse(&app, from, &refusal),
    }
}

fn note(app: &App, install: &lastmile_core::install::Install, asked: String, got: String) {
    let site = app.site();
    if let Some(mac) = site.machine_by_id(install.machine).and_then(|machine| machine.macs.first()) {
        app.trace(*mac, Wire::Http, asked, got);
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

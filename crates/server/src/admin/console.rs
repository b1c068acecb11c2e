//! The console: one page and its parts, built into the binary.

use axum::{
    http::{StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use lastmile_api::BASE;
use rust_embed::RustEmbed;

use super::reject::Reject;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Parts;

/// Whatever stands under no call of the API: a part of the console, or its page, which finds its own way.
pub(super) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if uri.path().starts_with(BASE) {
        return Reject::new(StatusCode::NOT_FOUND, "Not found", format!("the API has no {}", uri.path()))
            .into_response();
    }
    if let Some(part) = Parts::get(path) {
        // Built names carry a digest of their content.
        let forever = path.starts_with("assets/");
        let cache = if forever { "public, max-age=31536000, immutable" } else { "no-cache" };
        let kind = part.metadata.mimetype().to_owned();
        return ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache.into())], part.data)
            .into_response();
    }
    match Parts::get("index.html") {
        Some(page) => {
            // Nothing is loaded from anywhere else: sites have no outside network, and need none.
            let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:";
            let headers = [
                (header::CONTENT_TYPE, "text/html; charset=utf-8"),
                (header::CACHE_CONTROL, "no-cache"),
                (header::CONTENT_SECURITY_POLICY, policy),
            ];
            (headers, page.data).into_response()
        }
        None => {
            let text = "The console was not built into this binary. Build it with `make console`, then build again.\n";
            (StatusCode::NOT_FOUND, text).into_response()
        }
    }
}

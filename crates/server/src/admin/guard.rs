//! Keeps other sites' pages away: the API has no log-in yet, and a browser on this host can be led to it.

use axum::{
    extract::Request,
    http::{HeaderMap, StatusCode, header},
    middleware::Next,
    response::{IntoResponse, Response},
};

use super::reject::Reject;

/// Lets a request through whose Host names the loopback, and whose Origin, if it has one, is that same host.
/// A page of another site that resolves its own name to 127.0.0.1 has neither.
pub(super) async fn own_host_only(request: Request, next: Next) -> Response {
    if is_own(request.headers()) {
        return next.run(request).await;
    }
    let what = "the request names another host than the loopback, or comes from a page of another site";
    Reject::new(StatusCode::FORBIDDEN, "Not this host", what).into_response()
}

fn is_own(headers: &HeaderMap) -> bool {
    let text = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).unwrap_or_default();
    let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
    matches!(name, "localhost" | "127.0.0.1" | "[::1]")
        && text(header::ORIGIN).is_none_or(|origin| origin.strip_prefix("http://") == Some(host))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_this_host_and_its_own_page_are_let_through() {
        let own = |host: &str, origin: Option<&str>| {
            let mut headers = HeaderMap::new();
            headers.insert(header::HOST, host.parse().unwrap());
            if let Some(origin) = origin {
                headers.insert(header::ORIGIN, origin.parse().unwrap());
            }
            is_own(&headers)
        };
        assert!(own("127.0.0.1:8480", None) && own("localhost:8480", Some("http://localhost:8480")));
        assert!(own("[::1]:8480", None));
        assert!(!own("rebound.example:8480", None) && !own("127.0.0.1:8480", Some("http://other.example")));
        assert!(!own("127.0.0.1:8480", Some("http://127.0.0.1:9999")));
    }
}

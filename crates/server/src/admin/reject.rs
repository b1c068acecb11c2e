//! Refused calls as problem details (RFC 9457).

use axum::{
    body::{Body, Bytes},
    extract::{FromRequest, FromRequestParts, Request, rejection::JsonRejection},
    http::{StatusCode, header, request::Parts},
    response::{IntoResponse, Response},
};
use lastmile_api::{DraftDifference, PROBLEM_JSON, Problem};
use lastmile_core::{base::Fault, site::Edition};
use lastmile_store::StoreError;

/// A call that is refused, with the words for whoever called.
#[derive(Debug)]
pub(super) struct Reject(Box<Problem>);

impl Reject {
    pub(super) fn new(status: StatusCode, title: &str, detail: impl Into<String>) -> Self {
        Self(Box::new(Problem {
            title: title.into(),
            status: status.as_u16(),
            detail: Some(detail.into()),
            faults: Vec::new(),
            differences: Vec::new(),
            etag: None,
        }))
    }

    /// Somebody has changed it since the caller read it.
    pub(super) fn outdated(now: Edition, differences: Vec<DraftDifference>) -> Self {
        Self(Box::new(Problem {
            title: "Changed by somebody else".into(),
            status: StatusCode::PRECONDITION_FAILED.as_u16(),
            detail: Some("Somebody has changed it since you read it. Nothing was saved.".into()),
            faults: Vec::new(),
            differences,
            etag: Some(lastmile_api::etag(now)),
        }))
    }

    /// There is no such thing.
    pub(super) fn not_found(kind: &str, name: impl std::fmt::Display) -> Self {
        Self::new(StatusCode::NOT_FOUND, "Not found", format!("no {kind} is named '{name}'"))
    }

    /// Nobody has measured it yet.
    pub(super) fn not_surveyed(name: &str) -> Self {
        Self::new(StatusCode::NOT_FOUND, "Not found", format!("{name} was never surveyed"))
    }

    /// The same where nothing was to be saved: of a question, it would only be in the way to say that nothing was.
    pub(super) fn of_question(mut self) -> Self {
        if !self.0.faults.is_empty() {
            self.0.detail = None;
        }
        self
    }

    /// It is in use, or in a state that does not allow it.
    pub(super) fn conflict(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, "In use", detail)
    }
}

impl From<Vec<Fault>> for Reject {
    fn from(faults: Vec<Fault>) -> Self {
        Self(Box::new(Problem {
            title: "The input has faults".into(),
            status: StatusCode::UNPROCESSABLE_ENTITY.as_u16(),
            detail: Some("Nothing was saved.".into()),
            faults,
            differences: Vec::new(),
            etag: None,
        }))
    }
}

/// Work that was given away panicked.
impl From<tokio::task::JoinError> for Reject {
    fn from(error: tokio::task::JoinError) -> Self {
        tracing::error!("{error}");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "It broke off", error.to_string())
    }
}

impl From<StoreError> for Reject {
    fn from(error: StoreError) -> Self {
        tracing::error!("{error}");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "The records cannot be reached", error.to_string())
    }
}

impl IntoResponse for Reject {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&*self.0).unwrap_or_default();
        (status, [(header::CONTENT_TYPE, PROBLEM_JSON)], body).into_response()
    }
}

/// A JSON body whose refusal is a problem like any other.
#[derive(Debug)]
pub(super) struct Json<T>(pub(super) T);

impl<T: serde::de::DeserializeOwned, S: Send + Sync> FromRequest<S> for Json<T> {
    type Rejection = Reject;

    async fn from_request(request: Request, state: &S) -> Result<Self, Reject> {
        let (parts, body) = request.into_parts();
        let bytes = Bytes::from_request(Request::from_parts(parts.clone(), body), state).await;
        let bytes = bytes.map_err(|rejection| {
            Reject::new(rejection.status(), "The body cannot be read", rejection.body_text())
        })?;
        // serde takes a list for an object, member by member in their order: nobody means that.
        if bytes.trim_ascii_start().starts_with(b"[") {
            let said = "A list was given. Give an object, with the names of its members.";
            return Err(Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "The body is no object", said));
        }
        match axum::Json::<T>::from_request(Request::from_parts(parts, Body::from(bytes)), state).await {
            Ok(axum::Json(value)) => Ok(Self(value)),
            Err(rejection) => {
                let title = match &rejection {
                    JsonRejection::JsonDataError(_) => "A field is missing or of the wrong kind",
                    JsonRejection::JsonSyntaxError(_) => "The body is not JSON",
                    _ => "The body cannot be read",
                };
                Err(Reject::new(rejection.status(), title, rejection.body_text()))
            }
        }
    }
}

/// What a path names, whose refusal is a problem like any other.
#[derive(Debug)]
pub(super) struct Path<T>(pub(super) T);

impl<T: serde::de::DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Reject;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Reject> {
        match axum::extract::Path::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Path(value)) => Ok(Self(value)),
            Err(rejection) => {
                let said = rejection.body_text();
                Err(Reject::new(rejection.status(), "The path names something of another kind", said))
            }
        }
    }
}

/// What a query asks for, whose refusal is a problem like any other.
#[derive(Debug)]
pub(super) struct Query<T>(pub(super) T);

impl<T: serde::de::DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Reject;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Reject> {
        match axum::extract::Query::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Query(value)) => Ok(Self(value)),
            Err(rejection) => {
                let said = rejection.body_text();
                Err(Reject::new(
                    rejection.status(),
                    "A value of the query is missing or of the wrong kind",
                    said,
                ))
            }
        }
    }
}

impl<T: serde::Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        axum::Json(self.0).into_response()
    }
}

//! Trying a change: everything is checked and answered as if it were made, and nothing is.

use std::collections::HashSet;

use axum::{
    extract::{MatchedPath, Request},
    http::{Method, StatusCode},
    middleware::Next,
    response::{IntoResponse, Response},
};
use lastmile_api::DRY_RUN;
use utoipa::openapi::{
    Object, Schema, Type,
    path::{Operation, ParameterBuilder, ParameterIn},
};

use super::reject::Reject;
use crate::records::trying;

/// Calls that change something and cannot be tried: they move files, send something, or only say what would be.
const CANNOT: [&str; 12] = [
    "content_upload",
    "uploads_begin",
    "uploads_append",
    "uploads_remove",
    "images_create",
    "images_inspect",
    "revisions_verify",
    "webhooks_try",
    "loaders_find_in_packages",
    "menus_preview",
    "answers_preview",
    "check_run",
];

/// Whether a call can be tried.
fn can(method: &Method, operation: &Operation) -> bool {
    let id = operation.operation_id.as_deref().unwrap_or_default();
    *method != Method::GET && !CANNOT.contains(&id) && !id.ends_with("_preview")
}

/// The calls that can be tried, by method and path.
#[derive(Debug, Clone)]
pub(super) struct Triable(std::sync::Arc<HashSet<(Method, String)>>);

impl Triable {
    /// Those of a document.
    pub(super) fn new(document: &utoipa::openapi::OpenApi) -> Self {
        let mut all = HashSet::new();
        for (path, item) in &document.paths.paths {
            for (method, operation) in operations(item) {
                if can(&method, operation) {
                    all.insert((method, path.clone()));
                }
            }
        }
        Self(std::sync::Arc::new(all))
    }

    /// Has a call that is to be tried change nothing.
    pub(super) async fn run(self, request: Request, next: Next) -> Response {
        let is_wanted = match request.headers().get(DRY_RUN).map(|value| value.to_str()) {
            None | Some(Ok("false")) => false,
            Some(Ok("true")) => true,
            Some(_) => {
                let said = format!("{DRY_RUN} is true or false");
                return Reject::new(StatusCode::BAD_REQUEST, "A header cannot be read", said).into_response();
            }
        };
        if !is_wanted || request.method() == Method::GET {
            return next.run(request).await;
        }
        let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
        if !self.0.contains(&(request.method().clone(), path.unwrap_or_default())) {
            let said = "This call cannot be tried. Nothing was changed.";
            return Reject::new(StatusCode::BAD_REQUEST, "No dry run", said).into_response();
        }
        trying(next.run(request)).await
    }
}

fn operations(item: &utoipa::openapi::PathItem) -> impl Iterator<Item = (Method, &Operation)> {
    let all = [
        (Method::GET, &item.get),
        (Method::PUT, &item.put),
        (Method::POST, &item.post),
        (Method::DELETE, &item.delete),
        (Method::PATCH, &item.patch),
    ];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation.as_ref()?)))
}

/// Names the header in the calls that can be tried.
pub(super) fn name(document: &mut utoipa::openapi::OpenApi) {
    for item in document.paths.paths.values_mut() {
        let all = [
            (Method::PUT, &mut item.put),
            (Method::POST, &mut item.post),
            (Method::DELETE, &mut item.delete),
            (Method::PATCH, &mut item.patch),
        ];
        for (method, operation) in all {
            let Some(operation) = operation.as_mut().filter(|operation| can(&method, operation)) else {
                continue;
            };
            let header = ParameterBuilder::new()
                .name(DRY_RUN)
                .parameter_in(ParameterIn::Header)
                .description(Some(
                    "`true`: everything is checked and answered as if it were done, and nothing is changed",
                ))
                .schema(Some(Schema::Object(Object::with_type(Type::Boolean))));
            operation.parameters.get_or_insert_default().push(header.build());
        }
    }
}

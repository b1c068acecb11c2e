use axum::{body::Body, extract::State, http::StatusCode};
use lastmile_api::{ContentView, Problem};
use lastmile_core::model::image::Sha256;

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::library::TakeError;

/// Whether content is there already, so that it need not be sent.
#[utoipa::path(
    get, operation_id = "content_find", path = "/content/{sha256}", tag = "content", params(("sha256" = String, Path)),
    responses((status = 200, body = ContentView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn find(
    State(admin): State<Admin>,
    Path(sha256): Path<String>,
) -> Result<Json<ContentView>, Reject> {
    let digest = digest(&sha256)?;
    let size = admin.app.library.size(&digest).ok_or_else(|| Reject::not_found("content", &sha256))?;
    Ok(Json(ContentView { sha256, size }))
}

/// Takes content in. It is kept only if all of it came and its digest is the one in the path.
#[utoipa::path(
    put, operation_id = "content_upload", path = "/content/{sha256}", tag = "content", params(("sha256" = String, Path)),
    request_body(content_type = "application/octet-stream"),
    responses((status = 201, body = ContentView), (status = 422, body = Problem))
)]
pub(super) async fn upload(
    State(admin): State<Admin>,
    Path(sha256): Path<String>,
    body: Body,
) -> Result<(StatusCode, Json<ContentView>), Reject> {
    let digest = digest(&sha256)?;
    let size = admin.app.library.take(digest, body.into_data_stream()).await.map_err(|error| {
        let status = match error {
            TakeError::Digest { .. } | TakeError::Broken(_) => StatusCode::UNPROCESSABLE_ENTITY,
            TakeError::Disk(_) => StatusCode::INSUFFICIENT_STORAGE,
        };
        Reject::new(status, "The content was not kept", error.to_string())
    })?;
    Ok((StatusCode::CREATED, Json(ContentView { sha256, size })))
}

fn digest(text: &str) -> Result<Sha256, Reject> {
    let wrong = |error: lastmile_core::model::image::Sha256Error| {
        Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "No digest", error.to_string())
    };
    text.parse().map_err(wrong)
}

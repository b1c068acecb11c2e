use axum::{
    body::Body,
    extract::State,
    http::{HeaderMap, StatusCode},
};
use lastmile_api::{Problem, Upload, UploadRequest};

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::library::UploadError;

/// Header that says where a piece begins, as the IETF's draft on resumable uploads has it.
const OFFSET: &str = "upload-offset";

/// Begins an upload in pieces, or finds the one of the same file that broke off.
#[utoipa::path(
    post, operation_id = "uploads_begin", path = "/uploads", tag = "content", request_body = UploadRequest,
    responses((status = 201, body = Upload), (status = 507, body = Problem))
)]
pub(super) async fn begin(
    State(admin): State<Admin>,
    Json(request): Json<UploadRequest>,
) -> Result<(StatusCode, Json<Upload>), Reject> {
    Ok((StatusCode::CREATED, Json(admin.app.uploads.begin(request).map_err(reject)?)))
}

/// How far an upload is.
#[utoipa::path(
    get, operation_id = "uploads_read", path = "/uploads/{id}", tag = "content", params(("id" = String, Path)),
    responses((status = 200, body = Upload), (status = 404, body = Problem))
)]
pub(super) async fn read(State(admin): State<Admin>, Path(id): Path<String>) -> Result<Json<Upload>, Reject> {
    Ok(Json(admin.app.uploads.read(&id).map_err(reject)?))
}

/// Takes the piece that begins where the header `Upload-Offset` says. With the last byte the file is in the library, and
/// the answer names it.
#[utoipa::path(
    patch, operation_id = "uploads_append", path = "/uploads/{id}", tag = "content",
    params(("id" = String, Path), ("Upload-Offset" = u64, Header)),
    request_body(content_type = "application/octet-stream"),
    responses((status = 200, body = Upload), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn append(
    State(admin): State<Admin>,
    Path(id): Path<String>,
    headers: HeaderMap,
    body: Body,
) -> Result<Json<Upload>, Reject> {
    let offset = headers.get(OFFSET).and_then(|value| value.to_str().ok()).and_then(|text| text.parse().ok());
    let offset = offset.ok_or_else(|| {
        let what =
            "the header Upload-Offset says at which byte the piece begins, and is missing or no number";
        Reject::new(StatusCode::BAD_REQUEST, "No offset", what)
    })?;
    Ok(Json(admin.app.uploads.append(&id, offset, body.into_data_stream()).await.map_err(reject)?))
}

/// Calls an upload off.
#[utoipa::path(
    delete, operation_id = "uploads_remove", path = "/uploads/{id}", tag = "content", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn remove(State(admin): State<Admin>, Path(id): Path<String>) -> Result<StatusCode, Reject> {
    admin.app.uploads.remove(&id).map_err(reject)?;
    Ok(StatusCode::NO_CONTENT)
}

fn reject(error: UploadError) -> Reject {
    let status = match error {
        UploadError::Unknown(_) => StatusCode::NOT_FOUND,
        UploadError::Offset { .. } => StatusCode::CONFLICT,
        UploadError::TooLong { .. } | UploadError::Broken(_) => StatusCode::UNPROCESSABLE_ENTITY,
        UploadError::Disk(_) => StatusCode::INSUFFICIENT_STORAGE,
    };
    Reject::new(status, "The piece was not taken", error.to_string())
}

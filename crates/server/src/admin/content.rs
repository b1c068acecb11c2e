use std::collections::HashSet;

use axum::{body::Body, extract::State, http::StatusCode};
use lastmile_api::{ContentView, Problem};
use lastmile_core::image::{Sha256, VolumePlace};

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::{library::TakeError, state::App};

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
    let wrong = |error: lastmile_core::image::Sha256Error| {
        Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "No digest", error.to_string())
    };
    text.parse().map_err(wrong)
}

/// Removes the content that a removed image or loader leaves without a name.
pub(super) async fn sweep(app: &App) {
    let site = app.site();
    let loose = site.revisions().filter(|revision| revision.volume.is_none());
    let files = loose.flat_map(|revision| revision.manifest.files());
    let loaders = site.loaders().flat_map(|loader| loader.manifest.files());
    let volumes = site.revisions().filter_map(|revision| match revision.volume.as_ref()?.place() {
        VolumePlace::Kept { sha256 } => Some(*sha256),
        VolumePlace::InPlace { .. } => None,
    });
    let named: HashSet<Sha256> = files.chain(loaders).filter_map(|file| file.sha256).chain(volumes).collect();
    if let Err(error) = app.library.sweep(&named).await {
        tracing::warn!("content that nothing names was not removed: {error}");
    }
}

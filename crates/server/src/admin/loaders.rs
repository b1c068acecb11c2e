use axum::{
    extract::{Path, State},
    http::StatusCode,
};
use lastmile_api::{LoaderDraft, LoaderView, Problem};
use lastmile_core::Id;

use super::{
    Admin,
    reject::{Json, Reject},
};

/// All loaders.
#[utoipa::path(get, operation_id = "loaders_list", path = "/loaders", tag = "loaders", responses((status = 200, body = [LoaderView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<LoaderView>> {
    Json(admin.app.site().loaders().map(|loader| loader.as_ref().into()).collect())
}

/// Adds a loader whose files were uploaded before.
#[utoipa::path(
    post, operation_id = "loaders_create", path = "/loaders", tag = "loaders", request_body = LoaderDraft,
    responses((status = 201, body = LoaderView), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<LoaderDraft>,
) -> Result<(StatusCode, Json<LoaderView>), Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let others = site.loaders().map(AsRef::as_ref);
    let loader = draft.check(Id::generate(), others, |sha256, size| app.library.has(sha256, size))?;
    let kept = loader.clone();
    app.store.write(move |tx| tx.add_loader(&kept)).await?;
    app.change_site(|site| site.with_loader(loader.clone()));
    Ok((StatusCode::CREATED, Json((&loader).into())))
}

/// One loader.
#[utoipa::path(
    get, operation_id = "loaders_read", path = "/loaders/{name}", tag = "loaders", params(("name" = String, Path)),
    responses((status = 200, body = LoaderView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<LoaderView>, Reject> {
    let site = admin.app.site();
    let loader = site.loader(&name).ok_or_else(|| Reject::not_found("loader", &name))?;
    Ok(Json(loader.as_ref().into()))
}

/// Removes a loader. Firmware of its kind gets an address and nothing to boot until another is added.
#[utoipa::path(
    delete, operation_id = "loaders_remove", path = "/loaders/{name}", tag = "loaders", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let id = app.site().loader(&name).ok_or_else(|| Reject::not_found("loader", &name))?.id;
    app.store.write(move |tx| tx.remove_loader(id)).await?;
    app.change_site(|site| site.without_loader(&name));
    super::content::sweep(app).await;
    Ok(StatusCode::NO_CONTENT)
}

use axum::{extract::State, http::StatusCode};
use lastmile_api::{FoundLoader, LoaderDraft, LoaderView, Problem};
use lastmile_core::{Id, boot::identify};

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::{library::Shelf, packaged, state::App};

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
    Ok((StatusCode::CREATED, Json(add(app, &draft).await?)))
}

/// The caller holds the lock of those who change the site.
async fn add(app: &App, draft: &LoaderDraft) -> Result<LoaderView, Reject> {
    let (library, looked) = (app.library.clone(), draft.clone());
    let identified = tokio::task::spawn_blocking(move || {
        identify(&Shelf::new(&library, &looked.files), &looked.boot_file)
    });
    let facts = identified.await.unwrap_or_default();
    let site = app.site();
    let others = site.loaders().map(AsRef::as_ref);
    let loader = draft.check(Id::generate(), facts, others, |sha256, size| app.library.has(sha256, size))?;
    let kept = loader.clone();
    app.store.write(move |tx| tx.add_loader(&kept)).await?;
    app.change_site(|site| site.with_loader(loader.clone()));
    Ok((&loader).into())
}

/// Loaders that the operating system's packages put on the service's host.
#[utoipa::path(
    get, operation_id = "loaders_find", path = "/loaders/packaged", tag = "loaders",
    responses((status = 200, body = [FoundLoader]))
)]
pub(super) async fn packaged(State(admin): State<Admin>) -> Json<Vec<FoundLoader>> {
    Json(find(&admin.app).await)
}

/// Adds a loader that packages put on the service's host, under the name that it was found by.
#[utoipa::path(
    post, operation_id = "loaders_add_packaged", path = "/loaders/packaged/{name}", tag = "loaders",
    params(("name" = String, Path)),
    responses((status = 201, body = LoaderView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn add_packaged(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<(StatusCode, Json<LoaderView>), Reject> {
    let app = &admin.app;
    let found = find(app).await.into_iter().find(|found| found.name == name);
    let found = found.ok_or_else(|| Reject::not_found("packaged loader", &name))?;
    let library = app.library.clone();
    let files = found.files.clone();
    let copied = tokio::task::spawn_blocking(move || {
        files
            .iter()
            .map(|file| library.take_file(&file.name, std::path::Path::new(&file.path)))
            .collect::<Result<Vec<_>, _>>()
    });
    let unreadable =
        |error: String| Reject::new(StatusCode::INSUFFICIENT_STORAGE, "The files were not kept", error);
    let files = copied.await.map_err(|error| unreadable(error.to_string()))?;
    let draft = LoaderDraft {
        name,
        architecture: None,
        class: None,
        user_class: found.user_class,
        boot_file: found.boot_file,
        http: None,
        language: None,
        files: files.map_err(|error| unreadable(error.to_string()))?,
    };
    let _alone = app.admin_write.lock().await;
    Ok((StatusCode::CREATED, Json(add(app, &draft).await?)))
}

async fn find(app: &App) -> Vec<FoundLoader> {
    let site = app.site();
    let found = tokio::task::spawn_blocking(move || packaged::find(std::path::Path::new("/"), &site));
    found.await.unwrap_or_default()
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

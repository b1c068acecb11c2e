use axum::{
    extract::{Path, State},
    http::StatusCode,
};
use jiff::Timestamp;
use lastmile_api::{ImageView, Problem, RevisionDraft};
use lastmile_core::{image::Image, machine::Standing, site::Site};

use super::{
    Admin,
    reject::{Json, Reject},
};

/// All images.
#[utoipa::path(get, operation_id = "images_list", path = "/images", tag = "images", responses((status = 200, body = [ImageView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<ImageView>> {
    let site = admin.app.site();
    Json(site.images().map(|image| view(&site, image)).collect())
}

/// Imports a revision whose files were uploaded before: of a new image, or the next of an existing one.
#[utoipa::path(
    post, operation_id = "images_create", path = "/images", tag = "images", request_body = RevisionDraft,
    responses((status = 201, body = ImageView), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<RevisionDraft>,
) -> Result<(StatusCode, Json<ImageView>), Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let existing = site.image(&draft.name).map(AsRef::as_ref);
    let image = draft.check(existing, Timestamp::now(), |sha256, size| app.library.has(sha256, size))?;
    let kept = image.clone();
    app.store.write(move |tx| tx.add_revision(&kept)).await?;
    app.change_site(|site| site.with_image(image.clone()));
    Ok((StatusCode::CREATED, Json(view(&app.site(), &image))))
}

/// One image.
#[utoipa::path(
    get, operation_id = "images_read", path = "/images/{name}", tag = "images", params(("name" = String, Path)),
    responses((status = 200, body = ImageView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<ImageView>, Reject> {
    let site = admin.app.site();
    let image = site.image(&name).ok_or_else(|| Reject::not_found("image", &name))?;
    Ok(Json(view(&site, image)))
}

/// Removes an image and all its revisions, unless something needs it.
#[utoipa::path(
    delete, operation_id = "images_remove", path = "/images/{name}", tag = "images", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let image = site.image(&name).ok_or_else(|| Reject::not_found("image", &name))?;
    let open: Vec<_> =
        site.open_installs().filter(|open| open.image == name).map(|open| open.number.to_string()).collect();
    if !open.is_empty() {
        return Err(Reject::conflict(format!(
            "install {} of {name} goes on. Wait for its end, or cancel it",
            open.join(", ")
        )));
    }
    if let Some(machine) = site.machines().find(|machine| machine.standing == Standing::Live(image.id)) {
        return Err(Reject::conflict(format!(
            "{} runs {name} at every start. Give it another standing first",
            machine.name
        )));
    }
    let id = image.id;
    app.store.write(move |tx| tx.remove_image(id)).await?;
    app.change_site(|site| site.without_image(&name));
    super::content::sweep(app).await;
    Ok(StatusCode::NO_CONTENT)
}

fn view(site: &Site, image: &Image) -> ImageView {
    let holds = |machine: &&std::sync::Arc<lastmile_core::machine::Machine>| {
        site.last_installed(machine.id).is_some_and(|install| install.image == image.name)
    };
    ImageView::new(image, site.machines().filter(holds).count())
}

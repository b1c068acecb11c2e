use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use jiff::Timestamp;
use lastmile_api::{
    CurrentRevision, ImageDetail, ImageRow, ImageTitle, Inspection, Problem, RevisionDetail, RevisionDraft,
    RevisionRow, Work,
};
use lastmile_core::{
    Fault,
    image::{Holding, Image, Revision},
    machine::{Machine, Standing},
    site::Site,
};

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::{
    intake::{self, LookError},
    state::App,
};

/// All images.
#[utoipa::path(get, operation_id = "images_list", path = "/images", tag = "images", responses((status = 200, body = [ImageRow])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<ImageRow>> {
    let site = admin.app.site();
    Json(site.images().map(|image| row(&site, image)).collect())
}

/// Looks into files that were uploaded before, or into an ISO on the service's host, and says what saving them as a
/// revision would make. Nothing is saved; a tar archive is unpacked, and the draft then names its files.
#[utoipa::path(
    post, operation_id = "images_inspect", path = "/images/inspect", tag = "images", request_body = RevisionDraft,
    responses((status = 200, body = Inspection), (status = 422, body = Problem))
)]
pub(super) async fn inspect(
    State(admin): State<Admin>,
    Json(draft): Json<RevisionDraft>,
) -> Result<Json<Inspection>, Reject> {
    let app = &admin.app;
    let holding = look(app, &draft).await?;
    let mut filled = draft.filled(&holding.recognised);
    if holding.volume.is_none() {
        filled.files.clone_from(&holding.files);
    }
    let site = app.site();
    let existing = site.image(&filled.name).map(AsRef::as_ref);
    let number = existing.map_or(0, |existing| existing.last_number) + 1;
    let (recognised, files) = (holding.recognised.clone(), holding.files.clone());
    let checked =
        filled.check(existing, holding, Timestamp::now(), |sha256, size| app.library.has(sha256, size));
    Ok(Json(Inspection::new(filled, &recognised, checked.err().unwrap_or_default(), number, &files)))
}

/// Imports a revision: of a new image, or the next of an existing one. What the draft leaves out is recognised.
#[utoipa::path(
    post, operation_id = "images_create", path = "/images", tag = "images", request_body = RevisionDraft,
    responses((status = 201, body = ImageDetail), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<RevisionDraft>,
) -> Result<(StatusCode, Json<ImageDetail>), Reject> {
    let app = &admin.app;
    let holding = look(app, &draft).await?;
    let draft = draft.filled(&holding.recognised);
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let existing = site.image(&draft.name).map(AsRef::as_ref);
    let now = Timestamp::now();
    let mut image = draft.check(existing, holding, now, |sha256, size| app.library.has(sha256, size))?;
    if image.current.volume.is_none() {
        // Their digests were right when they came, a moment ago.
        image.current = Arc::new(Revision { verified: Some(now), ..(*image.current).clone() });
    }
    let kept = image.clone();
    app.store.write(move |tx| tx.add_revision(&kept)).await?;
    app.change_site(|site| site.with_image(image.clone()));
    app.tell_image(&image.name);
    app.verify_soon.notify_one();
    Ok((StatusCode::CREATED, Json(detail(&app.site(), &image))))
}

/// What a draft holds, looked into where waiting for the disk hurts nobody.
async fn look(app: &Arc<App>, draft: &RevisionDraft) -> Result<Holding, Reject> {
    let (library, work, draft) = (app.library.clone(), app.work.clone(), draft.clone());
    let looked = tokio::task::spawn_blocking(move || intake::look(&library, &work, &draft)).await;
    let looked = looked.map_err(|error| {
        Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "The files cannot be looked into", error.to_string())
    })?;
    looked.map_err(|error| {
        let (place, mend) = match &error {
            LookError::Nothing | LookError::Both => {
                ("files", "Give uploaded files, or an ISO's path as in_place.")
            }
            LookError::Relative(_) => ("in_place", "Give the path from the root: /srv/iso/tidewrack.iso."),
            LookError::Unreadable { .. } => ("in_place", "Name a file that the service's user may read."),
            LookError::Iso { .. } => ("in_place", "Give an ISO 9660 volume, or upload the files."),
            LookError::Missing { .. } => ("files", "Upload the content first, then name it here."),
        };
        let place = if draft_has_files(&error) { "files" } else { place };
        vec![Fault { place: place.into(), what: error.to_string(), mend: mend.into() }].into()
    })
}

/// Whether the trouble is with a file that was uploaded.
fn draft_has_files(error: &LookError) -> bool {
    match error {
        LookError::Iso { path, .. } | LookError::Unreadable { path, .. } => !path.starts_with('/'),
        _ => false,
    }
}

/// One image, with its current revision whole.
#[utoipa::path(
    get, operation_id = "images_read", path = "/images/{name}", tag = "images", params(("name" = String, Path)),
    responses((status = 200, body = ImageDetail), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<ImageDetail>, Reject> {
    let site = admin.app.site();
    Ok(Json(detail(&site, find(&site, &name)?)))
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
    let image = find(&site, &name)?;
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
    if let Some(menu) = site.menus().find(|menu| menu.images().any(|shown| shown == name)) {
        return Err(Reject::conflict(format!("menu {} starts {name}. Take that entry out first", menu.name)));
    }
    let id = image.id;
    app.store.write(move |tx| tx.remove_image(id)).await?;
    app.change_site(|site| site.without_image(&name));
    app.tell_image(&name);
    super::content::sweep(app).await;
    Ok(StatusCode::NO_CONTENT)
}

/// One revision, whole.
#[utoipa::path(
    get, operation_id = "revisions_read", path = "/images/{name}/revisions/{number}", tag = "images",
    params(("name" = String, Path), ("number" = u32, Path)),
    responses((status = 200, body = RevisionDetail), (status = 404, body = Problem))
)]
pub(super) async fn read_revision(
    State(admin): State<Admin>,
    Path((name, number)): Path<(String, u32)>,
) -> Result<Json<RevisionDetail>, Reject> {
    let site = admin.app.site();
    let revision = find_revision(&site, &name, number)?;
    Ok(Json(RevisionDetail::new(revision, holders(&site, &name, Some(number)))))
}

/// Makes a revision the current one: forward, or back to an earlier one.
#[utoipa::path(
    put, operation_id = "images_set_current", path = "/images/{name}/current", tag = "images", params(("name" = String, Path)),
    request_body = CurrentRevision,
    responses((status = 200, body = ImageDetail), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn set_current(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(wanted): Json<CurrentRevision>,
) -> Result<Json<ImageDetail>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let revision = find_revision(&site, &name, wanted.number)?;
    if revision.retired.is_some() {
        return Err(Reject::conflict(format!(
            "revision {} of {name} is retired. Bring it back first",
            wanted.number
        )));
    }
    keep(app, Image { current: revision.clone(), ..find(&site, &name)?.clone() }).await
}

/// Changes what the person at the machine reads of an image. It is no part of a revision.
#[utoipa::path(
    put, operation_id = "images_set_title", path = "/images/{name}/title", tag = "images", params(("name" = String, Path)),
    request_body = ImageTitle,
    responses((status = 200, body = ImageDetail), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn set_title(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(wanted): Json<ImageTitle>,
) -> Result<Json<ImageDetail>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let image = find(&app.site(), &name)?.retitled(&wanted.title).map_err(|fault| vec![fault])?;
    keep(app, image).await
}

/// Puts a changed image on record, and shows it.
async fn keep(app: &App, image: Image) -> Result<Json<ImageDetail>, Reject> {
    let kept = image.clone();
    app.store.write(move |tx| tx.put_image(&kept)).await?;
    app.change_site(|site| site.with_image(image.clone()));
    app.tell_image(&image.name);
    Ok(Json(detail(&app.site(), &image)))
}

/// Takes a revision out of use: nobody can make it current. Installs on record keep it.
#[utoipa::path(
    post, operation_id = "revisions_retire", path = "/images/{name}/revisions/{number}/retire", tag = "images",
    params(("name" = String, Path), ("number" = u32, Path)),
    responses((status = 200, body = RevisionDetail), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn retire(
    State(admin): State<Admin>,
    Path((name, number)): Path<(String, u32)>,
) -> Result<Json<RevisionDetail>, Reject> {
    set_retired(&admin.app, &name, number, Some(Timestamp::now())).await
}

/// Brings a retired revision back.
#[utoipa::path(
    post, operation_id = "revisions_restore", path = "/images/{name}/revisions/{number}/restore", tag = "images",
    params(("name" = String, Path), ("number" = u32, Path)),
    responses((status = 200, body = RevisionDetail), (status = 404, body = Problem))
)]
pub(super) async fn restore(
    State(admin): State<Admin>,
    Path((name, number)): Path<(String, u32)>,
) -> Result<Json<RevisionDetail>, Reject> {
    set_retired(&admin.app, &name, number, None).await
}

async fn set_retired(
    app: &App,
    name: &str,
    number: u32,
    retired: Option<Timestamp>,
) -> Result<Json<RevisionDetail>, Reject> {
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let revision = find_revision(&site, name, number)?;
    if retired.is_some() && find(&site, name)?.current.id == revision.id {
        return Err(Reject::conflict(format!(
            "revision {number} is the current one of {name}. Make another current first"
        )));
    }
    let changed = Revision { retired, ..(**revision).clone() };
    let kept = changed.clone();
    app.store.write(move |tx| tx.put_revision(&kept)).await?;
    app.change_site(|site| site.with_revision(changed.clone()));
    app.tell_image(name);
    Ok(Json(RevisionDetail::new(&changed, holders(&app.site(), name, Some(number)))))
}

/// Removes a revision, unless it is the current one or an install of it goes on.
#[utoipa::path(
    delete, operation_id = "revisions_remove", path = "/images/{name}/revisions/{number}", tag = "images",
    params(("name" = String, Path), ("number" = u32, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn remove_revision(
    State(admin): State<Admin>,
    Path((name, number)): Path<(String, u32)>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let revision = find_revision(&site, &name, number)?;
    if find(&site, &name)?.current.id == revision.id {
        return Err(Reject::conflict(format!(
            "revision {number} is the current one of {name}. Make another current first"
        )));
    }
    if let Some(open) = site.open_installs().find(|open| open.revision == revision.id) {
        return Err(Reject::conflict(format!(
            "install {} of it goes on. Wait for its end, or cancel it",
            open.number
        )));
    }
    let id = revision.id;
    app.store.write(move |tx| tx.remove_revision(id)).await?;
    app.change_site(|site| site.without_revision(id));
    app.tell_image(&name);
    super::content::sweep(app).await;
    Ok(StatusCode::NO_CONTENT)
}

/// Reads every file of a revision again and holds it against its digest. Answers when that is done; `GET /work` tells how
/// far it is.
#[utoipa::path(
    post, operation_id = "revisions_verify", path = "/images/{name}/revisions/{number}/verify", tag = "images",
    params(("name" = String, Path), ("number" = u32, Path)),
    responses((status = 200, body = RevisionDetail), (status = 404, body = Problem))
)]
pub(super) async fn verify(
    State(admin): State<Admin>,
    Path((name, number)): Path<(String, u32)>,
) -> Result<Json<RevisionDetail>, Reject> {
    let app = &admin.app;
    let id = find_revision(&app.site(), &name, number)?.id;
    // A reader who leaves does not break it off.
    let reading = tokio::spawn({
        let app = app.clone();
        async move { intake::verify_again(&app, id).await }
    });
    let trouble =
        |what: String| Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "It was not read again", what);
    reading.await.map_err(|error| trouble(error.to_string()))?.map_err(trouble)?;
    let site = app.site();
    let revision = find_revision(&site, &name, number)?;
    Ok(Json(RevisionDetail::new(revision, holders(&site, &name, Some(number)))))
}

/// What the service does that takes longer than a moment, and what of that ended lately.
#[utoipa::path(get, operation_id = "work_list", path = "/work", tag = "images", responses((status = 200, body = [Work])))]
pub(super) async fn work(State(admin): State<Admin>) -> Json<Vec<Work>> {
    Json(admin.app.work.all())
}

fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Image, Reject> {
    site.image(name).map(AsRef::as_ref).ok_or_else(|| Reject::not_found("image", name))
}

fn find_revision<'a>(site: &'a Site, name: &str, number: u32) -> Result<&'a Arc<Revision>, Reject> {
    find(site, name)?;
    site.revision_of(name, number).ok_or_else(|| Reject::not_found("revision", format!("{name} r{number}")))
}

/// How many machines hold an image, or a revision of it.
fn holders(site: &Site, name: &str, number: Option<u32>) -> usize {
    let holds = |machine: &&Arc<Machine>| {
        let installed = site.last_installed(machine.id);
        installed.is_some_and(|held| {
            held.image == name && number.is_none_or(|number| held.image_revision == number)
        })
    };
    site.machines().filter(holds).count()
}

fn row(site: &Site, image: &Image) -> ImageRow {
    let of_current = holders(site, &image.name, Some(image.current.number));
    ImageRow::new(image, site.revisions_of(image.id).len(), holders(site, &image.name, None), of_current)
}

fn detail(site: &Site, image: &Image) -> ImageDetail {
    let row_of = |revision: &Arc<Revision>| {
        RevisionRow::new(revision, holders(site, &image.name, Some(revision.number)))
    };
    let row = row(site, image);
    ImageDetail {
        revision: RevisionDetail::new(&image.current, row.current.machines),
        all: site.revisions_of(image.id).into_iter().rev().map(row_of).collect(),
        menus: site
            .menus()
            .filter(|menu| menu.images().any(|name| name == image.name))
            .map(|menu| menu.name.clone())
            .collect(),
        image: row,
    }
}

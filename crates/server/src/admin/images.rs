use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use jiff::Timestamp;
use lastmile_api::{
    CurrentRevision, ImageDetail, ImageRow, ImageTitle, Inspection, Problem, RevisionDetail, RevisionDraft,
    RevisionRow, Work,
};
use lastmile_core::{
    base::Fault,
    model::{
        image::{Holding, Image, Revision, Sha256},
        machine::{DefaultBoot, Machine},
    },
    site::{Entity, Site},
};
use lastmile_store::Change;

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Reject},
};
use crate::{
    app::App,
    clock,
    intake::{self, LookError},
    library::Promised,
};

impl Named for Image {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.image(name).ok_or_else(|| Reject::not_found("image", name))
    }

    fn entity(&self) -> Entity {
        Entity::Image(self.id)
    }
}

/// All images.
#[utoipa::path(get, operation_id = "images_list", path = "/images", tag = "images", responses((status = 200, body = [ImageRow])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<ImageRow>> {
    let site = admin.app.records.site();
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
    let (holding, promised) = look(app, &draft).await?;
    let mut filled = draft.filled(&holding.recognised);
    if holding.volume.is_none() {
        filled.files.clone_from(&holding.files);
    }
    let site = app.records.site();
    let existing = site.image(&filled.name).map(AsRef::as_ref);
    let last = site.last_revision_number(&filled.name);
    let number = last + 1;
    let (recognised, files) = (holding.recognised.clone(), holding.files.clone());
    let has = |sha256: &Sha256, size| promised.has(sha256, size);
    let checked = filled.check(existing, last, holding, clock::now(), has);
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
) -> Result<Edited<ImageDetail>, Reject> {
    import(&admin.app, draft, Vec::new()).await
}

/// Imports a revision, of which there is more to note than what is recognised.
pub(super) async fn import(
    app: &App,
    draft: RevisionDraft,
    notes: Vec<String>,
) -> Result<Edited<ImageDetail>, Reject> {
    let (mut holding, promised) = look(app, &draft).await?;
    holding.recognised.notes.extend(notes);
    let draft = draft.filled(&holding.recognised);
    let create = move |change: &mut Change<'_>| {
        let (site, now) = (change.site(), clock::now());
        let (existing, last) =
            (site.image(&draft.name).map(AsRef::as_ref), site.last_revision_number(&draft.name));
        let mut image =
            draft.check(existing, last, holding, now, |sha256, size| promised.has(sha256, size))?;
        if image.current.volume.is_none() {
            // Their digests were right when they came, a moment ago.
            image.current = Arc::new(Revision { verified: Some(now), ..(*image.current).clone() });
        }
        change.add_revision(image.clone())?;
        Ok::<_, Reject>(edited(change.site(), &image).created())
    };
    app.records.change(create).await
}

fn edited(site: &Site, image: &Image) -> Edited<ImageDetail> {
    Edited::new(site, &Entity::Image(image.id), detail(site, image))
}

/// What a draft holds, and what of that is in the library, looked into where waiting for the disk hurts nobody.
async fn look(app: &App, draft: &RevisionDraft) -> Result<(Holding, Promised), Reject> {
    let (library, work, draft) = (app.library.clone(), app.work.clone(), draft.clone());
    let look = move || {
        // Before it is looked into, which may take a while; what an archive holds comes by that only.
        library.promise(&draft.files);
        let holding = intake::look(&library, &work, &draft)?;
        let promised = library.promise(&holding.files);
        Ok((holding, promised))
    };
    let looked = tokio::task::spawn_blocking(look).await;
    let looked = looked.map_err(|error| {
        Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "The files cannot be looked into", error.to_string())
    })?;
    looked.map_err(|error: LookError| {
        let (place, fix) = match &error {
            LookError::Nothing | LookError::Both => {
                ("files", "Give uploaded files, or an ISO's path as in_place.")
            }
            LookError::Relative(_) => ("in_place", "Give the path from the root: /srv/iso/tidewrack.iso."),
            LookError::Unreadable { .. } => ("in_place", "Name a file that the service's user may read."),
            LookError::Iso { .. } => ("in_place", "Give an ISO 9660 volume, or upload the files."),
            LookError::Missing { .. } => ("files", "Upload the content first, then name it here."),
            LookError::Digest { .. } => ("sha256", "Fetch the file again, or give the digest of this one."),
            LookError::DigestOfSeveral => ("sha256", "Leave it out, or give the one file that it is of."),
        };
        let place = if draft_has_files(&error) { "files" } else { place };
        vec![Fault { place: place.into(), what: error.to_string(), fix: fix.into() }].into()
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
) -> Result<Edited<ImageDetail>, Reject> {
    named::read(&admin, &name, |site, image: &Arc<Image>| detail(site, image))
}

/// Removes an image and all its revisions, unless something needs it.
#[utoipa::path(
    delete, operation_id = "images_remove", path = "/images/{name}", tag = "images", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, image: Arc<Image>| {
        let (site, name) = (change.site(), &image.name);
        let open = site.open_installs().filter(|open| open.image == *name);
        let open: Vec<_> = open.map(|open| open.number.to_string()).collect();
        if !open.is_empty() {
            return Err(Reject::conflict(format!(
                "install {} of {name} goes on. Wait for its end, or cancel it",
                open.join(", ")
            )));
        }
        if let Some(machine) =
            site.machines().find(|machine| machine.default_boot == DefaultBoot::Live(image.id))
        {
            return Err(Reject::conflict(format!(
                "{} runs {name} at every start. Give it another default boot first",
                machine.name
            )));
        }
        if let Some(label) = site.labels().find(|label| label.image.as_ref() == Some(name)) {
            let label = &label.name;
            return Err(Reject::conflict(format!(
                "machines of label {label} are armed with {name}. Give the label another image first"
            )));
        }
        if let Some(menu) = site.menus().find(|menu| menu.images().any(|shown| shown == *name)) {
            let menu = &menu.name;
            return Err(Reject::conflict(format!("menu {menu} starts {name}. Take that entry out first")));
        }
        Ok(change.remove_image(&image)?)
    };
    named::remove(&admin, name, base, remove).await
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
    let site = admin.app.records.site();
    let revision = find_revision(&site, &name, number)?;
    Ok(Json(RevisionDetail::new(revision, holders(&site, &name, Some(number)))))
}

/// Makes a revision the current one: forward, or back to an earlier one.
#[utoipa::path(
    put, operation_id = "images_set_current", path = "/images/{name}/current", tag = "images", params(("name" = String, Path)),
    request_body = CurrentRevision,
    responses((status = 200, body = ImageDetail), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn set_current(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(wanted): Json<CurrentRevision>,
) -> Result<Edited<ImageDetail>, Reject> {
    let entered = |_: &Site, image: &Image| CurrentRevision { number: image.current.number };
    let set_current = |change: &mut Change<'_>, image: Arc<Image>, wanted: CurrentRevision| {
        let revision = find_revision(change.site(), &image.name, wanted.number)?.clone();
        if revision.retired.is_some() {
            return Err(Reject::conflict(format!(
                "revision {} of {} is retired. Bring it back first",
                wanted.number, image.name
            )));
        }
        let image = Image { current: revision, ..(*image).clone() };
        change.put_image(image.clone())?;
        Ok(edited(change.site(), &image))
    };
    named::change(&admin, name, base, wanted, entered, set_current).await
}

/// Changes what the person at the machine reads of an image. It is no part of a revision.
#[utoipa::path(
    put, operation_id = "images_set_title", path = "/images/{name}/title", tag = "images", params(("name" = String, Path)),
    request_body = ImageTitle,
    responses((status = 200, body = ImageDetail), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn set_title(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(wanted): Json<ImageTitle>,
) -> Result<Edited<ImageDetail>, Reject> {
    let entered = |_: &Site, image: &Image| ImageTitle { title: image.title.clone() };
    let set_title = |change: &mut Change<'_>, image: Arc<Image>, wanted: ImageTitle| {
        let image = image.retitled(&wanted.title).map_err(|fault| vec![fault])?;
        change.put_image(image.clone())?;
        Ok(edited(change.site(), &image))
    };
    named::change(&admin, name, base, wanted, entered, set_title).await
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
    set_retired(&admin.app, name, number, Some(clock::now())).await
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
    set_retired(&admin.app, name, number, None).await
}

async fn set_retired(
    app: &App,
    name: String,
    number: u32,
    retired: Option<Timestamp>,
) -> Result<Json<RevisionDetail>, Reject> {
    let set_retired = move |change: &mut Change<'_>| {
        let site = change.site();
        let revision = find_revision(site, &name, number)?;
        if retired.is_some() && Image::find(site, &name)?.current.id == revision.id {
            return Err(Reject::conflict(format!(
                "revision {number} is the current one of {name}. Make another current first"
            )));
        }
        let changed = Revision { retired, ..(**revision).clone() };
        change.put_revision(changed.clone())?;
        Ok(Json(RevisionDetail::new(&changed, holders(change.site(), &name, Some(number)))))
    };
    app.records.change(set_retired).await
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
    let remove = move |change: &mut Change<'_>| {
        let site = change.site();
        let revision = find_revision(site, &name, number)?.clone();
        if Image::find(site, &name)?.current.id == revision.id {
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
        Ok(change.remove_revision(&revision)?)
    };
    admin.app.records.change(remove).await?;
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
    let id = find_revision(&app.records.site(), &name, number)?.id;
    // A reader who leaves does not break it off.
    let reading = tokio::spawn({
        let app = app.clone();
        async move { intake::verify_again(&app.intake(), id).await }
    });
    let trouble =
        |what: String| Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "It was not read again", what);
    reading.await.map_err(|error| trouble(error.to_string()))?.map_err(trouble)?;
    let site = app.records.site();
    let revision = find_revision(&site, &name, number)?;
    Ok(Json(RevisionDetail::new(revision, holders(&site, &name, Some(number)))))
}

/// What the service does that takes longer than a moment, and what of that ended lately.
#[utoipa::path(get, operation_id = "work_list", path = "/work", tag = "images", responses((status = 200, body = [Work])))]
pub(super) async fn work(State(admin): State<Admin>) -> Json<Vec<Work>> {
    Json(admin.app.work.all())
}

fn find_revision<'a>(site: &'a Site, name: &str, number: u32) -> Result<&'a Arc<Revision>, Reject> {
    Image::find(site, name)?;
    site.revision_of(name, number).ok_or_else(|| Reject::not_found("revision", format!("{name} r{number}")))
}

/// How many machines hold an image, or a revision of it. Compared by identity: an image of the same name that was removed is
/// another.
fn holders(site: &Site, name: &str, number: Option<u32>) -> usize {
    let wanted: Vec<_> = match (site.image(name), number) {
        (Some(image), None) => site.revisions_of(image.id).iter().map(|revision| revision.id).collect(),
        (Some(_), Some(number)) => {
            site.revision_of(name, number).iter().map(|revision| revision.id).collect()
        }
        (None, _) => return 0,
    };
    let holds = |machine: &&Arc<Machine>| {
        site.last_installed(machine.id).is_some_and(|held| wanted.contains(&held.revision))
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

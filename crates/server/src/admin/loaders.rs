use std::{io, sync::Arc};

use axum::{extract::State, http::StatusCode};
use lastmile_api::{FoundFile, FoundLoader, LoaderDraft, LoaderPackages, LoaderView, Problem};
use lastmile_core::{
    base::{Fault, Faults, Id},
    decide::loader::identify,
    model::loader::Loader,
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
    library::{Library, Shelf},
    packaged::Packages,
};

impl Named for Loader {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.loader(name).ok_or_else(|| Reject::not_found("loader", name))
    }

    fn entity(&self) -> Entity {
        Entity::Loader(self.id)
    }
}

/// All loaders.
#[utoipa::path(get, operation_id = "loaders_list", path = "/loaders", tag = "loaders", responses((status = 200, body = [LoaderView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<LoaderView>> {
    Json(admin.app.records.site().loaders().map(|loader| loader.as_ref().into()).collect())
}

/// Adds a loader whose files were uploaded before.
#[utoipa::path(
    post, operation_id = "loaders_create", path = "/loaders", tag = "loaders", request_body = LoaderDraft,
    responses((status = 201, body = LoaderView), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<LoaderDraft>,
) -> Result<Edited<LoaderView>, Reject> {
    Ok(save(&admin.app, draft, None).await?.created())
}

/// Changes a loader: the whole of it is replaced. Files that it has need not be uploaded again.
#[utoipa::path(
    put, operation_id = "loaders_replace", path = "/loaders/{name}", tag = "loaders", params(("name" = String, Path)),
    request_body = LoaderDraft,
    responses((status = 200, body = LoaderView), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn replace(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<LoaderDraft>,
) -> Result<Edited<LoaderView>, Reject> {
    save(&admin.app, draft, Some((name, base))).await
}

/// Saves a loader: a new one, or in the place of the one that is named.
async fn save(
    app: &App,
    draft: LoaderDraft,
    replaced: Option<(String, Base)>,
) -> Result<Edited<LoaderView>, Reject> {
    let (library, looked) = (app.library.clone(), draft.clone());
    let identified = tokio::task::spawn_blocking(move || {
        let promised = library.promise(&looked.files);
        (identify(&Shelf::new(&library, &looked.files), &looked.boot_file), promised)
    });
    let (facts, promised) = identified.await.unwrap_or_default();
    let save = move |change: &mut Change<'_>| {
        let site = change.site();
        let former = match replaced {
            Some((name, base)) => {
                let former = <Loader as Named>::find(site, &name)?.clone();
                base.check(site, &former.entity(), || LoaderDraft::of(&former), Some(&draft))?;
                Some(former)
            }
            None => None,
        };
        let id = former.as_ref().map_or_else(Id::generate, |former| former.id);
        let others = site.loaders().map(AsRef::as_ref).filter(|other: &&Loader| other.id != id);
        let loader = draft.check(id, facts, others, |sha256, size| promised.has(sha256, size))?;
        change.put_loader(loader.clone())?;
        Ok::<_, Reject>(Edited::new(change.site(), &Entity::Loader(loader.id), LoaderView::from(&loader)))
    };
    app.records.change(save).await
}

/// Loaders that the operating system's packages put on the service's host.
#[utoipa::path(
    get, operation_id = "loaders_find", path = "/loaders/packaged", tag = "loaders",
    responses((status = 200, body = [FoundLoader]))
)]
pub(super) async fn packaged(State(admin): State<Admin>) -> Result<Json<Vec<FoundLoader>>, Reject> {
    Ok(Json(found_in(&admin.app, None).await?.1))
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
) -> Result<Edited<LoaderView>, Reject> {
    add_found(&admin.app, None, &name).await
}

/// Loaders in package files that were uploaded before: for a host that has not installed them, or is of another architecture.
#[utoipa::path(
    post, operation_id = "loaders_find_in_packages", path = "/packages/loaders", tag = "loaders",
    request_body = LoaderPackages,
    responses((status = 200, body = [FoundLoader]), (status = 422, body = Problem))
)]
pub(super) async fn find_in_packages(
    State(admin): State<Admin>,
    Json(packages): Json<LoaderPackages>,
) -> Result<Json<Vec<FoundLoader>>, Reject> {
    Ok(Json(found_in(&admin.app, Some(packages)).await?.1))
}

/// Adds a loader of package files that were uploaded before, under the name that it was found by.
#[utoipa::path(
    post, operation_id = "loaders_add_from_packages", path = "/packages/loaders/{name}", tag = "loaders",
    params(("name" = String, Path)), request_body = LoaderPackages,
    responses((status = 201, body = LoaderView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn add_from_packages(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(packages): Json<LoaderPackages>,
) -> Result<Edited<LoaderView>, Reject> {
    add_found(&admin.app, Some(packages), &name).await
}

/// The loaders of package files, or of what is installed on this host.
async fn found_in(app: &App, files: Option<LoaderPackages>) -> Result<(Packages, Vec<FoundLoader>), Reject> {
    let (site, library) = (app.records.site(), app.library.clone());
    let find = move || {
        let packages = match files {
            None => Packages::installed(),
            Some(files) => open_packages(&library, &files)?,
        };
        let found = packages.loaders(&site);
        Ok((packages, found))
    };
    let found = tokio::task::spawn_blocking(find).await;
    found.map_err(|error| not_kept(error.to_string()))?
}

fn open_packages(library: &Library, files: &LoaderPackages) -> Result<Packages, Reject> {
    let mut faults = Faults::new();
    let mut opened = Vec::new();
    let (count, most) = (files.packages.len(), LoaderPackages::MOST);
    if count > most {
        return Err(Reject::from(vec![Fault {
            place: "packages".into(),
            what: format!("{count} packages, and at most {most} are looked into at once"),
            fix: "Give those of one loader at a time.".into(),
        }]));
    }
    for (number, file) in files.packages.iter().enumerate() {
        match file.sha256.and_then(|sha256| library.look_into(&sha256).ok()) {
            Some(package) => opened.push(package),
            None => faults.add(
                format!("packages[{number}]"),
                format!("the content of {} is not in the library", file.path),
                "Upload it first.",
            ),
        }
    }
    faults.into_result(|| Some(()))?;
    Packages::read(&opened).map_err(|(number, error)| {
        let name = files.packages.get(number).map_or("", |file| file.path.as_str());
        let fix = "Give a Debian package, a file that ends in .deb.".into();
        Reject::from(vec![Fault {
            place: format!("packages[{number}]"),
            what: format!("{name}: {error}"),
            fix,
        }])
    })
}

async fn add_found(
    app: &App,
    files: Option<LoaderPackages>,
    name: &str,
) -> Result<Edited<LoaderView>, Reject> {
    let (packages, found) = found_in(app, files).await?;
    let found = found.into_iter().find(|found| found.name == name);
    let found = found.ok_or_else(|| Reject::not_found("packaged loader", name))?;
    let (library, files) = (app.library.clone(), found.files.clone());
    let take = move || {
        let take = |file: &FoundFile| library.take_content(&file.name, &*packages.open(&file.path)?);
        files.iter().map(take).collect::<io::Result<Vec<_>>>()
    };
    let taken = tokio::task::spawn_blocking(take).await.map_err(|error| not_kept(error.to_string()))?;
    let draft = LoaderDraft {
        name: name.into(),
        architecture: None,
        class: None,
        user_class: found.user_class,
        boot_file: found.boot_file,
        http: None,
        language: None,
        files: taken.map_err(|error| not_kept(error.to_string()))?,
    };
    Ok(save(app, draft, None).await?.created())
}

fn not_kept(error: String) -> Reject {
    Reject::new(StatusCode::INSUFFICIENT_STORAGE, "The files were not kept", error)
}

/// One loader.
#[utoipa::path(
    get, operation_id = "loaders_read", path = "/loaders/{name}", tag = "loaders", params(("name" = String, Path)),
    responses((status = 200, body = LoaderView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<LoaderView>, Reject> {
    named::read(&admin, &name, |_, loader: &Arc<Loader>| loader.as_ref().into())
}

/// Removes a loader. Firmware of its kind gets an address and nothing to boot until another is added.
#[utoipa::path(
    delete, operation_id = "loaders_remove", path = "/loaders/{name}", tag = "loaders", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, loader: Arc<Loader>| Ok(change.remove_loader(&loader)?);
    named::remove(&admin, name, base, remove).await
}

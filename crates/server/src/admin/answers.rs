//! Answers and other layers of settings, version by version.

use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use lastmile_api::{AnswersView, PasswordInput, Problem, RenameRequest, Settings};
use lastmile_core::{
    base::{Fault, Id, name},
    decide::{answers, rename::check_new_name},
    model::answers::{AnswersVersion, Keeping, Password, Scope},
    site::{Entity, Site},
};
use lastmile_store::Change;

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Reject},
};
use crate::{app::App, clock, random::random, records::scope_name};

impl Named for AnswersVersion {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        let scope = scope(site, name)?;
        site.settings_of(&scope).ok_or_else(|| Reject::not_found("answers", name))
    }

    fn entity(&self) -> Entity {
        Entity::Layer(self.scope.clone())
    }
}

/// How a layer is called in paths: the answers' name, `site:`, `label:NAME` or `machine:NAME`.
pub(super) fn scope(site: &Site, text: &str) -> Result<Scope, Reject> {
    match text.split_once(':') {
        None => Ok(Scope::Answers(text.into())),
        Some(("site", "")) => Ok(Scope::Site),
        Some(("label", name)) => Ok(Scope::Label(name.into())),
        Some(("machine", name)) => {
            let machine = site.machine_called(name).ok_or_else(|| Reject::not_found("machine", name))?;
            Ok(Scope::Machine(machine.id))
        }
        Some(_) => Err(Reject::not_found("layer", text)),
    }
}

fn view(site: &Site, version: &AnswersVersion) -> AnswersView {
    AnswersView {
        name: scope_name(site, &version.scope),
        version: version.number,
        created: version.created,
        settings: version.settings.shown(),
    }
}

/// All answers and other layers, at their current versions: answers first, then the site's, labels' and machines'.
#[utoipa::path(get, operation_id = "answers_list", path = "/answers", tag = "answers", responses((status = 200, body = [AnswersView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<AnswersView>> {
    let site = admin.app.records.site();
    Json(site.all_answers().chain(site.all_layers().iter()).map(|version| view(&site, version)).collect())
}

/// One set of answers, or another layer (`site:`, `label:NAME`, `machine:NAME`), at its current version.
#[utoipa::path(
    get, operation_id = "answers_read", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    responses((status = 200, body = AnswersView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<AnswersView>, Reject> {
    named::read(&admin, &name, |site, version: &Arc<AnswersVersion>| view(site, version))
}

/// Every version that answers, or another layer, ever had, newest first.
#[utoipa::path(
    get, operation_id = "answers_versions", path = "/answers/{name}/versions", tag = "answers", params(("name" = String, Path)),
    responses((status = 200, body = [AnswersView]), (status = 404, body = Problem))
)]
pub(super) async fn versions(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Vec<AnswersView>>, Reject> {
    let app = &admin.app;
    let site = app.records.site();
    let scope = scope(&site, &name)?;
    let versions = app.records.store.read(move |tx| tx.answers_versions(&scope)).await?;
    if versions.is_empty() {
        return Err(Reject::not_found("answers", &name));
    }
    Ok(Json(versions.iter().map(|version| view(&site, version)).collect()))
}

/// Saves a new version of answers, or of another layer. Installs armed before keep the versions they were armed with.
#[utoipa::path(
    put, operation_id = "answers_save", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    request_body = Settings<PasswordInput>,
    responses((status = 200, body = AnswersView), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<Settings<PasswordInput>>,
) -> Result<Edited<AnswersView>, Reject> {
    let (app, wanted, called, early) = (admin.app.clone(), draft.clone(), name, base.clone());
    admin
        .app
        .records
        .change_prepared(
            // Hashing passwords and holding every image against the settings takes time.
            move |site| {
                // Somebody else's change is told before what it makes wrong of this one.
                let scope = scope(site, &called)?;
                let saved = || site.settings_of(&scope).map(|saved| saved.settings.shown());
                early.check_new(site.settings_of(&scope).is_some(), "answers", &called)?;
                early.check(site, &Entity::Layer(scope.clone()), saved, Some(&wanted))?;
                prepare(&app, site, &called, &wanted)
            },
            move |change, version: AnswersVersion| {
                let entity = Entity::Layer(version.scope.clone());
                let saved = || change.site().settings_of(&version.scope).map(|saved| saved.settings.shown());
                base.check(change.site(), &entity, saved, Some(&draft))?;
                let saved = change.add_answers(version)?;
                Ok(Edited::new(change.site(), &entity, view(change.site(), &saved)))
            },
        )
        .await
}

/// The version that a draft makes; its number is given when it is saved.
fn prepare(
    app: &App,
    site: &Site,
    name: &str,
    draft: &Settings<PasswordInput>,
) -> Result<AnswersVersion, Reject> {
    let scope = scope(site, name)?;
    let mut faults: Vec<Fault> = Vec::new();
    if let Scope::Answers(name) | Scope::Label(name) = &scope
        && let Err(error) = name::check_thing_name(name)
    {
        let fix = name::THING_NAME_FIX.into();
        faults.push(Fault { place: "name".into(), what: error.to_string(), fix });
    }
    faults.extend(misplaced(&scope, draft));
    let version = match finish(app, site, &scope, draft) {
        Ok(version) => version,
        Err(more) => {
            faults.extend(more);
            return Err(faults.into());
        }
    };
    // What is wrong already does not stop anybody; what this version would make wrong does.
    let next = site.with_answers(version.clone());
    let before: Vec<Fault> = pairing_faults(site);
    faults.extend(pairing_faults(&next).into_iter().filter(|fault| !before.contains(fault)));
    if let Scope::Answers(_) = scope {
        let own = answers::pairing_faults(&next, &Arc::new(version.clone()));
        faults.extend(own.into_iter().filter(|fault| !faults.contains(fault)).collect::<Vec<_>>());
    }
    if faults.is_empty() { Ok(version) } else { Err(faults.into()) }
}

fn pairing_faults(site: &Site) -> Vec<Fault> {
    site.all_answers().flat_map(|answers| answers::pairing_faults(site, answers)).collect()
}

/// Keys that stand in answers only.
pub(super) fn misplaced(scope: &Scope, draft: &Settings<PasswordInput>) -> Vec<Fault> {
    if matches!(scope, Scope::Answers(_)) {
        return Vec::new();
    }
    let keys = [
        ("images", !draft.images.is_empty()),
        ("installer_parameters", !draft.installer_parameters.is_empty()),
        ("without_installer_parameters", !draft.without_installer_parameters.is_empty()),
    ];
    let fault = |place: &str| Fault {
        place: place.into(),
        what: "only answers say this, no other layer".into(),
        fix: if place == "images" {
            "Take it out.".into()
        } else {
            "Give the label or the machine kernel parameters of its own.".into()
        },
    };
    keys.iter().filter(|(_, is_said)| *is_said).map(|(place, _)| fault(place)).collect()
}

/// Checks a draft and makes a version of it; passwords that are to stay are taken from the version before.
pub(super) fn finish(
    app: &App,
    site: &Site,
    scope: &Scope,
    draft: &Settings<PasswordInput>,
) -> Result<AnswersVersion, Vec<Fault>> {
    let before = site.settings_of(scope);
    let settings = draft.finish(|place, input| {
        let keeping = Keeping { key: &app.records.seal_key, salt: random(), nonce: random() };
        let kept = before.and_then(|before| before.settings.password_at(place));
        keep(place, input, &keeping, kept.as_ref())
    })?;
    // The number that it will have, if nobody saves another before.
    let number = before.map_or(1, |before| before.number + u32::from(before.settings != settings));
    Ok(AnswersVersion { id: Id::generate(), scope: scope.clone(), number, created: clock::now(), settings })
}

fn keep(
    place: &str,
    input: &PasswordInput,
    keeping: &Keeping<'_>,
    before: Option<&Password>,
) -> Result<Password, Fault> {
    let kept = if place == "storage.encrypt" {
        input.keep_passphrase(keeping, before)
    } else {
        input.keep(keeping, before)
    };
    kept.map_err(|error| Fault { place: place.into(), what: error.to_string(), fix: error.fix().into() })
}

/// Adds answers like others, with their passwords, which are never read back.
#[utoipa::path(
    post, operation_id = "answers_copy", path = "/answers/{name}/copy", tag = "answers", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 201, body = AnswersView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn copy(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Edited<AnswersView>, Reject> {
    let copy = move |change: &mut Change<'_>| {
        check_new_name(&name, &request.to)?;
        let former = AnswersVersion::find(change.site(), &name)?.clone();
        let scope = Scope::Answers(request.to);
        if let Some(other) = change.site().settings_of(&scope) {
            let name = scope_name(change.site(), &other.scope);
            return Err(Reject::conflict(format!("answers '{name}' exist already. Choose another name")));
        }
        let copy = AnswersVersion { id: Id::generate(), scope, created: clock::now(), ..(*former).clone() };
        let saved = change.add_answers(copy)?;
        let site = change.site();
        Ok(Edited::new(site, &saved.entity(), view(site, &saved)))
    };
    Ok(admin.app.records.change(copy).await?.created())
}

/// Retires answers, or another layer. The versions that installs name stay on record.
#[utoipa::path(
    delete, operation_id = "answers_remove", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, version: Arc<AnswersVersion>| {
        if let Scope::Answers(name) = &version.scope
            && let Some(user) = change.site().users_of_answers(name).first()
        {
            return Err(Reject::conflict(format!(
                "{user} uses answers {name}. Give it others first, or end it"
            )));
        }
        Ok(change.remove_answers(&version.scope)?)
    };
    named::remove(&admin, name, base, remove).await
}

//! Other names for things: what names them follows.

use axum::extract::State;
use lastmile_api::{Problem, RenameRequest, Renamed};
use lastmile_core::{
    base::Id,
    decide::rename::{self, References},
    model::{
        answers::{AnswersVersion, Scope},
        image::Image,
        label::Label,
        menu::Menu,
        rule::Rule,
        webhook::Webhook,
    },
    site::Site,
};
use lastmile_store::{Change, StoreError};

use super::{
    Admin,
    named::Named,
    reject::{Json, Path, Reject},
};
use crate::clock;

/// Renames one thing: `old` is found, `new` is free, and what names it is changed with it.
async fn renamed(
    admin: &Admin,
    old: String,
    request: RenameRequest,
    rename: impl FnOnce(&mut Change<'_>, &str, &str) -> Result<(References, Vec<String>), Reject> + Send + 'static,
) -> Result<Json<Renamed>, Reject> {
    let job = move |change: &mut Change<'_>| {
        rename::check_new_name(&old, &request.to)?;
        let (references, mentions) = rename(change, &old, &request.to)?;
        let followed = references.named(change.site());
        follow(change, references)?;
        Ok(Json(Renamed { name: request.to, followed, mentions }))
    };
    admin.app.records.change(job).await
}

fn follow(change: &mut Change<'_>, references: References) -> Result<(), StoreError> {
    let References { subnets, labels, machines, menus, answers, settings, rules } = references;
    subnets.into_iter().try_for_each(|subnet| change.put_subnet(subnet))?;
    labels.into_iter().try_for_each(|label| change.put_label(label))?;
    rules.into_iter().try_for_each(|rule| change.put_rule(rule))?;
    change.put_machines(machines)?;
    menus.into_iter().try_for_each(|menu| change.put_menu(menu))?;
    answers.into_iter().try_for_each(|version| change.add_answers(version).map(drop))?;
    settings.into_iter().try_for_each(|settings| change.put_settings(settings))
}

fn taken(kind: &str, name: &str) -> Reject {
    Reject::conflict(format!("{kind} '{name}' exists already. Choose another name, or remove that one first"))
}

/// Nothing is renamed that a machine is just getting.
fn refuse_while_in_progress(
    site: &Site,
    what: &str,
    is_it: impl Fn(&lastmile_core::model::install::Install) -> bool,
) -> Result<(), Reject> {
    match site.open_installs().find(|install| is_it(install)) {
        Some(open) => Err(Reject::conflict(format!(
            "install {} of {} uses {what}. Rename it when that has ended",
            open.number, open.machine_name
        ))),
        None => Ok(()),
    }
}

/// Gives a menu another name. Everything that shows it shows it by that name.
#[utoipa::path(
    post, operation_id = "menus_rename", path = "/menus/{name}/rename", tag = "menus", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn menu(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let menu = Menu::find(change.site(), old)?.clone();
        if change.site().menu(new).is_some() {
            return Err(taken("menu", new));
        }
        let mut references = rename::of_menu(change.site(), old, new);
        change.rename_menu(&menu, new)?;
        // A menu may show itself further down.
        for own in references.menus.iter_mut().filter(|other| other.id == menu.id) {
            new.clone_into(&mut own.name);
        }
        Ok((references, Vec::new()))
    })
    .await
}

/// Gives a label another name: on all machines that have it, with its parameters, its menu and its settings. Conditions that
/// name it are told, and stay.
#[utoipa::path(
    post, operation_id = "labels_rename", path = "/labels/{name}/rename", tag = "menus", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let site = change.site();
        let references = rename::of_label(site, old, new);
        let mentions = rename::mentions(site, old);
        let record: Option<Label> = site.label(old).map(|label| (**label).clone());
        let (former, scope) = (Scope::Label(old.into()), Scope::Label(new.into()));
        let settings = site.settings_of(&former).cloned();
        if record.is_none() && settings.is_none() && references.machines.is_empty() {
            return Err(Reject::not_found("label", old));
        }
        let has_it = |machine: &std::sync::Arc<lastmile_core::model::machine::Machine>| {
            machine.labels.iter().any(|label| label == new)
        };
        if site.label(new).is_some() || site.machines().any(has_it) {
            return Err(taken("label", new));
        }
        if let Some(record) = record {
            change.rename_label(&record, new)?;
        }
        if let Some(settings) = settings {
            rename_scope(change, &settings, &scope, new)?;
        }
        Ok((references, mentions))
    })
    .await
}

/// Gives answers another name, with all their versions. Machines and menus that use them follow.
#[utoipa::path(
    post, operation_id = "answers_rename", path = "/answers/{name}/rename", tag = "answers", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn answers(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let version = AnswersVersion::find(change.site(), old)?.clone();
        if !matches!(version.scope, Scope::Answers(_)) {
            return Err(Reject::conflict(format!("{old} has the name of what it belongs to. Rename that")));
        }
        refuse_while_in_progress(change.site(), "these answers", |open| open.answers_name == old)?;
        let references = rename::of_answers(change.site(), old, new);
        rename_scope(change, &version, &Scope::Answers(new.into()), new)?;
        Ok((references, Vec::new()))
    })
    .await
}

fn rename_scope(
    change: &mut Change<'_>,
    version: &AnswersVersion,
    scope: &Scope,
    new: &str,
) -> Result<(), Reject> {
    if change.site().settings_of(scope).is_some() || change.tx().last_answers_number(scope)? > 0 {
        return Err(Reject::conflict(format!(
            "answers '{new}' exist, or existed and are on record. Choose another name"
        )));
    }
    Ok(change.rename_answers(version, scope)?)
}

/// Gives an image another name, with all its revisions. Menus and answers that name it follow.
#[utoipa::path(
    post, operation_id = "images_rename", path = "/images/{name}/rename", tag = "images", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn image(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let image = Image::find(change.site(), old)?.clone();
        if change.site().image(new).is_some() {
            return Err(taken("image", new));
        }
        refuse_while_in_progress(change.site(), "this image", |open| open.image == old)?;
        let next = |answers: &AnswersVersion| AnswersVersion {
            id: Id::generate(),
            created: clock::now(),
            ..answers.clone()
        };
        let references = rename::of_image(change.site(), old, new, next);
        change.rename_image(&image, new)?;
        Ok((references, Vec::new()))
    })
    .await
}

/// Gives a webhook another name, which receivers know its key by. Its deliveries follow.
#[utoipa::path(
    post, operation_id = "webhooks_rename", path = "/webhooks/{name}/rename", tag = "webhooks", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn webhook(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let webhook = Webhook::find(change.site(), old)?.clone();
        if change.site().webhook(new).is_some() {
            return Err(taken("webhook", new));
        }
        change.rename_webhook(&webhook, new)?;
        Ok((References::default(), Vec::new()))
    })
    .await
}

/// Gives a rule another name. What it did follows.
#[utoipa::path(
    post, operation_id = "rules_rename", path = "/rules/{name}/rename", tag = "rules", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 200, body = Renamed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn rule(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Json<Renamed>, Reject> {
    renamed(&admin, name, request, |change, old, new| {
        let rule = Rule::find(change.site(), old)?.clone();
        if change.site().rule(new).is_some() {
            return Err(taken("rule", new));
        }
        let references = rename::of_rule(change.site(), old, new);
        change.rename_rule(&rule, new)?;
        Ok((references, Vec::new()))
    })
    .await
}

use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    AnswersCompareQuery, AnswersComparison, AnswersFile, AnswersPreview, AnswersPreviewRequest, AnswersView,
    ComparedLine, LintFinding, LintReport, PasswordInput, Problem, RenameRequest, Settings, Side,
};
use lastmile_core::{
    base::{Fault, Id, name},
    decide::{
        answers::{self, Subject, Target},
        rename::check_new_name,
    },
    model::{
        answers::{AnswersVersion, Keeping, Password, Scope, take_answers},
        image::{Family, Revision},
        machine::Machine,
    },
    site::{Entity, Site},
};
use lastmile_store::Change;
use similar::{ChangeTag, TextDiff};

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Query, Reject},
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

/// Machines that a finding names.
const MOST_NAMED: usize = 5;

/// How a layer is called in paths: the answers' name, `site:`, `label:NAME` or `machine:NAME`.
fn scope(site: &Site, text: &str) -> Result<Scope, Reject> {
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
fn misplaced(scope: &Scope, draft: &Settings<PasswordInput>) -> Vec<Fault> {
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
fn finish(
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

/// The answer files as one machine would get them, saved or not. The token in them is made when an install is armed.
#[utoipa::path(
    post, operation_id = "answers_preview", path = "/answers/{name}/preview", tag = "answers", params(("name" = String, Path)),
    request_body = AnswersPreviewRequest,
    responses((status = 200, body = AnswersPreview), (status = 404, body = Problem))
)]
pub(super) async fn preview(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<AnswersPreviewRequest>,
) -> Result<Json<AnswersPreview>, Reject> {
    previewed(&admin.app, &name, &request).await.map(Json)
}

async fn previewed(app: &App, name: &str, request: &AnswersPreviewRequest) -> Result<AnswersPreview, Reject> {
    let mut site = (*app.records.site()).clone();
    let scope = scope(&site, name)?;
    let mut faults = Vec::new();
    if let Some(draft) = &request.draft {
        faults.extend(misplaced(&scope, draft));
        match finish(app, &site, &scope, draft) {
            Ok(version) => site = site.with_answers(version),
            Err(more) => faults.extend(more),
        }
    } else if let Some(number) = request.version {
        let versions = scope.clone();
        let versions = app.records.store.read(move |tx| tx.answers_versions(&versions)).await?;
        let version = versions.into_iter().find(|version| version.number == number);
        site = site.with_answers(version.ok_or_else(|| Reject::not_found("version", number))?);
    }
    let machine = match request.machine.as_deref().filter(|name| !name.is_empty()) {
        Some(name) => {
            Some(site.machine_called(name).ok_or_else(|| Reject::not_found("machine", name))?.clone())
        }
        None => None,
    };
    // A layer that is not answers is seen with no answers over or under it but those of its machine.
    let version = site.settings_of(&scope).cloned();
    let revision = revision(&site, version.as_deref(), request.image.as_deref())?;
    let family = revision.as_ref().map_or(Family::Preseed, |revision| revision.family);
    let mut preview = AnswersPreview {
        machine: machine
            .as_ref()
            .map_or_else(|| Subject::example().values.name, |machine| machine.name.clone()),
        image: revision.as_ref().map(|revision| revision.image_name.clone()),
        family,
        files: Vec::new(),
        settings: None,
        origins: std::collections::BTreeMap::new(),
        open: std::collections::BTreeMap::new(),
        faults,
        warnings: Vec::new(),
    };
    let Some(version) = version else {
        if request.draft.is_none() {
            return Err(Reject::not_found("answers", name));
        }
        return Ok(preview);
    };
    if !preview.faults.is_empty() {
        return Ok(preview);
    }
    let subject = subject(app, &site, machine.as_deref(), revision.as_deref());
    let layers = layers(&site, machine.as_deref(), &version);
    // As when an install is armed: what fits no question is no answer.
    let asked = take_answers(&answers::questions(site.named(&layers)), &request.asked);
    let resolved = asked.and_then(|asked| answers::resolve(site.named(&layers), &subject, &asked));
    match resolved {
        Err(faults) => preview.faults = faults,
        Ok(resolution) => {
            preview.origins =
                resolution.origins.iter().map(|(path, layer)| (path.clone(), layer.to_string())).collect();
            preview.open = resolution.open.clone();
            preview.settings = Some(resolution.shown.clone());
            preview.warnings = answers::warnings(family, &resolution.settings);
            let title = format!("{name} v{}", version.number);
            let target = Target::preview(&subject, revision.as_deref(), &title);
            match answers::write(family, &resolution, &target) {
                Err(faults) => preview.faults = faults,
                Ok(files) => {
                    let file =
                        |file: answers::AnswerFile| AnswersFile { name: file.name.into(), text: file.text };
                    preview.files = files.into_iter().map(file).collect();
                }
            }
        }
    }
    Ok(preview)
}

fn layers(site: &Site, machine: Option<&Machine>, version: &Arc<AnswersVersion>) -> Vec<Arc<AnswersVersion>> {
    match (machine, &version.scope) {
        (Some(machine), Scope::Answers(_)) => site.layers_for(machine, version),
        (None, Scope::Answers(_)) => {
            site.settings_of(&Scope::Site).into_iter().chain([version]).cloned().collect()
        }
        (_, Scope::Site) => vec![version.clone()],
        _ => site.settings_of(&Scope::Site).into_iter().chain([version]).cloned().collect(),
    }
}

fn subject(app: &App, site: &Site, machine: Option<&Machine>, revision: Option<&Revision>) -> Subject {
    machine.map_or_else(Subject::example, |machine| app.records.subject(site, machine, revision))
}

/// The revision that is meant: of the image asked for, else the first that the answers name, else the first installer.
fn revision(
    site: &Site,
    version: Option<&AnswersVersion>,
    asked: Option<&str>,
) -> Result<Option<Arc<Revision>>, Reject> {
    if let Some(name) = asked.filter(|name| !name.is_empty()) {
        let image = site.image(name).ok_or_else(|| Reject::not_found("image", name))?;
        return Ok(Some(image.current.clone()));
    }
    let named = version.and_then(|version| version.settings.images.iter().find_map(|name| site.image(name)));
    let reads = |image: &&Arc<lastmile_core::model::image::Image>| image.reads_answers();
    Ok(named.or_else(|| site.images().find(reads)).map(|image| image.current.clone()))
}

/// Two versions of answers, or the files of two machines, held against each other.
#[utoipa::path(
    get, operation_id = "answers_compare", path = "/answers/{name}/compare", tag = "answers",
    params(("name" = String, Path), AnswersCompareQuery),
    responses((status = 200, body = AnswersComparison), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn compare(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Query(query): Query<AnswersCompareQuery>,
) -> Result<Json<AnswersComparison>, Reject> {
    let app = &admin.app;
    let other = query.other.as_ref().or(query.machine.as_ref());
    let left = side(app, &name, query.from, query.machine.as_ref(), query.image.as_ref())
        .await
        .map_err(Reject::of_question)?;
    let right = side(app, &name, query.to, other, query.image.as_ref()).await.map_err(Reject::of_question)?;
    let (left_text, right_text) = with_passwords(left, right);
    let diff = TextDiff::from_lines(&left_text.1, &right_text.1);
    let line = |change: similar::Change<&str>| ComparedLine {
        side: match change.tag() {
            ChangeTag::Equal => Side::Both,
            ChangeTag::Delete => Side::Left,
            ChangeTag::Insert => Side::Right,
        },
        text: change.value().trim_end_matches('\n').into(),
    };
    let lines = diff.iter_all_changes().map(line).collect();
    Ok(Json(AnswersComparison { left: left_text.0, right: right_text.0, lines }))
}

/// One side of a comparison.
struct Compared {
    /// What it is.
    title: String,
    text: String,
    version: Arc<AnswersVersion>,
}

/// Titles and texts of both sides, with a line for each password in which they differ: what it is, nobody is shown.
fn with_passwords(left: Compared, right: Compared) -> ((String, String), (String, String)) {
    let (one, other) = (left.version.settings.passwords(), right.version.settings.passwords());
    let differs = |place: &&String| other.get(*place).is_some_and(|password| one[*place] != *password);
    let places: Vec<&String> = one.keys().filter(differs).collect();
    let lines = |side: &Compared| {
        let line = |place: &&String| format!("# {place}: as entered for v{}\n", side.version.number);
        places.iter().map(line).collect::<String>()
    };
    let text = |side: &Compared| format!("{}{}", lines(side), side.text);
    ((left.title.clone(), text(&left)), (right.title.clone(), text(&right)))
}

/// One side of a comparison: what it is, and its text.
async fn side(
    app: &App,
    name: &str,
    version: Option<u32>,
    machine: Option<&String>,
    image: Option<&String>,
) -> Result<Compared, Reject> {
    let site = app.records.site();
    let scope = scope(&site, name)?;
    let current = site.settings_of(&scope).ok_or_else(|| Reject::not_found("answers", name))?;
    let number = version.unwrap_or(current.number);
    let versions = app.records.store.read(move |tx| tx.answers_versions(&scope)).await?;
    let found = versions.into_iter().find(|version| version.number == number);
    let version = Arc::new(found.ok_or_else(|| Reject::not_found("version", number))?);
    let Some(machine) = machine else {
        let text = toml::to_string(&version.settings.shown()).unwrap_or_default();
        return Ok(Compared { title: format!("{name} v{number}"), text, version });
    };
    let request = AnswersPreviewRequest {
        machine: Some(machine.clone()),
        image: image.cloned(),
        version: Some(number),
        ..AnswersPreviewRequest::default()
    };
    let preview = previewed(app, name, &request).await?;
    if !preview.faults.is_empty() {
        return Err(preview.faults.into());
    }
    let text = preview.files.into_iter().map(|file| file.text).collect::<Vec<_>>().join("\n");
    Ok(Compared { title: format!("{name} v{number} on {machine}"), text, version })
}

/// Looks at every pair of answers and image, with every machine.
#[utoipa::path(
    get, operation_id = "answers_lint", path = "/answer-lint", tag = "answers", responses((status = 200, body = LintReport))
)]
pub(super) async fn lint(State(admin): State<Admin>) -> Result<Json<LintReport>, Reject> {
    let app = admin.app.clone();
    let looked = tokio::task::spawn_blocking(move || {
        let site = app.records.site();
        answers::lint(&site, &|machine, revision| app.records.subject(&site, machine, Some(revision)))
    });
    let lint = looked.await.map_err(|error| Reject::conflict(format!("the look broke off: {error}")))?;
    let finding = |finding: answers::Finding| LintFinding {
        answers: finding.answers,
        image: finding.image,
        machine_count: finding.machines.len(),
        machines: finding.machines.into_iter().take(MOST_NAMED).collect(),
        fault: finding.fault,
    };
    Ok(Json(LintReport {
        pairs: lint.pairs,
        machines: lint.machines,
        unpaired: lint.unpaired,
        findings: lint.findings.into_iter().map(finding).collect(),
    }))
}

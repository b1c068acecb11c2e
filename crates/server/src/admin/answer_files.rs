//! The files that answers make: previewed, compared, and all of them tried.

use std::sync::Arc;

use axum::extract::State;
use lastmile_api::{
    AnswersCompareQuery, AnswersComparison, AnswersFile, AnswersPreview, AnswersPreviewRequest, ComparedLine,
    LintFinding, LintReport, Problem, Side,
};
use lastmile_core::{
    decide::answers::{self, Subject, Target},
    model::{
        answers::{AnswersVersion, Scope, take_answers},
        image::{Family, Revision},
        machine::Machine,
    },
    site::Site,
};
use similar::{ChangeTag, TextDiff};

use super::{
    Admin,
    answers::{finish, misplaced, scope},
    reject::{Json, Path, Query, Reject},
};
use crate::app::App;

/// Machines that a finding names.
const MOST_NAMED: usize = 5;

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
    let lint = looked.await?;
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

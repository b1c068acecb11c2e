use axum::{
    extract::{Path, Query, State},
    http::StatusCode,
};
use jiff::Timestamp;
use lastmile_api::{AnswersPreview, AnswersView, Family, PasswordInput, Problem, Settings};
use lastmile_core::{
    Fault, Id,
    answers::{self, AnswersVersion, SALT_BYTES, Target},
    name,
};
use serde::Deserialize;

use super::{
    Admin,
    reject::{Json, Reject},
};

/// All answers, at their current version.
#[utoipa::path(get, operation_id = "answers_list", path = "/answers", tag = "answers", responses((status = 200, body = [AnswersView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<AnswersView>> {
    Json(admin.app.site().all_answers().map(|answers| answers.as_ref().into()).collect())
}

/// One set of answers, at its current version.
#[utoipa::path(
    get, operation_id = "answers_read", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    responses((status = 200, body = AnswersView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<AnswersView>, Reject> {
    let site = admin.app.site();
    let answers = site.answers(&name).ok_or_else(|| Reject::not_found("answers", &name))?;
    Ok(Json(answers.as_ref().into()))
}

/// Saves a new version of answers. Installs armed before keep the version they were armed with.
#[utoipa::path(
    put, operation_id = "answers_save", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    request_body = Settings<PasswordInput>,
    responses((status = 200, body = AnswersView), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<Settings<PasswordInput>>,
) -> Result<Json<AnswersView>, Reject> {
    let app = &admin.app;
    let mut faults: Vec<Fault> = Vec::new();
    if let Err(error) = name::check_thing_name(&name) {
        let mend = name::THING_NAME_MEND.into();
        faults.push(Fault { place: "name".into(), what: error.to_string(), mend });
    }
    let settings = match draft.settle(|_| salt()) {
        Ok(settings) if faults.is_empty() => settings,
        Ok(_) => return Err(faults.into()),
        Err(more) => {
            faults.extend(more);
            return Err(faults.into());
        }
    };
    let _alone = app.admin_write.lock().await;
    let saved = app.store.write(move |tx| {
        let number = tx.last_answers_number(&name)? + 1;
        let version =
            AnswersVersion { id: Id::generate(), name, number, created: Timestamp::now(), settings };
        tx.add_answers(&version)?;
        Ok(version)
    });
    let saved = saved.await?;
    app.change_site(|site| site.with_answers(saved.clone()));
    Ok(Json((&saved).into()))
}

/// Takes answers out of use. The versions that installs name stay on record.
#[utoipa::path(
    delete, operation_id = "answers_remove", path = "/answers/{name}", tag = "answers", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    site.answers(&name).ok_or_else(|| Reject::not_found("answers", &name))?;
    if let Some(open) = site.open_installs().find(|open| open.answers_name == name) {
        return Err(Reject::conflict(format!(
            "install {} with answers {name} goes on. Wait for its end, or cancel it",
            open.number
        )));
    }
    let kept = name.clone();
    app.store.write(move |tx| tx.remove_answers(&kept)).await?;
    app.change_site(|site| site.without_answers(&name));
    Ok(StatusCode::NO_CONTENT)
}

/// Which answer file is to be shown.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct PreviewQuery {
    /// The machine's name.
    machine: String,
}

/// The answer file as one machine would get it. The token in it is made only when an install is armed.
#[utoipa::path(
    get, operation_id = "answers_preview", path = "/answers/{name}/preview", tag = "answers", params(("name" = String, Path), PreviewQuery),
    responses((status = 200, body = AnswersPreview), (status = 404, body = Problem))
)]
pub(super) async fn preview(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Query(query): Query<PreviewQuery>,
) -> Result<Json<AnswersPreview>, Reject> {
    let site = admin.app.site();
    let answers = site.answers(&name).ok_or_else(|| Reject::not_found("answers", &name))?;
    let machine = site.machine(&query.machine).ok_or_else(|| Reject::not_found("machine", &query.machine))?;
    let domain = admin.app.domain_of(&site, machine);
    let target = Target {
        host_name: &machine.name,
        domain: domain.as_deref(),
        install: None,
        service: admin.app.service_for(admin.app.subnet_of(&site, machine).as_deref()),
    };
    let family = Family::Preseed;
    let text = answers::render(family, answers, &target).unwrap_or_default();
    Ok(Json(AnswersPreview { machine: machine.name.clone(), family, text: hide_hashes(&text) }))
}

/// A hash can be tried against guesses: no API read shows one.
fn hide_hashes(text: &str) -> String {
    let hide = |word: &str| {
        if word.starts_with("$6$") || word.starts_with("$5$") || word.starts_with("$y$") {
            "(hash)".into()
        } else {
            word.to_owned()
        }
    };
    let line = |line: &str| line.split(' ').map(hide).collect::<Vec<_>>().join(" ");
    text.lines().map(|text| line(text) + "\n").collect()
}

fn salt() -> [u8; SALT_BYTES] {
    crate::random::random()
}

use axum::{
    extract::State,
    http::{HeaderMap, StatusCode},
};
use lastmile_api::{
    ArmPreview, ArmRequest, ArmSeveral, AskedRequest, InstallDetail, InstallList, InstallNumbers, InstallRow,
    InstallsListQuery, LogLine, Problem,
};
use lastmile_core::model::install::{Install, InstallState};
use lastmile_store::{Change, InstallFilter};

use super::{
    Admin,
    reject::{Json, Path, Query, Reject},
};
use crate::{clock, installs::ArmError};

/// Rows on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;
/// Header by which a client says who calls. There is no log-in yet: it is a note, not a proof.
const WHO: &str = "lastmile-user";

/// Installs, newest first, filtered, and a page at a time.
#[utoipa::path(
    get, operation_id = "installs_list", path = "/installs", tag = "installs", params(InstallsListQuery),
    responses((status = 200, body = InstallList), (status = 422, body = Problem))
)]
pub(super) async fn list(
    State(admin): State<Admin>,
    Query(query): Query<InstallsListQuery>,
) -> Result<Json<InstallList>, Reject> {
    let states = query.state.as_deref().into_iter().flat_map(|states| states.split(','));
    let states: Result<Vec<InstallState>, String> = states.map(|state| state.trim().parse()).collect();
    let unknown = |what| Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "No such state", what);
    let filter = InstallFilter {
        machine: query.machine,
        states: states.map_err(unknown)?,
        limit: i64::from(query.limit.unwrap_or(PAGE).min(LARGEST_PAGE)),
        offset: i64::from(query.offset.unwrap_or(0)),
    };
    let (installs, total) = admin.app.records.store.read(move |tx| tx.installs(&filter)).await?;
    Ok(Json(InstallList {
        installs: installs.iter().map(|install| admin.app.records.install_row(install)).collect(),
        total,
    }))
}

/// Arms an install: the machine gets it at its next network boot, once.
#[utoipa::path(
    post, operation_id = "installs_arm", path = "/installs", tag = "installs", request_body = ArmRequest,
    responses((status = 201, body = InstallRow), (status = 422, body = Problem))
)]
pub(super) async fn arm(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(request): Json<ArmRequest>,
) -> Result<(StatusCode, Json<InstallRow>), Reject> {
    let install = admin.app.records.arm(request, &who(&headers)).await?;
    Ok((StatusCode::CREATED, Json(admin.app.records.install_row(&install))))
}

/// Arms an install of the same image on several machines: on all of them, or on none.
#[utoipa::path(
    post, operation_id = "installs_arm_several", path = "/installs/several", tag = "installs", request_body = ArmSeveral,
    responses((status = 201, body = [InstallRow]), (status = 422, body = Problem))
)]
pub(super) async fn arm_several(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(several): Json<ArmSeveral>,
) -> Result<(StatusCode, Json<Vec<InstallRow>>), Reject> {
    let installs = admin.app.records.arm_all(move |site| several.requests(site), &who(&headers)).await?;
    Ok((
        StatusCode::CREATED,
        Json(installs.iter().map(|install| admin.app.records.install_row(install)).collect()),
    ))
}

/// What arming would do to each machine: what it holds now, what it would get, which disks it would lose, and what stands
/// in the way. Nothing is changed.
#[utoipa::path(
    post, operation_id = "installs_preview", path = "/installs/preview", tag = "installs", request_body = ArmSeveral,
    responses((status = 200, body = [ArmPreview]), (status = 422, body = Problem))
)]
pub(super) async fn preview(
    State(admin): State<Admin>,
    Json(several): Json<ArmSeveral>,
) -> Result<Json<Vec<ArmPreview>>, Reject> {
    // Every machine's file is written to see whether it can be: with thousands of them that takes a while.
    let found = tokio::task::spawn_blocking(move || admin.app.records.preview(&several)).await;
    Ok(Json(found?.map_err(|error| Reject::from(error).of_question())?))
}

impl From<ArmError> for Reject {
    fn from(error: ArmError) -> Self {
        match error {
            ArmError::Faults(faults) => faults.into(),
            ArmError::Store(error) => error.into(),
        }
    }
}

/// One install, with everything that was seen of it.
#[utoipa::path(
    get, operation_id = "installs_read", path = "/installs/{number}", tag = "installs", params(("number" = i64, Path)),
    responses((status = 200, body = InstallDetail), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
) -> Result<Json<InstallDetail>, Reject> {
    let found = admin.app.records.store.read(move |tx| tx.install(number)).await?;
    let (install, steps) = found.ok_or_else(|| Reject::not_found("install", number))?;
    let log = admin.app.records.store.read(move |tx| tx.log(number)).await?;
    let log = log.into_iter().map(|line| LogLine { at: line.at, line: line.line }).collect();
    Ok(Json(InstallDetail::new(admin.app.records.install_row(&install), &install, steps, log)))
}

/// Cancels an install. The machine gets its local disk at its next boot; what the installer has done
/// already is not undone.
#[utoipa::path(
    post, operation_id = "installs_cancel", path = "/installs/{number}/cancel", tag = "installs", params(("number" = i64, Path)),
    responses((status = 200, body = InstallRow), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn cancel(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
    headers: HeaderMap,
) -> Result<Json<InstallRow>, Reject> {
    let app = &admin.app;
    let found = app.records.store.read(move |tx| tx.install(number)).await?;
    let (install, _) = found.ok_or_else(|| Reject::not_found("install", number))?;
    let cancelled = app.records.cancel_all(vec![install.clone()], who(&headers)).await?;
    match cancelled.into_iter().flatten().next() {
        Some(install) => Ok(Json(app.records.install_row(&install))),
        None => Err(Reject::conflict(format!("install {number} has ended already: {}", install.state))),
    }
}

/// Arms what an ended install was to do once more: the image's current revision, with the same answers.
#[utoipa::path(
    post, operation_id = "installs_retry", path = "/installs/{number}/retry", tag = "installs", params(("number" = i64, Path)),
    responses((status = 201, body = InstallRow), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn retry(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
    headers: HeaderMap,
) -> Result<(StatusCode, Json<InstallRow>), Reject> {
    let found = admin.app.records.store.read(move |tx| tx.install(number)).await?;
    let (install, _) = found.ok_or_else(|| Reject::not_found("install", number))?;
    if install.state.is_open() {
        return Err(Reject::conflict(format!("install {number} goes on: it is {}", install.state)));
    }
    let armed = admin.app.records.retry_all(vec![install], &who(&headers)).await?;
    let rows: Vec<InstallRow> = armed.iter().map(|install| admin.app.records.install_row(install)).collect();
    // One install is armed anew as one.
    let row = rows.into_iter().next().ok_or_else(|| Reject::not_found("install", number))?;
    Ok((StatusCode::CREATED, Json(row)))
}

/// Arms what several ended installs were to do once more: all of them, or none.
#[utoipa::path(
    post, operation_id = "installs_retry_several", path = "/installs/retry", tag = "installs", request_body = InstallNumbers,
    responses((status = 201, body = [InstallRow]), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn retry_several(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(request): Json<InstallNumbers>,
) -> Result<(StatusCode, Json<Vec<InstallRow>>), Reject> {
    let installs = named(&admin, &request).await?;
    if let Some(open) = installs.iter().find(|install| install.state.is_open()) {
        return Err(Reject::conflict(format!("install {} goes on: it is {}", open.number, open.state)));
    }
    let armed = admin.app.records.retry_all(installs, &who(&headers)).await?;
    let rows = armed.iter().map(|install| admin.app.records.install_row(install)).collect();
    Ok((StatusCode::CREATED, Json(rows)))
}

/// Cancels several installs in one change. Those that have ended meanwhile stay as they are; the answer has all as they are then.
#[utoipa::path(
    post, operation_id = "installs_cancel_several", path = "/installs/cancel", tag = "installs", request_body = InstallNumbers,
    responses((status = 200, body = [InstallRow]), (status = 404, body = Problem))
)]
pub(super) async fn cancel_several(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(request): Json<InstallNumbers>,
) -> Result<Json<Vec<InstallRow>>, Reject> {
    let records = &admin.app.records;
    let installs = named(&admin, &request).await?;
    let cancelled = records.cancel_all(installs.clone(), who(&headers)).await?;
    let now =
        installs.iter().zip(&cancelled).map(|(install, cancelled)| cancelled.as_ref().unwrap_or(install));
    Ok(Json(now.map(|install| records.install_row(install)).collect()))
}

/// The installs of these numbers.
async fn named(admin: &Admin, request: &InstallNumbers) -> Result<Vec<Install>, Reject> {
    let mut installs = Vec::new();
    for &number in &request.numbers {
        let found = admin.app.records.store.read(move |tx| tx.install(number)).await?;
        installs.push(found.ok_or_else(|| Reject::not_found("install", number))?.0);
    }
    Ok(installs)
}

/// Answers questions that an install waits for. The machine goes on by itself.
#[utoipa::path(
    post, operation_id = "installs_answer", path = "/installs/{number}/answer", tag = "installs", params(("number" = i64, Path)),
    request_body = AskedRequest,
    responses((status = 200, body = InstallRow), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn answer(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
    headers: HeaderMap,
    Json(request): Json<AskedRequest>,
) -> Result<Json<InstallRow>, Reject> {
    let (app, who) = (admin.app.clone(), who(&headers));
    let answer = move |change: &mut Change<'_>| {
        let found = change.tx().install(number)?;
        let (install, _) = found.ok_or_else(|| Reject::not_found("install", number))?;
        let site = change.site();
        let questions = lastmile_core::decide::answers::questions(site.named(&site.layers_of(&install)));
        let Some((next, step)) = install.answer(&questions, &request.asked, &who, clock::now())? else {
            return Err(Reject::conflict(format!(
                "install {number} asks nothing any more: it is {}",
                install.state
            )));
        };
        // What the answers make of the settings must be as right as they are.
        app.records.check_answered(site, &next)?;
        Ok(app.records.keep_install(change, next, step)?)
    };
    let install = admin.app.records.change(answer).await?;
    Ok(Json(admin.app.records.install_row(&install)))
}

/// Who calls, as far as the client says.
pub(super) fn who(headers: &HeaderMap) -> String {
    plain_name(headers.get(WHO).and_then(|value| value.to_str().ok()))
}

/// A name as somebody gave it, if it can be shown.
pub(super) fn plain_name(said: Option<&str>) -> String {
    let plain = |who: &&str| !who.is_empty() && who.len() <= 64 && !who.chars().any(char::is_control);
    said.map(str::trim).filter(plain).unwrap_or("unnamed").into()
}

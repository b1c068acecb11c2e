//! Jobs: pieces of work that the survey's agents are given.

use axum::{
    extract::State,
    http::{HeaderMap, StatusCode},
};
use lastmile_api::{ArmJobs, JobDetail, JobList, JobNumbers, JobRow, JobsListQuery, LogLine, Problem};
use lastmile_core::model::job::{Job, JobState};
use lastmile_formats::mac::Mac;
use lastmile_store::{JobFilter, JobsOf};

use super::{
    Admin,
    installs::who,
    reject::{Json, Path, Query, Reject},
};
use crate::jobs::JobError;

/// Rows on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;

impl From<JobError> for Reject {
    fn from(error: JobError) -> Self {
        match error {
            JobError::Faults(faults) => faults.into(),
            JobError::Store(error) => error.into(),
        }
    }
}

/// Jobs, newest first, filtered, and a page at a time.
#[utoipa::path(
    get, operation_id = "jobs_list", path = "/jobs", tag = "jobs", params(JobsListQuery),
    responses((status = 200, body = JobList), (status = 422, body = Problem))
)]
pub(super) async fn list(
    State(admin): State<Admin>,
    Query(query): Query<JobsListQuery>,
) -> Result<Json<JobList>, Reject> {
    let states = query.state.as_deref().into_iter().flat_map(|states| states.split(','));
    let read = |state: &str| {
        let unknown = || {
            let known: Vec<&str> = JobState::ALL.iter().map(|state| state.as_str()).collect();
            let what = format!("'{}' is no state of a job: there are {}", state.trim(), known.join(", "));
            Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "No such state", what)
        };
        state.trim().parse::<JobState>().map_err(|_| unknown())
    };
    let site = admin.app.records.site();
    let of = query.machine.map(|name| match site.machine_called(&name) {
        Some(machine) => JobsOf::Machine(machine.id, machine.macs.clone()),
        // An address in any form is recorded in one.
        None => JobsOf::Name(name.parse::<Mac>().map_or(name, |mac| mac.to_string())),
    });
    let filter = JobFilter {
        of,
        states: states.map(read).collect::<Result<_, _>>()?,
        kind: query.kind,
        limit: i64::from(query.limit.unwrap_or(PAGE).min(LARGEST_PAGE)),
        offset: i64::from(query.offset.unwrap_or(0)),
    };
    let (jobs, total) = admin.app.records.store.read(move |tx| tx.jobs(&filter)).await?;
    Ok(Json(JobList { jobs: rows(&admin, &jobs), total }))
}

/// Arms a job on several machines: on all of them, or on none. A machine that runs the survey begins at once; another one boots the
/// survey at its next network boot.
#[utoipa::path(
    post, operation_id = "jobs_arm", path = "/jobs", tag = "jobs", request_body = ArmJobs,
    responses((status = 201, body = [JobRow]), (status = 422, body = Problem))
)]
pub(super) async fn arm(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(asked): Json<ArmJobs>,
) -> Result<(StatusCode, Json<Vec<JobRow>>), Reject> {
    let jobs = admin.app.records.arm_jobs(asked, &who(&headers)).await?;
    Ok((StatusCode::CREATED, Json(rows(&admin, &jobs))))
}

/// One job, with everything that happened to it and what it wrote.
#[utoipa::path(
    get, operation_id = "jobs_read", path = "/jobs/{number}", tag = "jobs", params(("number" = i64, Path)),
    responses((status = 200, body = JobDetail), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(number): Path<i64>,
) -> Result<Json<JobDetail>, Reject> {
    let records = &admin.app.records;
    let found = records.store.read(move |tx| tx.job(number)).await?;
    let (job, steps) = found.ok_or_else(|| Reject::not_found("job", number))?;
    let (log, log_next) = records.store.read(move |tx| tx.job_log(number)).await?;
    Ok(Json(JobDetail {
        job: records.job_row(&records.site(), &job),
        task: job.task,
        then: job.then,
        result: job.result,
        steps,
        log: log.into_iter().map(|line| LogLine { at: line.at, line: line.line }).collect(),
        log_next,
    }))
}

/// Cancels jobs in one change. Those that have ended meanwhile stay as they are; the answer has all as they are then.
#[utoipa::path(
    post, operation_id = "jobs_cancel", path = "/jobs/cancel", tag = "jobs", request_body = JobNumbers,
    responses((status = 200, body = [JobRow]), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn cancel(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(request): Json<JobNumbers>,
) -> Result<Json<Vec<JobRow>>, Reject> {
    let records = &admin.app.records;
    let mut jobs = Vec::new();
    for &number in &request.numbers {
        let found = records.store.read(move |tx| tx.job(number)).await?;
        jobs.push(found.ok_or_else(|| Reject::not_found("job", number))?.0);
    }
    // Of one that has ended it is a mistake.
    if let [job] = &jobs[..]
        && !job.state.is_open()
    {
        return Err(Reject::conflict(format!("job {} has ended already: {}", job.number, job.state)));
    }
    let cancelled = records.cancel_jobs(request.numbers, who(&headers)).await?;
    let now: Vec<Job> =
        jobs.into_iter().zip(cancelled).map(|(job, cancelled)| cancelled.unwrap_or(job)).collect();
    Ok(Json(rows(&admin, &now)))
}

fn rows(admin: &Admin, jobs: &[Job]) -> Vec<JobRow> {
    let site = admin.app.records.site();
    jobs.iter().map(|job| admin.app.records.job_row(&site, job)).collect()
}

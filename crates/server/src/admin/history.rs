//! Reports over the record, as JSON or as tables.

use axum::{
    extract::State,
    http::{StatusCode, header},
    response::{IntoResponse, Response},
};
use jiff::{Timestamp, civil::Date, tz::TimeZone};
use lastmile_api::{
    HistoryHostsQuery, HistoryRatesQuery, HostHistory, HostRecord, Problem, RateReport, ReportFormat, Tally,
};
use lastmile_core::{base::Fault, report::history};

use super::{
    Admin,
    reject::{Json, Query, Reject},
};

/// Which host has which image revision, since when, and from whom; machines that left among them.
#[utoipa::path(
    get, operation_id = "history_hosts", path = "/history/hosts", tag = "history", params(HistoryHostsQuery),
    responses((status = 200, description = "As JSON, or as CSV if that is asked for", content(
        (HostHistory = "application/json"), (String = "text/csv"),
    )))
)]
pub(super) async fn hosts(
    State(admin): State<Admin>,
    Query(query): Query<HistoryHostsQuery>,
) -> Result<Response, Reject> {
    let (installs, left) = admin.app.records.store.read(|tx| Ok((tx.held()?, tx.left()?))).await?;
    let mut hosts = history::hosts(&admin.app.records.site(), &installs, &left);
    hosts.retain(|host| {
        query.image.as_ref().is_none_or(|image| host.image == *image)
            && (query.left != Some(false) || host.left.is_none())
    });
    let behind = hosts.iter().filter(|host| host.is_behind && host.left.is_none()).count();
    let left = hosts.iter().filter(|host| host.left.is_some()).count();
    if let Some(wanted) = query.behind {
        hosts.retain(|host| (host.is_behind && host.left.is_none()) == wanted);
    }
    if query.format == Some(ReportFormat::Csv) {
        let head = [
            "machine",
            "image",
            "revision",
            "current",
            "behind",
            "stateless",
            "answers",
            "answers_version",
            "install",
            "since",
            "armed_by",
            "left",
        ];
        return table(head, hosts.iter().map(host_cells));
    }
    Ok(Json(HostHistory { hosts, behind, left }).into_response())
}

/// How installs went, by what they have in common and day by day.
#[utoipa::path(
    get, operation_id = "history_rates", path = "/history/rates", tag = "history", params(HistoryRatesQuery),
    responses(
        (status = 200, description = "As JSON, or its groups as CSV if that is asked for", content(
            (RateReport = "application/json"), (String = "text/csv"),
        )),
        (status = 422, body = Problem)
    )
)]
pub(super) async fn rates(
    State(admin): State<Admin>,
    Query(query): Query<HistoryRatesQuery>,
) -> Result<Response, Reject> {
    let (since, until) = (day("since", query.since.as_deref()), day("until", query.until.as_deref()));
    let faults: Vec<Fault> =
        [&since, &until].into_iter().filter_map(|day| day.as_ref().err().cloned()).collect();
    let (Ok(since), Ok(until)) = (since, until) else { return Err(faults.into()) };
    let installs = admin.app.records.store.read(move |tx| tx.recorded(since, until)).await?;
    let by = query.by.unwrap_or_default();
    let rates = history::rates(&installs, by);
    if query.format == Some(ReportFormat::Csv) {
        let head = [
            "group",
            "armed",
            "open",
            "installed",
            "failed",
            "stalled",
            "cancelled",
            "success_percent",
            "shortest_secs",
            "median_secs",
            "ninth_decile_secs",
            "longest_secs",
        ];
        return table(head, rates.groups.iter().chain([&rates.all]).map(tally_cells));
    }
    Ok(Json(RateReport { by, rates }).into_response())
}

/// The first moment of a day (UTC).
fn day(place: &str, text: Option<&str>) -> Result<Option<Timestamp>, Fault> {
    let Some(text) = text else { return Ok(None) };
    let read = text.parse::<Date>().ok().and_then(|day| day.to_zoned(TimeZone::UTC).ok());
    read.map(|start| Some(start.timestamp())).ok_or_else(|| Fault {
        place: place.into(),
        what: format!("'{text}' is no day"),
        fix: "Give it as in 2026-11-01.".into(),
    })
}

fn host_cells(host: &HostRecord) -> [String; 12] {
    [
        host.machine.clone(),
        host.image.clone(),
        host.revision.to_string(),
        cell(host.current),
        host.is_behind.to_string(),
        host.is_stateless.to_string(),
        host.answers.clone(),
        host.answers_version.to_string(),
        host.install.to_string(),
        host.since.to_string(),
        host.armed_by.clone(),
        cell(host.left),
    ]
}

fn tally_cells(tally: &Tally) -> [String; 12] {
    [
        tally.group.clone(),
        tally.armed.to_string(),
        tally.open.to_string(),
        tally.installed.to_string(),
        tally.failed.to_string(),
        tally.stalled.to_string(),
        tally.cancelled.to_string(),
        cell(tally.success_percent),
        cell(tally.shortest_secs),
        cell(tally.median_secs),
        cell(tally.ninth_decile_secs),
        cell(tally.longest_secs),
    ]
}

fn cell(value: Option<impl ToString>) -> String {
    value.map(|value| value.to_string()).unwrap_or_default()
}

/// Comma-separated values with a line of names (RFC 4180). A cell that a spreadsheet would take for a formula is led by
/// an apostrophe.
fn table<const N: usize>(
    head: [&str; N],
    rows: impl Iterator<Item = [String; N]>,
) -> Result<Response, Reject> {
    let broken = |error: csv::Error| {
        Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "The table was not written", error.to_string())
    };
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    writer.write_record(head).map_err(broken)?;
    for row in rows {
        let harmless =
            row.map(|cell| if cell.starts_with(['=', '+', '-', '@']) { format!("'{cell}") } else { cell });
        writer.write_record(harmless).map_err(broken)?;
    }
    let bytes = writer.into_inner().unwrap_or_default();
    Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8; header=present")], bytes).into_response())
}

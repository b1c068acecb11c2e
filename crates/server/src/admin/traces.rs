use std::{collections::HashSet, convert::Infallible, sync::Arc, time::Duration};

use axum::{
    extract::State,
    http::header,
    response::{
        IntoResponse, Response,
        sse::{Event as SseEvent, KeepAlive, Sse},
    },
};
use futures_util::Stream;
use lastmile_api::{NewcomerView, Problem, Trace, TraceComparison, TraceLine, TracesCompareQuery};
use lastmile_core::{
    report::trace::{TraceEvent, compare, diagnose, last_boot, pcapng},
    site::Site,
};
use lastmile_formats::mac::Mac;
use tokio::sync::broadcast::error::RecvError;

use super::{
    Admin,
    reject::{Json, Path, Query, Reject},
};
use crate::{app::App, clock, link::Interface};

/// A sign of life, so that a reader notices a connection that is gone.
const KEEP_ALIVE: Duration = Duration::from_secs(15);
/// Newcomers that are listed.
const NEWCOMERS: usize = 1000;
/// What stands for this service's MAC address in a capture where no interface tells it.
const NO_INTERFACE: [u8; 6] = [0x02, 0, 0, 0, 0, 0x01];

/// Who is meant by a machine's name, or by a MAC address.
pub(super) fn who(site: &Site, text: &str) -> Result<(String, Vec<Mac>), Reject> {
    if let Some(machine) = site.machine_called(text) {
        return Ok((machine.name.clone(), machine.macs.clone()));
    }
    let mac: Mac = text.parse().map_err(|_| Reject::not_found("machine", text))?;
    Ok((mac.to_string(), vec![mac]))
}

fn trace_of(app: &App, text: &str) -> Result<(Trace, Vec<Arc<TraceEvent>>), Reject> {
    let (name, macs) = who(&app.records.site(), text)?;
    let events = app.wire.traces().of(&macs);
    let trace = Trace {
        who: name,
        macs: macs.iter().map(ToString::to_string).collect(),
        diagnoses: diagnose(&events, clock::now()),
        lines: events.iter().map(|event| TraceLine::from(&**event)).collect(),
        last_boot: last_boot(&events).first().map(|event| event.number),
    };
    Ok((trace, events))
}

/// Newcomers that left a trace, the one seen last first.
#[utoipa::path(
    get, operation_id = "traces_newcomers", path = "/newcomers", tag = "traces",
    responses((status = 200, body = [NewcomerView]))
)]
pub(super) async fn newcomers(State(admin): State<Admin>) -> Json<Vec<NewcomerView>> {
    let (wire, site) = (&admin.app.wire, admin.app.records.site());
    let traces = wire.traces();
    let is_registered = |mac: Mac| site.machine_by_mac(mac).is_some();
    let seen = traces.newcomers(is_registered).take(NEWCOMERS).filter_map(|mac| {
        let events = traces.of(&[mac]);
        let last = events.last()?;
        Some((mac, last.at, last.asked(), last.got()))
    });
    let mut all: Vec<_> = seen.collect();
    // Those that were surveyed, and of which no trace is left.
    let known: HashSet<Mac> = all.iter().map(|(mac, ..)| *mac).collect();
    let others =
        site.surveys().filter(|survey| !known.contains(&survey.mac) && !survey.macs().any(is_registered));
    let mut others: Vec<_> =
        others.map(|survey| (survey.mac, survey.at, String::new(), String::new())).collect();
    others.sort_by_key(|(_, at, ..)| std::cmp::Reverse(*at));
    all.extend(others);
    all.truncate(NEWCOMERS);
    let view = |(mac, last_seen, asked, got)| {
        let survey = site.survey_at(mac);
        NewcomerView {
            product: survey.and_then(|survey| survey.survey.facts.hardware()),
            hardware: survey.map(|survey| survey.inside()),
            surveyed: survey.map(|survey| survey.at),
            is_waiting: wire.agents.on(&[mac]).is_some(),
            mac: mac.to_string(),
            last_seen,
            asked,
            got,
        }
    };
    Json(all.into_iter().map(view).collect())
}

/// The trace of a machine (by its name) or of a newcomer (by its MAC address): everything it did on the wire since
/// the service started, within bounds, and what it means.
#[utoipa::path(
    get, operation_id = "traces_read", path = "/traces/{who}", tag = "traces", params(("who" = String, Path)),
    responses((status = 200, body = Trace), (status = 404, body = Problem))
)]
pub(super) async fn read(State(admin): State<Admin>, Path(who): Path<String>) -> Result<Json<Trace>, Reject> {
    Ok(Json(trace_of(&admin.app, &who)?.0))
}

/// The last boots of two machines beside each other, the first difference marked.
#[utoipa::path(
    get, operation_id = "traces_compare", path = "/traces/{who}/comparison", tag = "traces",
    params(("who" = String, Path), TracesCompareQuery),
    responses((status = 200, body = TraceComparison), (status = 404, body = Problem))
)]
pub(super) async fn comparison(
    State(admin): State<Admin>,
    Path(who): Path<String>,
    Query(TracesCompareQuery { with }): Query<TracesCompareQuery>,
) -> Result<Json<TraceComparison>, Reject> {
    let (left, left_events) = trace_of(&admin.app, &who)?;
    let (right, right_events) = trace_of(&admin.app, &with)?;
    let compared = compare(last_boot(&left_events), last_boot(&right_events));
    Ok(Json(TraceComparison {
        left,
        right,
        pairs: compared.pairs,
        first_difference: compared.first_difference,
        says: compared.says,
    }))
}

/// The exchange of one machine as a capture file (draft-ietf-opsawg-pcapng).
#[utoipa::path(
    get, operation_id = "traces_capture", path = "/traces/{who}/capture", tag = "traces", params(("who" = String, Path)),
    responses((status = 200, body = [u8], content_type = "application/x-pcapng"), (status = 404, body = Problem))
)]
pub(super) async fn capture(State(admin): State<Admin>, Path(who): Path<String>) -> Result<Response, Reject> {
    let (trace, events) = trace_of(&admin.app, &who)?;
    let mac = trace.macs.first().and_then(|mac| mac.parse().ok());
    let mac: Mac = mac.ok_or_else(|| Reject::not_found("machine", &who))?;
    let interface = admin.listening.dhcp.first().and_then(|(name, _)| Interface::find(name).ok().flatten());
    let own = interface.map_or(NO_INTERFACE, |interface| interface.mac);
    let own = Mac::new(own).or_else(|_| Mac::new(NO_INTERFACE));
    let own = own.map_err(|error| Reject::conflict(error.to_string()))?;
    let file = format!("attachment; filename=\"{}.pcapng\"", trace.who.replace(':', "-"));
    let headers =
        [(header::CONTENT_TYPE, "application/x-pcapng".to_owned()), (header::CONTENT_DISPOSITION, file)];
    Ok((headers, pcapng(mac, own, &events)).into_response())
}

/// The events of one machine as they come, as server-sent events whose data is a `TraceLine`. A comment says when
/// some were lost because the reader was too slow.
#[utoipa::path(
    get, operation_id = "traces_follow", path = "/traces/{who}/events", tag = "traces", params(("who" = String, Path)),
    responses((status = 200, body = TraceLine, content_type = "text/event-stream"), (status = 404, body = Problem))
)]
pub(super) async fn follow(
    State(admin): State<Admin>,
    Path(text): Path<String>,
) -> Result<Sse<impl Stream<Item = Result<SseEvent, Infallible>>>, Reject> {
    let (_, macs) = who(&admin.app.records.site(), &text)?;
    let mut events = admin.app.wire.trace_events.subscribe();
    let stop = admin.stop;
    let stream = async_stream::stream! {
        loop {
            let event = tokio::select! {
                () = stop.cancelled() => break,
                event = events.recv() => event,
            };
            match event {
                Ok((mac, event)) if macs.contains(&mac) => {
                    if let Ok(event) = SseEvent::default().json_data(TraceLine::from(event.as_ref())) {
                        yield Ok(event);
                    }
                }
                Ok(_) => {}
                Err(RecvError::Lagged(lost)) => yield Ok(SseEvent::default().comment(format!("{lost} lost"))),
                Err(RecvError::Closed) => break,
            }
        }
    };
    Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(KEEP_ALIVE)))
}

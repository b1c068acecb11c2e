//! What somebody should know first.

use std::{cmp::Reverse, sync::Arc};

use axum::extract::State;
use jiff::Timestamp;
use lastmile_api::{Attention, AttentionKind, Overview, Problem, Today};
use lastmile_core::{
    model::{
        install::{Install, InstallState},
        job::{JobKind, JobState},
        machine::Machine,
    },
    site::Site,
};
use lastmile_store::DeliveryFilter;

use super::{
    Admin, proposals,
    reject::{Json, Reject},
    status,
};
use crate::{app::App, clock};

/// Things that need attention which are listed.
const MOST_ATTENTION: usize = 100;
/// Installs in progress which are listed.
const MOST_IN_PROGRESS: usize = 50;
/// Installs that ended today which are listed.
const MOST_ENDED: i64 = 20;
/// Newcomers seen longer ago than this need nobody.
const NEWCOMER_AGE: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);

/// What needs attention, what is in progress, what happened today, and the state of the service.
#[utoipa::path(
    get, operation_id = "overview_read", path = "/overview", tag = "status",
    responses((status = 200, body = Overview), (status = 500, body = Problem))
)]
pub(super) async fn read(State(admin): State<Admin>) -> Result<Json<Overview>, Reject> {
    let app = &admin.app;
    let site = app.records.site();
    let midnight = midnight(clock::now());
    let waiting = DeliveryFilter { is_waiting: true, limit: 1000, ..DeliveryFilter::default() };
    let (counts, ended, deliveries) = app
        .records
        .store
        .read(move |tx| {
            let ended = tx.installs_ended_since(midnight, MOST_ENDED)?;
            Ok((tx.install_counts_since(midnight)?, ended, tx.deliveries(&waiting)?))
        })
        .await?;
    let mut attention = of_service(app, &site);
    attention.extend(site.machines().flat_map(|machine| of_machine(&site, machine)));
    attention.extend(of_images(&site));
    attention.extend(of_proposals(&admin, &site).await?);
    attention.extend(of_newcomers(app));
    for webhook in site.webhooks() {
        let mut failing = deliveries.iter().filter(|one| one.webhook == webhook.name && one.attempts > 0);
        if let Some(first) = failing.next() {
            let count = failing.count() + 1;
            attention.push(Attention {
                what: format!(
                    "{count} {} failed: {}",
                    if count == 1 { "delivery" } else { "deliveries" },
                    first.last_answer.clone().unwrap_or_default()
                ),
                next: "Correct its URL or the receiver; deliveries are tried again by themselves.".into(),
                at: Some(first.created),
                ..about(AttentionKind::Webhook, webhook.name.clone())
            });
        }
    }
    attention.sort_by_key(|one| (one.kind, Reverse(one.at)));
    let attention_total = attention.len();
    attention.truncate(MOST_ATTENTION);
    let mut open: Vec<_> = site.open_installs().cloned().collect();
    let far = |state| InstallState::ALL.iter().position(|known| *known == state);
    open.sort_by_key(|install| (Reverse(far(install.state)), Reverse(install.last_step_at)));
    let row = |install: &Install| app.records.install_row(install);
    let mut jobs: Vec<_> = site.all_open_jobs().cloned().collect();
    jobs.sort_by_key(|job| Reverse(job.number));
    Ok(Json(Overview {
        jobs_total: jobs.len(),
        jobs: jobs.iter().take(MOST_IN_PROGRESS).map(|job| app.records.job_row(&site, job)).collect(),
        attention,
        attention_total,
        in_progress_total: open.len(),
        in_progress: open.iter().take(MOST_IN_PROGRESS).map(|install| row(install)).collect(),
        today: Today {
            armed: counts.armed,
            installed: counts.installed,
            failed: counts.failed,
            stalled: counts.stalled,
            cancelled: counts.cancelled,
        },
        ended: ended.iter().map(row).collect(),
        service: status::of(&admin),
    }))
}

/// The last midnight where the service is.
fn midnight(now: Timestamp) -> Timestamp {
    now.to_zoned(jiff::tz::TimeZone::system()).start_of_day().map_or(now, |start| start.timestamp())
}

fn about(kind: AttentionKind, subject: String) -> Attention {
    Attention { kind, subject, install: None, job: None, what: String::new(), next: String::new(), at: None }
}

fn of_service(app: &App, site: &Site) -> Vec<Attention> {
    let mut found = Vec::new();
    if let Some(trouble) = app.records.store.trouble() {
        found.push(Attention {
            what: format!("Nothing can be recorded: {trouble}"),
            next: "Make room on the disk, or give the service the right to write. Leases and installs wait."
                .into(),
            ..about(AttentionKind::Recording, "service".into())
        });
    }
    let lacking = [
        (site.subnets().next().is_none(), "subnet", "No subnet: no machine is answered.", "Add a subnet."),
        (
            site.loaders().next().is_none(),
            "loader",
            "No loader: firmware has nothing to boot.",
            "Add a loader.",
        ),
    ];
    for (is_lacking, subject, what, next) in lacking {
        if is_lacking {
            found.push(Attention {
                what: what.into(),
                next: next.into(),
                ..about(AttentionKind::SetUp, subject.into())
            });
        }
    }
    found
}

fn of_machine(site: &Site, machine: &Machine) -> Vec<Attention> {
    let mut found = Vec::new();
    let of = |kind: AttentionKind, install: &Install| Attention {
        install: Some(install.number),
        at: Some(install.ended_at.unwrap_or(install.last_step_at)),
        ..about(kind, machine.name.clone())
    };
    if let Some(latest) = site.latest_install(machine.id) {
        let reason = latest.reason.clone().unwrap_or_default();
        match latest.state {
            InstallState::Failed => found.push(Attention {
                what: format!("Install of {} failed: {reason}", latest.image_title),
                next: "Read its log, then arm it again.".into(),
                ..of(AttentionKind::Failed, latest)
            }),
            InstallState::Stalled => found.push(Attention {
                what: format!("Install of {} stalled: {reason}", latest.image_title),
                next: "Read the machine's trace, then arm it again.".into(),
                ..of(AttentionKind::Stalled, latest)
            }),
            _ => {}
        }
        if latest.state.is_open() && !latest.open_questions.is_empty() {
            let questions: Vec<&str> =
                latest.open_questions.values().map(|question| question.text.as_str()).collect();
            found.push(Attention {
                what: format!("Waits for an answer: {}", questions.join(" ")),
                next: "Answer it; the machine goes on by itself.".into(),
                at: Some(latest.armed_at),
                ..of(AttentionKind::Question, latest)
            });
        }
        if latest.state.is_open() && !latest.refused_from.is_empty() {
            found.push(Attention {
                what: format!(
                    "{} other addresses asked for its answers, and were refused.",
                    latest.refused_from.len()
                ),
                next: "Look for a machine that uses its MAC address.".into(),
                ..of(AttentionKind::Refused, latest)
            });
        }
    }
    found.extend(of_burn_in(site, machine));
    found.extend(of_disks(site, machine));
    // What became of the last install that reached its end, unless another is on its way.
    let is_settled = site.open_install(machine.id).is_none();
    if let Some(installed) = site.last_installed(machine.id).filter(|_| is_settled)
        && let Some(outcome) = &installed.outcome
    {
        let differences = outcome.differences();
        if let Some(first) = differences.first() {
            let more = match differences.len() {
                1 => String::new(),
                count => format!(", and {} more", count - 1),
            };
            found.push(Attention {
                what: format!("{}: {}, expected {}{more}", first.what, first.actual, first.expected),
                next: "Compare expected and actual; install it again, or correct the machine.".into(),
                ..of(AttentionKind::Differs, installed)
            });
        }
    }
    found
}

/// A machine that failed its last burn-in.
fn of_burn_in(site: &Site, machine: &Machine) -> Option<Attention> {
    let job = site.last_job(*machine.macs.first()?, JobKind::BurnIn)?;
    if !matches!(job.state, JobState::Failed | JobState::Stalled) {
        return None;
    }
    Some(Attention {
        what: format!("Burn-in {}: {}", job.state, job.reason.clone().unwrap_or_default()),
        next: "Repair or replace what is broken, then arm a burn-in again.".into(),
        job: Some(job.number),
        at: job.ended_at,
        ..about(AttentionKind::BurnIn, machine.name.clone())
    })
}

/// A machine whose last survey found disks that say that they expect to fail.
fn of_disks(site: &Site, machine: &Machine) -> Option<Attention> {
    let record = site.survey_of(machine)?;
    let failing: Vec<String> = record
        .survey
        .facts
        .failing_disks()
        .map(|disk| {
            let health = disk.health.as_ref().map(|health| health.summary()).unwrap_or_default();
            let serial = disk.serial.as_ref().map(|serial| format!("serial {serial}"));
            let named: Vec<String> = disk.model.clone().into_iter().chain(serial).collect();
            format!("disk {} ({}) {health}", disk.name, named.join(", "))
        })
        .collect();
    (!failing.is_empty()).then(|| Attention {
        what: format!("Its {}.", failing.join("; its ")),
        next: "Save what is on it and replace it; the survey after that finds the other one.".into(),
        at: Some(record.at),
        ..about(AttentionKind::Disk, machine.name.clone())
    })
}

fn of_images(site: &Site) -> Vec<Attention> {
    let lacking = site.images().filter(|image| !image.current.is_ready());
    let one = |image: &std::sync::Arc<lastmile_core::model::image::Image>| Attention {
        what: format!("r{} is not served: {}", image.current.number, image.current.lacking().join("; ")),
        next: "Put the file back and verify it, or import it again.".into(),
        at: Some(image.current.created),
        ..about(AttentionKind::Image, image.name.clone())
    };
    lacking.map(one).collect()
}

async fn of_proposals(admin: &Admin, site: &Arc<Site>) -> Result<Option<Attention>, Reject> {
    let waiting = proposals::proposed(&admin.app, site).await?;
    let Some(first) = waiting.first() else { return Ok(None) };
    Ok(Some(Attention {
        what: match waiting.len() {
            1 => format!("Rules propose something for {}.", first.who),
            count => format!("Rules propose something for {count} machines."),
        },
        next: "Accept or decline it.".into(),
        at: Some(first.since),
        ..about(AttentionKind::Proposals, "proposals".into())
    }))
}

fn of_newcomers(app: &App) -> Option<Attention> {
    let (since, site) = (clock::now() - NEWCOMER_AGE, app.records.site());
    let traces = app.wire.traces();
    let recent: Vec<Timestamp> = traces
        .newcomers(|mac| site.machine_by_mac(mac).is_some())
        .filter_map(|mac| traces.last_seen(&[mac]))
        .filter(|seen| *seen > since)
        .collect();
    let last = recent.iter().max().copied()?;
    Some(Attention {
        what: match recent.len() {
            1 => "1 unknown machine was seen in the last 24 hours.".into(),
            count => format!("{count} unknown machines were seen in the last 24 hours."),
        },
        next: "Adopt them, or ignore them.".into(),
        at: Some(last),
        ..about(AttentionKind::Newcomers, "newcomers".into())
    })
}

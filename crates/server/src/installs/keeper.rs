//! What is looked after while installs go on: those that fell silent, and what was learned of those that ended.

use std::{collections::HashSet, sync::Arc, time::Duration};

use jiff::Timestamp;
use lastmile_core::{
    model::install::Install,
    report::trace::{Diagnosis, diagnose},
};
use tokio_util::sync::CancellationToken;

use crate::{clock, records::Records, sync::lock, wire::Wire};

/// How often it is looked.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// Ends installs that went beyond a limit, and learns from those that ended, until the service stops.
pub(crate) async fn keep(records: Arc<Records>, wire: Arc<Wire>, stop: CancellationToken) {
    records.learn_all();
    loop {
        if let Err(error) = records.learn().await {
            tracing::warn!("how long installs take was not learned: {error}");
        }
        end_overdue(&records, &wire).await;
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LOOK_EVERY) => {}
        }
    }
}

async fn end_overdue(records: &Arc<Records>, wire: &Wire) {
    let (site, now) = (records.site(), clock::now());
    let limits = site.settings().limits;
    let open: HashSet<i64> = site.open_installs().map(|install| install.number).collect();
    lock(&records.signs).retain(|number, _| open.contains(number));
    // Nobody was there to hear anything before the start.
    for open in site.open_installs() {
        if open.overdue(&limits, heard(records, open), now).is_none() {
            continue;
        }
        let macs = site.machine_by_id(open.machine).map(|machine| machine.macs.clone());
        let diagnoses = diagnose(&wire.traces().of(&macs.unwrap_or_default()), now);
        let meaning = diagnoses.first().map(Diagnosis::sentence);
        let hears = records.clone();
        let end = move |install: &Install, now| {
            // It may have moved meanwhile.
            let overdue = install.overdue(&limits, heard(&hears, install), now)?;
            install.end_overdue(overdue, meaning.as_deref(), now)
        };
        if let Err(error) = records.move_install(open.machine, end).await {
            tracing::error!(install = open.number, "an install that fell silent was not ended: {error}");
        }
    }
}

/// When an install was last heard of. Nobody was there to hear anything before the start.
fn heard(records: &Records, install: &Install) -> Timestamp {
    lock(&records.signs).get(&install.number).copied().unwrap_or(records.since).max(records.since)
}

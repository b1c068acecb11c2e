//! What is looked after while installs go on: those that fell silent, and what was learned of those that ended.

use std::{collections::HashSet, sync::Arc, time::Duration};

use jiff::Timestamp;
use lastmile_core::{install::Install, trace::diagnose};
use tokio_util::sync::CancellationToken;

use crate::state::{App, lock};

/// How often it is looked.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// Ends installs that went beyond a limit, and learns from those that ended, until the service stops.
pub(crate) async fn keep(app: Arc<App>, stop: CancellationToken) {
    app.learn_all();
    loop {
        if let Err(error) = app.learn().await {
            tracing::warn!("how long installs take was not learned: {error}");
        }
        end_overdue(&app).await;
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LOOK_EVERY) => {}
        }
    }
}

async fn end_overdue(app: &App) {
    let (site, now) = (app.site(), Timestamp::now());
    let limits = site.settings().limits;
    let open: HashSet<i64> = site.open_installs().map(|install| install.number).collect();
    lock(&app.signs).retain(|number, _| open.contains(number));
    // Nobody was there to hear anything before the start.
    let heard = |install: &Install| {
        lock(&app.signs).get(&install.number).copied().unwrap_or(app.since).max(app.since)
    };
    for open in site.open_installs() {
        if open.overdue(&limits, heard(open), now).is_none() {
            continue;
        }
        let macs = site.machine_by_id(open.machine).map(|machine| machine.macs.clone());
        let diagnoses = diagnose(&app.traces().of(&macs.unwrap_or_default()), now);
        let end = |install: &Install, now| {
            // It may have moved meanwhile.
            let overdue = install.overdue(&limits, heard(install), now)?;
            install.end_overdue(overdue, &diagnoses, now)
        };
        if let Err(error) = app.move_install(open.machine, end).await {
            tracing::error!(install = open.number, "an install that fell silent was not ended: {error}");
        }
    }
}

//! What is looked after while jobs go on: those that are given up.

use std::{sync::Arc, time::Duration};

use lastmile_core::model::job::Job;
use tokio_util::sync::CancellationToken;

use crate::{clock, records::Records};

/// How often it is looked.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// Gives jobs up of which nothing is heard any more, until the service stops.
pub(crate) async fn keep(records: Arc<Records>, stop: CancellationToken) {
    loop {
        let (site, now) = (records.site(), clock::now());
        let lost: Vec<i64> =
            site.all_open_jobs().filter(|job| job.give_up(now).is_some()).map(|job| job.number).collect();
        for number in lost {
            records.move_job_or_log(number, Job::give_up).await;
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LOOK_EVERY) => {}
        }
    }
}

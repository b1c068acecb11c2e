//! Jobs as records, for whoever arms or shows them.

use jiff::Timestamp;
use lastmile_core::{decide::job::JobDraft, model::job::Job, site::Site};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, StoreError};

/// The addresses of the machine that a job is for.
pub(crate) fn macs_of(site: &Site, job: &Job) -> Vec<Mac> {
    let machine = match job.machine {
        Some(id) => site.machine_by_id(id),
        None => site.machine_by_mac(job.mac),
    };
    machine.map_or_else(|| vec![job.mac], |machine| machine.macs.clone())
}

/// Records jobs that nothing stands in the way of.
pub(crate) fn put_jobs(
    change: &mut Change<'_>,
    drafts: Vec<JobDraft>,
    who: &str,
    now: Timestamp,
) -> Result<Vec<Job>, StoreError> {
    let first = change.next_job_number()?;
    let mut armed = Vec::with_capacity(drafts.len());
    for (number, draft) in (first..).zip(drafts) {
        let job = draft.into_job(number, who, now);
        change.put_job(job.clone(), format!("armed by {who}"), now)?;
        armed.push(job);
    }
    Ok(armed)
}

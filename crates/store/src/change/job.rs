//! Jobs, and what they write.

use jiff::Timestamp;
use lastmile_core::model::job::{Job, JobStep};

use super::Change;
use crate::{LogLine, Recorded, ScreenEvent, StoreError};

impl Change<'_> {
    /// The number of the next job.
    ///
    /// # Errors
    /// What the database refused.
    pub fn next_job_number(&mut self) -> Result<i64, StoreError> {
        Ok(self.tx.last_job_number()? + 1)
    }

    /// Keeps a job as it is now, with what brought it there.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_job(&mut self, job: Job, text: String, at: Timestamp) -> Result<(), StoreError> {
        let step = JobStep { at, text };
        self.tx.put_job(&job, &step)?;
        self.record(Recorded::Job { job: Box::new(job.clone()), step });
        self.with(|site| site.with_job(job));
        Ok(())
    }

    /// Keeps lines that a job wrote, of which `first` is the place of the first.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_job_log(&mut self, number: i64, first: i64, lines: Vec<LogLine>) -> Result<(), StoreError> {
        let (first, lines) = self.tx.add_job_log(number, first, lines)?;
        if !lines.is_empty() {
            self.record(Recorded::JobLog { job: number, first, lines });
        }
        Ok(())
    }

    /// Keeps what a shell's screen showed. Gives how many bytes are kept of it now.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_screen_event(&mut self, number: i64, event: &ScreenEvent) -> Result<u64, StoreError> {
        self.tx.add_screen_event(number, event)
    }
}

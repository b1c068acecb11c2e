//! What machines were found to be.

use lastmile_core::model::survey::SurveyRecord;

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Keeps a survey, or what its boot measured later in its place.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_survey(&mut self, record: SurveyRecord) -> Result<(), StoreError> {
        self.tx.put_survey(&record)?;
        self.record(Recorded::Survey { mac: record.mac, machine: record.machine });
        self.with(|site| site.with_survey(record));
        Ok(())
    }
}

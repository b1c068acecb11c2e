use diesel::prelude::*;
use lastmile_core::{base::Id, model::machine::Machine, model::survey::SurveyRecord};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use crate::{
    StoreError, Tx,
    schema::survey,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = survey, treat_none_as_null = true)]
struct SurveyRow {
    boot: String,
    mac: String,
    machine_id: Option<String>,
    previous: Option<String>,
    began: i64,
    at: i64,
    measured: String,
    changes: String,
    is_latest: bool,
}

impl TryFrom<&SurveyRecord> for SurveyRow {
    type Error = StoreError;

    fn try_from(record: &SurveyRecord) -> Result<Self, StoreError> {
        Ok(Self {
            boot: record.boot.to_string(),
            mac: record.mac.to_string(),
            machine_id: record.machine.map(|machine| machine.to_string()),
            previous: record.previous.map(|boot| boot.to_string()),
            began: record.began.as_millisecond(),
            at: record.at.as_millisecond(),
            measured: value::json(&record.survey)?,
            changes: value::json(&record.changes)?,
            is_latest: true,
        })
    }
}

impl TryFrom<SurveyRow> for SurveyRecord {
    type Error = StoreError;

    fn try_from(row: SurveyRow) -> Result<Self, StoreError> {
        let read = Row { table: "survey", key: &row.boot };
        Ok(Self {
            boot: read.text(&row.boot)?,
            mac: read.text(&row.mac)?,
            machine: read.maybe(row.machine_id.as_deref())?,
            previous: read.maybe(row.previous.as_deref())?,
            began: read.time(row.began)?,
            at: read.time(row.at)?,
            survey: read.json(&row.measured)?,
            changes: read.json(&row.changes)?,
        })
    }
}

impl Tx<'_> {
    /// Keeps a survey, or what its boot measured later in its place.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_survey(&mut self, record: &SurveyRecord) -> Result<(), StoreError> {
        let row = SurveyRow::try_from(record)?;
        let former = survey::table
            .filter(survey::mac.eq(&row.mac).and(survey::is_latest).and(survey::boot.ne(&row.boot)));
        diesel::update(former).set(survey::is_latest.eq(false)).execute(self.connection())?;
        let insert = diesel::insert_into(survey::table).values(&row);
        insert.on_conflict(survey::boot).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// The latest survey of each address that one was started from.
    pub(crate) fn latest_surveys(&mut self) -> Result<Vec<SurveyRecord>, StoreError> {
        let query = survey::table.filter(survey::is_latest).order(survey::at);
        let rows = query.select(SurveyRow::as_select()).load(self.connection())?;
        rows.into_iter().map(SurveyRecord::try_from).collect()
    }

    /// Every survey of a machine, or of whoever was started from one of these addresses; the latest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn surveys(
        &mut self,
        machine: Option<Id<Machine>>,
        macs: &[Mac],
    ) -> Result<Vec<SurveyRecord>, StoreError> {
        let macs = macs.iter().map(ToString::to_string);
        let mut query =
            survey::table.filter(survey::mac.eq_any(macs)).order(survey::began.desc()).into_boxed();
        if let Some(machine) = machine {
            query = query.or_filter(survey::machine_id.eq(machine.to_string()));
        }
        let rows = query.select(SurveyRow::as_select()).load(self.connection())?;
        rows.into_iter().map(SurveyRecord::try_from).collect()
    }

    /// The survey of a boot.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn survey(&mut self, boot: Uuid) -> Result<Option<SurveyRecord>, StoreError> {
        let query = survey::table.find(boot.to_string()).select(SurveyRow::as_select());
        query.first(self.connection()).optional()?.map(SurveyRecord::try_from).transpose()
    }
}

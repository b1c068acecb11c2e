//! The record as reports read it.

use diesel::{dsl::max, prelude::*};
use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    decide::install::{LEARNED_FROM, Past},
    model::machine::Machine,
    report::history::{Left, Recorded},
};

use crate::{
    StoreError, Tx,
    schema::{install, machine_left},
    value::{self, Row},
};

/// Values bound in one statement; SQLite takes 32,766.
const MOST_BOUND: usize = 10_000;

#[derive(Queryable, Selectable)]
#[diesel(table_name = install)]
struct RecordedRow {
    number: i64,
    machine_id: String,
    machine_name: String,
    image: String,
    image_revision: i32,
    answers_name: String,
    answers_version: i32,
    state: String,
    armed_by: String,
    armed_at: i64,
    booting_at: Option<i64>,
    ended_at: Option<i64>,
    labels: String,
    subnet: Option<String>,
    is_stateless: bool,
}

impl TryFrom<RecordedRow> for Recorded {
    type Error = StoreError;

    fn try_from(row: RecordedRow) -> Result<Self, StoreError> {
        let key = row.number.to_string();
        let read = Row { table: "install", key: &key };
        Ok(Self {
            number: row.number,
            machine: read.text(&row.machine_id)?,
            image_revision: read.count(row.image_revision)?,
            answers_version: read.count(row.answers_version)?,
            state: read.text(&row.state)?,
            armed_at: read.time(row.armed_at)?,
            booting_at: read.maybe_time(row.booting_at)?,
            ended_at: read.maybe_time(row.ended_at)?,
            labels: read.json(&row.labels)?,
            machine_name: row.machine_name,
            image: row.image,
            answers: row.answers_name,
            armed_by: row.armed_by,
            subnet: row.subnet,
            is_stateless: row.is_stateless,
        })
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = machine_left)]
struct LeftRow {
    id: String,
    name: String,
    at: i64,
}

impl Tx<'_> {
    /// Every install that was armed from `since` on and before `until`, oldest first, as far as reports need it.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn recorded(
        &mut self,
        since: Option<Timestamp>,
        until: Option<Timestamp>,
    ) -> Result<Vec<Recorded>, StoreError> {
        let mut query = install::table.order(install::number).select(RecordedRow::as_select()).into_boxed();
        if let Some(since) = since {
            query = query.filter(install::armed_at.ge(since.as_millisecond()));
        }
        if let Some(until) = until {
            query = query.filter(install::armed_at.lt(until.as_millisecond()));
        }
        query.load(self.connection())?.into_iter().map(Recorded::try_from).collect()
    }

    /// Of each machine that ever reached `installed`, the latest install that did.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn held(&mut self) -> Result<Vec<Recorded>, StoreError> {
        // The index `install_held` alone says which they are, whatever came before them.
        let latest: Vec<Option<i64>> = install::table
            .filter(install::state.eq("installed"))
            .group_by(install::machine_id)
            .select(max(install::number))
            .load(self.connection())?;
        let latest: Vec<i64> = latest.into_iter().flatten().collect();
        let mut held = Vec::with_capacity(latest.len());
        for numbers in latest.chunks(MOST_BOUND) {
            let query =
                install::table.filter(install::number.eq_any(numbers)).select(RecordedRow::as_select());
            for row in query.load(self.connection())? {
                held.push(row.try_into()?);
            }
        }
        Ok(held)
    }

    /// How the latest installs of an image went, those that are learned from.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn past(&mut self, image: &str) -> Result<Vec<Past>, StoreError> {
        let most = i64::try_from(LEARNED_FROM).unwrap_or(i64::MAX);
        let numbers: Vec<i64> = install::table
            .filter(install::image.eq(image).and(install::state.eq("installed")))
            .filter(install::booting_at.is_not_null().and(install::kernel_fetches.le(1)))
            .order(install::number.desc())
            .limit(most)
            .select(install::number)
            .load(self.connection())?;
        let mut past = Vec::new();
        for number in numbers {
            let found = self.install(number)?;
            past.extend(found.and_then(|(install, steps)| Past::of(&install, &steps)));
        }
        Ok(past)
    }

    /// Notes that a machine was removed: what it held stays in the history.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn note_left(&mut self, machine: &Machine, at: Timestamp) -> Result<(), StoreError> {
        diesel::insert_into(machine_left::table)
            .values((
                machine_left::id.eq(machine.id.to_string()),
                machine_left::name.eq(&machine.name),
                machine_left::macs.eq(value::json(&machine.macs)?),
                machine_left::at.eq(at.as_millisecond()),
            ))
            .execute(self.connection())?;
        Ok(())
    }

    /// The machines that were removed.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn left(&mut self) -> Result<Vec<Left>, StoreError> {
        let rows = machine_left::table.select(LeftRow::as_select()).load(self.connection())?;
        rows.into_iter()
            .map(|row| {
                let read = Row { table: "machine_left", key: &row.id };
                let machine: Id<Machine> = read.text(&row.id)?;
                Ok(Left { machine, at: read.time(row.at)?, name: row.name })
            })
            .collect()
    }
}

//! Jobs, what happened to them, and what they wrote.

use diesel::prelude::*;
use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    model::{
        agent::ScreenSize,
        job::{Job, JobKind, JobState, JobStep},
        machine::Machine,
    },
};
use lastmile_formats::mac::Mac;

use crate::{
    LogLine, StoreError, Tx,
    schema::{job, job_log, job_screen, job_step},
    value::{self, Row},
};

/// Lines that are kept of one job: the latest.
const KEPT: i64 = 10_000;

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = job, treat_none_as_null = true)]
struct JobRow {
    number: i64,
    mac: String,
    machine_id: Option<String>,
    machine_name: String,
    kind: String,
    task: String,
    afterwards: Option<String>,
    state: String,
    armed_by: String,
    armed_at: i64,
    boot: Option<String>,
    began_at: Option<i64>,
    ended_at: Option<i64>,
    kernel_fetches: i32,
    result: Option<String>,
    reason: Option<String>,
}

impl TryFrom<&Job> for JobRow {
    type Error = StoreError;

    fn try_from(job: &Job) -> Result<Self, StoreError> {
        let millis = |at: Option<jiff::Timestamp>| at.map(jiff::Timestamp::as_millisecond);
        Ok(Self {
            number: job.number,
            mac: job.mac.to_string(),
            machine_id: job.machine.map(|machine| machine.to_string()),
            machine_name: job.machine_name.clone(),
            kind: job.task.kind().to_string(),
            task: value::json(&job.task)?,
            afterwards: job.then.map(|then| then.to_string()),
            state: job.state.to_string(),
            armed_by: job.armed_by.clone(),
            armed_at: job.armed_at.as_millisecond(),
            boot: job.boot.map(|boot| boot.to_string()),
            began_at: millis(job.began_at),
            ended_at: millis(job.ended_at),
            kernel_fetches: value::count(job.kernel_fetches),
            result: job.result.as_ref().map(value::json).transpose()?,
            reason: job.reason.clone(),
        })
    }
}

impl TryFrom<JobRow> for Job {
    type Error = StoreError;

    fn try_from(row: JobRow) -> Result<Self, StoreError> {
        let key = row.number.to_string();
        let read = Row { table: "job", key: &key };
        Ok(Self {
            number: row.number,
            mac: read.text(&row.mac)?,
            machine: read.maybe(row.machine_id.as_deref())?,
            task: read.json(&row.task)?,
            then: read.maybe(row.afterwards.as_deref())?,
            state: read.text(&row.state)?,
            armed_at: read.time(row.armed_at)?,
            boot: read.maybe(row.boot.as_deref())?,
            began_at: read.maybe_time(row.began_at)?,
            ended_at: read.maybe_time(row.ended_at)?,
            kernel_fetches: read.count(row.kernel_fetches)?,
            result: row.result.as_deref().map(|text| read.json(text)).transpose()?,
            machine_name: row.machine_name,
            armed_by: row.armed_by,
            reason: row.reason,
        })
    }
}

/// Something that a shell's screen showed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScreenEvent {
    /// When, to the millisecond.
    pub at: Timestamp,
    /// What.
    pub what: OnScreen,
}

/// What can be seen of a shell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OnScreen {
    /// Bytes were written on it, for a terminal to show.
    Written(Vec<u8>),
    /// It has this size from now on.
    Size(ScreenSize),
}

/// The words for them in the table.
const WRITTEN: &str = "written";
const SIZE: &str = "size";

/// Whose jobs are asked for.
#[derive(Debug, Clone)]
pub enum JobsOf {
    /// Those of a machine, whatever it was called, and those that its cards were given before it was registered.
    Machine(Id<Machine>, Vec<Mac>),
    /// Those of who was called so: a machine that was removed, or the address of one that nobody registered.
    Name(String),
}

/// Which jobs are asked for.
#[derive(Debug, Clone, Default)]
pub struct JobFilter {
    /// Only those of this one.
    pub of: Option<JobsOf>,
    /// Only those in one of these states; all if empty.
    pub states: Vec<JobState>,
    /// Only those of this kind.
    pub kind: Option<JobKind>,
    /// At most so many.
    pub limit: i64,
    /// After skipping so many.
    pub offset: i64,
}

impl Tx<'_> {
    /// Keeps a job as it is now, with what brought it there.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_job(&mut self, entity: &Job, step: &JobStep) -> Result<(), StoreError> {
        let row = JobRow::try_from(entity)?;
        let insert = diesel::insert_into(job::table).values(&row);
        insert.on_conflict(job::number).do_update().set(&row).execute(self.connection())?;
        diesel::insert_into(job_step::table)
            .values((
                job_step::job_number.eq(entity.number),
                job_step::at.eq(step.at.as_millisecond()),
                job_step::text.eq(&step.text),
            ))
            .execute(self.connection())?;
        Ok(())
    }

    /// One job and what happened to it, oldest first; `None` if no job has that number.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn job(&mut self, number: i64) -> Result<Option<(Job, Vec<JobStep>)>, StoreError> {
        let row = job::table.find(number).select(JobRow::as_select());
        let Some(row) = row.first(self.connection()).optional()? else { return Ok(None) };
        let steps: Vec<(i64, String)> = job_step::table
            .filter(job_step::job_number.eq(number))
            .order(job_step::id)
            .select((job_step::at, job_step::text))
            .load(self.connection())?;
        let key = number.to_string();
        let read = Row { table: "job_step", key: &key };
        let steps: Result<_, StoreError> =
            steps.into_iter().map(|(at, text)| Ok(JobStep { at: read.time(at)?, text })).collect();
        Ok(Some((row.try_into()?, steps?)))
    }

    /// Jobs, newest first, and how many the filter lets through in all.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn jobs(&mut self, filter: &JobFilter) -> Result<(Vec<Job>, i64), StoreError> {
        let filtered = || {
            let mut query = job::table.into_boxed();
            match &filter.of {
                Some(JobsOf::Machine(id, macs)) => {
                    let cards: Vec<String> = macs.iter().map(ToString::to_string).collect();
                    let before = job::machine_id.is_null().and(job::mac.eq_any(cards));
                    query = query.filter(job::machine_id.eq(id.to_string()).or(before));
                }
                Some(JobsOf::Name(name)) => query = query.filter(job::machine_name.eq(name)),
                None => {}
            }
            if !filter.states.is_empty() {
                query = query.filter(job::state.eq_any(filter.states.iter().map(|state| state.as_str())));
            }
            if let Some(kind) = filter.kind {
                query = query.filter(job::kind.eq(kind.to_string()));
            }
            query
        };
        let total = filtered().count().get_result(self.connection())?;
        let rows = filtered()
            .order(job::number.desc())
            .limit(filter.limit)
            .offset(filter.offset)
            .select(JobRow::as_select())
            .load(self.connection())?;
        Ok((rows.into_iter().map(Job::try_from).collect::<Result<_, _>>()?, total))
    }

    /// What the snapshot has of jobs: those that have not ended, and the last of each kind of each address, oldest first.
    pub(crate) fn jobs_for_decisions(&mut self) -> Result<Vec<Job>, StoreError> {
        let last = diesel::dsl::max(job::number);
        let latest = job::table.group_by((job::machine_id, job::mac, job::kind)).select(last);
        let numbers: Vec<Option<i64>> = latest.load(self.connection())?;
        let mut numbers: Vec<i64> = numbers.into_iter().flatten().collect();
        let open = job::table.filter(job::state.eq_any(["armed", "running"])).select(job::number);
        numbers.extend(open.load::<i64>(self.connection())?);
        numbers.sort_unstable();
        numbers.dedup();
        let mut jobs = Vec::with_capacity(numbers.len());
        // SQLite takes a bounded number of values in one statement.
        for some in numbers.chunks(500) {
            let query = job::table.filter(job::number.eq_any(some)).order(job::number);
            for row in query.select(JobRow::as_select()).load(self.connection())? {
                jobs.push(Job::try_from(row)?);
            }
        }
        Ok(jobs)
    }

    pub(crate) fn last_job_number(&mut self) -> Result<i64, StoreError> {
        let last: Option<i64> = job::table.select(diesel::dsl::max(job::number)).first(self.connection())?;
        Ok(last.unwrap_or(0))
    }

    /// Keeps lines that a job wrote, of which `first` is the place of the first, and lets go of the oldest beyond what is kept. Gives
    /// those that were not here yet, with the place of the first of them.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_job_log(
        &mut self,
        number: i64,
        first: i64,
        lines: Vec<LogLine>,
    ) -> Result<(i64, Vec<LogLine>), StoreError> {
        let (mut from, mut new) = (first, Vec::new());
        for (place, line) in (first..).zip(lines) {
            let count = diesel::insert_or_ignore_into(job_log::table)
                .values((
                    job_log::job_number.eq(number),
                    job_log::place.eq(place),
                    job_log::at.eq(line.at.as_millisecond()),
                    job_log::line.eq(&line.line),
                ))
                .execute(self.connection())?;
            if count > 0 {
                new.push(line);
            } else if new.is_empty() {
                from = place + 1;
            }
        }
        let last: Option<i64> = job_log::table
            .filter(job_log::job_number.eq(number))
            .select(diesel::dsl::max(job_log::place))
            .first(self.connection())?;
        let old = job_log::table
            .filter(job_log::job_number.eq(number))
            .filter(job_log::place.le(last.unwrap_or(0) - KEPT));
        diesel::delete(old).execute(self.connection())?;
        Ok((from, new))
    }

    /// What a job wrote, oldest first, and the place of the line that is written next.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn job_log(&mut self, number: i64) -> Result<(Vec<LogLine>, i64), StoreError> {
        let rows: Vec<(i64, i64, String)> = job_log::table
            .filter(job_log::job_number.eq(number))
            .order(job_log::place)
            .select((job_log::place, job_log::at, job_log::line))
            .load(self.connection())?;
        let key = number.to_string();
        let read = Row { table: "job_log", key: &key };
        let next = rows.last().map_or(1, |(place, ..)| place + 1);
        let lines: Result<_, StoreError> =
            rows.into_iter().map(|(_, at, line)| Ok(LogLine { at: read.time(at)?, line })).collect();
        Ok((lines?, next))
    }

    /// Keeps what a shell's screen showed, after all before. Gives how many bytes are kept of it now.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_screen_event(&mut self, number: i64, event: &ScreenEvent) -> Result<u64, StoreError> {
        let last: Option<(i64, i64)> = job_screen::table
            .filter(job_screen::job_number.eq(number))
            .order(job_screen::place.desc())
            .select((job_screen::place, job_screen::total))
            .first(self.connection())
            .optional()?;
        let (place, total) = last.unwrap_or_default();
        let (kind, content) = match &event.what {
            OnScreen::Written(bytes) => (WRITTEN, bytes.clone()),
            OnScreen::Size(size) => (SIZE, value::json(size)?.into_bytes()),
        };
        let total = total.saturating_add_unsigned(content.len() as u64);
        diesel::insert_into(job_screen::table)
            .values((
                job_screen::job_number.eq(number),
                job_screen::place.eq(place + 1),
                job_screen::at.eq(event.at.as_millisecond()),
                job_screen::kind.eq(kind),
                job_screen::content.eq(content),
                job_screen::total.eq(total),
            ))
            .execute(self.connection())?;
        Ok(u64::try_from(total).unwrap_or_default())
    }

    /// Bytes that were written on a shell's screen so far.
    ///
    /// # Errors
    /// What the database refused.
    pub fn job_screen_written(&mut self, number: i64) -> Result<u64, StoreError> {
        let length = diesel::dsl::sql::<diesel::sql_types::BigInt>("COALESCE(SUM(LENGTH(content)), 0)");
        let written =
            job_screen::table.filter(job_screen::job_number.eq(number).and(job_screen::kind.eq(WRITTEN)));
        let bytes: i64 = written.select(length).first(self.connection())?;
        Ok(u64::try_from(bytes).unwrap_or_default())
    }

    /// What a shell's screen showed, oldest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn job_screen(&mut self, number: i64) -> Result<Vec<ScreenEvent>, StoreError> {
        let rows: Vec<(i64, String, Vec<u8>)> = job_screen::table
            .filter(job_screen::job_number.eq(number))
            .order(job_screen::place)
            .select((job_screen::at, job_screen::kind, job_screen::content))
            .load(self.connection())?;
        let key = number.to_string();
        let read = Row { table: "job_screen", key: &key };
        let event = |(at, kind, content): (i64, String, Vec<u8>)| {
            let what = match kind.as_str() {
                SIZE => OnScreen::Size(read.json(&String::from_utf8_lossy(&content))?),
                _ => OnScreen::Written(content),
            };
            Ok(ScreenEvent { at: read.time(at)?, what })
        };
        rows.into_iter().map(event).collect()
    }
}

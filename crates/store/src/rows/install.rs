use diesel::prelude::*;
use jiff::Timestamp;
use lastmile_core::model::{
    image::Sha256,
    install::{Install, InstallState, Step, Token},
};

use crate::{
    StoreError, Tx,
    schema::{install, install_step},
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = install, treat_none_as_null = true)]
struct InstallRow {
    number: i64,
    machine_id: String,
    machine_name: String,
    revision_id: String,
    image: String,
    image_title: String,
    image_revision: i32,
    manifest_hash: String,
    answers_id: String,
    answers_name: String,
    answers_version: i32,
    state: String,
    token: String,
    armed_by: String,
    armed_at: i64,
    booting_at: Option<i64>,
    installing_at: Option<i64>,
    ended_at: Option<i64>,
    answer_hash: Option<String>,
    kernel_fetches: i32,
    reason: Option<String>,
    last_step: Option<String>,
    last_step_at: i64,
    layers: String,
    asked: String,
    open_questions: String,
    outcome: Option<String>,
    labels: String,
    subnet: Option<String>,
    is_stateless: bool,
    refused_from: String,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = install_step)]
struct StepRow {
    at: i64,
    kind: String,
    detail: String,
}

impl TryFrom<&Install> for InstallRow {
    type Error = StoreError;

    fn try_from(install: &Install) -> Result<Self, StoreError> {
        let millis = |at: Option<jiff::Timestamp>| at.map(jiff::Timestamp::as_millisecond);
        Ok(Self {
            number: install.number,
            machine_id: install.machine.to_string(),
            machine_name: install.machine_name.clone(),
            revision_id: install.revision.to_string(),
            image: install.image.clone(),
            image_title: install.image_title.clone(),
            image_revision: value::count(install.image_revision),
            manifest_hash: install.manifest_hash.map(|hash| hash.to_string()).unwrap_or_default(),
            answers_id: install.answers.to_string(),
            answers_name: install.answers_name.clone(),
            answers_version: value::count(install.answers_version),
            state: install.state.as_str().into(),
            token: install.token.reveal().into(),
            armed_by: install.armed_by.clone(),
            armed_at: install.armed_at.as_millisecond(),
            booting_at: millis(install.booting_at),
            installing_at: millis(install.installing_at),
            ended_at: millis(install.ended_at),
            answer_hash: install.answer_hash.map(|hash| hash.to_string()),
            kernel_fetches: value::count(install.kernel_fetches),
            reason: install.reason.clone(),
            last_step: install.last_step.map(|step| step.as_str().into()),
            last_step_at: install.last_step_at.as_millisecond(),
            layers: value::json(&install.layers)?,
            asked: value::json(&install.asked)?,
            open_questions: value::json(&install.open_questions)?,
            outcome: install.outcome.as_ref().map(value::json).transpose()?,
            labels: value::json(&install.labels)?,
            subnet: install.subnet.clone(),
            is_stateless: install.is_stateless,
            refused_from: value::json(&install.refused_from)?,
        })
    }
}

impl TryFrom<InstallRow> for Install {
    type Error = StoreError;

    fn try_from(row: InstallRow) -> Result<Self, StoreError> {
        let key = row.number.to_string();
        let read = Row { table: "install", key: &key };
        Ok(Self {
            number: row.number,
            machine: read.text(&row.machine_id)?,
            revision: read.text(&row.revision_id)?,
            image_revision: read.count(row.image_revision)?,
            manifest_hash: read.maybe(Some(row.manifest_hash.as_str()).filter(|text| !text.is_empty()))?,
            answers: read.text(&row.answers_id)?,
            answers_version: read.count(row.answers_version)?,
            state: read.text(&row.state)?,
            armed_at: read.time(row.armed_at)?,
            booting_at: read.maybe_time(row.booting_at)?,
            installing_at: read.maybe_time(row.installing_at)?,
            ended_at: read.maybe_time(row.ended_at)?,
            answer_hash: read.maybe(row.answer_hash.as_deref())?,
            kernel_fetches: read.count(row.kernel_fetches)?,
            last_step: read.maybe(row.last_step.as_deref())?,
            last_step_at: read.time(row.last_step_at)?,
            layers: read.json(&row.layers)?,
            asked: read.json(&row.asked)?,
            open_questions: read.json(&row.open_questions)?,
            outcome: row.outcome.as_deref().map(|text| read.json(text)).transpose()?,
            labels: read.json(&row.labels)?,
            refused_from: read.json(&row.refused_from)?,
            subnet: row.subnet,
            is_stateless: row.is_stateless,
            token: Token::new(row.token),
            machine_name: row.machine_name,
            image: row.image,
            image_title: row.image_title,
            answers_name: row.answers_name,
            armed_by: row.armed_by,
            reason: row.reason,
        })
    }
}

impl TryFrom<StepRow> for Step {
    type Error = StoreError;

    fn try_from(row: StepRow) -> Result<Self, StoreError> {
        let read = Row { table: "install_step", key: &row.kind };
        Ok(Self { at: read.time(row.at)?, kind: read.text(&row.kind)?, detail: row.detail })
    }
}

/// Which installs are asked for.
#[derive(Debug, Clone, Default)]
pub struct InstallFilter {
    /// Only those of this machine.
    pub machine: Option<String>,
    /// Only those in one of these states; all if empty.
    pub states: Vec<InstallState>,
    /// At most so many.
    pub limit: i64,
    /// After skipping so many.
    pub offset: i64,
}

/// How many installs were armed since a time, and how those ended that ended since then.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct InstallCounts {
    /// Armed.
    pub armed: usize,
    /// Ended as installed.
    pub installed: usize,
    /// Ended as failed.
    pub failed: usize,
    /// Ended as stalled.
    pub stalled: usize,
    /// Cancelled.
    pub cancelled: usize,
}

impl Tx<'_> {
    /// How many installs were armed since `at`, and how those ended that ended since then.
    ///
    /// # Errors
    /// What the database refused.
    pub fn install_counts_since(&mut self, at: Timestamp) -> Result<InstallCounts, StoreError> {
        let at = at.as_millisecond();
        let armed: i64 =
            install::table.filter(install::armed_at.ge(at)).count().get_result(self.connection())?;
        let ended: Vec<(String, i64)> = install::table
            .filter(install::ended_at.ge(at))
            .group_by(install::state)
            .select((install::state, diesel::dsl::count_star()))
            .load(self.connection())?;
        let of = |state: InstallState| {
            let count = ended.iter().find(|(name, _)| name == state.as_str()).map_or(0, |(_, count)| *count);
            usize::try_from(count).unwrap_or_default()
        };
        Ok(InstallCounts {
            armed: usize::try_from(armed).unwrap_or_default(),
            installed: of(InstallState::Installed),
            failed: of(InstallState::Failed),
            stalled: of(InstallState::Stalled),
            cancelled: of(InstallState::Cancelled),
        })
    }

    /// Installs that ended since `at`, the latest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn installs_ended_since(&mut self, at: Timestamp, limit: i64) -> Result<Vec<Install>, StoreError> {
        let rows = install::table
            .filter(install::ended_at.ge(at.as_millisecond()))
            .order(install::ended_at.desc())
            .limit(limit)
            .select(InstallRow::as_select())
            .load(self.connection())?;
        rows.into_iter().map(Install::try_from).collect()
    }

    /// Keeps the digest over all files of what is installed, which was not known when the install was armed.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn set_manifest_hash(&mut self, number: i64, hash: Sha256) -> Result<(), StoreError> {
        diesel::update(install::table.find(number))
            .set(install::manifest_hash.eq(hash.to_string()))
            .execute(self.connection())?;
        Ok(())
    }

    /// Keeps an install as it stands now, with the step that brought it there.
    ///
    /// # Errors
    /// What the database refused: among others a second open install of one machine.
    pub(crate) fn put_install(&mut self, entity: &Install, step: &Step) -> Result<(), StoreError> {
        let row = InstallRow::try_from(entity)?;
        let insert = diesel::insert_into(install::table).values(&row);
        insert.on_conflict(install::number).do_update().set(&row).execute(self.connection())?;
        diesel::insert_into(install_step::table)
            .values((
                install_step::install_number.eq(entity.number),
                install_step::at.eq(step.at.as_millisecond()),
                install_step::kind.eq(step.kind.as_str()),
                install_step::detail.eq(&step.detail),
            ))
            .execute(self.connection())?;
        Ok(())
    }

    /// One install and its steps, oldest first; `None` if no install has that number.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn install(&mut self, number: i64) -> Result<Option<(Install, Vec<Step>)>, StoreError> {
        let row = install::table.find(number).select(InstallRow::as_select());
        let Some(row) = row.first(self.connection()).optional()? else { return Ok(None) };
        let steps = install_step::table
            .filter(install_step::install_number.eq(number))
            .order(install_step::id)
            .select(StepRow::as_select())
            .load(self.connection())?;
        let steps = steps.into_iter().map(Step::try_from).collect::<Result<_, _>>()?;
        Ok(Some((row.try_into()?, steps)))
    }

    /// The number of the install that a token was made for, whether it goes on or not.
    ///
    /// # Errors
    /// What the database refused.
    pub fn install_number_by_token(&mut self, token: &str) -> Result<Option<i64>, StoreError> {
        let query = install::table.filter(install::token.eq(token)).select(install::number);
        Ok(query.first(self.connection()).optional()?)
    }

    /// Installs, newest first, and how many the filter lets through in all.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn installs(&mut self, filter: &InstallFilter) -> Result<(Vec<Install>, i64), StoreError> {
        let filtered = || {
            let mut query = install::table.into_boxed();
            if let Some(machine) = &filter.machine {
                query = query.filter(install::machine_name.eq(machine));
            }
            if !filter.states.is_empty() {
                query = query.filter(install::state.eq_any(filter.states.iter().map(|state| state.as_str())));
            }
            query
        };
        let total = filtered().count().get_result(self.connection())?;
        let rows = filtered()
            .order(install::number.desc())
            .limit(filter.limit)
            .offset(filter.offset)
            .select(InstallRow::as_select())
            .load(self.connection())?;
        Ok((rows.into_iter().map(Install::try_from).collect::<Result<_, _>>()?, total))
    }

    /// What the snapshot holds of installs: of each machine the last, the last that reached `installed`, and
    /// the open one, oldest first.
    pub(crate) fn installs_for_decisions(&mut self) -> Result<Vec<Install>, StoreError> {
        let last = diesel::dsl::max(install::number);
        let latest = install::table.group_by(install::machine_id).select(last);
        let mut numbers: Vec<Option<i64>> = latest.load(self.connection())?;
        let installed = install::table.filter(install::state.eq("installed"));
        let installed = installed.group_by(install::machine_id).select(last);
        numbers.extend(installed.load::<Option<i64>>(self.connection())?);
        let mut numbers: Vec<i64> = numbers.into_iter().flatten().collect();
        numbers.sort_unstable();
        numbers.dedup();
        let mut installs = Vec::with_capacity(numbers.len());
        // SQLite takes a bounded number of values in one statement.
        for some in numbers.chunks(500) {
            let query = install::table.filter(install::number.eq_any(some)).order(install::number);
            for row in query.select(InstallRow::as_select()).load(self.connection())? {
                installs.push(Install::try_from(row)?);
            }
        }
        Ok(installs)
    }

    pub(crate) fn install_tokens(&mut self) -> Result<Vec<String>, StoreError> {
        Ok(install::table.select(install::token).load(self.connection())?)
    }

    pub(crate) fn last_install_number(&mut self) -> Result<i64, StoreError> {
        let last: Option<i64> =
            install::table.select(diesel::dsl::max(install::number)).first(self.connection())?;
        Ok(last.unwrap_or(0))
    }
}

use diesel::prelude::*;
use lastmile_core::{
    model::answers::{AnswersVersion, Scope},
    site::Site,
};

use crate::{
    StoreError, Tx,
    schema::answers_version,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = answers_version)]
struct AnswersRow {
    id: String,
    name: String,
    number: i32,
    created: i64,
    settings: String,
    removed: bool,
    scope: String,
}

/// A scope as two columns: what kind it is, and of what.
fn columns(scope: &Scope) -> (&'static str, String) {
    match scope {
        Scope::Site => ("site", String::new()),
        Scope::Answers(name) => ("answers", name.clone()),
        Scope::Label(name) => ("label", name.clone()),
        Scope::Machine(id) => ("machine", id.to_string()),
    }
}

impl TryFrom<&AnswersVersion> for AnswersRow {
    type Error = StoreError;

    fn try_from(answers: &AnswersVersion) -> Result<Self, StoreError> {
        let (scope, name) = columns(&answers.scope);
        Ok(Self {
            id: answers.id.to_string(),
            scope: scope.into(),
            name,
            number: value::count(answers.number),
            created: answers.created.as_millisecond(),
            settings: value::json(&answers.settings)?,
            removed: false,
        })
    }
}

impl TryFrom<AnswersRow> for AnswersVersion {
    type Error = StoreError;

    fn try_from(row: AnswersRow) -> Result<Self, StoreError> {
        let read = Row { table: "answers_version", key: &row.id };
        let scope = match row.scope.as_str() {
            "site" => Scope::Site,
            "label" => Scope::Label(row.name),
            "machine" => Scope::Machine(read.text(&row.name)?),
            _ => Scope::Answers(row.name),
        };
        Ok(Self {
            scope,
            id: read.text(&row.id)?,
            number: read.count(row.number)?,
            created: read.time(row.created)?,
            settings: read.json(&row.settings)?,
        })
    }
}

impl Tx<'_> {
    /// Adds a version of answers.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_answers(&mut self, entity: &AnswersVersion) -> Result<(), StoreError> {
        diesel::insert_into(answers_version::table)
            .values(AnswersRow::try_from(entity)?)
            .execute(self.connection())?;
        Ok(())
    }

    /// Has everything that was ever said of a scope said of another.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn rename_answers(&mut self, former: &Scope, scope: &Scope) -> Result<(), StoreError> {
        let ((former_kind, former_name), (kind, name)) = (columns(former), columns(scope));
        let versions = answers_version::table
            .filter(answers_version::scope.eq(former_kind).and(answers_version::name.eq(former_name)));
        diesel::update(versions)
            .set((answers_version::scope.eq(kind), answers_version::name.eq(name)))
            .execute(self.connection())?;
        Ok(())
    }

    /// Takes what is said of a scope out of use; its versions are kept for the installs that name them.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_answers(&mut self, scope: &Scope) -> Result<(), StoreError> {
        let (kind, name) = columns(scope);
        let versions = answers_version::table
            .filter(answers_version::scope.eq(kind).and(answers_version::name.eq(name)));
        diesel::update(versions).set(answers_version::removed.eq(true)).execute(self.connection())?;
        Ok(())
    }

    /// The number of the last version that a scope ever had; 0 if it had none.
    ///
    /// # Errors
    /// What the database refused.
    pub fn last_answers_number(&mut self, scope: &Scope) -> Result<u32, StoreError> {
        let (kind, name) = columns(scope);
        let numbers = answers_version::table
            .filter(answers_version::scope.eq(kind).and(answers_version::name.eq(&name)));
        let last: Option<i32> =
            numbers.select(diesel::dsl::max(answers_version::number)).first(self.connection())?;
        Row { table: "answers_version", key: &name }.count(last.unwrap_or(0))
    }

    /// Every version that a scope ever had, newest first.
    ///
    /// # Errors
    /// What the database refused.
    pub fn answers_versions(&mut self, scope: &Scope) -> Result<Vec<AnswersVersion>, StoreError> {
        let (kind, name) = columns(scope);
        let rows = answers_version::table
            .filter(answers_version::scope.eq(kind).and(answers_version::name.eq(&name)))
            .order(answers_version::number.desc())
            .select(AnswersRow::as_select())
            .load(self.connection())?;
        rows.into_iter().map(AnswersVersion::try_from).collect()
    }

    pub(crate) fn load_answers(&mut self, mut site: Site) -> Result<Site, StoreError> {
        // In order of number: the last one of a name is its current version.
        let query = answers_version::table.order(answers_version::number);
        for row in query.select(AnswersRow::as_select()).load(self.connection())? {
            let removed = row.removed;
            let version = AnswersVersion::try_from(row)?;
            site = if removed { site.with_former_answers(version) } else { site.with_answers(version) };
        }
        Ok(site)
    }
}

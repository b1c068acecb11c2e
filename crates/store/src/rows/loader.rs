use diesel::prelude::*;
use lastmile_core::{
    base::Id,
    model::{
        image::{FileEntry, Manifest},
        loader::Loader,
    },
};

use crate::{
    StoreError, Tx,
    schema::loader,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = loader, treat_none_as_null = true)]
struct LoaderRow {
    id: String,
    name: String,
    architecture: String,
    class: Option<String>,
    user_class: Option<String>,
    boot_file: String,
    http: String,
    files: String,
    language: String,
    facts: String,
}

impl TryFrom<&Loader> for LoaderRow {
    type Error = StoreError;

    fn try_from(loader: &Loader) -> Result<Self, StoreError> {
        Ok(Self {
            id: loader.id.to_string(),
            name: loader.name.clone(),
            architecture: loader.architecture.to_string(),
            class: loader.class.clone(),
            user_class: loader.user_class.clone(),
            boot_file: loader.boot_file.clone(),
            http: value::name(&loader.http)?,
            files: value::json(&loader.manifest.files())?,
            language: value::name(&loader.language)?,
            facts: value::json(&loader.facts)?,
        })
    }
}

impl TryFrom<LoaderRow> for Loader {
    type Error = StoreError;

    fn try_from(row: LoaderRow) -> Result<Self, StoreError> {
        let read = Row { table: "loader", key: &row.name };
        Ok(Self {
            id: read.text(&row.id)?,
            architecture: read.text(&row.architecture)?,
            http: read.name(&row.http)?,
            language: read.name(&row.language)?,
            facts: read.json(&row.facts)?,
            manifest: Manifest::new(read.json::<Vec<FileEntry>>(&row.files)?),
            class: row.class,
            user_class: row.user_class,
            boot_file: row.boot_file,
            name: row.name,
        })
    }
}

impl Tx<'_> {
    /// Adds a loader, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_loader(&mut self, entity: &Loader) -> Result<(), StoreError> {
        let row = LoaderRow::try_from(entity)?;
        let insert = diesel::insert_into(loader::table).values(&row);
        insert.on_conflict(loader::id).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// Removes a loader.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_loader(&mut self, id: Id<Loader>) -> Result<(), StoreError> {
        diesel::delete(loader::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn loaders(&mut self) -> Result<Vec<Loader>, StoreError> {
        let rows = loader::table.select(LoaderRow::as_select()).load(self.connection())?;
        rows.into_iter().map(Loader::try_from).collect()
    }
}

use diesel::prelude::*;
use lastmile_core::model::label::Label;

use crate::{
    StoreError, Tx,
    schema::label,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = label, treat_none_as_null = true)]
struct LabelRow {
    name: String,
    rank: i32,
    parameters: String,
    without_parameters: String,
    menu: Option<String>,
    image: Option<String>,
    answers: Option<String>,
}

impl Tx<'_> {
    /// Keeps what is said of a label.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_label(&mut self, entity: &Label) -> Result<(), StoreError> {
        let row = LabelRow {
            name: entity.name.clone(),
            rank: entity.rank,
            parameters: value::json(&entity.parameters)?,
            without_parameters: value::json(&entity.without_parameters)?,
            menu: entity.menu.clone(),
            image: entity.image.clone(),
            answers: entity.answers.clone(),
        };
        let insert = diesel::insert_into(label::table).values(&row);
        insert.on_conflict(label::name).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// Removes what is said of a label.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_label(&mut self, name: &str) -> Result<(), StoreError> {
        diesel::delete(label::table.find(name)).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn labels(&mut self) -> Result<Vec<Label>, StoreError> {
        let rows = label::table.select(LabelRow::as_select()).load(self.connection())?;
        let label = |row: LabelRow| {
            let read = Row { table: "label", key: &row.name };
            Ok(Label {
                rank: row.rank,
                parameters: read.json(&row.parameters)?,
                without_parameters: read.json(&row.without_parameters)?,
                menu: row.menu,
                image: row.image,
                answers: row.answers,
                name: row.name,
            })
        };
        rows.into_iter().map(label).collect()
    }
}

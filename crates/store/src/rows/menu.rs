use std::collections::BTreeMap;

use diesel::prelude::*;
use lastmile_core::{
    base::Id,
    decide::menu::MenuDraft,
    model::menu::{Guard, Menu},
};

use crate::{
    StoreError, Tx,
    schema::menu,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = menu)]
struct MenuRow {
    id: String,
    name: String,
    draft: String,
    guards: String,
}

impl TryFrom<&Menu> for MenuRow {
    type Error = StoreError;

    fn try_from(menu: &Menu) -> Result<Self, StoreError> {
        Ok(Self {
            id: menu.id.to_string(),
            name: menu.name.clone(),
            draft: value::json(&MenuDraft::from(menu))?,
            guards: value::json(&menu.guards())?,
        })
    }
}

impl TryFrom<MenuRow> for Menu {
    type Error = StoreError;

    fn try_from(row: MenuRow) -> Result<Self, StoreError> {
        let read = Row { table: "menu", key: &row.name };
        let (draft, guards) =
            (read.json::<MenuDraft>(&row.draft)?, read.json::<BTreeMap<String, Guard>>(&row.guards)?);
        Ok(Self::restore(read.text(&row.id)?, row.name.clone(), &draft, &guards))
    }
}

impl Tx<'_> {
    /// Adds a menu, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_menu(&mut self, entity: &Menu) -> Result<(), StoreError> {
        let row = MenuRow::try_from(entity)?;
        let insert = diesel::insert_into(menu::table).values(&row);
        insert.on_conflict(menu::id).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// Removes a menu.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_menu(&mut self, id: Id<Menu>) -> Result<(), StoreError> {
        diesel::delete(menu::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn menus(&mut self) -> Result<Vec<Menu>, StoreError> {
        let rows = menu::table.select(MenuRow::as_select()).load(self.connection())?;
        rows.into_iter().map(Menu::try_from).collect()
    }
}

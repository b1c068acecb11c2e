//! The editions of what people enter.

use diesel::prelude::*;
use lastmile_core::site::{Edition, Entity, Site};

use crate::{StoreError, Tx, schema::edition, value::Row};

/// The row that has the last number that was taken.
const LAST: &str = "last";

impl Tx<'_> {
    pub(crate) fn put_edition(&mut self, entity: &Entity, number: Edition) -> Result<(), StoreError> {
        for key in [entity.to_string().as_str(), LAST] {
            let row = (edition::entity.eq(key), edition::number.eq(number.cast_signed()));
            diesel::replace_into(edition::table).values(row).execute(self.connection())?;
        }
        Ok(())
    }

    pub(crate) fn remove_edition(&mut self, entity: &Entity, number: Edition) -> Result<(), StoreError> {
        diesel::delete(edition::table.find(entity.to_string())).execute(self.connection())?;
        let row = (edition::entity.eq(LAST), edition::number.eq(number.cast_signed()));
        diesel::replace_into(edition::table).values(row).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn load_editions(&mut self, mut site: Site) -> Result<Site, StoreError> {
        for (key, number) in edition::table.load::<(String, i64)>(self.connection())? {
            let number = number.cast_unsigned();
            site = if key == LAST {
                site.with_last_edition(number)
            } else {
                site.with_edition(Row { table: "edition", key: &key }.text(&key)?, number)
            };
        }
        Ok(site)
    }
}

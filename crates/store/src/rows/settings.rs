use diesel::prelude::*;
use lastmile_core::model::settings::SiteSettings;

use crate::{
    StoreError, Tx,
    schema::site_settings,
    value::{self, Row},
};

/// The only row there is.
const ONLY: i32 = 1;

impl Tx<'_> {
    /// Keeps what holds for the whole site.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_settings(&mut self, settings: &SiteSettings) -> Result<(), StoreError> {
        let json = value::json(settings)?;
        diesel::insert_into(site_settings::table)
            .values((site_settings::id.eq(ONLY), site_settings::settings.eq(&json)))
            .on_conflict(site_settings::id)
            .do_update()
            .set(site_settings::settings.eq(&json))
            .execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn settings(&mut self) -> Result<SiteSettings, StoreError> {
        let found = site_settings::table.find(ONLY).select(site_settings::settings);
        let json: Option<String> = found.first(self.connection()).optional()?;
        let read = Row { table: "site_settings", key: "1" };
        json.map_or_else(|| Ok(SiteSettings::default()), |json| read.json(&json))
    }
}

//! The check of what holds for the whole site.

use crate::{
    base::{Fault, Faults},
    decide::references::check_menu,
    model::settings::SiteSettings,
    site::Site,
};

impl SiteSettings {
    /// Checks the settings.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, site: &Site) -> Result<(), Vec<Fault>> {
        let mut faults = Faults::new();
        check_menu(&mut faults, self.menu.as_deref(), site);
        if self.verify_hours > 24 * 366 {
            faults.add("verify_hours", "more than a year", "Give hours, or 0 for never.");
        }
        self.limits.check(&mut faults);
        faults.into_result(|| Some(()))
    }
}

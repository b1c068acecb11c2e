//! What machines start, and by whose choice: loaders, menus, labels, the site's settings.

use lastmile_core::{
    model::{label::Label, loader::Loader, menu::Menu, settings::SiteSettings},
    site::Entity,
};

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Adds a loader, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_loader(&mut self, loader: Loader) -> Result<(), StoreError> {
        self.tx.put_loader(&loader)?;
        let recorded = Recorded::Loader { name: loader.name.clone() };
        self.saved(Entity::Loader(loader.id), recorded, |site| site.with_loader(loader))
    }

    /// Removes a loader.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_loader(&mut self, loader: &Loader) -> Result<(), StoreError> {
        self.tx.remove_loader(loader.id)?;
        let recorded = Recorded::Loader { name: loader.name.clone() };
        self.removed(&Entity::Loader(loader.id), recorded, |site| site.without_loader(&loader.name))
    }

    /// Adds a menu, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_menu(&mut self, menu: Menu) -> Result<(), StoreError> {
        self.tx.put_menu(&menu)?;
        let recorded = Recorded::Menu { name: menu.name.clone() };
        self.saved(Entity::Menu(menu.id), recorded, |site| site.with_menu(menu))
    }

    /// Gives a menu another name. What names it is changed by the caller.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_menu(&mut self, former: &Menu, name: &str) -> Result<(), StoreError> {
        let menu = Menu { name: name.into(), ..former.clone() };
        self.tx.put_menu(&menu)?;
        self.record(Recorded::Menu { name: former.name.clone() });
        let recorded = Recorded::Menu { name: name.into() };
        self.saved(Entity::Menu(menu.id), recorded, |site| site.without_menu(&former.name).with_menu(menu))
    }

    /// Removes a menu.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_menu(&mut self, menu: &Menu) -> Result<(), StoreError> {
        self.tx.remove_menu(menu.id)?;
        let recorded = Recorded::Menu { name: menu.name.clone() };
        self.removed(&Entity::Menu(menu.id), recorded, |site| site.without_menu(&menu.name))
    }

    /// Keeps what is said of a label.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_label(&mut self, label: Label) -> Result<(), StoreError> {
        self.tx.put_label(&label)?;
        let recorded = Recorded::Label { name: label.name.clone() };
        self.saved(Entity::Label(label.name.clone()), recorded, |site| site.with_label(label))
    }

    /// Removes what is said of a label.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_label(&mut self, name: &str) -> Result<(), StoreError> {
        self.tx.remove_label(name)?;
        let recorded = Recorded::Label { name: name.into() };
        self.removed(&Entity::Label(name.into()), recorded, |site| site.without_label(name))
    }

    /// Gives a label's record another name. Its machines and its settings are changed by the caller.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_label(&mut self, former: &Label, name: &str) -> Result<(), StoreError> {
        self.remove_label(&former.name)?;
        self.put_label(Label { name: name.into(), ..former.clone() })
    }

    /// Keeps what applies to the whole site.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_settings(&mut self, settings: SiteSettings) -> Result<(), StoreError> {
        self.tx.put_settings(&settings)?;
        let recorded = Recorded::Settings;
        self.saved(Entity::Settings, recorded, |site| site.with_settings(settings))
    }
}

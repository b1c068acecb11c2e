//! Images and their revisions.

use lastmile_core::{
    model::image::{Image, Revision},
    site::Entity,
};

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Adds an image's current revision, and the image itself if it is new.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_revision(&mut self, image: Image) -> Result<(), StoreError> {
        self.tx.add_revision(&image)?;
        self.show_image(image)
    }

    /// Keeps what changed of an image: its title, its current revision.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_image(&mut self, image: Image) -> Result<(), StoreError> {
        self.tx.put_image(&image)?;
        self.show_image(image)
    }

    /// Gives an image another name. What names it is changed by the caller.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_image(&mut self, former: &Image, name: &str) -> Result<(), StoreError> {
        let last_number = former.last_number.max(self.site().last_revision_number(name));
        let image = Image { name: name.into(), last_number, ..former.clone() };
        self.tx.put_image(&image)?;
        self.tx.put_image_number(name, last_number)?;
        self.record(Recorded::Image { name: former.name.clone() });
        let recorded = Recorded::Image { name: name.into() };
        let former = Image { last_number, ..former.clone() };
        self.saved(Entity::Image(image.id), recorded, |site| site.with_image_renamed(&former, name))
    }

    fn show_image(&mut self, image: Image) -> Result<(), StoreError> {
        let recorded = Recorded::Image { name: image.name.clone() };
        self.saved(Entity::Image(image.id), recorded, |site| site.with_image(image))
    }

    /// Keeps what was found when a revision's files were looked at. Nobody entered it, so it is no new edition.
    ///
    /// # Errors
    /// What the database refused.
    pub fn note_revision(&mut self, revision: Revision) -> Result<(), StoreError> {
        self.tx.put_revision(&revision)?;
        self.record(Recorded::Image { name: revision.image_name.clone() });
        self.with(|site| site.with_revision(revision));
        Ok(())
    }

    /// Keeps what somebody changed of a revision: that it is retired, or not any more.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_revision(&mut self, revision: Revision) -> Result<(), StoreError> {
        self.stamp(Entity::Image(revision.image))?;
        self.note_revision(revision)
    }

    /// Removes a revision that is not current.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_revision(&mut self, revision: &Revision) -> Result<(), StoreError> {
        self.tx.remove_revision(revision.id)?;
        let recorded = Recorded::Image { name: revision.image_name.clone() };
        self.saved(Entity::Image(revision.image), recorded, |site| site.without_revision(revision.id))
    }

    /// Removes an image and all its revisions.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_image(&mut self, image: &Image) -> Result<(), StoreError> {
        self.tx.remove_image(image.id)?;
        let recorded = Recorded::Image { name: image.name.clone() };
        self.removed(&Entity::Image(image.id), recorded, |site| site.without_image(&image.name))
    }
}

use std::{collections::HashMap, sync::Arc};

use diesel::prelude::*;
use lastmile_core::{
    Id,
    image::{FileEntry, Image, Manifest, Revision},
    site::Site,
};

use crate::{
    StoreError, Tx,
    schema::{image, image_revision},
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = image)]
struct ImageRow {
    id: String,
    name: String,
    title: String,
    kind: String,
    current_revision_id: String,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = image_revision)]
struct RevisionRow {
    id: String,
    image_id: String,
    number: i32,
    created: i64,
    family: String,
    kernel: String,
    initrds: String,
    parameters: String,
    files: String,
}

impl From<&Image> for ImageRow {
    fn from(image: &Image) -> Self {
        Self {
            id: image.id.to_string(),
            name: image.name.clone(),
            title: image.title.clone(),
            kind: value::name(&image.kind),
            current_revision_id: image.current.id.to_string(),
        }
    }
}

impl From<&Revision> for RevisionRow {
    fn from(revision: &Revision) -> Self {
        Self {
            id: revision.id.to_string(),
            image_id: revision.image.to_string(),
            number: value::count(revision.number),
            created: revision.created.as_millisecond(),
            family: value::name(&revision.family),
            kernel: revision.kernel.clone(),
            initrds: value::json(&revision.initrds),
            parameters: value::json(&revision.parameters),
            files: value::json(&revision.manifest.files()),
        }
    }
}

impl RevisionRow {
    fn into_revision(self, image_name: &str) -> Result<Revision, StoreError> {
        let read = Row { table: "image_revision", key: &self.id };
        Ok(Revision {
            id: read.text(&self.id)?,
            image: read.text(&self.image_id)?,
            image_name: image_name.into(),
            number: read.count(self.number)?,
            created: read.time(self.created)?,
            family: read.name(&self.family)?,
            initrds: read.json(&self.initrds)?,
            parameters: read.json(&self.parameters)?,
            manifest: Manifest::new(read.json::<Vec<FileEntry>>(&self.files)?),
            kernel: self.kernel,
            damaged: Vec::new(),
        })
    }
}

impl Tx<'_> {
    /// Adds an image's current revision, and the image itself if it is new.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_revision(&mut self, entity: &Image) -> Result<(), StoreError> {
        let row = ImageRow::from(entity);
        let insert = diesel::insert_into(image::table).values(&row);
        insert.on_conflict(image::id).do_update().set(&row).execute(self.connection())?;
        let revision = RevisionRow::from(entity.current.as_ref());
        diesel::insert_into(image_revision::table).values(revision).execute(self.connection())?;
        Ok(())
    }

    /// Removes an image and all its revisions.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_image(&mut self, id: Id<Image>) -> Result<(), StoreError> {
        diesel::delete(image::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn load_images(&mut self, mut site: Site) -> Result<Site, StoreError> {
        let images = image::table.select(ImageRow::as_select()).load(self.connection())?;
        let rows = image_revision::table.select(RevisionRow::as_select()).load(self.connection())?;
        let mut of_image: HashMap<String, Vec<RevisionRow>> = HashMap::new();
        for row in rows {
            of_image.entry(row.image_id.clone()).or_default().push(row);
        }
        for image in images {
            let mut current = None;
            for row in of_image.remove(&image.id).unwrap_or_default() {
                let is_current = row.id == image.current_revision_id;
                let revision = row.into_revision(&image.name)?;
                if is_current {
                    current = Some(revision);
                } else {
                    site = site.with_former_revision(revision);
                }
            }
            let read = Row { table: "image", key: &image.name };
            let current = current.ok_or_else(|| StoreError::Value {
                table: "image",
                row: image.name.clone(),
                what: "its current revision is missing".into(),
            })?;
            site = site.with_image(Image {
                id: read.text(&image.id)?,
                kind: read.name(&image.kind)?,
                current: Arc::new(current),
                title: image.title,
                name: image.name,
            });
        }
        Ok(site)
    }
}

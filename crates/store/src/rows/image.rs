use std::{collections::HashMap, sync::Arc};

use diesel::prelude::*;
use lastmile_core::{
    base::Id,
    model::image::{FileEntry, Image, Manifest, Revision},
    site::Site,
};

use crate::{
    StoreError, Tx,
    schema::{image, image_number, image_revision},
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
    last_number: i32,
}

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = image_revision, treat_none_as_null = true)]
struct RevisionRow {
    id: String,
    image_id: String,
    number: i32,
    created: i64,
    family: String,
    parameters: String,
    without_parameters: String,
    files: String,
    start: String,
    cpu: Option<String>,
    volume: Option<String>,
    recognised: String,
    lacks: String,
    retired: Option<i64>,
    verified: Option<i64>,
    damaged: String,
}

impl TryFrom<&Image> for ImageRow {
    type Error = StoreError;

    fn try_from(image: &Image) -> Result<Self, StoreError> {
        Ok(Self {
            id: image.id.to_string(),
            name: image.name.clone(),
            title: image.title.clone(),
            kind: value::name(&image.kind)?,
            current_revision_id: image.current.id.to_string(),
            last_number: value::count(image.last_number),
        })
    }
}

impl TryFrom<&Revision> for RevisionRow {
    type Error = StoreError;

    fn try_from(revision: &Revision) -> Result<Self, StoreError> {
        Ok(Self {
            id: revision.id.to_string(),
            image_id: revision.image.to_string(),
            number: value::count(revision.number),
            created: revision.created.as_millisecond(),
            family: value::name(&revision.family)?,
            parameters: value::json(&revision.parameters)?,
            without_parameters: value::json(&revision.without_parameters)?,
            files: value::json(&revision.manifest.files())?,
            start: value::json(&revision.start)?,
            cpu: revision.cpu.map(|cpu| cpu.to_string()),
            volume: revision.volume.as_deref().map(value::json).transpose()?,
            recognised: value::json(&revision.recognised)?,
            lacks: value::json(&revision.lacks)?,
            retired: revision.retired.map(|at| at.as_millisecond()),
            verified: revision.verified.map(|at| at.as_millisecond()),
            damaged: value::json(&revision.damaged)?,
        })
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
            parameters: read.json(&self.parameters)?,
            without_parameters: read.json(&self.without_parameters)?,
            manifest: Manifest::new(read.json::<Vec<FileEntry>>(&self.files)?),
            start: read.json(&self.start)?,
            cpu: read.maybe(self.cpu.as_deref())?,
            volume: self.volume.as_deref().map(|volume| read.json(volume)).transpose()?.map(Arc::new),
            recognised: Arc::new(read.json(&self.recognised)?),
            lacks: read.json(&self.lacks)?,
            retired: read.maybe_time(self.retired)?,
            verified: read.maybe_time(self.verified)?,
            damaged: read.json(&self.damaged)?,
        })
    }
}

impl Tx<'_> {
    /// Adds an image's current revision, and the image itself if it is new.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_revision(&mut self, entity: &Image) -> Result<(), StoreError> {
        let row = ImageRow::try_from(entity)?;
        let insert = diesel::insert_into(image::table).values(&row);
        insert.on_conflict(image::id).do_update().set(&row).execute(self.connection())?;
        let revision = RevisionRow::try_from(entity.current.as_ref())?;
        diesel::insert_into(image_revision::table).values(revision).execute(self.connection())?;
        self.put_image_number(&entity.name, entity.last_number)
    }

    /// Keeps the last number that a revision of an image of that name had.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_image_number(&mut self, name: &str, last: u32) -> Result<(), StoreError> {
        let number = (image_number::name.eq(name), image_number::last.eq(value::count(last)));
        diesel::replace_into(image_number::table).values(number).execute(self.connection())?;
        Ok(())
    }

    /// Keeps what changed of an image: its title, its current revision.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_image(&mut self, entity: &Image) -> Result<(), StoreError> {
        diesel::update(image::table.find(entity.id.to_string()))
            .set(ImageRow::try_from(entity)?)
            .execute(self.connection())?;
        Ok(())
    }

    /// Keeps what changed of a revision: what was found when its files were read again, that it was retired.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_revision(&mut self, entity: &Revision) -> Result<(), StoreError> {
        diesel::update(image_revision::table.find(entity.id.to_string()))
            .set(RevisionRow::try_from(entity)?)
            .execute(self.connection())?;
        Ok(())
    }

    /// Removes a revision that is not current.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_revision(&mut self, id: Id<Revision>) -> Result<(), StoreError> {
        diesel::delete(image_revision::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    /// Removes an image and all its revisions.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_image(&mut self, id: Id<Image>) -> Result<(), StoreError> {
        diesel::delete(image::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn load_images(&mut self, mut site: Site) -> Result<Site, StoreError> {
        for (name, last) in image_number::table.load::<(String, i32)>(self.connection())? {
            let last = Row { table: "image_number", key: &name }.count(last)?;
            site = site.with_revision_number(&name, last);
        }
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
                    site = site.with_revision(revision);
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
                last_number: read.count(image.last_number)?,
                current: Arc::new(current),
                title: image.title,
                name: image.name,
            });
        }
        Ok(site)
    }
}

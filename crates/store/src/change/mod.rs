//! A change of what is recorded: the rows and the snapshot together, so that one never says what the other does not.

mod answers;
mod boot;
mod image;
mod job;
mod machine;
mod rule;
mod subnet;
mod survey;
mod webhook;

use lastmile_core::site::{Entity, Site};

use crate::{Recorded, StoreError, Tx};

/// What a group of changes makes of the snapshot, until it is committed.
#[derive(Debug)]
pub(crate) struct Pending {
    pub(crate) site: Site,
    pub(crate) recorded: Vec<Recorded>,
    /// Whether there is anything to show.
    pub(crate) is_changed: bool,
    /// Whether rows were written that the snapshot does not have.
    pub(crate) is_written: bool,
}

/// A change under way. Each method writes the rows and changes the snapshot alike; nobody sees either before the commit, and
/// an error undoes both.
#[allow(missing_debug_implementations, reason = "a connection shows nothing")]
pub struct Change<'a> {
    tx: Tx<'a>,
    pending: &'a mut Pending,
}

impl<'a> Change<'a> {
    pub(crate) const fn new(tx: Tx<'a>, pending: &'a mut Pending) -> Self {
        Self { tx, pending }
    }

    /// The snapshot with everything that was changed so far.
    #[must_use]
    pub fn site(&self) -> &Site {
        &self.pending.site
    }

    /// The records with everything that was changed so far, for reading.
    pub const fn tx(&mut self) -> &mut Tx<'a> {
        &mut self.tx
    }

    fn with(&mut self, change: impl FnOnce(&Site) -> Site) {
        self.pending.site = change(&self.pending.site);
        self.pending.is_changed = true;
    }

    fn record(&mut self, recorded: Recorded) {
        self.pending.recorded.push(recorded);
        self.pending.is_changed = true;
    }

    /// Takes the next edition for an entity that was saved.
    fn stamp(&mut self, entity: Entity) -> Result<(), StoreError> {
        let number = self.pending.site.last_edition() + 1;
        self.tx.put_edition(&entity, number)?;
        self.with(|site| site.with_edition(entity, number));
        Ok(())
    }

    /// Shows an entity whose rows were written: its next edition, who is told, the snapshot.
    fn saved(
        &mut self,
        entity: Entity,
        recorded: Recorded,
        show: impl FnOnce(&Site) -> Site,
    ) -> Result<(), StoreError> {
        self.stamp(entity)?;
        self.record(recorded);
        self.with(show);
        Ok(())
    }

    /// The same for an entity whose rows were removed.
    fn removed(
        &mut self,
        entity: &Entity,
        recorded: Recorded,
        show: impl FnOnce(&Site) -> Site,
    ) -> Result<(), StoreError> {
        self.unstamp(entity)?;
        self.record(recorded);
        self.with(show);
        Ok(())
    }

    /// Takes the next edition for the removal of an entity.
    fn unstamp(&mut self, entity: &Entity) -> Result<(), StoreError> {
        let number = self.pending.site.last_edition() + 1;
        self.tx.remove_edition(entity, number)?;
        self.with(|site| site.without_edition(entity, number));
        Ok(())
    }
}

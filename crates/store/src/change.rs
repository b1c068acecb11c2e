//! A change of what is recorded: the rows and the snapshot together, so that one never says what the other does not.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    model::{
        answers::{AnswersVersion, Scope},
        image::{Image, Revision},
        install::{Install, Step},
        label::Label,
        loader::Loader,
        machine::Machine,
        menu::Menu,
        reservation::Reservation,
        settings::SiteSettings,
        subnet::Subnet,
        webhook::Webhook,
    },
    site::{Entity, Site},
};

use crate::{Delivery, LogLine, NewDelivery, Recorded, StoreError, Tx};

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

    /// Adds a subnet, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_subnet(&mut self, subnet: Subnet) -> Result<(), StoreError> {
        self.tx.put_subnet(&subnet)?;
        let recorded = Recorded::Subnet { name: subnet.name.clone() };
        self.saved(Entity::Subnet(subnet.id), recorded, |site| site.with_subnet(subnet))
    }

    /// Removes a subnet and its reservations.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_subnet(&mut self, subnet: &Subnet) -> Result<(), StoreError> {
        let reserved: Vec<Ipv4Addr> =
            self.site().reservations_of(subnet.id).map(|reservation| reservation.address).collect();
        for address in reserved {
            self.unstamp(&Entity::Reservation(address))?;
        }
        self.tx.remove_subnet(subnet.id)?;
        let recorded = Recorded::Subnet { name: subnet.name.clone() };
        self.removed(&Entity::Subnet(subnet.id), recorded, |site| site.without_subnet(subnet.id))
    }

    /// Adds a reservation in the place of the one its client had on the subnet.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_reservation(&mut self, reservation: Reservation) -> Result<(), StoreError> {
        self.tx.put_reservation(&reservation)?;
        self.stamp(Entity::Reservation(reservation.address))?;
        self.record_subnet(reservation.subnet);
        self.with(|site| site.with_reservation(reservation));
        Ok(())
    }

    /// Removes a reservation.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_reservation(&mut self, reservation: &Reservation) -> Result<(), StoreError> {
        self.tx.remove_reservation(reservation.address)?;
        self.unstamp(&Entity::Reservation(reservation.address))?;
        self.record_subnet(reservation.subnet);
        self.with(|site| site.without_reservation(reservation));
        Ok(())
    }

    fn record_subnet(&mut self, id: Id<Subnet>) {
        if let Some(name) = self.site().subnet_by_id(id).map(|subnet| subnet.name.clone()) {
            self.record(Recorded::Subnet { name });
        }
    }

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

    /// Adds a version of answers, or of another layer, with the next number of its scope.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_answers(&mut self, version: AnswersVersion) -> Result<AnswersVersion, StoreError> {
        let number = self.tx.last_answers_number(&version.scope)? + 1;
        let version = AnswersVersion { number, ..version };
        self.tx.add_answers(&version)?;
        self.stamp(Entity::Layer(version.scope.clone()))?;
        self.record(Recorded::Answers { scope: version.scope.clone() });
        let shown = version.clone();
        self.with(|site| site.with_answers(shown));
        Ok(version)
    }

    /// Takes what is said of a scope out of use; its versions are kept for the installs that name them.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_answers(&mut self, scope: &Scope) -> Result<(), StoreError> {
        self.tx.remove_answers(scope)?;
        let recorded = Recorded::Answers { scope: scope.clone() };
        self.removed(&Entity::Layer(scope.clone()), recorded, |site| site.without_answers(scope))
    }

    /// Has everything that was ever said of a scope said of another, of which nothing was said before. The former one goes on
    /// counting its versions where it was: installs on record name them.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_answers(&mut self, former: &AnswersVersion, scope: &Scope) -> Result<(), StoreError> {
        let last = AnswersVersion { id: Id::generate(), ..former.clone() };
        self.tx.rename_answers(&former.scope, scope)?;
        self.tx.add_answers(&last)?;
        self.tx.remove_answers(&former.scope)?;
        self.unstamp(&Entity::Layer(former.scope.clone()))?;
        self.record(Recorded::Answers { scope: former.scope.clone() });
        let recorded = Recorded::Answers { scope: scope.clone() };
        self.saved(Entity::Layer(scope.clone()), recorded, |site| {
            site.with_scope_renamed(&former.scope, scope).with_former_answers(last)
        })
    }

    /// Adds a machine, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_machine(&mut self, machine: Machine) -> Result<(), StoreError> {
        self.tx.put_machine(&machine)?;
        self.show_machines(vec![machine])
    }

    /// Adds machines, or puts them in the places of those of their identities.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        self.tx.put_machines(&machines)?;
        self.show_machines(machines)
    }

    /// Gives machines other names, which may change hands among them. Nothing else of them is written.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        self.tx.rename_machines(&machines)?;
        self.show_machines(machines)
    }

    fn show_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        let former = machines.iter().filter_map(|machine| self.site().machine_by_id(machine.id));
        let names: Vec<String> = former.map(|former| former.name.clone()).collect();
        for machine in &machines {
            self.stamp(Entity::Machine(machine.id))?;
            self.record(Recorded::Machine { id: machine.id });
        }
        self.with(|site| site.with_machines(machines));
        for name in names {
            if self.site().machine(&name).is_none() {
                self.record(Recorded::MachineGone { name });
            }
        }
        Ok(())
    }

    /// Removes a machine with its own settings; its installs stay on record.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_machine(&mut self, machine: &Machine, now: Timestamp) -> Result<(), StoreError> {
        self.tx.remove_machine(machine.id)?;
        self.tx.note_left(machine, now)?;
        let own = Scope::Machine(machine.id);
        if self.site().settings_of(&own).is_some() {
            self.remove_answers(&own)?;
        }
        let recorded = Recorded::MachineGone { name: machine.name.clone() };
        self.removed(&Entity::Machine(machine.id), recorded, |site| site.without_machine(machine))
    }

    /// The number of the next install: one more than the last that was ever armed.
    ///
    /// # Errors
    /// What the database refused.
    pub fn next_install_number(&mut self) -> Result<i64, StoreError> {
        Ok(self.tx.last_install_number()? + 1)
    }

    /// Keeps an install as it is now, with the step that brought it there.
    ///
    /// # Errors
    /// What the database refused: among others a second open install of one machine.
    pub fn put_install(&mut self, install: Install, step: Step) -> Result<(), StoreError> {
        self.tx.put_install(&install, &step)?;
        let shown = install.clone();
        self.with(|site| site.with_install(shown));
        self.record(Recorded::Install { install: Box::new(install), step });
        Ok(())
    }

    /// Keeps the digest over all files of what is installed, which was not known when the install was armed.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_manifest_hash(&mut self, install: Install) -> Result<(), StoreError> {
        if let Some(hash) = install.manifest_hash {
            self.tx.set_manifest_hash(install.number, hash)?;
            self.with(|site| site.with_install(install));
        }
        Ok(())
    }

    /// Keeps lines of an install's log.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_log(&mut self, install: i64, lines: Vec<LogLine>) -> Result<(), StoreError> {
        self.tx.add_log(install, &lines)?;
        self.record(Recorded::Log { install, lines });
        Ok(())
    }

    /// Adds a webhook, or puts it in the place of the one of its name.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_webhook(&mut self, webhook: Webhook) -> Result<(), StoreError> {
        self.tx.put_webhook(&webhook)?;
        let recorded = Recorded::Webhook { name: webhook.name.clone() };
        self.saved(Entity::Webhook(webhook.name.clone()), recorded, |site| site.with_webhook(webhook))
    }

    /// Removes a webhook. What was delivered stays on record; what was not is abandoned.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_webhook(&mut self, name: &str) -> Result<(), StoreError> {
        self.tx.remove_webhook(name)?;
        let recorded = Recorded::Webhook { name: name.into() };
        self.removed(&Entity::Webhook(name.into()), recorded, |site| site.without_webhook(name))
    }

    /// Gives a webhook another name; its deliveries follow.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_webhook(&mut self, former: &Webhook, name: &str) -> Result<(), StoreError> {
        self.tx.rename_deliveries(&former.name, name)?;
        self.remove_webhook(&former.name)?;
        self.put_webhook(Webhook { name: name.into(), ..former.clone() })
    }

    /// Keeps what is to be told. It is due at once.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_deliveries(&mut self, deliveries: &[NewDelivery]) -> Result<(), StoreError> {
        self.tx.add_deliveries(deliveries)?;
        for delivery in deliveries {
            self.record(Recorded::Webhook { name: delivery.webhook.clone() });
        }
        Ok(())
    }

    /// Keeps how a delivery is after an attempt, or as somebody wants it.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_delivery(&mut self, delivery: &Delivery) -> Result<(), StoreError> {
        self.tx.put_delivery(delivery)?;
        self.record(Recorded::Webhook { name: delivery.webhook.clone() });
        Ok(())
    }
}

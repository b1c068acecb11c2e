//! The snapshot after a change of one thing.

use std::sync::Arc;

use super::*;

impl Site {
    /// With a subnet added, or put in the place of the one of its identity.
    #[must_use]
    pub fn with_subnet(&self, subnet: Subnet) -> Self {
        let mut next = self.clone();
        if let Some(former) = self.subnet_by_id(subnet.id) {
            next.subnets.remove(&former.name);
        }
        next.subnets.insert(subnet.name.clone(), Arc::new(subnet));
        next
    }

    /// Without a subnet and its reservations.
    #[must_use]
    pub fn without_subnet(&self, id: Id<Subnet>) -> Self {
        let of_it: Vec<_> = self.reservations_of(id).cloned().collect();
        let mut next =
            of_it.iter().fold(self.clone(), |next, reservation| next.without_reservation(reservation));
        if let Some(former) = self.subnet_by_id(id) {
            next.subnets.remove(&former.name);
        }
        next
    }

    /// With a reservation added, or put in the place of the one its client had on that subnet.
    #[must_use]
    pub fn with_reservation(&self, reservation: Reservation) -> Self {
        let mut next = self.clone();
        let key = (reservation.subnet, reservation.client.clone());
        if let Some(former) = next.reserved.insert(key, reservation.address) {
            next.reservations.remove(&former);
        }
        next.reservations.insert(reservation.address, Arc::new(reservation));
        next
    }

    /// Without a reservation.
    #[must_use]
    pub fn without_reservation(&self, reservation: &Reservation) -> Self {
        let mut next = self.clone();
        next.reservations.remove(&reservation.address);
        next.reserved.remove(&(reservation.subnet, reservation.client.clone()));
        next
    }

    /// With a loader added, or put in the place of the one of its identity.
    #[must_use]
    pub fn with_loader(&self, loader: Loader) -> Self {
        let mut next = self.clone();
        if let Some(former) = self.loaders().find(|other| other.id == loader.id) {
            next.loaders.remove(&former.name);
        }
        next.loaders.insert(loader.name.clone(), Arc::new(loader));
        next
    }

    /// Without a loader.
    #[must_use]
    pub fn without_loader(&self, name: &str) -> Self {
        let mut next = self.clone();
        next.loaders.remove(name);
        next
    }

    /// With `number` as one that a revision of an image of that name had.
    #[must_use]
    pub fn with_revision_number(&self, image: &str, number: u32) -> Self {
        let mut next = self.clone();
        let last = self.last_revision_number(image).max(number);
        next.last_numbers.insert(image.into(), last);
        next
    }

    /// With an image added, or its current revision put in the place of the former.
    #[must_use]
    pub fn with_image(&self, image: Image) -> Self {
        let mut next = self.with_revision_number(&image.name, image.last_number);
        next.revisions.insert(image.current.id, image.current.clone());
        next.image_names.insert(image.id, image.name.clone());
        next.images.insert(image.name.clone(), Arc::new(image));
        next
    }

    /// With a revision added that is not current, or put in the place of the one of its identity, current or not.
    #[must_use]
    pub fn with_revision(&self, revision: Revision) -> Self {
        let mut next = self.clone();
        let revision = Arc::new(revision);
        next.revisions.insert(revision.id, revision.clone());
        let current = next.images.get(&revision.image_name).filter(|image| image.current.id == revision.id);
        if let Some(image) = current.cloned() {
            let image = Image { current: revision, ..(*image).clone() };
            next.images.insert(image.name.clone(), Arc::new(image));
        }
        next
    }

    /// Without a revision, which is not current.
    #[must_use]
    pub fn without_revision(&self, id: Id<Revision>) -> Self {
        let mut next = self.clone();
        next.revisions.remove(&id);
        next
    }

    /// With a menu added, or put in the place of the one of its name.
    #[must_use]
    pub fn with_menu(&self, menu: Menu) -> Self {
        let mut next = self.clone();
        next.menus.insert(menu.name.clone(), Arc::new(menu));
        next
    }

    /// Without a menu.
    #[must_use]
    pub fn without_menu(&self, name: &str) -> Self {
        let mut next = self.clone();
        next.menus.remove(name);
        next
    }

    /// With what is said of a label.
    #[must_use]
    pub fn with_label(&self, label: Label) -> Self {
        let mut next = self.clone();
        next.labels.insert(label.name.clone(), Arc::new(label));
        next
    }

    /// With nothing said of a label.
    #[must_use]
    pub fn without_label(&self, name: &str) -> Self {
        let mut next = self.clone();
        next.labels.remove(name);
        next
    }

    /// With other settings.
    #[must_use]
    pub fn with_settings(&self, settings: SiteSettings) -> Self {
        let mut next = self.clone();
        next.settings = Arc::new(settings);
        next
    }

    /// With another name for an image, of which it keeps its identity and all its revisions.
    #[must_use]
    pub fn with_image_renamed(&self, image: &Image, name: &str) -> Self {
        let mut next = self.clone();
        let renamed = |revision: &Arc<Revision>| Revision { image_name: name.into(), ..(**revision).clone() };
        for revision in self.revisions.values().filter(|revision| revision.image == image.id) {
            next.revisions.insert(revision.id, Arc::new(renamed(revision)));
        }
        next.images.remove(&image.name);
        next.with_image(Image {
            name: name.into(),
            current: Arc::new(renamed(&image.current)),
            ..image.clone()
        })
    }

    /// Without an image and all its revisions.
    #[must_use]
    pub fn without_image(&self, name: &str) -> Self {
        let mut next = self.clone();
        if let Some(image) = next.images.remove(name) {
            next.image_names.remove(&image.id);
            next.revisions.retain(|_, revision| revision.image != image.id);
        }
        next
    }

    /// With a machine added, or put in the place of the one of its identity.
    #[must_use]
    pub fn with_machine(&self, machine: Machine) -> Self {
        let mut next = self.by_id.get(&machine.id).map_or_else(|| self.clone(), |former| self.forget(former));
        let machine = Arc::new(machine);
        for mac in &machine.macs {
            next.by_mac.insert(*mac, machine.clone());
        }
        next.by_id.insert(machine.id, machine.clone());
        next.machines.insert(machine_key(&machine.name), machine);
        next
    }

    /// With machines in the places of those of their identities, among which names may change hands.
    #[must_use]
    pub fn with_machines(&self, machines: Vec<Machine>) -> Self {
        let former = machines.iter().filter_map(|machine| self.by_id.get(&machine.id));
        let next = former.fold(self.clone(), |next, former| next.forget(former));
        machines.into_iter().fold(next, |next, machine| next.with_machine(machine))
    }

    /// Without a machine. Its installs stay in the store, for the history.
    #[must_use]
    pub fn without_machine(&self, machine: &Machine) -> Self {
        let mut next = self.forget(machine);
        if let Some(open) = next.open.remove(&machine.id) {
            next.by_token.remove(open.token.reveal());
        }
        next.installed.remove(&machine.id);
        next.latest.remove(&machine.id);
        next.open_jobs.remove(&JobOwner::Machine(machine.id));
        next.last_jobs.remove(&JobOwner::Machine(machine.id));
        next
    }

    fn forget(&self, machine: &Machine) -> Self {
        let mut next = self.clone();
        next.machines.remove(&machine_key(&machine.name));
        next.by_id.remove(&machine.id);
        for mac in &machine.macs {
            next.by_mac.remove(mac);
        }
        next
    }

    /// With a survey as the latest from the address that it was started from.
    #[must_use]
    pub fn with_survey(&self, survey: SurveyRecord) -> Self {
        let mut next = self.clone();
        let from = survey.mac;
        if let Some(former) = self.surveys.get(&from) {
            for mac in former.macs() {
                let others = next.cards.get(&mac).map(|others| others.without(&from)).unwrap_or_default();
                if others.is_empty() {
                    next.cards.remove(&mac);
                } else {
                    next.cards.insert(mac, others);
                }
            }
        }
        for mac in survey.macs().filter(|mac| *mac != from) {
            next.cards.entry(mac).or_default().insert(from);
        }
        next.surveys.insert(survey.mac, Arc::new(survey));
        next
    }

    /// With a job as it is now. One of a machine that is not registered any more changes nothing: it is in the record alone.
    #[must_use]
    pub fn with_job(&self, job: Job) -> Self {
        let mut next = self.clone();
        if job.machine.is_some_and(|machine| !self.by_id.contains_key(&machine)) {
            return next;
        }
        let (owner, job) = (JobOwner::of(&job), Arc::new(job));
        let open = next.open_jobs.get(&owner).cloned().unwrap_or_default();
        let open = if job.state.is_open() {
            open.update(job.number, job.clone())
        } else {
            open.without(&job.number)
        };
        if open.is_empty() {
            next.open_jobs.remove(&owner);
        } else {
            next.open_jobs.insert(owner, open);
        }
        let last = next.last_jobs.entry(owner).or_default();
        let kind = job.task.kind();
        if last.get(&kind).is_none_or(|known| known.number <= job.number) {
            last.insert(kind, job);
        }
        next
    }

    /// With a rule added, or put in the place of the one of its name.
    #[must_use]
    pub fn with_rule(&self, rule: Rule) -> Self {
        let mut next = self.clone();
        next.rules.insert(rule.name.clone(), Arc::new(rule));
        next
    }

    /// Without a rule.
    #[must_use]
    pub fn without_rule(&self, name: &str) -> Self {
        let mut next = self.clone();
        next.rules.remove(name);
        next
    }

    /// With something that is proposed for whoever has an address.
    #[must_use]
    pub fn with_proposal(&self, proposal: Proposal) -> Self {
        let mut next = self.clone();
        next.proposals.insert(proposal.mac, Arc::new(proposal));
        next
    }

    /// With nothing proposed for whoever has that address.
    #[must_use]
    pub fn without_proposal(&self, mac: Mac) -> Self {
        let mut next = self.clone();
        next.proposals.remove(&mac);
        next
    }

    /// With these as all the locations there are.
    #[must_use]
    pub fn with_locations(&self, locations: Vec<Location>) -> Self {
        let mut next = self.clone();
        let keyed =
            |location: Location| (Location::key(&location.switch, &location.port), Arc::new(location));
        next.locations = locations.into_iter().map(keyed).collect();
        next
    }

    /// With a webhook added, or put in the place of the one of its name.
    #[must_use]
    pub fn with_webhook(&self, webhook: Webhook) -> Self {
        let mut next = self.clone();
        next.webhooks.insert(webhook.name.clone(), Arc::new(webhook));
        next
    }

    /// Without a webhook.
    #[must_use]
    pub fn without_webhook(&self, name: &str) -> Self {
        let mut next = self.clone();
        next.webhooks.remove(name);
        next
    }

    /// With an install as it is now. One of a machine that is not registered any more, or that is older than what is here,
    /// changes nothing: it is in the record alone.
    #[must_use]
    pub fn with_install(&self, install: Install) -> Self {
        let mut next = self.clone();
        if !self.by_id.contains_key(&install.machine) {
            return next;
        }
        let install = Arc::new(install);
        let token = install.token.reveal();
        if install.state.is_open() {
            next.by_token.insert(token.into(), install.machine);
            next.open.insert(install.machine, install.clone());
        } else {
            next.by_token.remove(token);
            if next.open.get(&install.machine).is_some_and(|open| open.number == install.number) {
                next.open.remove(&install.machine);
            }
        }
        let is_newer =
            |known: Option<&Arc<Install>>| known.is_none_or(|known| known.number <= install.number);
        if install.state == InstallState::Installed && is_newer(next.installed.get(&install.machine)) {
            next.installed.insert(install.machine, install.clone());
        }
        if is_newer(next.latest.get(&install.machine)) {
            next.latest.insert(install.machine, install);
        }
        next
    }
}

//! The snapshot: everything a decision needs, as one immutable value.
//!
//! A change makes a new snapshot that shares all that did not change: the maps are persistent trees, so
//! replacing one machine out of 10,000 copies a handful of nodes.

use std::{net::Ipv4Addr, sync::Arc};

pub use edition::{Edition, Entity};
use imbl::{HashMap, OrdMap, OrdSet};
use lastmile_formats::{architecture::Architecture, cpu::Cpu, lldp::Neighbour, mac::Mac};
use uuid::Uuid;

use crate::{
    base::Id,
    model::{
        answers::{AnswersVersion, Scope},
        image::{Image, ImageKind, Revision},
        install::{Install, InstallState},
        job::{Job, JobKind},
        label::{Label, USUAL_RANK},
        loader::Loader,
        location::Location,
        machine::Machine,
        menu::Menu,
        reservation::{Reservation, ReservedFor},
        rule::{Proposal, Rule},
        settings::SiteSettings,
        subnet::Subnet,
        survey::SurveyRecord,
        webhook::Webhook,
    },
};

mod answers;
mod change;
mod edition;

/// Everything a decision needs.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Site {
    subnets: OrdMap<String, Arc<Subnet>>,
    reservations: OrdMap<Ipv4Addr, Arc<Reservation>>,
    reserved: HashMap<(Id<Subnet>, ReservedFor), Ipv4Addr>,
    loaders: OrdMap<String, Arc<Loader>>,
    menus: OrdMap<String, Arc<Menu>>,
    labels: OrdMap<String, Arc<Label>>,
    settings: Arc<SiteSettings>,
    images: OrdMap<String, Arc<Image>>,
    image_names: HashMap<Id<Image>, String>,
    /// The last number that a revision of an image of that name ever had.
    last_numbers: OrdMap<String, u32>,
    revisions: HashMap<Id<Revision>, Arc<Revision>>,
    answers: OrdMap<String, Arc<AnswersVersion>>,
    layers: HashMap<Scope, Arc<AnswersVersion>>,
    answers_versions: HashMap<Id<AnswersVersion>, Arc<AnswersVersion>>,
    machines: OrdMap<String, Arc<Machine>>,
    by_mac: HashMap<Mac, Arc<Machine>>,
    by_id: HashMap<Id<Machine>, Arc<Machine>>,
    open: HashMap<Id<Machine>, Arc<Install>>,
    by_token: HashMap<String, Id<Machine>>,
    installed: HashMap<Id<Machine>, Arc<Install>>,
    latest: HashMap<Id<Machine>, Arc<Install>>,
    webhooks: OrdMap<String, Arc<Webhook>>,
    /// The latest survey that was started from that address.
    surveys: HashMap<Mac, Arc<SurveyRecord>>,
    /// Of other cards that surveys found, the addresses that those were started from: what an agent says, and not yet that it is so.
    cards: HashMap<Mac, OrdSet<Mac>>,
    /// Jobs that have not ended, by their numbers.
    open_jobs: HashMap<JobOwner, OrdMap<i64, Arc<Job>>>,
    /// The last job of each kind.
    last_jobs: HashMap<JobOwner, OrdMap<JobKind, Arc<Job>>>,
    rules: OrdMap<String, Arc<Rule>>,
    proposals: OrdMap<Mac, Arc<Proposal>>,
    /// By the keys of [`Location::key`].
    locations: OrdMap<(String, String), Arc<Location>>,
    editions: HashMap<Entity, Edition>,
    last_edition: Edition,
}

impl Site {
    /// All subnets, ordered by name.
    pub fn subnets(&self) -> impl Iterator<Item = &Arc<Subnet>> {
        self.subnets.values()
    }

    /// The subnet of that name.
    #[must_use]
    pub fn subnet(&self, name: &str) -> Option<&Arc<Subnet>> {
        self.subnets.get(name)
    }

    /// The subnet of that identity.
    #[must_use]
    pub fn subnet_by_id(&self, id: Id<Subnet>) -> Option<&Arc<Subnet>> {
        self.subnets.values().find(|subnet| subnet.id == id)
    }

    /// The reservations of a subnet, ordered by address.
    pub fn reservations_of(&self, subnet: Id<Subnet>) -> impl Iterator<Item = &Arc<Reservation>> {
        self.reservations.values().filter(move |reservation| reservation.subnet == subnet)
    }

    /// The addresses reserved for any of these NICs, whatever the subnet, in order.
    pub fn reserved_for_macs(&self, macs: &[Mac]) -> impl Iterator<Item = Ipv4Addr> {
        let is_one = |client: &ReservedFor| matches!(client, ReservedFor::Mac(mac) if macs.contains(mac));
        self.reservations.values().filter(move |one| is_one(&one.client)).map(|one| one.address)
    }

    /// The reservation of an address.
    #[must_use]
    pub fn reservation_at(&self, address: Ipv4Addr) -> Option<&Arc<Reservation>> {
        self.reservations.get(&address)
    }

    /// The address reserved on a subnet for a client: by MAC address, else by client identifier, else by SMBIOS UUID.
    #[must_use]
    pub fn reserved_for(
        &self,
        subnet: Id<Subnet>,
        mac: Option<Mac>,
        client_id: Option<&[u8]>,
        uuid: Option<Uuid>,
    ) -> Option<Ipv4Addr> {
        if self.reserved.is_empty() {
            return None;
        }
        let get = |client: ReservedFor| self.reserved.get(&(subnet, client)).copied();
        let by_mac = || get(ReservedFor::Mac(mac?));
        let by_id = || get(ReservedFor::ClientId(client_id?.to_vec()));
        // SMBIOS writes the first three fields with the low byte first, and firmware sends them as they stand there
        // or turned round: whichever a person typed is meant.
        let by_uuid = || {
            let turned = Uuid::from_bytes(uuid?.to_bytes_le());
            get(ReservedFor::Uuid(uuid?)).or_else(|| get(ReservedFor::Uuid(turned)))
        };
        by_mac().or_else(by_id).or_else(by_uuid)
    }

    /// All loaders, ordered by name.
    pub fn loaders(&self) -> impl Iterator<Item = &Arc<Loader>> {
        self.loaders.values()
    }

    /// The loader of that name.
    #[must_use]
    pub fn loader(&self, name: &str) -> Option<&Arc<Loader>> {
        self.loaders.get(name)
    }

    /// The loader for clients of an architecture and these classes: of those that fit, the one most closely meant for
    /// them.
    #[must_use]
    pub fn loader_for(
        &self,
        architecture: Architecture,
        class: Option<&str>,
        user_classes: &[String],
    ) -> Option<&Arc<Loader>> {
        self.loaders
            .values()
            .filter(|loader| loader.architecture == architecture && loader.fits(class, user_classes))
            .max_by_key(|loader| loader.closeness())
    }

    /// All menus, ordered by name.
    pub fn menus(&self) -> impl Iterator<Item = &Arc<Menu>> {
        self.menus.values()
    }

    /// The menu of that name.
    #[must_use]
    pub fn menu(&self, name: &str) -> Option<&Arc<Menu>> {
        self.menus.get(name)
    }

    /// The machine of that name, or with a NIC of that MAC address in any common form.
    #[must_use]
    pub fn machine_called(&self, text: &str) -> Option<&Arc<Machine>> {
        self.machine(text).or_else(|| self.machine_by_mac(text.parse().ok()?))
    }

    /// All labels of which anything is said, ordered by name.
    pub fn labels(&self) -> impl Iterator<Item = &Arc<Label>> {
        self.labels.values()
    }

    /// The labels of a machine, of which each later one goes before earlier ones: by rank, those of equal rank by name.
    #[must_use]
    pub fn ranked<'a>(&self, machine: &'a Machine) -> Vec<&'a str> {
        let rank = |name: &str| self.labels.get(name).map_or(USUAL_RANK, |label| label.rank);
        let mut labels: Vec<&str> = machine.labels.iter().map(String::as_str).collect();
        if labels.len() > 1 {
            labels.sort_by_cached_key(|name| (rank(name), *name));
        }
        labels
    }

    /// What the labels of a machine say of something: of those that say anything, the one of the highest rank counts.
    #[must_use]
    pub fn by_label<'a, T>(&'a self, machine: &Machine, of: impl Fn(&'a Label) -> Option<T>) -> Option<T> {
        let labels = self.ranked(machine).into_iter().rev().filter_map(|name| self.label(name));
        labels.filter_map(|label| of(label)).next()
    }

    /// What is said of a label.
    #[must_use]
    pub fn label(&self, name: &str) -> Option<&Arc<Label>> {
        self.labels.get(name)
    }

    /// What holds for the whole site.
    #[must_use]
    pub fn settings(&self) -> &SiteSettings {
        &self.settings
    }

    /// All images, ordered by name.
    pub fn images(&self) -> impl Iterator<Item = &Arc<Image>> {
        self.images.values()
    }

    /// The image of that name.
    #[must_use]
    pub fn image(&self, name: &str) -> Option<&Arc<Image>> {
        self.images.get(name)
    }

    /// The image of that identity.
    #[must_use]
    pub fn image_by_id(&self, id: Id<Image>) -> Option<&Arc<Image>> {
        self.images.get(self.image_names.get(&id)?)
    }

    /// The image that machines of a processor are surveyed by: of those that can be served, the one imported last. That of any
    /// processor where theirs is not known.
    #[must_use]
    pub fn survey_image(&self, cpu: Option<Cpu>) -> Option<&Arc<Image>> {
        let is_for_survey = |image: &&Arc<Image>| {
            image.kind == ImageKind::Survey && image.current.is_ready() && image.current.runs_on(cpu)
        };
        self.images.values().filter(is_for_survey).max_by_key(|image| image.current.created)
    }

    /// The revision of that identity, current or not.
    #[must_use]
    pub fn revision(&self, id: Id<Revision>) -> Option<&Arc<Revision>> {
        self.revisions.get(&id)
    }

    /// Every revision of every image, in no order.
    pub fn revisions(&self) -> impl Iterator<Item = &Arc<Revision>> {
        self.revisions.values()
    }

    /// Every revision of an image, ordered by number.
    #[must_use]
    pub fn revisions_of(&self, image: Id<Image>) -> Vec<&Arc<Revision>> {
        let mut all: Vec<_> = self.revisions.values().filter(|revision| revision.image == image).collect();
        all.sort_by_key(|revision| revision.number);
        all
    }

    /// Revision `number` of the image of that name.
    #[must_use]
    pub fn revision_of(&self, image: &str, number: u32) -> Option<&Arc<Revision>> {
        let image = self.images.get(image)?;
        if image.current.number == number {
            return Some(&image.current);
        }
        self.revisions.values().find(|revision| revision.image == image.id && revision.number == number)
    }

    /// All machines, ordered by name.
    pub fn machines(&self) -> impl Iterator<Item = &Arc<Machine>> {
        self.machines.values()
    }

    /// How many machines there are.
    #[must_use]
    pub fn machine_count(&self) -> usize {
        self.machines.len()
    }

    /// The machine of that name, in whatever case (RFC 4343).
    #[must_use]
    pub fn machine(&self, name: &str) -> Option<&Arc<Machine>> {
        self.machines.get(&machine_key(name))
    }

    /// The machine of that identity.
    #[must_use]
    pub fn machine_by_id(&self, id: Id<Machine>) -> Option<&Arc<Machine>> {
        self.by_id.get(&id)
    }

    /// The machine one of whose NICs has that address.
    #[must_use]
    pub fn machine_by_mac(&self, mac: Mac) -> Option<&Arc<Machine>> {
        self.by_mac.get(&mac)
    }

    /// The install that goes on for a machine.
    #[must_use]
    pub fn open_install(&self, machine: Id<Machine>) -> Option<&Arc<Install>> {
        self.open.get(&machine)
    }

    /// All installs that go on, in no order.
    pub fn open_installs(&self) -> impl Iterator<Item = &Arc<Install>> {
        self.open.values()
    }

    /// The open install that a token is for.
    #[must_use]
    pub fn install_by_token(&self, token: &str) -> Option<&Arc<Install>> {
        self.open.get(self.by_token.get(token)?)
    }

    /// The last install that reached `installed` on a machine.
    #[must_use]
    pub fn last_installed(&self, machine: Id<Machine>) -> Option<&Arc<Install>> {
        self.installed.get(&machine)
    }

    /// The last install of a machine, however it stands.
    #[must_use]
    pub fn latest_install(&self, machine: Id<Machine>) -> Option<&Arc<Install>> {
        self.latest.get(&machine)
    }

    /// The last number that a revision of an image of that name ever had, also of one that was removed; 0 if it had none.
    #[must_use]
    pub fn last_revision_number(&self, image: &str) -> u32 {
        self.last_numbers.get(image).copied().unwrap_or(0)
    }

    /// The latest survey of whoever has that address. A survey that was started from another address, and found a card with this
    /// one, counts only where no two different machines have the two: an agent cannot speak for a machine that it is not on.
    #[must_use]
    pub fn survey_at(&self, mac: Mac) -> Option<&Arc<SurveyRecord>> {
        let owner = |mac: Mac| self.by_mac.get(&mac).map(|machine| machine.id);
        let through = self.cards.get(&mac).into_iter().flatten().filter(|other| owner(**other) == owner(mac));
        let of_cards = through.filter_map(|other| self.surveys.get(other));
        self.surveys.get(&mac).into_iter().chain(of_cards).max_by_key(|survey| survey.at)
    }

    /// The latest survey of a machine.
    #[must_use]
    pub fn survey_of(&self, machine: &Machine) -> Option<&Arc<SurveyRecord>> {
        machine.macs.iter().filter_map(|mac| self.survey_at(*mac)).max_by_key(|survey| survey.at)
    }

    /// The latest survey from each address that one was started from, in no order.
    pub fn surveys(&self) -> impl Iterator<Item = &Arc<SurveyRecord>> {
        self.surveys.values()
    }

    /// The jobs of whoever has that address that have not ended, in the order in which they are done.
    #[must_use]
    pub fn open_jobs(&self, mac: Mac) -> Vec<&Arc<Job>> {
        if self.open_jobs.is_empty() {
            return Vec::new();
        }
        let all = self.job_owners(mac).into_iter().filter_map(|owner| self.open_jobs.get(&owner));
        let mut jobs: Vec<&Arc<Job>> = all.flat_map(OrdMap::values).collect();
        jobs.sort_by_key(|job| job.number);
        jobs
    }

    /// The last job of each kind of whoever has that address, however it is: the machine's, and what its cards were given before it
    /// was registered.
    pub fn latest_jobs(&self, mac: Mac) -> impl Iterator<Item = &Arc<Job>> {
        let all = self.job_owners(mac).into_iter().filter_map(|owner| self.last_jobs.get(&owner));
        all.flat_map(OrdMap::values)
    }

    /// The last job of a kind of whoever has an address, however it is.
    #[must_use]
    pub fn last_job(&self, mac: Mac, kind: JobKind) -> Option<&Arc<Job>> {
        self.latest_jobs(mac).filter(|job| job.task.kind() == kind).max_by_key(|job| job.number)
    }

    /// Every job that has not ended, in no order.
    pub fn all_open_jobs(&self) -> impl Iterator<Item = &Arc<Job>> {
        self.open_jobs.values().flat_map(OrdMap::values)
    }

    /// The last job of each kind of each machine and newcomer, in no order.
    pub fn all_latest_jobs(&self) -> impl Iterator<Item = &Arc<Job>> {
        self.last_jobs.values().flat_map(OrdMap::values)
    }

    /// Whose jobs are those of whoever has an address.
    fn job_owners(&self, mac: Mac) -> Vec<JobOwner> {
        match self.by_mac.get(&mac) {
            None => vec![JobOwner::Address(mac)],
            Some(machine) => {
                let cards = machine.macs.iter().map(|mac| JobOwner::Address(*mac));
                [JobOwner::Machine(machine.id)].into_iter().chain(cards).collect()
            }
        }
    }

    /// All rules, ordered by name.
    pub fn rules(&self) -> impl Iterator<Item = &Arc<Rule>> {
        self.rules.values()
    }

    /// The rule of that name.
    #[must_use]
    pub fn rule(&self, name: &str) -> Option<&Arc<Rule>> {
        self.rules.get(name)
    }

    /// Of whom something was proposed, in the order of their addresses.
    pub fn proposals(&self) -> impl Iterator<Item = &Arc<Proposal>> {
        self.proposals.values()
    }

    /// What was proposed for whoever has that address.
    #[must_use]
    pub fn proposal(&self, mac: Mac) -> Option<&Arc<Proposal>> {
        self.proposals.get(&mac)
    }

    /// Where every known port of a switch is, ordered by switch and port.
    pub fn locations(&self) -> impl Iterator<Item = &Arc<Location>> {
        self.locations.values()
    }

    /// Where a port of a switch is.
    #[must_use]
    pub fn location(&self, switch: &str, port: &str) -> Option<&Arc<Location>> {
        self.locations.get(&Location::key(switch, port))
    }

    /// Where the other end of a cable is: by the switch's name, else by its chassis; by the port, else by what its owner wrote
    /// beside it.
    #[must_use]
    pub fn location_at(&self, neighbour: &Neighbour) -> Option<&Arc<Location>> {
        if self.locations.is_empty() {
            return None;
        }
        let switches = [neighbour.system_name.clone(), Some(neighbour.chassis.to_string())];
        let ports = [Some(neighbour.port.to_string()), neighbour.port_description.clone()];
        let mut pairs = switches
            .iter()
            .flatten()
            .flat_map(|switch| ports.iter().flatten().map(move |port| (switch, port)));
        pairs.find_map(|(switch, port)| self.location(switch, port))
    }

    /// All webhooks, ordered by name.
    pub fn webhooks(&self) -> impl Iterator<Item = &Arc<Webhook>> {
        self.webhooks.values()
    }

    /// The webhook of that name.
    #[must_use]
    pub fn webhook(&self, name: &str) -> Option<&Arc<Webhook>> {
        self.webhooks.get(name)
    }
}

/// Whom a job is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum JobOwner {
    /// A machine.
    Machine(Id<Machine>),
    /// Whoever has an address: nobody had registered the machine.
    Address(Mac),
}

impl JobOwner {
    fn of(job: &Job) -> Self {
        job.machine.map_or(Self::Address(job.mac), Self::Machine)
    }
}

/// What a machine's name is kept under: case makes no difference in host names.
fn machine_key(name: &str) -> String {
    name.to_ascii_lowercase()
}

#[cfg(test)]
mod tests;

//! What rules say of one machine: which of them hold, and what would be otherwise.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet},
    net::Ipv4Addr,
    sync::Arc,
};

use lastmile_formats::mac::Mac;
use minijinja::{Value, context, value::merge_maps};

use super::{ArmedWith, Effect, Kept, Outcome, Verdict, What};
use crate::{
    base::name,
    decide::{
        machine::{DefaultBootDraft, fill},
        subnet::ReservationDraft,
    },
    model::{
        condition::Known,
        job::{JobKind, JobState},
        label::Label,
        machine::{DefaultBoot, Machine},
        reservation::ReservedFor,
        rule::{Rule, RuleMode},
        subnet::Subnet,
        survey::SurveyRecord,
    },
    site::Site,
};

/// Counters that are tried for a name and an address that are free.
const MOST_COUNTERS: i64 = 10_000;

/// What else decides what rules do.
#[derive(Debug, Clone, Copy)]
pub struct Surroundings<'a> {
    /// The service's own addresses.
    pub own: &'a [Ipv4Addr],
    /// The last counter that each rule gave.
    pub counters: &'a BTreeMap<String, i64>,
    /// Rules that have changed as many machines as they may for now.
    pub spent: &'a BTreeSet<String>,
    /// Whether an install is armed also on machines that had one: a person has asked for exactly that.
    pub arms_again: bool,
}

/// What is known of whoever has an address; nothing was measured of it if it has no survey. A survey of a machine was started from one
/// of the machine's own addresses.
#[must_use]
pub fn known_at(site: &Site, mac: Mac, subnet: Option<Arc<Subnet>>) -> Known {
    let machine = site.machine_by_mac(mac).cloned();
    let survey = match &machine {
        Some(machine) => site.survey_of(machine),
        None => site.survey_at(mac),
    };
    let location = survey.and_then(|survey| location(site, survey)).cloned();
    let burn_in = site.last_job(mac, JobKind::BurnIn).map(|job| job.state);
    Known { machine, survey: survey.cloned(), subnet, location, burn_in }
}

/// Where a machine is by what its cables end at: that of the card it booted from before others.
fn location<'a>(site: &'a Site, survey: &SurveyRecord) -> Option<&'a Arc<crate::model::location::Location>> {
    let nics = &survey.survey.facts.nics;
    let booted = nics.iter().filter(|nic| nic.mac == survey.mac);
    booted
        .chain(nics)
        .filter_map(|nic| nic.neighbour.as_ref())
        .find_map(|neighbour| site.location_at(neighbour))
}

/// What rules say of whoever has an address.
#[must_use]
pub fn evaluate(site: &Site, mac: Mac, known: &Known, around: &Surroundings<'_>) -> Outcome {
    let mut rules: Vec<&Arc<Rule>> = site.rules().filter(|rule| rule.mode != RuleMode::Off).collect();
    rules.sort_by_key(|rule| (Reverse(rule.rank), Reverse(rule.name.clone())));
    let mut outcome = Outcome::default();
    let mut holding = Vec::new();
    for rule in rules {
        let failing = rule.condition.failing(known);
        let verdict = Verdict {
            rule: rule.name.clone(),
            mode: rule.mode,
            holds: failing.is_empty(),
            failing: failing.into_iter().map(|(part, why)| (part.to_owned(), why)).collect(),
        };
        if verdict.holds {
            holding.push(rule);
        }
        outcome.verdicts.push(verdict);
    }
    let mut following = Following {
        site,
        mac,
        machine: known.machine.as_deref(),
        values: Value::from_object(known.clone()),
        known,
        around,
        claimed: BTreeSet::new(),
        pending: None,
        outcome,
    };
    for rule in &holding {
        following.follow(rule);
    }
    for rule in &holding {
        following.jobs(rule);
    }
    // Last, as every rule's labels may name what is installed.
    for rule in holding.iter().filter(|rule| rule.arm) {
        following.install(rule);
    }
    following.finish()
}

/// The rules that hold, on their way to an outcome.
struct Following<'a> {
    site: &'a Site,
    mac: Mac,
    machine: Option<&'a Machine>,
    values: Value,
    known: &'a Known,
    around: &'a Surroundings<'a>,
    /// What a rule of higher rank has said.
    claimed: BTreeSet<What>,
    /// What has to be done before an install is armed, in words.
    pending: Option<String>,
    outcome: Outcome,
}

impl Following<'_> {
    fn follow(&mut self, rule: &Rule) {
        self.name_and_address(rule);
        for label in &rule.labels {
            self.label(rule, label);
        }
        for (detail, pattern) in &rule.details {
            match self.fill(pattern, None) {
                Ok(value) => self.detail(rule, detail, value),
                Err(obstacle) => {
                    self.blocked(rule, What::Detail(detail.clone()), pattern, obstacle);
                }
            }
        }
        if let Some(location) = self.known.location.clone().filter(|_| rule.location) {
            for (part, value) in location.parts() {
                self.detail(rule, part, value.into());
            }
        }
        if let Some(boot) = &rule.default_boot {
            self.default_boot(rule, boot);
        }
    }

    /// Without a name a newcomer cannot be registered; nothing of it is done by itself unless its name is.
    fn finish(mut self) -> Outcome {
        self.outcome.effects.sort_by(|one, other| one.what.cmp(&other.what));
        if self.machine.is_none() && !self.outcome.effects.is_empty() {
            let name = self.outcome.effects.iter().find(|effect| effect.what == What::Name);
            let is_immediate = name.is_some_and(|name| name.is_immediate && name.obstacle.is_none());
            self.outcome.lacks_name = name.is_none_or(|name| name.obstacle.is_some());
            for effect in &mut self.outcome.effects {
                effect.is_immediate &= is_immediate;
            }
        }
        self.outcome
    }

    /// Whether nobody of higher rank has said it, and nobody will after this.
    fn claim(&mut self, what: &What) -> bool {
        self.claimed.insert(what.clone())
    }

    fn effect(&mut self, rule: &Rule, what: What, before: Option<String>, after: String) -> &mut Effect {
        let is_immediate = rule.mode == RuleMode::Apply && !self.around.spent.contains(&rule.name);
        let effect = Effect { rule: rule.name.clone(), what, before, after, is_immediate, obstacle: None };
        let all = &mut self.outcome.effects;
        all.push(effect);
        let last = all.len() - 1;
        &mut all[last]
    }

    fn blocked(&mut self, rule: &Rule, what: What, after: &str, obstacle: String) {
        if self.claim(&what) {
            self.effect(rule, what, None, after.into()).obstacle = Some(obstacle);
        }
    }

    fn keep(&mut self, rule: &Rule, what: What, why: impl Into<String>) {
        self.outcome.kept.push(Kept { rule: rule.name.clone(), what, why: why.into() });
    }

    fn given(&self, what: &What) -> Option<&str> {
        self.machine?.given.get(&what.to_string()).map(|given| given.value.as_str())
    }

    fn fill(&self, pattern: &str, counter: Option<i64>) -> Result<String, String> {
        let mac_bare = self.mac.dashed().replace('-', "");
        let own = match counter {
            Some(counter) => context! { counter, mac_bare },
            None => context! { mac_bare },
        };
        let filled = fill("", pattern, &merge_maps([own, self.values.clone()]));
        filled.map_err(|faults| faults.into_iter().map(|fault| fault.what).collect::<Vec<_>>().join("; "))
    }

    fn name_and_address(&mut self, rule: &Rule) {
        let name = rule.machine_name.as_ref().filter(|_| self.machine.is_none());
        let name = name.filter(|_| self.claim(&What::Name)).cloned();
        let address = rule.address.as_ref().filter(|_| !self.has_address(rule));
        let address = address.filter(|_| self.claim(&What::Address)).cloned();
        let is_counted = rule.counts() && (name.is_some() || address.is_some());
        let first = self.around.counters.get(&rule.name).map_or(1, |last| last.saturating_add(1));
        let mut counter = first;
        let (name, address) = loop {
            let filled =
                |pattern: &Option<String>| pattern.as_ref().map(|text| self.fill(text, Some(counter)));
            let (name, address) = (filled(&name), filled(&address));
            let is_taken = name.iter().flatten().any(|name| self.site.machine(name).is_some())
                || address.iter().flatten().any(|address| self.is_reserved(address));
            if !is_counted || !is_taken || counter >= first.saturating_add(MOST_COUNTERS) {
                break (name, address);
            }
            counter += 1;
        };
        if is_counted {
            self.outcome.counters.insert(rule.name.clone(), counter);
        }
        match name {
            Some(Ok(name)) => {
                let obstacle = self.name_obstacle(&name);
                self.effect(rule, What::Name, None, name).obstacle = obstacle;
            }
            Some(Err(obstacle)) => {
                let pattern = rule.machine_name.clone().unwrap_or_default();
                self.effect(rule, What::Name, None, pattern).obstacle = Some(obstacle);
            }
            None => {}
        }
        match address {
            Some(Ok(address)) => {
                let obstacle = self.address_obstacle(&address);
                self.effect(rule, What::Address, None, address).obstacle = obstacle;
            }
            Some(Err(obstacle)) => {
                let pattern = rule.address.clone().unwrap_or_default();
                self.effect(rule, What::Address, None, pattern).obstacle = Some(obstacle);
            }
            None => {}
        }
    }

    fn name_obstacle(&self, name: &str) -> Option<String> {
        if let Err(error) = name::check_machine_name(name) {
            return Some(error.to_string());
        }
        if let Some(other) = self.site.machine(name) {
            return Some(format!("another machine is called {}", other.name));
        }
        // Registered by another of its cards, it would be there twice.
        let mut cards = self.known.survey.iter().flat_map(|survey| survey.macs());
        let (card, other) = cards.find_map(|card| Some((card, self.site.machine_by_mac(card)?)))?;
        Some(format!("its card {card} is registered as one of {}", other.name))
    }

    fn is_reserved(&self, address: &str) -> bool {
        address.parse().is_ok_and(|address| self.site.reservation_at(address).is_some())
    }

    /// Whether one of its cards has a reserved address, or had one that a person took back.
    fn has_address(&mut self, rule: &Rule) -> bool {
        let macs = self.machine.map_or_else(|| vec![self.mac], |machine| machine.macs.clone());
        if self.site.reserved_for_macs(&macs).next().is_some() {
            return true;
        }
        let is_taken_back = self.given(&What::Address).is_some();
        if is_taken_back {
            self.keep(rule, What::Address, "a person removed the reservation");
        }
        is_taken_back
    }

    fn address_obstacle(&self, text: &str) -> Option<String> {
        let Ok(address) = text.parse::<Ipv4Addr>() else {
            return Some(format!("'{text}' is no IPv4 address"));
        };
        let Some(subnet) = self.site.subnets().find(|subnet| subnet.network.contains(&address)) else {
            return Some(format!("{address} is in no subnet"));
        };
        let draft = ReservationDraft::new(text, ReservedFor::Mac(self.mac));
        let faults = draft.check(subnet, self.site, self.around.own).err()?;
        Some(faults.into_iter().map(|fault| fault.what).collect::<Vec<_>>().join("; "))
    }

    fn label(&mut self, rule: &Rule, label: &str) {
        let what = What::Label(label.into());
        if !self.claim(&what)
            || self.machine.is_some_and(|machine| machine.labels.iter().any(|own| own == label))
        {
            return;
        }
        if self.given(&what).is_some() {
            self.keep(rule, what, "a person removed the label");
        } else {
            self.effect(rule, what, None, label.into());
        }
    }

    fn detail(&mut self, rule: &Rule, detail: &str, value: String) {
        let what = What::Detail(detail.into());
        if !self.claim(&what) {
            return;
        }
        // What vendors and switches write may be anything.
        if let Err(obstacle) = name::check_detail(&value) {
            self.effect(rule, what, None, String::new()).obstacle = Some(obstacle.to_string());
            return;
        }
        let now = self.machine.and_then(|machine| machine.details.get(detail)).filter(|now| !now.is_empty());
        let given = self.given(&what).map(str::to_owned);
        match (now.cloned(), given) {
            (Some(now), _) if now == value => {}
            (Some(now), Some(given)) if now == given => {
                self.effect(rule, what, Some(now), value);
            }
            (Some(now), _) => self.keep(rule, what, format!("a person set {now}, and it says {value}")),
            (None, Some(_)) => self.keep(rule, what, format!("a person removed it, and it says {value}")),
            (None, None) if value.is_empty() => {}
            (None, None) => {
                self.effect(rule, what, None, value);
            }
        }
    }

    fn default_boot(&mut self, rule: &Rule, boot: &DefaultBoot) {
        let what = What::DefaultBoot;
        let local = DefaultBoot::LocalDisk;
        let now = self.machine.map_or(&local, |machine| &machine.default_boot).clone();
        if !self.claim(&what) || now == *boot {
            return;
        }
        let text = |boot: &DefaultBoot| DefaultBootDraft::from_boot(self.site, boot).to_string();
        let (before, after) = (text(&now), text(boot));
        let is_its_own = match self.given(&what) {
            Some(given) => given == before,
            None => now == local,
        };
        if is_its_own {
            self.effect(rule, what, Some(before), after);
        } else {
            self.keep(rule, what, format!("a person set {before}, and it says {after}"));
        }
    }

    /// The jobs that are done first: each is armed once by itself, whatever came of it.
    fn jobs(&mut self, rule: &Rule) {
        for task in &rule.jobs {
            let (kind, what) = (task.kind(), What::Job(task.kind()));
            if !self.claim(&what) {
                continue;
            }
            let last = self.site.last_job(self.mac, kind).cloned();
            match last {
                Some(last) if last.state == JobState::Done => continue,
                Some(last) if last.state.is_open() => {
                    self.pending = Some(format!("{} is {}", last.title(), last.state));
                }
                Some(last) if !self.around.arms_again => {
                    let why = format!("{}: {}", last.title(), last.state);
                    self.keep(rule, what, format!("it had {why}: only a person arms it again"));
                    self.pending = Some(why);
                }
                _ => {
                    self.pending = Some(format!("a {kind} is to be done"));
                    self.effect(rule, what, None, task.summary());
                    self.outcome.jobs.push(task.clone());
                }
            }
        }
    }

    fn install(&mut self, rule: &Rule) {
        let what = What::Install;
        let machine = self.machine;
        if let Some(pending) = self.pending.clone().filter(|_| !self.claimed.contains(&what)) {
            self.claim(&what);
            self.keep(rule, what, format!("nothing is armed before its jobs are done: {pending}"));
            return;
        }
        if !self.claim(&what) || machine.is_some_and(|machine| self.site.open_install(machine.id).is_some()) {
            return;
        }
        let latest = machine.and_then(|machine| self.site.latest_install(machine.id));
        if let Some(latest) = latest.filter(|_| !self.around.arms_again) {
            let why =
                format!("it had install {} ({}): only a person arms it again", latest.number, latest.state);
            self.keep(rule, what, why);
            return;
        }
        let image = rule.image.clone().or_else(|| self.by_label(|label| label.image.clone()));
        let answers = rule.answers.clone().or_else(|| self.by_label(|label| label.answers.clone()));
        let obstacle = match (&image, &answers) {
            (None, _) => Some("no image is named, and none of its labels names one"),
            (_, None) => Some("no answers are named, and none of its labels names any"),
            _ => None,
        };
        let with = ArmedWith { image: image.unwrap_or_default(), answers: answers.unwrap_or_default() };
        self.effect(rule, what, None, with.to_string()).obstacle = obstacle.map(str::to_owned);
        self.outcome.install = Some(with);
    }

    /// What its labels say, with those that it is about to get.
    fn by_label<T>(&self, of: impl Fn(&Label) -> Option<T>) -> Option<T> {
        let own = self.machine.map(|machine| machine.labels.clone()).unwrap_or_default();
        let new = self.outcome.effects.iter().filter_map(|effect| match &effect.what {
            What::Label(label) => Some(label.clone()),
            _ => None,
        });
        let mut labels: Vec<&Arc<Label>> =
            own.into_iter().chain(new).filter_map(|label| self.site.label(&label)).collect();
        labels.sort_by(|a, b| (b.rank, &b.name).cmp(&(a.rank, &a.name)));
        labels.into_iter().find_map(|label| of(label))
    }
}

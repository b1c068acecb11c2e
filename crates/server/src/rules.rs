//! Rules at work: run after each survey, and where a person asks for it.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::Ipv4Addr,
    sync::Arc,
};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::{
    base::Fault,
    decide::{
        install::ArmRequest,
        rule::{Effect, Outcome, Previewed, Surroundings, What, apply, evaluate, known_at, preview},
    },
    model::{
        condition::Known,
        rule::{Proposal, Rule, RuleUse},
        subnet::Subnet,
    },
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, StoreError, Tx};

use crate::{
    clock,
    installs::ArmError,
    records::{Records, is_trying},
};

/// Within which a rule may change so many machines by itself.
const LIMIT_OVER: SignedDuration = SignedDuration::from_hours(1);

/// Who has rules run, and how.
#[derive(Debug, Clone, Default)]
pub(crate) struct Running {
    /// The person that asked for it; nobody after a survey.
    pub(crate) by: Option<String>,
    /// What that person has seen and accepts, by the addresses: all of it that is possible is meant.
    pub(crate) accepted: Arc<BTreeMap<Mac, Outcome>>,
    /// Whether installs are armed also on machines that had one.
    pub(crate) arms_again: bool,
}

/// What rules did to one machine.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ran {
    /// What was changed.
    pub(crate) effects: Vec<Effect>,
    /// What is left to a person.
    pub(crate) left: Vec<Effect>,
    /// What is still to be armed, and by which rule.
    pub(crate) install: Option<(ArmRequest, String)>,
    /// What was refused, with why.
    pub(crate) refused: Vec<String>,
}

impl Ran {
    /// In words, for a trace: which rules did something, and what.
    pub(crate) fn summary(&self) -> Option<String> {
        let rules: BTreeSet<&str> = self.effects.iter().map(|effect| effect.rule.as_str()).collect();
        let rules = rules.into_iter().collect::<Vec<_>>().join(", ");
        let changed = self.effects.iter().map(in_words).collect::<Vec<_>>().join(", ");
        let changed = (!changed.is_empty()).then(|| format!("by rule {rules}: {changed}"));
        let left =
            (!self.left.is_empty()).then(|| "rules propose something, which waits for a person".to_owned());
        let all: Vec<String> = changed.into_iter().chain(left).collect();
        (!all.is_empty()).then(|| all.join("; "))
    }
}

/// An effect for people: `labels.kiosk`, or `details.rack = r12`.
fn in_words(effect: &Effect) -> String {
    match &effect.what {
        What::Label(label) => format!("label {label}"),
        what => format!("{what} = {}", effect.after),
    }
}

/// What is held in the records and decides what rules do.
struct Held {
    own: Vec<Ipv4Addr>,
    counters: BTreeMap<String, i64>,
    spent: BTreeSet<String>,
}

impl Held {
    fn around(&self, arms_again: bool) -> Surroundings<'_> {
        Surroundings { own: &self.own, counters: &self.counters, spent: &self.spent, arms_again }
    }
}

/// Whether a rule counts the machines that it names.
fn counts(rule: &Rule) -> bool {
    [&rule.machine_name, &rule.address].into_iter().flatten().any(|pattern| pattern.contains("counter"))
}

/// The last counter of each rule that has one.
///
/// # Errors
/// What the database refused.
pub(crate) fn counters(tx: &mut Tx<'_>, site: &Site) -> Result<BTreeMap<String, i64>, StoreError> {
    let mut all = BTreeMap::new();
    for rule in site.rules().filter(|rule| counts(rule)) {
        if let Some(counter) = tx.rule_counter(&rule.name)? {
            all.insert(rule.name.clone(), counter);
        }
    }
    Ok(all)
}

/// Rules that have changed as many machines within the hour as they may.
///
/// # Errors
/// What the database refused.
pub(crate) fn spent(tx: &mut Tx<'_>, site: &Site, now: Timestamp) -> Result<BTreeSet<String>, StoreError> {
    let since = now.saturating_sub(LIMIT_OVER).unwrap_or(now);
    let mut all = BTreeSet::new();
    for rule in site.rules() {
        if tx.rule_uses_since(&rule.name, since)? >= i64::from(rule.hourly_limit) {
            all.insert(rule.name.clone());
        }
    }
    Ok(all)
}

impl Records {
    /// What is known of whoever has an address.
    pub(crate) fn known_at(&self, site: &Site, mac: Mac) -> Known {
        known_at(site, mac, self.boots_on(site, mac))
    }

    /// What rules say of whoever has these addresses, as if all of it were done in this order: each name and counter is given once.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) async fn outcomes(
        &self,
        site: &Arc<Site>,
        macs: Vec<Mac>,
    ) -> Result<Vec<Previewed>, StoreError> {
        let (held_site, now) = (site.clone(), clock::now());
        let read = move |tx: &mut Tx<'_>| {
            Ok::<_, StoreError>((counters(tx, &held_site)?, spent(tx, &held_site, now)?))
        };
        let (counters, spent) = self.store.read(read).await?;
        let own = self.own_addresses();
        let subnet = |site: &Site, mac: Mac| self.boots_on(site, mac);
        Ok(preview(site, &macs, counters, &spent, &own, subnet, now))
    }

    /// The subnet that whoever has an address boots on, as far as it is known.
    pub(crate) fn boots_on(&self, site: &Site, mac: Mac) -> Option<Arc<Subnet>> {
        let macs = site.machine_by_mac(mac).map_or_else(|| vec![mac], |machine| machine.macs.clone());
        self.subnet_of(site, &macs, None)
    }

    /// Runs the rules for whoever has an address, within a change; nothing happens to who was never surveyed. What is to be armed is
    /// left to [`Self::arm_by_rule`], as it takes time to look into.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn run_rules(
        &self,
        change: &mut Change<'_>,
        mac: Mac,
        running: &Running,
    ) -> Result<Ran, StoreError> {
        if change.site().rules().next().is_none() && change.site().proposal(mac).is_none() {
            return Ok(Ran::default());
        }
        let (site, now) = (change.site().clone(), clock::now());
        let known = self.known_at(&site, mac);
        let Some(survey) = &known.survey else { return Ok(Ran::default()) };
        let from = survey.mac;
        let held = Held {
            own: self.own_addresses(),
            counters: counters(change.tx(), &site)?,
            spent: if running.by.is_some() { BTreeSet::new() } else { spent(change.tx(), &site, now)? },
        };
        let accepted = running.accepted.get(&mac);
        let evaluated = || evaluate(&site, mac, &known, &held.around(running.arms_again));
        let outcome = accepted.cloned().unwrap_or_else(evaluated);
        let is_meant = |effect: &Effect| accepted.is_some() || effect.is_immediate;
        let mut ran = Ran::default();
        match apply(&site, mac, &outcome, is_meant, &held.own, now) {
            Err(faults) => ran.refused.extend(faults.iter().map(Fault::to_string)),
            Ok(None) => {}
            Ok(Some(applied)) => {
                let machine = applied.machine.name.clone();
                if site.machine_by_id(applied.machine.id).is_none_or(|former| **former != applied.machine) {
                    change.put_machine(applied.machine)?;
                }
                if let Some(reservation) = applied.reservation {
                    change.put_reservation(reservation)?;
                }
                record_uses(change, &applied.effects, &outcome, &machine, from, now, running)?;
                let armed_by = applied.effects.iter().find(|effect| effect.what == What::Install);
                ran.install = applied.install.zip(armed_by.map(|effect| effect.rule.clone()));
                ran.effects = applied.effects;
            }
        }
        let site = change.site().clone();
        let known = self.known_at(&site, mac);
        // What rules would give next comes after what they gave now.
        let held = Held { counters: counters(change.tx(), &site)?, ..held };
        let mut left = evaluate(&site, mac, &known, &held.around(false));
        // What is about to be armed waits for nobody.
        left.effects.retain(|effect| effect.what != What::Install || ran.install.is_none());
        propose(change, from, &left, now)?;
        ran.left = left.effects;
        Ok(ran)
    }

    /// Arms what a rule said, once the change is recorded that it said it in. What stands in its way is given in words.
    pub(crate) async fn arm_by_rule(self: &Arc<Self>, mac: Mac, ran: &mut Ran) {
        let Some((request, rule)) = ran.install.take() else { return };
        if is_trying() {
            return;
        }
        let machine = request.machine.clone();
        let refused = match self.arm(request, &format!("rule {rule}")).await {
            Ok(_) => return,
            Err(ArmError::Faults(faults)) => {
                faults.iter().map(Fault::to_string).collect::<Vec<_>>().join(" ")
            }
            Err(ArmError::Store(error)) => error.to_string(),
        };
        tracing::warn!(rule, machine, "the install was not armed: {refused}");
        ran.effects.retain(|effect| effect.what != What::Install);
        ran.refused.push(format!("install: {refused}"));
        // It waits for a person, who is told the same.
        let keep = move |change: &mut Change<'_>| {
            let since = change.site().proposal(mac).map_or_else(clock::now, |held| held.since);
            change.put_proposal(Proposal { mac, since, declined: None })
        };
        let kept: Result<(), StoreError> = self.store.change(keep).await;
        if let Err(error) = kept {
            tracing::error!("a proposal was not recorded: {error}");
        }
    }
}

/// One line on record for each rule that did something.
fn record_uses(
    change: &mut Change<'_>,
    effects: &[Effect],
    outcome: &Outcome,
    machine: &str,
    mac: Mac,
    now: Timestamp,
    running: &Running,
) -> Result<(), StoreError> {
    let rules: BTreeSet<&String> = effects.iter().map(|effect| &effect.rule).collect();
    for rule in rules {
        let own = effects.iter().filter(|effect| effect.rule == *rule);
        let used = RuleUse {
            at: now,
            rule: rule.clone(),
            machine: machine.into(),
            mac,
            counter: outcome.counters.get(rule).copied(),
            changes: own.map(in_words).collect(),
            by: running.by.clone(),
        };
        change.add_rule_use(&used)?;
    }
    Ok(())
}

/// Keeps that something is left to a person, or that nothing is.
fn propose(change: &mut Change<'_>, mac: Mac, left: &Outcome, now: Timestamp) -> Result<(), StoreError> {
    if left.effects.is_empty() {
        return change.remove_proposal(mac);
    }
    let digest = left.uncounted_digest();
    match change.site().proposal(mac) {
        // The same was declined, or waits already.
        Some(held) if held.declined.as_ref().is_none_or(|declined| *declined == digest) => Ok(()),
        _ => change.put_proposal(Proposal { mac, since: now, declined: None }),
    }
}

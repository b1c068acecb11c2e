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
        job::JobDraft,
        rule::{Effect, Outcome, Previewed, Surroundings, What, apply, evaluate, known_at, preview},
    },
    model::{
        condition::Known,
        rule::{Proposal, Rule, RuleMode, RuleUse},
        subnet::Subnet,
    },
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, StoreError, Tx};

use crate::{
    clock,
    installs::ArmError,
    records::{Records, is_trying, put_jobs},
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
    /// What was refused, with why.
    pub(crate) refused: Vec<String>,
    /// What is still to be armed.
    install: Option<Arming>,
}

/// An install that a rule said, on its way.
#[derive(Debug, Clone)]
struct Arming {
    request: ArmRequest,
    /// What is on record of the rule already.
    used: RuleUse,
}

impl Ran {
    /// Of what a person accepts that is not proposed any more.
    fn outdated() -> Self {
        let refused = "something else is proposed by now, or it was accepted already".into();
        Self { refused: vec![refused], ..Self::default() }
    }

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
    /// With the counters that a person has seen, as far as nobody was given them since.
    fn with_counters_of(&self, seen: &Outcome) -> Self {
        let before = seen.counters.iter().map(|(rule, counter)| (rule.clone(), counter - 1));
        let counters = self.counters.clone().into_iter().chain(before).collect();
        Self { own: self.own.clone(), counters, spent: self.spent.clone() }
    }

    fn around(&self, arms_again: bool) -> Surroundings<'_> {
        Surroundings { own: &self.own, counters: &self.counters, spent: &self.spent, arms_again }
    }
}

/// The last counter of each of these rules that has one.
///
/// # Errors
/// What the database refused.
pub(crate) fn counters(tx: &mut Tx<'_>, rules: &[Arc<Rule>]) -> Result<BTreeMap<String, i64>, StoreError> {
    let mut all = BTreeMap::new();
    for rule in rules.iter().filter(|rule| rule.counts()) {
        if let Some(counter) = tx.rule_counter(&rule.name)? {
            all.insert(rule.name.clone(), counter);
        }
    }
    Ok(all)
}

/// Those of these rules that have changed as many machines within the hour as they may.
///
/// # Errors
/// What the database refused.
pub(crate) fn spent(
    tx: &mut Tx<'_>,
    rules: &[Arc<Rule>],
    now: Timestamp,
) -> Result<BTreeSet<String>, StoreError> {
    let since = hour_before(now);
    let mut all = BTreeSet::new();
    for rule in rules {
        if tx.rule_uses_since(&rule.name, since)? >= i64::from(rule.hourly_limit) {
            all.insert(rule.name.clone());
        }
    }
    Ok(all)
}

/// Since when uses count for a rule's limit.
pub(crate) fn hour_before(now: Timestamp) -> Timestamp {
    now.saturating_sub(LIMIT_OVER).unwrap_or(now)
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
        self: &Arc<Self>,
        site: &Arc<Site>,
        macs: Vec<Mac>,
    ) -> Result<Vec<Previewed>, StoreError> {
        let (rules, now): (Vec<_>, _) = (site.rules().cloned().collect(), clock::now());
        let read =
            move |tx: &mut Tx<'_>| Ok::<_, StoreError>((counters(tx, &rules)?, spent(tx, &rules, now)?));
        let (counters, spent) = self.store.read(read).await?;
        let (records, site) = (self.clone(), site.clone());
        let work = move || {
            let subnet = |site: &Site, mac: Mac| records.boots_on(site, mac);
            preview(&site, &macs, counters, &spent, &records.own_addresses(), subnet, now)
        };
        // Thousands of machines take a while, which the wire does not wait for.
        tokio::task::spawn_blocking(work).await.map_err(|_| StoreError::Closed)
    }

    /// The subnet that whoever has an address boots on, as far as it is known: of ten thousand, only where a rule asks for it.
    pub(crate) fn boots_on(&self, site: &Site, mac: Mac) -> Option<Arc<Subnet>> {
        if !site.rules().any(|rule| rule.names("subnet")) {
            return None;
        }
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
        let (site, now) = (change.site().clone(), clock::now());
        let known = self.known_at(&site, mac);
        let Some(survey) = &known.survey else { return Ok(Ran::default()) };
        // The card it booted from, whichever of its own was asked for.
        let mac = survey.mac;
        let is_on = |rule: &&Arc<Rule>| rule.mode != RuleMode::Off && rule.condition.holds(&known);
        let holding: Vec<Arc<Rule>> = site.rules().filter(is_on).cloned().collect();
        let accepted = running.accepted.get(&mac);
        if holding.is_empty() {
            // Of most reports: nothing is asked of the database.
            change.remove_proposal(mac)?;
            return Ok(if accepted.is_some() { Ran::outdated() } else { Ran::default() });
        }
        let held = Held {
            own: self.own_addresses(),
            counters: counters(change.tx(), &holding)?,
            spent: if running.by.is_some() { BTreeSet::new() } else { spent(change.tx(), &holding, now)? },
        };
        let outcome = match accepted {
            None => evaluate(&site, mac, &known, &held.around(running.arms_again)),
            Some(seen) => {
                let again = held.with_counters_of(seen);
                let outcome = evaluate(&site, mac, &known, &again.around(false));
                if outcome.digest() != seen.digest() {
                    return Ok(Ran::outdated());
                }
                outcome
            }
        };
        let is_meant = |effect: &Effect| accepted.is_some() || effect.is_immediate;
        let applied = match apply(&site, mac, &outcome, is_meant, &held.own, now) {
            Ok(applied) => applied,
            Err(faults) => {
                let refused = faults.iter().map(Fault::to_string).collect();
                propose(change, mac, &outcome, now)?;
                return Ok(Ran { refused, left: outcome.effects, ..Ran::default() });
            }
        };
        let Some(applied) = applied else {
            // Nothing is done: what is left to a person is not armed again by that.
            let left = evaluate(&site, mac, &known, &held.around(false));
            propose(change, mac, &left, now)?;
            return Ok(Ran { left: left.effects, ..Ran::default() });
        };
        let machine = applied.machine.name.clone();
        if site.machine_by_id(applied.machine.id).is_none_or(|former| **former != applied.machine) {
            change.put_machine(applied.machine)?;
        }
        if let Some(reservation) = applied.reservation {
            change.put_reservation(reservation)?;
        }
        let jobs = applied.jobs.iter().cloned();
        let own = change.site().machine_by_mac(mac).cloned();
        let jobs = jobs.map(|task| JobDraft { machine: own.clone(), mac, task, then: None }).collect();
        let armed_by = applied.effects.iter().find(|effect| matches!(effect.what, What::Job(_)));
        if let Some(effect) = armed_by {
            put_jobs(change, jobs, &format!("rule {}", effect.rule), now)?;
        }
        let uses = uses(&applied.effects, &outcome, &machine, mac, now, running);
        uses.iter().try_for_each(|used| change.add_rule_use(used))?;
        let armed_by = applied.effects.iter().find(|effect| effect.what == What::Install);
        let used = armed_by.and_then(|effect| uses.into_iter().find(|used| used.rule == effect.rule));
        let install = applied.install.zip(used).map(|(request, used)| Arming { request, used });
        let site = change.site().clone();
        let known = self.known_at(&site, mac);
        // What rules would give next comes after what they gave now.
        let held = Held { counters: counters(change.tx(), &holding)?, ..held };
        let mut left = evaluate(&site, mac, &known, &held.around(false));
        // What is about to be armed waits for nobody.
        left.effects.retain(|effect| effect.what != What::Install || install.is_none());
        propose(change, mac, &left, now)?;
        Ok(Ran { effects: applied.effects, left: left.effects, refused: Vec::new(), install })
    }

    /// Arms what a rule said, once the change is recorded that it said it in. What stands in its way is given in words, and stands
    /// in the record in the place of the install.
    pub(crate) async fn arm_by_rule(self: &Arc<Self>, ran: &mut Ran) {
        let Some(Arming { request, mut used }) = ran.install.take() else { return };
        if is_trying() {
            return;
        }
        let refused = match self.arm(request, &format!("rule {}", used.rule)).await {
            Ok(_) => return,
            Err(ArmError::Faults(faults)) => {
                faults.iter().map(Fault::to_string).collect::<Vec<_>>().join(" ")
            }
            Err(ArmError::Store(error)) => error.to_string(),
        };
        tracing::warn!(rule = used.rule, machine = used.machine, "the install was not armed: {refused}");
        let is_install = |effect: &Effect| effect.what == What::Install;
        if let Some(install) = ran.effects.iter().find(|effect| is_install(effect)).cloned() {
            used.changes.retain(|change| *change != in_words(&install));
            ran.left.push(install);
        }
        used.changes.push(format!("install refused: {refused}"));
        ran.effects.retain(|effect| !is_install(effect));
        ran.refused.push(format!("install: {refused}"));
        // It waits for a person, who is told the same.
        let keep = move |change: &mut Change<'_>| {
            change.set_rule_changes(&used)?;
            let since = change.site().proposal(used.mac).map_or_else(clock::now, |held| held.since);
            change.put_proposal(Proposal { mac: used.mac, since, declined: None })
        };
        let kept: Result<(), StoreError> = self.store.change(keep).await;
        if let Err(error) = kept {
            tracing::error!("a proposal was not recorded: {error}");
        }
    }
}

/// One line of the record for each rule that does something.
fn uses(
    effects: &[Effect],
    outcome: &Outcome,
    machine: &str,
    mac: Mac,
    now: Timestamp,
    running: &Running,
) -> Vec<RuleUse> {
    let rules: BTreeSet<&String> = effects.iter().map(|effect| &effect.rule).collect();
    let one = |rule: &String| RuleUse {
        at: now,
        rule: rule.clone(),
        machine: machine.into(),
        mac,
        counter: outcome.counters.get(rule).copied(),
        changes: effects.iter().filter(|effect| effect.rule == *rule).map(in_words).collect(),
        by: running.by.clone(),
    };
    rules.into_iter().map(one).collect()
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

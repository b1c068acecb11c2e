//! Names and addresses by pattern, for many machines at once: seen for all of them before anything is saved.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    net::Ipv4Addr,
    sync::{Arc, LazyLock},
};

use minijinja::{Environment, Value, context, value::merge_maps};
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, name, template, template::Statements},
    decide::subnet::ReservationDraft,
    model::{
        machine::Machine,
        reservation::{Reservation, ReservedFor},
        values::{TemplateError, Values},
    },
    site::Site,
};

/// Steps that a pattern may take.
const FUEL: u64 = 20_000;
/// Longest text that a pattern may give, in bytes: more than any name or address has.
const MOST_NAME: usize = 4096;
/// Longest computer name that unattended set-up takes.
const MOST_COMPUTER_NAME: usize = 15;

static PATTERNS: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut environment = template::environment(FUEL);
    environment
        .add_filter("pad", |number: i64, digits: usize| format!("{number:0width$}", width = digits.min(20)));
    environment.add_filter("slug", slug);
    environment
});

/// A text in the characters of a host name: what is none becomes one hyphen.
fn slug(text: &str) -> String {
    let mut slug = String::new();
    for character in text.chars() {
        if character.is_ascii_alphanumeric() {
            slug.push(character.to_ascii_lowercase());
        } else if !slug.is_empty() && !slug.ends_with('-') {
            slug.push('-');
        }
    }
    slug.trim_end_matches('-').into()
}

/// In which order machines are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum CountBy {
    /// By their names as they are now.
    #[default]
    Name,
    /// By their first MAC addresses.
    Mac,
    /// By when they were registered.
    Registered,
    /// As they are given.
    Given,
}

/// Patterns for the names and addresses of several machines. A pattern may name every value of a machine (`mac_bare`,
/// `serial`, `address`, `labels`, `details.rack` …), its former `name`, and a `counter`; `pad(3)` gives a number leading
/// zeros, `slug` makes any text fit for a host name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NamingDraft {
    /// The machines' names.
    #[serde(default)]
    pub machines: Vec<String>,
    /// And every machine that has all of these labels.
    #[serde(default)]
    pub labels: Vec<String>,
    /// What they are to be called, as in `kiosk-{{ counter | pad(2) }}`; left out, they keep their names.
    #[serde(default)]
    pub name: Option<String>,
    /// The address that is reserved for each one's first NIC, as in `192.0.2.{{ 100 + counter }}`; left out, nothing is
    /// reserved.
    #[serde(default)]
    pub address: Option<String>,
    /// The counter at the first machine; 1 if left out.
    #[serde(default)]
    pub first: Option<i64>,
    /// What it grows by; 1 if left out.
    #[serde(default)]
    pub step: Option<i64>,
    /// In which order they are counted.
    #[serde(default)]
    pub count_by: CountBy,
}

/// What becomes of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NamedMachine {
    /// Its name as it is now.
    pub machine: String,
    /// Its first MAC address.
    pub mac: String,
    /// What it is to be called.
    pub name: String,
    /// The address that is reserved for its first NIC now.
    pub former_address: Option<String>,
    /// The address that is to be.
    pub address: Option<String>,
    /// What stands in the way.
    pub problems: Vec<String>,
    /// What somebody should know, and that stands in nobody's way.
    pub notes: Vec<String>,
}

/// What becomes of all of them.
#[derive(Debug, Clone, Default)]
pub struct Naming {
    /// One a machine, in the order in which they were counted.
    pub rows: Vec<NamedMachine>,
    /// The machines under their new names.
    pub machines: Vec<Machine>,
    /// Their new reservations.
    pub reservations: Vec<Reservation>,
    /// Reservations that new ones take the place of.
    pub replaced: Vec<Arc<Reservation>>,
}

impl Naming {
    /// Whether nothing stands in its way.
    #[must_use]
    pub fn is_fit(&self) -> bool {
        self.rows.iter().all(|row| row.problems.is_empty())
    }
}

impl NamingDraft {
    /// Works out what becomes of every machine that is meant. `values` gives what patterns may name of a machine; `own`
    /// are the service's addresses.
    ///
    /// # Errors
    /// What is wrong with the request itself. What is wrong with one machine's result is among its problems.
    pub fn apply(
        &self,
        site: &Site,
        values: impl Fn(&Machine) -> Values,
        own: &[Ipv4Addr],
    ) -> Result<Naming, Vec<Fault>> {
        let machines = self.chosen(site)?;
        let mut naming = Naming::default();
        let ids: BTreeSet<_> = machines.iter().map(|machine| machine.id).collect();
        let first_macs: HashMap<_, _> =
            machines.iter().map(|machine| (machine.id, machine.macs.first().copied())).collect();
        let is_first_mac = |client: &ReservedFor| matches!(client, ReservedFor::Mac(mac) if first_macs.values().any(|first| *first == Some(*mac)));
        // Addresses may change hands among those that are meant.
        let mut site_then = site.clone();
        let mut former: HashMap<ReservedFor, Vec<Arc<Reservation>>> = HashMap::new();
        for subnet in site.subnets() {
            for reservation in site.reservations_of(subnet.id).filter(|held| is_first_mac(&held.client)) {
                former.entry(reservation.client.clone()).or_default().push(reservation.clone());
                if self.address.is_some() {
                    site_then = site_then.without_reservation(reservation);
                }
            }
        }
        let (first, step) = (self.first.unwrap_or(1), self.step.unwrap_or(1));
        let mut takers: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (index, machine) in machines.iter().enumerate() {
            let counter = first.saturating_add(step.saturating_mul(i64::try_from(index).unwrap_or(i64::MAX)));
            let all = merge_maps([context! { counter }, Value::from_object(values(machine))]);
            let fill = |place: &str, pattern: &str| fill(place, pattern, &all);
            let name = match &self.name {
                Some(pattern) => fill("name", pattern)?,
                None => machine.name.clone(),
            };
            let held = machine.macs.first().and_then(|mac| former.get(&ReservedFor::Mac(*mac)));
            let mut row = NamedMachine {
                machine: machine.name.clone(),
                mac: machine.macs.first().map(ToString::to_string).unwrap_or_default(),
                former_address: held.and_then(|held| held.first()).map(|held| held.address.to_string()),
                address: None,
                problems: Vec::new(),
                notes: Vec::new(),
                name,
            };
            if self.name.is_some() {
                row.check_name(site, machine, |other| ids.contains(&other.id));
            }
            if let Some(pattern) = &self.address {
                let text = fill("address", pattern)?;
                row.address = Some(text.clone());
                match reserve(&site_then, &text, machine, own) {
                    Ok(reservation) => {
                        site_then = site_then.with_reservation(reservation.clone());
                        naming.replaced.extend(held.into_iter().flatten().cloned());
                        naming.reservations.push(reservation);
                    }
                    Err(problems) => row.problems.extend(problems),
                }
            }
            takers.entry(row.name.to_ascii_lowercase()).or_default().push(index);
            naming.machines.push(Machine { name: row.name.clone(), ..(**machine).clone() });
            naming.rows.push(row);
        }
        for takers in takers.values().filter(|takers| takers.len() > 1) {
            for &taker in takers {
                let others = takers.iter().filter(|other| **other != taker);
                let others: Vec<String> = others.map(|other| naming.rows[*other].machine.clone()).collect();
                let clash = format!("{} would be called so, too", others.join(", "));
                naming.rows[taker].problems.push(clash);
            }
        }
        Ok(naming)
    }

    fn chosen(&self, site: &Site) -> Result<Vec<Arc<Machine>>, Vec<Fault>> {
        let fault =
            |place: &str, what: String, fix: &str| Fault { place: place.into(), what, fix: fix.into() };
        let mut faults = Vec::new();
        if self.name.is_none() && self.address.is_none() {
            let fix = "Give a pattern for names, or for addresses, or both.";
            faults.push(fault("name", "there is no pattern".into(), fix));
        }
        if self.step == Some(0) && self.machines.len() + self.labels.len() > 0 {
            faults.push(fault("step", "the counter would stand still".into(), "Give another step than 0."));
        }
        let mut chosen = match super::chosen(site, &self.machines, &self.labels) {
            Ok(chosen) => chosen,
            Err(more) => return Err(faults.into_iter().chain(more).collect()),
        };
        match self.count_by {
            CountBy::Name => chosen.sort_by(|a, b| a.name.cmp(&b.name)),
            CountBy::Mac => chosen.sort_by_key(|machine| machine.macs.first().copied()),
            CountBy::Registered => chosen.sort_by_key(|machine| machine.created),
            CountBy::Given => {}
        }
        if faults.is_empty() { Ok(chosen) } else { Err(faults) }
    }
}

/// That a pattern can be read, and names nothing but these.
///
/// # Errors
/// What is wrong with it; the place is left to the caller.
pub(crate) fn check_pattern(pattern: &str, names: &[&str]) -> Result<(), Fault> {
    let fault = |what: String| Fault {
        place: String::new(),
        what,
        fix: format!("Write it as in kiosk-{{{{ counter | pad(2) }}}}. There are: {}.", names.join(", ")),
    };
    let read = template::check(&PATTERNS, pattern, Statements::Conditions)
        .and_then(|()| Ok(PATTERNS.template_from_str(pattern)?.undeclared_variables(false)));
    let named = read.map_err(|error| fault(TemplateError::new(pattern, &error).to_string()))?;
    let mut unknown: Vec<String> =
        named.into_iter().filter(|name| !names.contains(&name.as_str()) && name != "range").collect();
    unknown.sort();
    if unknown.is_empty() {
        return Ok(());
    }
    Err(fault(format!("'{pattern}' names {}, which nothing is called", unknown.join(", "))))
}

/// A pattern with a machine's values put in.
pub(crate) fn fill(place: &str, pattern: &str, values: &Value) -> Result<String, Vec<Fault>> {
    let filled = template::render(&PATTERNS, pattern, values, Statements::Conditions, MOST_NAME);
    filled.map(|text| text.trim().to_owned()).map_err(|error| {
        let what = TemplateError::new(pattern, &error).to_string();
        let fix = "Name values as in {{ counter | pad(2) }} or {{ details.rack }}; `lastmile machine show` lists details.";
        vec![Fault { place: place.into(), what, fix: fix.into() }]
    })
}

/// Reserves the address that a pattern gave for a machine's first NIC.
fn reserve(site: &Site, text: &str, machine: &Machine, own: &[Ipv4Addr]) -> Result<Reservation, Vec<String>> {
    let address: Ipv4Addr = text.parse().map_err(|_| vec![format!("'{text}' is no IPv4 address")])?;
    let mac = machine.macs.first().ok_or_else(|| vec!["it has no NIC".to_owned()])?;
    let subnet = site.subnets().find(|subnet| subnet.network.contains(&address));
    let subnet = subnet.ok_or_else(|| vec![format!("{address} lies in no subnet")])?;
    let draft = ReservationDraft::new(text, ReservedFor::Mac(*mac));
    draft.check(subnet, site, own).map_err(|faults| faults.into_iter().map(|fault| fault.what).collect())
}

impl NamedMachine {
    fn check_name(&mut self, site: &Site, machine: &Machine, is_meant: impl Fn(&Machine) -> bool) {
        if let Err(error) = name::check_machine_name(&self.name) {
            self.problems.push(error.to_string());
        } else if self.name.len() > MOST_COMPUTER_NAME {
            let note =
                format!("longer than {MOST_COMPUTER_NAME} characters, which unattended set-up refuses");
            self.notes.push(note);
        }
        if let Some(other) = site.machine(&self.name).filter(|other| !is_meant(other)) {
            self.problems.push(format!("another machine is called {}", other.name));
        }
        if let Some(open) = site.open_install(machine.id).filter(|_| self.name != machine.name) {
            self.problems.push(format!("install {} goes on under its present name", open.number));
        }
    }
}

#[cfg(test)]
#[path = "naming_tests.rs"]
mod tests;

//! The machine that rules make of one.

use std::{collections::BTreeMap, net::Ipv4Addr};

use jiff::Timestamp;
use lastmile_formats::mac::Mac;

use super::{Effect, Outcome, What};
use crate::{
    base::Fault,
    decide::{install::ArmRequest, machine::MachineDraft, subnet::ReservationDraft},
    model::{
        job::Task,
        machine::{Given, Machine},
        reservation::{Reservation, ReservedFor},
    },
    site::Site,
};

/// What is to be recorded, and what was meant by it.
#[derive(Debug, Clone, PartialEq)]
pub struct Applied {
    /// The machine as it is to be; a new one for a newcomer.
    pub machine: Machine,
    /// What is reserved for it.
    pub reservation: Option<Reservation>,
    /// Jobs that are to be armed on it.
    pub jobs: Vec<Task>,
    /// What is to be armed on it.
    pub install: Option<ArmRequest>,
    /// What is done.
    pub effects: Vec<Effect>,
}

/// Makes a machine of those effects that `is_meant`, of all that nothing stands in the way of. Nothing, if none of them is.
///
/// # Errors
/// What is wrong with the machine that comes of it.
pub fn apply(
    site: &Site,
    mac: Mac,
    outcome: &Outcome,
    is_meant: impl Fn(&Effect) -> bool,
    own: &[Ipv4Addr],
    now: Timestamp,
) -> Result<Option<Applied>, Vec<Fault>> {
    let effects: Vec<Effect> = outcome.possible().filter(|effect| is_meant(effect)).cloned().collect();
    let former = site.machine_by_mac(mac);
    let name = effects.iter().find(|effect| effect.what == What::Name).map(|effect| effect.after.clone());
    let mut draft = match (former, name) {
        _ if effects.is_empty() => return Ok(None),
        (Some(former), _) => MachineDraft::of(site, former),
        (None, Some(name)) => MachineDraft::new(name, vec![mac.to_string()]),
        (None, None) => return Ok(None),
    };
    let (mut reservation, mut arms) = (None, false);
    for effect in &effects {
        match &effect.what {
            What::Name => {}
            What::Label(label) => draft.labels.push(label.clone()),
            What::Detail(detail) => {
                draft.details.insert(detail.clone(), effect.after.clone());
            }
            What::DefaultBoot => {
                draft.default_boot = effect.after.parse().map_err(|error| fault("default_boot", &error))?;
            }
            What::Address => reservation = Some(reserve(site, &effect.after, mac, own)?),
            What::Job(_) => {}
            What::Install => arms = true,
        }
    }
    let mut machine = draft.check(site, former.map(AsRef::as_ref), now)?;
    for effect in effects.iter().filter(|effect| !matches!(effect.what, What::Job(_) | What::Install)) {
        let given = Given { rule: effect.rule.clone(), value: effect.after.clone(), at: now };
        machine.given.insert(effect.what.to_string(), given);
    }
    let install = outcome.install.clone().filter(|_| arms).map(|with| ArmRequest {
        machine: machine.name.clone(),
        image: with.image,
        answers: with.answers,
        asked: BTreeMap::new(),
    });
    let is_meant = |task: &&Task| effects.iter().any(|effect| effect.what == What::Job(task.kind()));
    let jobs = outcome.jobs.iter().filter(is_meant).cloned().collect();
    Ok(Some(Applied { machine, reservation, jobs, install, effects }))
}

fn reserve(site: &Site, text: &str, mac: Mac, own: &[Ipv4Addr]) -> Result<Reservation, Vec<Fault>> {
    let address: Ipv4Addr = text.parse().map_err(|error| fault("address", &error))?;
    let subnet = site.subnets().find(|subnet| subnet.network.contains(&address));
    let subnet = subnet.ok_or_else(|| fault("address", &format!("{address} is in no subnet")))?;
    ReservationDraft::new(text, ReservedFor::Mac(mac)).check(subnet, site, own)
}

fn fault(place: &str, what: &dyn std::fmt::Display) -> Vec<Fault> {
    let fix = "Change the rule's pattern; `lastmile rule try` shows what it gives.";
    vec![Fault { place: place.into(), what: what.to_string(), fix: fix.into() }]
}

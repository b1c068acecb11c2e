//! What rules would do to many machines, one after the other: each name, address and counter is given once.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::Ipv4Addr,
    sync::Arc,
};

use jiff::Timestamp;
use lastmile_formats::mac::Mac;

use super::{Outcome, Surroundings, apply, evaluate, known_at};
use crate::{
    model::{condition::Known, subnet::Subnet},
    site::Site,
};

/// What rules would do to one machine.
#[derive(Debug, Clone)]
pub struct Previewed {
    /// The address that its survey was started from.
    pub mac: Mac,
    /// What is known of it.
    pub known: Known,
    /// What they say.
    pub outcome: Outcome,
}

/// What the rules of `site` would do to whoever has these addresses, if everything that nothing stands in the way of were done, in
/// the order in which they are given. `counters` are the last ones that rules gave, `spent` the rules that have changed as many
/// machines as they may, `subnet` says where an address boots.
#[must_use]
pub fn preview(
    site: &Site,
    macs: &[Mac],
    mut counters: BTreeMap<String, i64>,
    spent: &BTreeSet<String>,
    own: &[Ipv4Addr],
    subnet: impl Fn(&Site, Mac) -> Option<Arc<Subnet>>,
    now: Timestamp,
) -> Vec<Previewed> {
    let mut then = site.clone();
    let mut all = Vec::new();
    for &mac in macs {
        let known = known_at(&then, mac, subnet(&then, mac));
        let around = Surroundings { own, counters: &counters, spent, arms_again: false };
        let outcome = evaluate(&then, mac, &known, &around);
        if let Ok(Some(applied)) = apply(&then, mac, &outcome, |_| true, own, now) {
            counters.extend(outcome.counters.clone());
            then = then.with_machine(applied.machine);
            if let Some(reservation) = applied.reservation {
                then = then.with_reservation(reservation);
            }
        }
        all.push(Previewed { mac, known, outcome });
    }
    all
}

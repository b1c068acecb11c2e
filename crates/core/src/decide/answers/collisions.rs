//! What no two hosts may have alike: a name, or a fixed address.

use std::{collections::BTreeMap, net::Ipv4Addr};

use super::{Addressing, Resolved};
use crate::base::Fault;

/// Machines of a fault that are named.
const MOST_NAMED: usize = 5;

/// What hosts claim for themselves, by what they claim.
#[derive(Debug, Default)]
pub struct Collisions {
    names: BTreeMap<String, Vec<String>>,
    addresses: BTreeMap<Ipv4Addr, Vec<String>>,
}

impl Collisions {
    /// Adds what a machine's settings make of it.
    pub fn add(&mut self, machine: &str, settings: &Resolved) {
        let domain = settings.domain.as_ref().map(|domain| format!(".{domain}")).unwrap_or_default();
        let name = format!("{}{domain}", settings.host_name).to_ascii_lowercase();
        self.names.entry(name).or_default().push(machine.into());
        for link in &settings.links {
            if let Addressing::Fixed(nets) = &link.addressing {
                for net in nets {
                    self.addresses.entry(net.addr()).or_default().push(machine.into());
                }
            }
        }
    }

    /// A fault for each name or address that several machines claim, with those machines.
    #[must_use]
    pub fn faults(&self) -> Vec<(Fault, Vec<String>)> {
        let names = self.names.iter().filter(|(_, machines)| machines.len() > 1).map(|(name, machines)| {
            let what = format!("{} would all be called '{name}'", list(machines));
            let fix = "Make the host name differ, as in {{ name }} or kiosk-{{ details.rack }}.";
            (Fault { place: "host_name".into(), what, fix: fix.into() }, machines.clone())
        });
        let addresses =
            self.addresses.iter().filter(|(_, machines)| machines.len() > 1).map(|(address, machines)| {
                let what = format!("{} would all have the fixed address {address}", list(machines));
                let fix = "Make it differ, as in {{ address }} or a detail of each machine.";
                (Fault { place: "network".into(), what, fix: fix.into() }, machines.clone())
            });
        names.chain(addresses).collect()
    }
}

fn list(machines: &[String]) -> String {
    let named = machines.iter().take(MOST_NAMED).map(String::as_str).collect::<Vec<_>>().join(", ");
    match machines.len().saturating_sub(MOST_NAMED) {
        0 => named,
        more => format!("{named} and {more} more"),
    }
}

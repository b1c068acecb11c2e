//! Network cards that settings name, held against those that a survey found.

use super::{LinkKind, Resolved};
use crate::{
    base::Fault,
    model::facts::{Facts, Nic},
};

/// Cards that settings name by MAC address or by the name that an installed system gives, and that the machine does not have.
pub(crate) fn missing(settings: &Resolved, facts: &Facts) -> Vec<Fault> {
    let has = |is_it: &dyn Fn(&Nic) -> bool| facts.nics.iter().any(is_it);
    let mut faults = Vec::new();
    for link in settings.links.iter().filter(|link| !link.boots) {
        let (key, what) = match &link.kind {
            LinkKind::Device(name) if !has(&|nic| nic.names.contains(name)) => {
                ("device", format!("named {name}"))
            }
            LinkKind::Mac(mac) if !has(&|nic| nic.mac == *mac || nic.permanent_mac == Some(*mac)) => {
                ("mac", format!("with the address {mac}"))
            }
            _ => continue,
        };
        let named = |nic: &Nic| {
            nic.names.first().map_or_else(|| nic.mac.to_string(), |name| format!("{name} ({})", nic.mac))
        };
        let those: Vec<String> = facts.nics.iter().map(named).collect();
        faults.push(Fault {
            place: format!("network.interfaces.{}.{key}", link.name),
            what: format!("the survey found no network card {what}"),
            fix: match those.as_slice() {
                [] => "It found none at all: look whether the card is in, and survey the machine once more."
                    .into(),
                those => {
                    format!("Name one that there is, as the installed system calls it: {}.", those.join(", "))
                }
            },
        });
    }
    faults
}

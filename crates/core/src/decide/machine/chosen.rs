//! Which machines are meant by names, MAC addresses and labels.

use std::{collections::BTreeSet, sync::Arc};

use crate::{
    base::{Fault, Faults},
    model::machine::Machine,
    site::Site,
};

/// The machines of these names or MAC addresses, and every machine that has all of `labels`: each once, in the order in which
/// they are given, those by labels after the others.
///
/// # Errors
/// Every name that no machine has, or that no machine is meant.
pub fn chosen(site: &Site, names: &[String], labels: &[String]) -> Result<Vec<Arc<Machine>>, Vec<Fault>> {
    let mut faults = Faults::new();
    let mut known = BTreeSet::new();
    let mut chosen: Vec<Arc<Machine>> = Vec::new();
    for name in names {
        match site.machine_called(name) {
            Some(machine) if known.contains(&machine.id) => {}
            Some(machine) => {
                known.insert(machine.id);
                chosen.push(machine.clone());
            }
            None => {
                faults.add(
                    "machines",
                    format!("no machine is named '{name}'"),
                    "See `lastmile machine list`.",
                );
            }
        }
    }
    if !labels.is_empty() {
        let has_all = |machine: &Machine| labels.iter().all(|label| machine.labels.contains(label));
        chosen.extend(
            site.machines().filter(|machine| has_all(machine) && !known.contains(&machine.id)).cloned(),
        );
    }
    if chosen.is_empty() && faults.is_empty() {
        let (what, fix) = match labels {
            [] => ("no machine is named".to_owned(), "Name machines, or a label that some have."),
            labels => {
                (format!("no machine has the label {}", labels.join(" and ")), "See `lastmile label list`.")
            }
        };
        faults.add("machines", what, fix);
    }
    faults.into_result(|| Some(chosen))
}

//! Newcomers that become machines.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use lastmile_formats::mac::{MAC_FIX, Mac};
use minijinja::{Value, context, value::merge_maps};

use super::{DefaultBootDraft, MachineDraft, naming};
use crate::{
    base::{Fault, Faults},
    model::{machine::Machine, values::Values},
    site::Site,
};

/// What newcomers are called where nobody says how.
const PATTERN: &str = "machine-{{ mac_bare }}";
/// Machines that are adopted at once.
const MOST: usize = 10_000;

/// What newcomers become.
#[derive(Debug, Clone, Default)]
pub struct Adoption {
    /// Their MAC addresses: a machine each.
    pub macs: Vec<String>,
    /// The pattern of their names.
    pub name: Option<String>,
    /// The counter at the first of them; 1 if left out.
    pub first: Option<i64>,
    /// Their labels.
    pub labels: Vec<String>,
    /// What is noted of them, by name.
    pub details: BTreeMap<String, String>,
    /// What they boot while no install is armed.
    pub default_boot: DefaultBootDraft,
}

impl Adoption {
    /// The machines that newcomers become. `values` gives what a pattern may name of one.
    ///
    /// # Errors
    /// Everything that stands in the way of any of them; then none is adopted.
    pub fn machines(
        &self,
        site: &Site,
        values: impl Fn(Mac) -> Values,
        now: Timestamp,
    ) -> Result<Vec<Machine>, Vec<Fault>> {
        let mut faults = Faults::new();
        if self.macs.is_empty() || self.macs.len() > MOST {
            faults.add("macs", format!("{} addresses", self.macs.len()), "Give 1 to 10,000 MAC addresses.");
        }
        let (mut machines, mut then, mut seen) = (Vec::new(), site.clone(), BTreeSet::new());
        for (index, text) in self.macs.iter().enumerate() {
            let place = format!("macs[{index}]");
            let Some(mac) = faults.keep(&place, text.parse::<Mac>(), MAC_FIX) else { continue };
            if !seen.insert(mac) {
                continue;
            }
            let counter =
                self.first.unwrap_or(1).saturating_add(i64::try_from(machines.len()).unwrap_or(i64::MAX));
            let all = merge_maps([context! { counter }, Value::from_object(values(mac))]);
            let name = naming::fill("name", self.name.as_deref().unwrap_or(PATTERN), &all)?;
            let draft = MachineDraft {
                labels: self.labels.clone(),
                details: self.details.clone(),
                default_boot: self.default_boot.clone(),
                ..MachineDraft::new(name, vec![mac.to_string()])
            };
            match draft.check(&then, None, now) {
                Ok(machine) => {
                    then = then.with_machine(machine.clone());
                    machines.push(machine);
                }
                Err(wrong) => {
                    for fault in wrong {
                        faults.add(format!("{place} ({mac})"), fault.what, fault.fix);
                    }
                }
            }
        }
        faults.into_result(|| Some(machines))
    }
}

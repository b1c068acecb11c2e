//! Machines as people enter them.

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use lastmile_formats::mac::{MAC_FIX, Mac};
use serde::{Deserialize, Serialize};

use super::DefaultBootDraft;
use crate::{
    base::{Fault, Faults, Id, name},
    decide::references::{check_menu, check_parameters},
    model::{image::Family, machine::Machine, option::FurtherOption, parameter::Said},
    site::Site,
};

/// A machine as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MachineDraft {
    /// What people call it; a host name.
    pub name: String,
    /// Its NICs' MAC addresses, in any common form.
    pub macs: Vec<String>,
    /// What it does when no install is armed.
    #[serde(default)]
    pub default_boot: DefaultBootDraft,
    /// DHCP options of its own, by standard name or number, with the value as text.
    #[serde(default)]
    pub options: BTreeMap<String, String>,
    /// What groups it belongs to.
    #[serde(default)]
    pub labels: Vec<String>,
    /// What is known of it, by name.
    #[serde(default)]
    pub details: BTreeMap<String, String>,
    /// Kernel parameters of its own.
    #[serde(default)]
    pub parameters: Vec<String>,
    /// Keys of kernel parameters of earlier levels that it does without, as in `quiet`.
    #[serde(default)]
    pub without_parameters: Vec<String>,
    /// The menu it is shown when its default boot is `menu`.
    #[serde(default)]
    pub menu: Option<String>,
    /// The answers that its live image is given at each start, when its default boot is a live image.
    #[serde(default)]
    pub live_answers: Option<String>,
}

impl MachineDraft {
    /// A machine of these NICs that starts from its own disk.
    #[must_use]
    pub fn new(name: impl Into<String>, macs: Vec<String>) -> Self {
        Self {
            name: name.into(),
            macs,
            default_boot: DefaultBootDraft::default(),
            options: BTreeMap::new(),
            labels: Vec::new(),
            details: BTreeMap::new(),
            parameters: Vec::new(),
            without_parameters: Vec::new(),
            menu: None,
            live_answers: None,
        }
    }

    /// A machine in the form in which it is entered.
    #[must_use]
    pub fn of(site: &Site, machine: &Machine) -> Self {
        Self {
            name: machine.name.clone(),
            macs: machine.macs.iter().map(ToString::to_string).collect(),
            default_boot: DefaultBootDraft::of(site, machine),
            options: FurtherOption::texts(&machine.options),
            labels: machine.labels.clone(),
            details: machine.details.clone(),
            parameters: machine.parameters.clone(),
            without_parameters: machine.without_parameters.clone(),
            menu: machine.menu.clone(),
            live_answers: machine.live_answers.clone(),
        }
    }

    /// Checks the draft against itself and the site. `replaced` is the machine it takes the place of.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(
        &self,
        site: &Site,
        replaced: Option<&Machine>,
        now: Timestamp,
    ) -> Result<Machine, Vec<Fault>> {
        let mut faults = Faults::new();
        let is_other = |machine: &Arc<Machine>| replaced.is_none_or(|replaced| replaced.id != machine.id);
        faults.keep("name", name::check_machine_name(&self.name), name::HOST_NAME_FIX);
        // Case makes no difference in host names (RFC 4343).
        if let Some(other) = site.machine(&self.name).filter(|other| is_other(other)) {
            faults.add(
                "name",
                format!("a machine named '{}' exists already", other.name),
                "Choose another name, or change the existing machine.",
            );
        }
        if self.macs.is_empty() {
            faults.add(
                "macs",
                "no MAC address is given",
                "Give at least one: it is how the machine is known.",
            );
        }
        let mut macs: Vec<Mac> = Vec::new();
        for (index, text) in self.macs.iter().enumerate() {
            let place = format!("macs[{index}]");
            let Some(mac) = faults.keep(&place, text.parse::<Mac>(), MAC_FIX) else { continue };
            if macs.contains(&mac) {
                faults.add(&place, format!("{mac} is given twice"), "Give each address once.");
            } else if let Some(owner) = site.machine_by_mac(mac).filter(|owner| is_other(owner)) {
                faults.add(
                    &place,
                    format!("{mac} belongs to machine '{}'", owner.name),
                    "Check the label on the NIC; take the address from that machine first if it moved.",
                );
            }
            macs.push(mac);
        }
        let default_boot = self.default_boot.check(&mut faults, site);
        let options = FurtherOption::read_all(&mut faults, "options", &self.options);
        let mut labels = self.labels.clone();
        labels.sort();
        labels.dedup();
        for label in &labels {
            faults.keep("labels", name::check_thing_name(label), name::THING_NAME_FIX);
        }
        for (detail, value) in &self.details {
            faults.keep(format!("details.{detail}"), name::check_detail_name(detail), name::DETAIL_NAME_FIX);
            faults.keep(format!("details.{detail}"), name::check_detail(value), name::DETAIL_FIX);
        }
        let said = Said { words: &self.parameters, without: &self.without_parameters };
        check_parameters(&mut faults, "", said);
        check_menu(&mut faults, self.menu.as_deref(), site);
        self.check_live_answers(&mut faults, site);
        faults.into_result(|| {
            Some(Machine {
                id: replaced.map_or_else(Id::generate, |replaced| replaced.id),
                name: self.name.clone(),
                macs,
                default_boot: default_boot?,
                options,
                labels,
                details: self.details.clone(),
                parameters: self.parameters.clone(),
                without_parameters: self.without_parameters.clone(),
                menu: self.menu.clone(),
                live_answers: self.live_answers.clone(),
                given: replaced.map(|replaced| replaced.given.clone()).unwrap_or_default(),
                created: replaced.map_or(now, |replaced| replaced.created),
            })
        })
    }

    fn check_live_answers(&self, faults: &mut Faults, site: &Site) {
        let Some(answers) = &self.live_answers else { return };
        let DefaultBootDraft::Live(image) = &self.default_boot else {
            let fix = "Give it the default boot live:IMAGE as well, or leave them out.";
            faults.add("live_answers", "only a live image is given answers at each start", fix);
            return;
        };
        if site.answers(answers).is_none() {
            let fix = "Save them first, or see `lastmile answers list`.";
            faults.add("live_answers", format!("no answers are named '{answers}'"), fix);
        }
        if let Some(image) = site.image(image).filter(|image| image.current.family == Family::None) {
            faults.add(
                "live_answers",
                format!("image '{}' reads no answer file", image.name),
                "Import it with --family cloud-config if it has cloud-init, or leave the answers out.",
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn draft(name: &str, macs: &[&str]) -> MachineDraft {
        MachineDraft::new(name, macs.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn a_machine_keeps_what_is_its_own_when_changed() {
        let site = Site::default();
        let first =
            draft("auklet-gate", &["0200.5E00.5301"]).check(&site, None, Timestamp::UNIX_EPOCH).unwrap();
        assert_eq!(first.macs[0].to_string(), "02:00:5e:00:53:01");
        let site = site.with_machine(first.clone());
        let again = draft("auklet-gate", &["02:00:5e:00:53:01", "02:00:5e:00:53:02"]);
        let changed = again.check(&site, Some(&first), Timestamp::now()).unwrap();
        assert_eq!((changed.id, changed.created), (first.id, first.created));
        // Under another name and with another NIC it is still the same machine, and the only one.
        let moved =
            draft("auklet-bridge", &["02:00:5e:00:53:07"]).check(&site, Some(&first), Timestamp::now());
        let site = site.with_machine(moved.unwrap());
        assert_eq!(site.machine_count(), 1);
        assert!(site.machine("auklet-gate").is_none());
        assert!(site.machine_by_mac(first.macs[0]).is_none());
        assert_eq!(site.machine_by_id(first.id).unwrap().name, "auklet-bridge");
    }

    #[test]
    fn all_that_is_wrong_is_said_at_once() {
        let site = Site::default();
        let first =
            draft("auklet-gate", &["02:00:5e:00:53:01"]).check(&site, None, Timestamp::UNIX_EPOCH).unwrap();
        let site = site.with_machine(first);
        let mut bad = draft("auklet gate", &["02:00:5e:00:53:01", "02:00:5e", "ff:ff:ff:ff:ff:ff"]);
        bad.default_boot = DefaultBootDraft::Live("lantern".into());
        let faults = bad.check(&site, None, Timestamp::UNIX_EPOCH).unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        assert_eq!(places, ["name", "macs[0]", "macs[1]", "macs[2]", "default_boot"]);
        assert!(faults[1].what.contains("belongs to machine 'auklet-gate'"));
    }
}

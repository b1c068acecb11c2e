//! Facts held against others: of the same machine later, or of another machine.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
};

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::facts::Facts;

/// Something that two surveys measured differently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsDifference))]
pub struct Difference {
    /// The fact, as in `disks[S4X0NA].size`: members of lists by what they are known by, not by their number. A member that only
    /// one of the two has is one difference, as in `disks[S4X0NA]`.
    pub place: String,
    /// What was measured before; nothing if it was not there.
    pub before: Option<String>,
    /// What is measured now; nothing if it is not there any more.
    pub now: Option<String>,
}

/// In words: what was there and is gone, what is new, what became what.
impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { place, before, now } = self;
        match (before, now) {
            (Some(before), Some(now)) => write!(f, "{place}: {before} → {now}"),
            (Some(before), None) => write!(f, "{place}: {before} is gone"),
            (None, Some(now)) => write!(f, "{place}: {now} is new"),
            (None, None) => f.write_str(place),
        }
    }
}

impl Facts {
    /// What differs from another survey of the same machine: each place with what was there before, and what is there now; what
    /// people know by name before what only the bus tells.
    #[must_use]
    pub fn changes_since(&self, before: &Self) -> Vec<Difference> {
        differences(&SAME.members(before), &SAME.members(self))
    }

    /// In what a machine differs from another one: what tells every machine from every other is left out, and disks, cards and
    /// memory are held against each other by their places.
    #[must_use]
    pub fn differences_from(&self, other: &Self) -> Vec<Difference> {
        differences(&OTHERS.members(other), &OTHERS.members(self))
    }
}

/// A fact in which machines differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsSpread))]
pub struct Spread {
    /// The fact, as in `memory.mib`.
    pub place: String,
    /// Each value that there is, with the machines that have it; the most common first. No value: it is not there.
    pub values: Vec<SpreadValue>,
}

/// A value, and who has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsSpreadValue))]
pub struct SpreadValue {
    /// The value; nothing where it is not there.
    pub value: Option<String>,
    /// The machines that have it.
    pub machines: Vec<String>,
}

/// In which facts machines differ that are meant to be alike, but for what every machine has of its own.
#[must_use]
pub fn spread<'a>(machines: impl IntoIterator<Item = (&'a str, &'a Facts)>) -> Vec<Spread> {
    let all: Vec<(&str, Members)> =
        machines.into_iter().map(|(name, facts)| (name, OTHERS.members(facts))).collect();
    let mut found = Vec::new();
    for member in all.iter().flat_map(|(_, members)| members.keys()).collect::<BTreeSet<_>>() {
        let of_all: Vec<_> = all.iter().map(|(name, members)| (*name, members.get(member))).collect();
        // A member that some lack is one difference, not one for each of its values.
        if !member.is_empty() && of_all.iter().any(|(_, leaves)| leaves.is_none()) {
            let texts =
                of_all.iter().map(|(name, leaves)| (*name, leaves.map(|leaves| summary(member, leaves))));
            found.extend(spread_of(member, texts));
            continue;
        }
        let places: BTreeSet<&String> =
            of_all.iter().filter_map(|(_, leaves)| *leaves).flat_map(BTreeMap::keys).collect();
        for place in places {
            let text = |leaves: Option<&BTreeMap<String, Leaf>>| Some(leaves?.get(place)?.text.clone());
            found.extend(spread_of(place, of_all.iter().map(|(name, leaves)| (*name, text(*leaves)))));
        }
    }
    found.sort_by_key(|spread| spread.place.starts_with("devices["));
    found
}

/// The values of one place, if there is more than one.
fn spread_of<'a>(place: &str, values: impl Iterator<Item = (&'a str, Option<String>)>) -> Option<Spread> {
    let mut by_value: BTreeMap<Option<String>, Vec<String>> = BTreeMap::new();
    for (name, value) in values {
        by_value.entry(value).or_default().push(name.into());
    }
    if by_value.len() < 2 {
        return None;
    }
    let mut values: Vec<SpreadValue> =
        by_value.into_iter().map(|(value, machines)| SpreadValue { value, machines }).collect();
    values.sort_by_key(|one| std::cmp::Reverse(one.machines.len()));
    Some(Spread { place: place.into(), values })
}

/// How facts are held against each other.
struct Comparing {
    /// What is left out, by name: anywhere, or with what it is a part of, as in `devices.address`.
    without: &'static [&'static str],
    /// By which fields members of lists are known: the first that are there, else their number.
    keys: &'static [&'static [&'static str]],
}

/// Two surveys of one machine. What another start finds otherwise by itself is left out, as it is no property of the hardware; so
/// are places on a bus, which move when something before them is taken out.
const SAME: Comparing = Comparing {
    without: &[
        "link",
        "link_speed",
        "lifetime",
        "mode",
        "pci",
        "disks.name",
        "nics.name",
        "devices.name",
        "devices.kind",
        "devices.address",
        // What is on a disk is not what it is, and the rest goes up by itself.
        "layout",
        "temperature",
        "power_on_hours",
        "written",
        "used_percent",
        "spare_percent",
    ],
    keys: &[&["serial"], &["wwn"], &["mac"], &["slot"], &["vendor", "device"], &["address"], &["name"]],
};
/// Two machines. What every machine has of its own is left out.
const OTHERS: Comparing = Comparing {
    without: &[
        "link",
        "link_speed",
        "lifetime",
        "mode",
        "name",
        "serial",
        "uuid",
        "asset_tag",
        "wwn",
        "mac",
        "permanent_mac",
        "neighbour",
        "bmc.address",
        "layout",
        "health",
    ],
    keys: &[&["slot"], &["address"], &["pci"]],
};

/// A single value.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Leaf {
    text: String,
    /// Whether it is a text, not a number or a yes or no.
    is_text: bool,
}

/// The single values of each member of a list, and under no name those that are in none; each by its place.
type Members = BTreeMap<String, BTreeMap<String, Leaf>>;

impl Comparing {
    fn members(&self, facts: &Facts) -> Members {
        let mut members = Members::new();
        if let Ok(value) = serde_json::to_value(facts) {
            self.collect("", "", &value, &mut members);
        }
        members
    }

    fn collect(&self, member: &str, place: &str, value: &Value, members: &mut Members) {
        let (text, is_text) = match value {
            Value::Null => return,
            Value::Object(fields) => {
                let part = place.split(['[', '.']).next().unwrap_or_default();
                let is_out = |name: &str| {
                    self.without.iter().any(|out| {
                        out.strip_prefix(part).is_some_and(|rest| rest.strip_prefix('.') == Some(name))
                            || *out == name
                    })
                };
                for (name, value) in fields.iter().filter(|(name, _)| !is_out(name)) {
                    let dot = if place.is_empty() { "" } else { "." };
                    self.collect(member, &format!("{place}{dot}{name}"), value, members);
                }
                return;
            }
            Value::Array(items) => {
                let mut times: BTreeMap<String, usize> = BTreeMap::new();
                for (number, item) in items.iter().enumerate() {
                    let key = self.key(item).unwrap_or_else(|| number.to_string());
                    let time = times.entry(key.clone()).or_default();
                    *time += 1;
                    // Several of a kind are told by their number among themselves.
                    let of_it = if *time == 1 { String::new() } else { format!(" #{time}") };
                    let place = format!("{place}[{key}{of_it}]");
                    let member = if member.is_empty() { &place } else { member };
                    self.collect(member, &place, item, members);
                }
                return;
            }
            Value::String(text) => (text.clone(), true),
            other => (other.to_string(), false),
        };
        members.entry(member.into()).or_default().insert(place.into(), Leaf { text, is_text });
    }

    /// By what a member of a list is known.
    fn key(&self, item: &Value) -> Option<String> {
        if let Value::String(text) = item {
            return Some(text.clone());
        }
        let field = |name: &&str| match item.get(name)? {
            Value::String(text) => Some(text.clone()),
            // Numbers of vendors and devices, as lists of them have them.
            Value::Number(number) => Some(format!("{:04x}", number.as_u64()?)),
            _ => None,
        };
        let fields = |names: &&[&str]| Some(names.iter().map(field).collect::<Option<Vec<_>>>()?.join(":"));
        self.keys.iter().find_map(fields)
    }
}

fn differences(before: &Members, now: &Members) -> Vec<Difference> {
    let mut found = Vec::new();
    for member in before.keys().chain(now.keys()).collect::<BTreeSet<_>>() {
        let (was, is) = (before.get(member), now.get(member));
        if !member.is_empty() && was.is_some() != is.is_some() {
            let summary = |leaves: &BTreeMap<String, Leaf>| summary(member, leaves);
            found.push(Difference { place: member.clone(), before: was.map(summary), now: is.map(summary) });
            continue;
        }
        let places = was.into_iter().chain(is).flat_map(BTreeMap::keys).collect::<BTreeSet<_>>();
        for place in places {
            let text = |leaves: Option<&BTreeMap<String, Leaf>>| Some(leaves?.get(place)?.text.clone());
            let (before, now) = (text(was), text(is));
            if before != now {
                found.push(Difference { place: place.clone(), before, now });
            }
        }
    }
    // Stable: within each they stay in the order of their places.
    found.sort_by_key(|difference| difference.place.starts_with("devices["));
    found
}

/// A member in one line: its texts, without what it is known by.
fn summary(member: &str, leaves: &BTreeMap<String, Leaf>) -> String {
    let is_told = |leaf: &&Leaf| leaf.is_text && !member.contains(leaf.text.as_str());
    let texts: Vec<&str> = leaves.values().filter(is_told).map(|leaf| leaf.text.as_str()).collect();
    if texts.is_empty() { "it".into() } else { texts.join(", ") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{Bmc, Disk, DiskHealth, PciDevice};

    fn disk(name: &str, serial: &str, size: u64) -> Disk {
        let model = Some("Tideline 480".into());
        Disk { name: name.into(), serial: Some(serial.into()), model, size, ..Disk::default() }
    }

    fn device(address: &str, vendor: u16, device: u16) -> PciDevice {
        PciDevice { address: address.into(), vendor, device, ..PciDevice::default() }
    }

    #[test]
    fn a_disk_that_has_another_name_now_is_the_same_disk() {
        let before = Facts { disks: vec![disk("sda", "S1", 10), disk("sdb", "S2", 20)], ..Facts::default() };
        let now = Facts { disks: vec![disk("sda", "S2", 25), disk("sdb", "S3", 30)], ..Facts::default() };
        let said: Vec<String> = now.changes_since(&before).iter().map(ToString::to_string).collect();
        let expected =
            ["disks[S1]: Tideline 480 is gone", "disks[S2].size: 20 → 25", "disks[S3]: Tideline 480 is new"];
        assert_eq!(said, expected);
        assert_eq!(now.changes_since(&now), []);
    }

    #[test]
    fn devices_that_move_on_their_bus_are_the_same_and_the_rest_comes_last() {
        let before = Facts {
            devices: vec![
                device("0:3.0", 0x1b36, 0x10),
                device("0:4.0", 0x1af4, 1),
                device("0:5.0", 0x1af4, 1),
            ],
            disks: vec![disk("sda", "S1", 10)],
            ..Facts::default()
        };
        let now = Facts { devices: vec![device("0:3.0", 0x1af4, 1)], ..Facts::default() };
        let changes = now.changes_since(&before);
        let places: Vec<_> = changes.iter().map(|one| one.place.as_str()).collect();
        assert_eq!(places, ["disks[S1]", "devices[1af4:0001 #2]", "devices[1b36:0010]"]);
    }

    #[test]
    fn what_a_processor_can_do_more_moves_nothing_else() {
        let of = |flags: &[&str]| {
            let mut facts = Facts::default();
            facts.cpu.flags = flags.iter().map(ToString::to_string).collect();
            facts
        };
        let said = of(&["aes", "avx", "vmx"]).changes_since(&of(&["aes", "vmx"]));
        let places: Vec<_> = said.iter().map(|one| one.place.as_str()).collect();
        assert_eq!(places, ["cpu.flags[avx]"]);
    }

    #[test]
    fn of_machines_that_are_meant_to_be_alike_those_that_are_not_stand_out() {
        let of = |mib: u64, serial: &str| {
            let mut facts = Facts { disks: vec![disk("sda", serial, 10)], ..Facts::default() };
            facts.memory.mib = mib;
            facts
        };
        let machines = [("a", of(8192, "S1")), ("b", of(4096, "S2")), ("c", of(8192, "S3"))];
        let found = spread(machines.iter().map(|(name, facts)| (*name, facts)));
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!(found[0].place, "memory.mib");
        let values: Vec<_> =
            found[0].values.iter().map(|one| (one.value.as_deref(), one.machines.len())).collect();
        assert_eq!(values, [(Some("8192"), 2), (Some("4096"), 1)]);
        assert_eq!(spread([("a", &machines[0].1)]), []);
    }

    #[test]
    fn machines_of_one_batch_are_alike_but_for_what_is_in_them() {
        let one = Facts { disks: vec![disk("sda", "S1", 10), disk("sdb", "S2", 20)], ..Facts::default() };
        let mut other =
            Facts { disks: vec![disk("sda", "S7", 10), disk("sdb", "S8", 30)], ..Facts::default() };
        other.system.serial = Some("4711".into());
        let expected =
            Difference { place: "disks[1].size".into(), before: Some("20".into()), now: Some("30".into()) };
        assert_eq!(other.differences_from(&one), [expected]);
    }

    #[test]
    fn of_a_disks_health_what_goes_up_by_itself_is_no_difference() {
        let of = |health: DiskHealth, address: [u8; 4]| {
            let disk = Disk { health: Some(health), ..disk("sda", "S1", 10) };
            let bmc = Bmc { address: Some(address.into()), ..Bmc::default() };
            Facts { disks: vec![disk], bmc: Some(bmc), ..Facts::default() }
        };
        let well = DiskHealth { is_well: Some(true), reallocated: Some(0), ..DiskHealth::default() };
        let later = DiskHealth { temperature: Some(40), power_on_hours: Some(9), ..well.clone() };
        let worn = DiskHealth { is_well: Some(false), reallocated: Some(12), ..later.clone() };
        let before = of(well, [192, 0, 2, 8]);
        assert_eq!(of(later.clone(), [192, 0, 2, 8]).changes_since(&before), []);
        assert_eq!(of(later, [192, 0, 2, 8]).lasting(), before.lasting());
        let places: Vec<_> =
            of(worn, [192, 0, 2, 9]).changes_since(&before).into_iter().map(|one| one.place).collect();
        assert_eq!(places, ["bmc.address", "disks[S1].health.is_well", "disks[S1].health.reallocated"]);
    }
}

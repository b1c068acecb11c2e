//! What stands in each rack: by the details of machines, and by the switch ports that newcomers are plugged into.

use std::{collections::BTreeMap, sync::Arc};

use lastmile_formats::mac::Mac;

use crate::{
    model::{
        location::{Location, Units},
        machine::Machine,
        survey::SurveyRecord,
    },
    site::Site,
};

/// Units of a rack of which nothing else is said.
const USUAL_HEIGHT: u16 = 42;

/// Who is in a unit.
#[derive(Debug, Clone, PartialEq)]
pub enum Occupant {
    /// A registered machine.
    Machine(Arc<Machine>),
    /// Whoever was surveyed behind the port that ends here, and nobody registered.
    Newcomer(Mac),
}

/// Units of a rack that belong together.
#[derive(Debug, Clone, PartialEq)]
pub struct RackUnit {
    /// Which; nothing where only the rack is known.
    pub units: Option<Units>,
    /// Who is there: nobody, or several where two are said to be in one place.
    pub occupants: Vec<Occupant>,
    /// The switch ports that end here.
    pub ports: Vec<Arc<Location>>,
}

/// A rack, from its highest unit down.
#[derive(Debug, Clone, PartialEq)]
pub struct Rack {
    /// Its hall; empty if nothing is said.
    pub hall: String,
    /// Its row.
    pub row: String,
    /// Its name.
    pub rack: String,
    /// How many units it has, as far as is known.
    pub height: u16,
    /// What is in it, from the highest unit down; last what is in the rack and nobody knows where.
    pub units: Vec<RackUnit>,
}

/// Every rack that a machine or a switch's port is in, by hall, row and name.
#[must_use]
pub fn racks(site: &Site) -> Vec<Rack> {
    let mut racks: BTreeMap<[String; 3], BTreeMap<Option<Units>, RackUnit>> = BTreeMap::new();
    let mut put = |place: [&str; 4], add: &dyn Fn(&mut RackUnit)| {
        let [hall, row, rack, unit] = place.map(str::trim);
        if rack.is_empty() {
            return;
        }
        let units = unit.parse::<Units>().ok();
        let rack = racks.entry([hall, row, rack].map(str::to_owned)).or_default();
        let new = || RackUnit { units, occupants: Vec::new(), ports: Vec::new() };
        add(rack.entry(units).or_insert_with(new));
    };
    for location in site.locations() {
        let place = [&location.hall, &location.row, &location.rack, &location.unit].map(String::as_str);
        put(place, &|unit| unit.ports.push(location.clone()));
    }
    for machine in site.machines() {
        let detail = |name: &str| machine.details.get(name).map_or("", String::as_str);
        let place = ["hall", "row", "rack", "unit"].map(detail);
        put(place, &|unit| unit.occupants.push(Occupant::Machine(machine.clone())));
    }
    for survey in site.surveys().filter(|survey| site.machine_by_mac(survey.mac).is_none()) {
        if let Some(location) = of_newcomer(site, survey) {
            let place = [&location.hall, &location.row, &location.rack, &location.unit].map(String::as_str);
            put(place, &|unit| unit.occupants.push(Occupant::Newcomer(survey.mac)));
        }
    }
    racks.into_iter().map(|(names, units)| rack(names, units)).collect()
}

/// Where a newcomer is by the port that the card it booted from is plugged into.
fn of_newcomer<'a>(site: &'a Site, survey: &SurveyRecord) -> Option<&'a Arc<Location>> {
    let nics = survey.survey.facts.nics.iter().filter(|nic| nic.mac == survey.mac);
    nics.filter_map(|nic| nic.neighbour.as_ref()).find_map(|neighbour| site.location_at(neighbour))
}

fn rack([hall, row, rack]: [String; 3], units: BTreeMap<Option<Units>, RackUnit>) -> Rack {
    let highest = units.keys().flatten().map(|units| units.to).max().unwrap_or(0);
    let mut units: Vec<RackUnit> = units.into_values().collect();
    // What has no unit goes last, and the rest from the top down, as one stands before it.
    units.sort_by_key(|unit| std::cmp::Reverse(unit.units.map(|units| (units.to, units.from))));
    Rack { hall, row, rack, height: highest.max(USUAL_HEIGHT), units }
}

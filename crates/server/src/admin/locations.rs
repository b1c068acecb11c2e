//! Where ports of switches are, and what stands in each rack.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

use axum::extract::State;
use lastmile_api::{
    LocationChange, LocationView, LocationsImport, LocationsRemove, LocationsReport, Problem, RackOccupant,
    RackUnitView, RackView, Stage,
};
use lastmile_core::{
    decide::rule::{LocationRow, Occupant, Rack, RackUnit, import_locations, racks},
    model::location::Location,
    site::Site,
};
use lastmile_store::Change;

use super::{
    Admin,
    facts::name_of,
    reject::{Json, Reject},
};
use crate::app::App;

/// Where every known port of a switch is, and who is plugged into it.
#[utoipa::path(
    get, operation_id = "locations_list", path = "/locations", tag = "rules", responses((status = 200, body = [LocationView]))
)]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<LocationView>> {
    let site = admin.app.records.site();
    let mut at: HashMap<(String, String), String> = HashMap::new();
    for survey in site.surveys() {
        for nic in &survey.survey.facts.nics {
            let location = nic.neighbour.as_ref().and_then(|neighbour| site.location_at(neighbour));
            if let Some(location) = location {
                at.insert(Location::key(&location.switch, &location.port), name_of(&site, survey.mac));
            }
        }
    }
    let view = |location: &Arc<Location>| LocationView {
        location: (**location).clone(),
        who: at.get(&Location::key(&location.switch, &location.port)).cloned(),
    };
    // Port 9 before port 10.
    let mut locations: Vec<&Arc<Location>> = site.locations().collect();
    locations.sort_by_cached_key(|location| (location.switch.to_lowercase(), in_order(&location.port)));
    Json(locations.into_iter().map(view).collect())
}

/// Takes a table of locations by CSV: all rows, or, if anything is wrong with one, none.
#[utoipa::path(
    post, operation_id = "locations_import", path = "/locations/import", tag = "rules", request_body = LocationsImport,
    responses((status = 200, body = LocationsReport), (status = 422, body = Problem))
)]
pub(super) async fn import(
    State(admin): State<Admin>,
    Json(wanted): Json<LocationsImport>,
) -> Result<Json<LocationsReport>, Reject> {
    let import = move |change: &mut Change<'_>| {
        let rows = import_locations(&wanted.csv, change.site(), wanted.replace)?;
        let is_changed = |row: &LocationRow| row.change != LocationChange::Unchanged;
        if rows.iter().any(is_changed) {
            let named: HashSet<_> = rows.iter().map(|row| key(&row.location)).collect();
            let others = change.site().locations().filter(|held| !named.contains(&key(held)));
            let others: Vec<Location> = others.map(|held| (**held).clone()).collect();
            let stays = rows.iter().filter(|row| row.change != LocationChange::Removed);
            let all = stays.map(|row| row.location.clone()).chain(others).collect();
            change.put_locations(all)?;
        }
        Ok::<_, Reject>(report(rows))
    };
    Ok(Json(admin.app.records.change(import).await?))
}

/// Removes the locations of a switch, or of some of its ports.
#[utoipa::path(
    post, operation_id = "locations_remove", path = "/locations/remove", tag = "rules", request_body = LocationsRemove,
    responses((status = 200, body = LocationsReport), (status = 404, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Json(wanted): Json<LocationsRemove>,
) -> Result<Json<LocationsReport>, Reject> {
    let remove = move |change: &mut Change<'_>| {
        let site = change.site();
        for port in &wanted.ports {
            let named = || format!("{} {port}", wanted.switch);
            site.location(&wanted.switch, port).ok_or_else(|| Reject::not_found("port", named()))?;
        }
        let ports: HashSet<_> = wanted.ports.iter().map(|port| Location::key(&wanted.switch, port)).collect();
        let switch = Location::key(&wanted.switch, "").0;
        let is_gone = |held: &Location| {
            let (its, port) = key(held);
            its == switch && (ports.is_empty() || ports.contains(&(its, port)))
        };
        let (gone, stays): (Vec<Location>, Vec<Location>) =
            site.locations().map(|held| (**held).clone()).partition(is_gone);
        if gone.is_empty() {
            return Err(Reject::not_found("switch", &wanted.switch));
        }
        change.put_locations(stays)?;
        let row = |location| LocationRow { change: LocationChange::Removed, location, before: None };
        Ok(report(gone.into_iter().map(row).collect()))
    };
    Ok(Json(admin.app.records.change(remove).await?))
}

/// A port's name in parts, of which numbers are ordered as such.
fn in_order(port: &str) -> Vec<(u64, String)> {
    let is_digit = |one: char| one.is_ascii_digit();
    let parts = port.split_inclusive(|one: char| !is_digit(one));
    let part = |part: &str| {
        let digits: String = part.chars().take_while(|one| is_digit(*one)).collect();
        (digits.parse().unwrap_or(0), part[digits.len()..].to_lowercase())
    };
    parts.map(part).collect()
}

fn key(location: &Location) -> (String, String) {
    Location::key(&location.switch, &location.port)
}

fn report(rows: Vec<LocationRow>) -> LocationsReport {
    let count = |change: LocationChange| rows.iter().filter(|row| row.change == change).count();
    LocationsReport {
        new: count(LocationChange::New),
        changed: count(LocationChange::Changed),
        unchanged: count(LocationChange::Unchanged),
        removed: count(LocationChange::Removed),
        rows,
    }
}

/// What stands in each rack: by the details `hall`, `row`, `rack` and `unit` of machines, and by the ports that newcomers are plugged
/// into.
#[utoipa::path(
    get, operation_id = "racks_list", path = "/racks", tag = "rules", responses((status = 200, body = [RackView]))
)]
pub(super) async fn list_racks(State(admin): State<Admin>) -> Json<Vec<RackView>> {
    let site = admin.app.records.site();
    Json(racks(&site).into_iter().map(|rack| rack_view(&admin.app, &site, rack)).collect())
}

fn rack_view(app: &App, site: &Site, rack: Rack) -> RackView {
    let unit = |unit: RackUnit| RackUnitView {
        from: unit.units.map(|units| units.from),
        to: unit.units.map(|units| units.to),
        occupants: unit.occupants.iter().map(|occupant| occupant_view(app, site, occupant)).collect(),
        ports: unit.ports.iter().map(|port| format!("{} {}", port.switch, port.port)).collect(),
    };
    RackView {
        hall: rack.hall,
        row: rack.row,
        rack: rack.rack,
        height: rack.height,
        units: rack.units.into_iter().map(unit).collect(),
    }
}

fn occupant_view(app: &App, site: &Site, occupant: &Occupant) -> RackOccupant {
    match occupant {
        Occupant::Machine(machine) => {
            let latest = site.latest_install(machine.id);
            let survey = site.survey_of(machine);
            let is_installed = site.last_installed(machine.id).is_some();
            let was_seen = latest.is_some_and(|install| install.booting_at.is_some())
                || survey.is_some()
                || app.records.last_seen(site, machine).is_some();
            RackOccupant {
                who: machine.name.clone(),
                stage: Some(Stage::of(latest.map(|install| install.state), is_installed)),
                is_expected: !was_seen,
                summary: survey.map(|survey| survey.summary()),
            }
        }
        Occupant::Newcomer(mac) => RackOccupant {
            who: mac.to_string(),
            stage: None,
            is_expected: false,
            summary: site.survey_at(*mac).map(|survey| survey.summary()),
        },
    }
}

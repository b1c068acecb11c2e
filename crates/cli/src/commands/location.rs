//! `lastmile location …` and `lastmile rack …`: where switch ports are, and what stands in each rack.

use std::path::PathBuf;

use clap::Subcommand;
use lastmile_api::{
    Location, LocationChange, LocationRow, LocationView, LocationsImport, LocationsRemove, LocationsReport,
    RackOccupant, RackUnitView, RackView,
};
use lastmile_client::Client;

use super::{object::saved, toml_file::read_text};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, columns},
};

/// Rows that are shown one by one.
const SHOWN: usize = 40;

/// `lastmile location …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List switch ports, where each is, and who is plugged into it. `--output csv` writes what `import` reads.
    List,
    /// Take a table of switch ports from CSV: switch, port, hall, row, rack, unit.
    Import {
        /// The CSV file; `-` for standard input.
        file: PathBuf,
        /// Remove the ports that it does not have.
        #[arg(long)]
        replace: bool,
        /// Show what would change, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Remove ports of a switch; all of them if none is named.
    Remove {
        /// The switch, as LLDP calls it.
        switch: String,
        /// Its ports.
        ports: Vec<String>,
        /// Check whether they are there, and remove nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
}

/// `lastmile rack …`
#[derive(Debug, Subcommand)]
pub(crate) enum RackCommand {
    /// List racks, and how many units of each are in use, empty and expected.
    List,
    /// Show what stands in a rack, from the top down.
    Show {
        /// The rack's name.
        #[arg(add = complete::names())]
        rack: String,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::List => out.list(&client.locations_list().await?, rows),
        Command::Import { file, replace, dry_run } => {
            let fix =
                "Give a CSV file with the head switch,port,hall,row,rack,unit, or - for standard input.";
            let csv = read_text(&file, fix)?;
            let request = LocationsImport { csv, replace };
            let report = client.trying(dry_run).locations_import(&request).await?;
            if out.is_csv() {
                out.list(&report.rows, changes);
            } else {
                out.show(&report, |report| report_text(report) + saved(dry_run));
            }
        }
        Command::Remove { switch, ports, dry_run, confirm } => {
            if !dry_run {
                let what =
                    if ports.is_empty() { "all ports".into() } else { format!("ports {}", ports.join(", ")) };
                confirm.ask(&format!("Remove {what} of {switch}? Machines keep the details they have."))?;
            }
            let request = LocationsRemove { switch, ports };
            let report = client.trying(dry_run).locations_remove(&request).await?;
            out.show(&report, |report| report_text(report) + saved(dry_run));
        }
    }
    Ok(())
}

fn rows(locations: &[LocationView]) -> Table {
    let row = |view: &LocationView| {
        let Location { switch, port, hall, row, rack, unit } = &view.location;
        let [hall, row, rack, unit] =
            [hall, row, rack, unit].map(|text| Cell::maybe((!text.is_empty()).then_some(text)));
        [switch.clone().into(), port.clone().into(), hall, row, rack, unit, Cell::maybe(view.who.as_ref())]
    };
    columns(["switch", "port", "hall", "row", "rack", "unit", "machine"], locations.iter().map(row))
}

fn place(location: &Location) -> String {
    let parts = [&location.hall, &location.row, &location.rack, &location.unit];
    parts.iter().map(|part| if part.is_empty() { "-" } else { part }).collect::<Vec<_>>().join(" / ")
}

fn changes(rows: &[LocationRow]) -> Table {
    let row = |row: &LocationRow| {
        let what = match row.change {
            LocationChange::New => "new",
            LocationChange::Changed => "changed",
            LocationChange::Unchanged => "unchanged",
            LocationChange::Removed => "removed",
        };
        let now = match &row.before {
            Some(before) => format!("{} → {}", place(before), place(&row.location)),
            None => place(&row.location),
        };
        [row.location.switch.clone().into(), row.location.port.clone().into(), Cell::state(what), now.into()]
    };
    columns(["switch", "port", "row", "hall / row / rack / unit"], rows.iter().map(row))
}

fn report_text(report: &LocationsReport) -> String {
    let LocationsReport { new, changed, unchanged, removed, rows } = report;
    let told: Vec<LocationRow> =
        rows.iter().filter(|row| row.change != LocationChange::Unchanged).take(SHOWN).cloned().collect();
    let mut text = if told.is_empty() { String::new() } else { changes(&told).text() };
    let left = new + changed + removed - told.len();
    if left > 0 {
        text.push_str(&format!("… and {left} more\n"));
    }
    text.push_str(&format!("{new} new, {changed} changed, {removed} removed, {unchanged} unchanged\n"));
    text
}

pub(crate) async fn run_rack(command: RackCommand, client: &Client, out: &Output) -> Result<(), Failure> {
    let all = client.racks_list().await?;
    match command {
        RackCommand::List => out.list(&all, racks),
        RackCommand::Show { rack } => {
            let named: Vec<RackView> =
                all.into_iter().filter(|one| one.rack.eq_ignore_ascii_case(&rack)).collect();
            if named.is_empty() {
                return Err(Failure::NotFound {
                    what: format!("no rack is named '{rack}'"),
                    fix: "See `lastmile rack list`. Racks are those of the table of locations and of the detail rack.",
                });
            }
            out.show(&named, |racks| racks.iter().map(rack_text).collect::<Vec<_>>().join("\n"));
        }
    }
    Ok(())
}

/// How many units of a rack are in use, have a port and nobody on it, and are expected to be used.
fn counts(rack: &RackView) -> (usize, usize, usize) {
    let is_expected = |unit: &&RackUnitView| unit.occupants.iter().any(|occupant| occupant.is_expected);
    let expected = rack.units.iter().filter(is_expected).count();
    let empty = rack.units.iter().filter(|unit| unit.occupants.is_empty()).count();
    (rack.units.len() - empty - expected, empty, expected)
}

fn racks(racks: &[RackView]) -> Table {
    let row = |rack: &RackView| {
        let (used, empty, expected) = counts(rack);
        let maybe = |text: &String| Cell::maybe((!text.is_empty()).then_some(text));
        [
            rack.rack.clone().into(),
            maybe(&rack.hall),
            maybe(&rack.row),
            used.to_string().into(),
            expected.to_string().into(),
            empty.to_string().into(),
        ]
    };
    columns(["rack", "hall", "row", "machines", "expected", "ports without machine"], racks.iter().map(row))
}

fn rack_text(rack: &RackView) -> String {
    let names = [("hall", &rack.hall), ("row", &rack.row)];
    let names =
        names.iter().filter(|(_, name)| !name.is_empty()).map(|(what, name)| format!(", {what} {name}"));
    let row = |unit: &RackUnitView| {
        let units = match (unit.from, unit.to) {
            (Some(from), Some(to)) if from == to => from.to_string(),
            (Some(from), Some(to)) => format!("{from}-{to}"),
            _ => "?".into(),
        };
        let who: Vec<String> = unit.occupants.iter().map(|occupant| occupant.who.clone()).collect();
        let state: Vec<String> = unit.occupants.iter().map(state).collect();
        let what: Vec<String> =
            unit.occupants.iter().filter_map(|occupant| occupant.summary.clone()).collect();
        let maybe = |text: String| Cell::maybe((!text.is_empty()).then_some(text));
        [
            units.into(),
            maybe(who.join("\n")),
            if state.is_empty() { Cell::state("empty") } else { Cell::state(state.join("\n")) },
            maybe(what.join("\n")),
            maybe(unit.ports.join("\n")),
        ]
    };
    let table = columns(["unit", "machine", "state", "hardware", "port"], rack.units.iter().map(row));
    format!("rack {}{}, {} units\n{}", rack.rack, names.collect::<String>(), rack.height, table.text())
}

fn state(occupant: &RackOccupant) -> String {
    match (occupant.stage, occupant.is_expected) {
        (_, true) => "expected".into(),
        (Some(stage), false) => stage.as_str().into(),
        (None, false) => "newcomer".into(),
    }
}

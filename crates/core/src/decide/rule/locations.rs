//! The table of locations, from a spreadsheet (RFC 4180): a row each port.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults},
    decide::spreadsheet,
    model::location::{Location, PARTS, Units},
    site::Site,
};

/// Rows of one table.
const MOST_ROWS: usize = 100_000;
/// Longest cell, in characters.
const MOST_TEXT: usize = 100;
/// What columns there are, for people.
const COLUMNS: &str = "Columns are: switch, port, hall, row, rack, unit.";

/// What becomes of a port's location.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum LocationChange {
    /// It was not there.
    New,
    /// It is otherwise now.
    Changed,
    /// It is as it was.
    Unchanged,
    /// It is not there any more.
    Removed,
}

/// One port, and what becomes of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LocationRow {
    /// What becomes of it.
    pub change: LocationChange,
    /// As it is then; as it was, if it is removed.
    pub location: Location,
    /// As it was, if it is otherwise now.
    pub before: Option<Location>,
}

/// Reads a table of locations: what becomes of each row, and, where `replaces`, of every location that has none. A port is known by
/// its switch and name, in whatever case.
///
/// # Errors
/// Everything that is wrong in any row, each with its line and column.
pub fn import_locations(text: &str, site: &Site, replaces: bool) -> Result<Vec<LocationRow>, Vec<Fault>> {
    let mut faults = Faults::new();
    let text = spreadsheet::without_mark(text);
    let (mut reader, mut lines) = (spreadsheet::reader(text), spreadsheet::Lines::of_text(text));
    let columns: Vec<String> = match reader.headers() {
        Ok(head) => head.iter().map(str::to_ascii_lowercase).collect(),
        Err(error) => {
            faults.add("line 1", error.to_string(), "Save it as CSV in UTF-8.");
            Vec::new()
        }
    };
    let known = |column: &str| column == "switch" || column == "port" || PARTS.contains(&column);
    for column in columns.iter().filter(|column| !known(column)) {
        faults.add("line 1", format!("no column is called '{column}'"), COLUMNS);
    }
    for (index, column) in columns.iter().enumerate().filter(|(_, column)| known(column)) {
        if columns[..index].contains(column) {
            faults.add("line 1", format!("'{column}' is there twice"), "Give each column once.");
        }
    }
    for column in ["switch", "port"].iter().filter(|column| !columns.iter().any(|other| other == **column)) {
        faults.add("line 1", format!("there is no column {column}"), COLUMNS);
    }
    if !faults.is_empty() {
        return faults.into_result(|| None);
    }
    let (mut rows, mut seen) = (Vec::new(), BTreeMap::new());
    for record in reader.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let line = error.position().map_or(0, csv::Position::line);
                faults.add(format!("line {line}"), error.to_string(), "Save it as CSV in UTF-8.");
                continue;
            }
        };
        let line = lines.of(&record);
        if record.iter().all(str::is_empty) {
            continue;
        }
        if rows.len() >= MOST_ROWS {
            faults.add(format!("line {line}"), format!("more than {MOST_ROWS} rows"), "Split the table.");
            break;
        }
        if record.len() > columns.len() {
            let what = format!("{} cells, and {} columns have a name", record.len(), columns.len());
            faults.add(format!("line {line}"), what, "Put a cell with a comma in double quotes.");
            continue;
        }
        let cell = |name: &str| {
            let at = columns.iter().position(|column| column == name);
            at.and_then(|at| record.get(at)).unwrap_or_default().to_owned()
        };
        let location = Location {
            switch: cell("switch"),
            port: cell("port"),
            hall: cell("hall"),
            row: cell("row"),
            rack: cell("rack"),
            unit: cell("unit"),
        };
        check(&location, line, &mut faults);
        let key = Location::key(&location.switch, &location.port);
        if let Some(first) = seen.insert(key, line) {
            let what = format!("{} {} is in line {first} already", location.switch, location.port);
            faults.add(format!("line {line}, port"), what, "Give each port once.");
        }
        rows.push(row(site, location));
    }
    if rows.is_empty() && faults.is_empty() {
        faults.add("line 2", "there is no row", "Give a port a line below the head.");
    }
    if replaces {
        let gone =
            site.locations().filter(|held| !seen.contains_key(&Location::key(&held.switch, &held.port)));
        rows.extend(gone.map(|held| LocationRow {
            change: LocationChange::Removed,
            location: (**held).clone(),
            before: None,
        }));
    }
    faults.into_result(|| Some(rows))
}

fn check(location: &Location, line: u64, faults: &mut Faults) {
    let cells = [
        ("switch", &location.switch),
        ("port", &location.port),
        ("hall", &location.hall),
        ("row", &location.row),
        ("rack", &location.rack),
        ("unit", &location.unit),
    ];
    for (column, cell) in cells {
        let place = || format!("line {line}, {column}");
        if cell.chars().count() > MOST_TEXT || cell.chars().any(char::is_control) {
            faults.add(
                place(),
                "the cell is too long or has control characters",
                "Give one line of at most 100 characters.",
            );
        }
        if cell.is_empty() && (column == "switch" || column == "port") {
            faults.add(
                place(),
                format!("there is no {column}"),
                "A port is known by its switch and its name.",
            );
        }
    }
    if !location.unit.is_empty() {
        let fix = "Write the lowest unit and, of a machine that takes several, the highest.";
        faults.keep(format!("line {line}, unit"), location.unit.parse::<Units>(), fix);
    }
    if location.parts().next().is_none() {
        faults.add(format!("line {line}"), "nothing is said of where the port is", COLUMNS);
    }
}

fn row(site: &Site, location: Location) -> LocationRow {
    let before = site.location(&location.switch, &location.port).map(|held| (**held).clone());
    match before {
        Some(before) if before == location => {
            LocationRow { change: LocationChange::Unchanged, location, before: None }
        }
        Some(before) => LocationRow { change: LocationChange::Changed, location, before: Some(before) },
        None => LocationRow { change: LocationChange::New, location, before: None },
    }
}

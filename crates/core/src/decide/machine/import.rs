//! Machines from a spreadsheet (RFC 4180): a row each, a column for each thing that is said of them.

use std::{collections::BTreeMap, net::Ipv4Addr, sync::Arc};

use csv::StringRecord;
use jiff::Timestamp;
use lastmile_formats::mac::Mac;

use super::MachineDraft;
use crate::{
    base::{Fault, Faults},
    decide::{spreadsheet, subnet::ReservationDraft},
    model::{
        machine::Machine,
        reservation::{Reservation, ReservedFor},
    },
    site::Site,
};

/// What columns there are, for people.
pub const COLUMNS: &str = "Columns are: name, mac, labels, address, default_boot, menu, live_answers, parameters, without_parameters, \
     detail.NAME, option.NAME.";
/// What stands for nothing where an empty cell leaves what is there.
const NOTHING: &str = "-";
/// Rows of one import.
const MOST_ROWS: usize = 100_000;

/// What becomes of one row.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    /// Its line in the text.
    pub line: u64,
    /// The machine as it is registered now.
    pub former: Option<Arc<Machine>>,
    /// The address that is reserved for its first NIC now, where the row names one.
    pub former_address: Option<Ipv4Addr>,
    /// The machine as it is to be.
    pub machine: Machine,
    /// The reservation for its first NIC, if the row names an address and it is another one.
    pub reservation: Option<Reservation>,
}

impl Row {
    /// Whether anything is to change.
    #[must_use]
    pub fn is_changed(&self) -> bool {
        self.former.as_ref().is_none_or(|former| **former != self.machine) || self.reservation.is_some()
    }
}

/// What a column says.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Column {
    Name,
    Mac,
    Labels,
    Address,
    DefaultBoot,
    Menu,
    LiveAnswers,
    Parameters,
    WithoutParameters,
    Detail(String),
    Option(String),
}

impl Column {
    fn read(head: &str) -> Option<Self> {
        Some(match head.to_ascii_lowercase().as_str() {
            "name" => Self::Name,
            "mac" | "macs" => Self::Mac,
            "labels" | "label" => Self::Labels,
            "address" => Self::Address,
            "default_boot" => Self::DefaultBoot,
            "menu" => Self::Menu,
            "live_answers" => Self::LiveAnswers,
            "parameters" => Self::Parameters,
            "without_parameters" => Self::WithoutParameters,
            _ => match head.split_once('.') {
                Some((kind, name)) if kind.eq_ignore_ascii_case("detail") && !name.is_empty() => {
                    Self::Detail(name.into())
                }
                Some((kind, name)) if kind.eq_ignore_ascii_case("option") && !name.is_empty() => {
                    Self::Option(name.into())
                }
                _ => return None,
            },
        })
    }

    /// The column that a fault of a draft's field is in.
    fn of_place(place: &str) -> &str {
        let field = place.split(['.', '[']).next().unwrap_or(place);
        match field {
            "macs" | "client" => "mac",
            "details" => "detail",
            "options" => "option",
            other => other,
        }
    }
}

/// Reads rows of machines: which are new, which change, and into what. `own` are the service's addresses.
///
/// A machine is known by its name. An empty cell leaves what the machine has; `-` empties it. Several values of a cell are
/// parted by blanks.
///
/// # Errors
/// Everything that is wrong in any row, each with its line and column.
pub fn import(text: &str, site: &Site, own: &[Ipv4Addr], now: Timestamp) -> Result<Vec<Row>, Vec<Fault>> {
    let mut faults = Faults::new();
    let text = spreadsheet::without_mark(text);
    let mut reader = spreadsheet::reader(text);
    let columns = match reader.headers() {
        Ok(head) => columns(head, &mut faults),
        Err(error) => {
            faults.add("line 1", error.to_string(), "Save it as CSV in UTF-8.");
            Vec::new()
        }
    };
    if !faults.is_empty() {
        return faults.into_result(|| None);
    }
    let mut rows = Vec::new();
    let mut then = site.clone();
    let mut seen: BTreeMap<String, u64> = BTreeMap::new();
    let mut lines = spreadsheet::Lines::of_text(text);
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
        if rows.len() == MOST_ROWS {
            faults.add(
                format!("line {line}"),
                format!("more than {MOST_ROWS} rows"),
                "Import them in parts.",
            );
            break;
        }
        let parted = Parted { columns: &columns, record: &record, line };
        let name = parted.name();
        if let Some(first) = seen.insert(name.to_ascii_lowercase(), line).filter(|_| !name.is_empty()) {
            let what = format!("machine '{name}' is in line {first} already");
            faults.add(format!("line {line}, column name"), what, "Give each machine one row.");
            continue;
        }
        match parted.row(&then, site, own, now, &mut faults) {
            Some(row) => {
                if let Some(reservation) = &row.reservation {
                    then = then.with_reservation(reservation.clone());
                }
                if row.former.as_deref() != Some(&row.machine) {
                    then = then.with_machine(row.machine.clone());
                }
                rows.push(row);
            }
            None => continue,
        }
    }
    if rows.is_empty() && faults.is_empty() {
        faults.add("line 2", "there is no row", "Give a machine a line below the head.");
    }
    faults.into_result(|| Some(rows))
}

/// What the columns are, by the head.
fn columns(head: &StringRecord, faults: &mut Faults) -> Vec<Column> {
    let mut columns = Vec::new();
    for (index, name) in head.iter().enumerate() {
        let place = format!("line 1, column {}", index + 1);
        match Column::read(name) {
            None => faults.add(place, format!("'{name}' is not a column"), COLUMNS),
            Some(column) => {
                if column != Column::Mac && columns.contains(&column) {
                    faults.add(
                        place,
                        format!("'{name}' is there twice"),
                        "Give each column once; mac may be repeated.",
                    );
                }
                columns.push(column);
            }
        }
    }
    if faults.is_empty() && !columns.contains(&Column::Name) {
        faults.add(
            "line 1",
            "there is no column 'name'",
            "Name the columns in the first line, as in name,mac,labels.",
        );
    }
    columns
}

/// A row and the columns it has.
struct Parted<'a> {
    columns: &'a [Column],
    record: &'a StringRecord,
    line: u64,
}

impl Parted<'_> {
    fn place(&self, column: &str) -> String {
        format!("line {}, column {column}", self.line)
    }

    /// What is said in each column; empty cells say nothing.
    fn cells(&self) -> impl Iterator<Item = (&Column, &str)> {
        self.columns.iter().zip(self.record.iter()).filter(|(_, cell)| !cell.is_empty())
    }

    /// The machine's name; empty if there is none.
    fn name(&self) -> &str {
        self.cells().find(|(column, _)| **column == Column::Name).map_or("", |(_, cell)| cell)
    }

    /// What becomes of the row; `None` if anything is wrong with it. `then` is the site with the rows before.
    fn row(
        &self,
        then: &Site,
        site: &Site,
        own: &[Ipv4Addr],
        now: Timestamp,
        faults: &mut Faults,
    ) -> Option<Row> {
        if self.record.len() > self.columns.len() {
            let what = format!("{} cells, and {} columns have a name", self.record.len(), self.columns.len());
            faults.add(format!("line {}", self.line), what, "Put a cell with a comma in double quotes.");
            return None;
        }
        let name = self.name();
        if name.is_empty() {
            faults.add(self.place("name"), "there is no name", "Name the machine: it is known by its name.");
            return None;
        }
        let former = site.machine(name).cloned();
        let mut draft = former
            .as_ref()
            .map_or_else(|| MachineDraft::new(name, Vec::new()), |former| MachineDraft::of(site, former));
        // A MAC column may be repeated: what the first of them says goes before what the machine has.
        let (mut macs, mut address) = (Vec::new(), None);
        for (column, cell) in self.cells() {
            match column {
                Column::Mac => macs.extend(words(cell)),
                Column::Address => address = Some(cell),
                other => {
                    if let Err(what) = put(&mut draft, other, cell) {
                        faults.add(self.place(Column::of_place(field(other))), what.0, what.1);
                        return None;
                    }
                }
            }
        }
        if !macs.is_empty() {
            draft.macs = macs;
        }
        let machine = match draft.check(then, former.as_deref(), now) {
            Ok(machine) => machine,
            Err(wrong) => {
                for fault in wrong {
                    faults.add(self.place(Column::of_place(&fault.place)), fault.what, fault.fix);
                }
                return None;
            }
        };
        if let Some(former) = &former
            && machine.macs.first() != former.macs.first()
            && site.open_install(former.id).is_some()
        {
            let fix = "Wait for its end, or cancel it.";
            faults.add(self.place("mac"), "the machine is being installed", fix);
            return None;
        }
        let (former_address, reservation) = match address {
            None => (None, None),
            Some(address) => self.reserve(then, &machine, address, own, faults)?,
        };
        Some(Row { line: self.line, former, former_address, machine, reservation })
    }

    /// The address that the first NIC has reserved now on that subnet, and what is to be reserved in its place.
    fn reserve(
        &self,
        then: &Site,
        machine: &Machine,
        text: &str,
        own: &[Ipv4Addr],
        faults: &mut Faults,
    ) -> Option<(Option<Ipv4Addr>, Option<Reservation>)> {
        let place = || self.place("address");
        let Ok(address) = text.parse::<Ipv4Addr>() else {
            let fix = "Write four numbers from 0 to 255 joined by dots.";
            faults.add(place(), format!("'{text}' is no IPv4 address"), fix);
            return None;
        };
        let Some(subnet) = then.subnets().find(|subnet| subnet.network.contains(&address)) else {
            faults.add(place(), format!("{address} lies in no subnet"), "Add its subnet first.");
            return None;
        };
        let mac: Mac = *machine.macs.first()?;
        let held = then.reserved_for(subnet.id, Some(mac), None, None);
        match ReservationDraft::new(text, ReservedFor::Mac(mac)).check(subnet, then, own) {
            Ok(reservation) => Some((held, Some(reservation).filter(|_| held != Some(address)))),
            Err(wrong) => {
                for fault in wrong {
                    faults.add(place(), fault.what, fault.fix);
                }
                None
            }
        }
    }
}

/// Values of a cell, parted by blanks.
fn words(cell: &str) -> Vec<String> {
    cell.split_whitespace().map(str::to_owned).collect()
}

const fn field(column: &Column) -> &'static str {
    match column {
        Column::Name => "name",
        Column::Mac => "mac",
        Column::Labels => "labels",
        Column::Address => "address",
        Column::DefaultBoot => "default_boot",
        Column::Menu => "menu",
        Column::LiveAnswers => "live_answers",
        Column::Parameters => "parameters",
        Column::WithoutParameters => "without_parameters",
        Column::Detail(_) => "details",
        Column::Option(_) => "options",
    }
}

/// Puts what a cell says into a draft.
fn put(draft: &mut MachineDraft, column: &Column, cell: &str) -> Result<(), (String, &'static str)> {
    let is_nothing = cell == NOTHING;
    let list = || if is_nothing { Vec::new() } else { words(cell) };
    let one = || (!is_nothing).then(|| cell.to_owned());
    let map = |values: &mut BTreeMap<String, String>, name: &String| match one() {
        Some(value) => drop(values.insert(name.clone(), value)),
        None => drop(values.remove(name)),
    };
    match column {
        Column::Name | Column::Mac | Column::Address => {}
        Column::Labels => draft.labels = list(),
        Column::Parameters => draft.parameters = list(),
        Column::WithoutParameters => draft.without_parameters = list(),
        Column::Menu => draft.menu = one(),
        Column::LiveAnswers => draft.live_answers = one(),
        Column::DefaultBoot => {
            let fix = "Write local-disk, menu, ignored, or live:IMAGE.";
            draft.default_boot =
                cell.parse().map_err(|error: super::NotDefaultBoot| (error.to_string(), fix))?;
        }
        Column::Detail(name) => map(&mut draft.details, name),
        Column::Option(name) => map(&mut draft.options, name),
    }
    Ok(())
}

/// Machines as rows that [`import`] reads: the columns that any of them needs.
#[must_use]
pub fn export<'a>(site: &Site, machines: impl IntoIterator<Item = &'a Arc<Machine>>) -> String {
    let drafts: Vec<(MachineDraft, Option<Ipv4Addr>)> = machines
        .into_iter()
        .map(|machine| {
            let mac = machine.macs.first().copied();
            let address = site
                .subnets()
                .find_map(|subnet| mac.and_then(|mac| site.reserved_for(subnet.id, Some(mac), None, None)));
            (MachineDraft::of(site, machine), address)
        })
        .collect();
    let names = |of: fn(&MachineDraft) -> &BTreeMap<String, String>| {
        let all = drafts.iter().flat_map(|(draft, _)| of(draft).keys().cloned());
        all.collect::<std::collections::BTreeSet<_>>()
    };
    let (details, options) = (names(|draft| &draft.details), names(|draft| &draft.options));
    let mut writer = csv::Writer::from_writer(Vec::new());
    let plain = [
        "name",
        "mac",
        "labels",
        "address",
        "default_boot",
        "menu",
        "live_answers",
        "parameters",
        "without_parameters",
    ];
    let head = plain.iter().map(|name| (*name).to_owned());
    let head = head.chain(details.iter().map(|name| format!("detail.{name}")));
    let head: Vec<String> = head.chain(options.iter().map(|name| format!("option.{name}"))).collect();
    // Writing into memory does not fail.
    let _ = writer.write_record(&head);
    for (draft, address) in &drafts {
        let text = |value: Option<&String>| value.cloned().unwrap_or_default();
        let mut cells = vec![
            draft.name.clone(),
            draft.macs.join(" "),
            draft.labels.join(" "),
            address.map(|address| address.to_string()).unwrap_or_default(),
            draft.default_boot.to_string(),
            text(draft.menu.as_ref()),
            text(draft.live_answers.as_ref()),
            draft.parameters.join(" "),
            draft.without_parameters.join(" "),
        ];
        cells.extend(details.iter().map(|name| text(draft.details.get(name))));
        cells.extend(options.iter().map(|name| text(draft.options.get(name))));
        let _ = writer.write_record(&cells);
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

#[cfg(test)]
#[path = "import_tests.rs"]
mod tests;

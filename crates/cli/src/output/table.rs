//! Tables for people, and the same as comma-separated values.

use anstyle::{AnsiColor, Style};
use comfy_table::{ColumnConstraint, ContentArrangement, Width, presets};
use jiff::Timestamp;

use super::text;

/// Blanks between two columns.
const GAP: u16 = 2;

/// One cell: what people read, and the exact value for programs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Cell {
    shown: String,
    exact: String,
    style: Style,
}

impl Cell {
    fn new(shown: impl Into<String>, exact: impl Into<String>) -> Self {
        Self { shown: shown.into(), exact: exact.into(), style: Style::new() }
    }

    /// What people read.
    pub(crate) fn shown(&self) -> &str {
        &self.shown
    }

    /// A dash where there is nothing.
    pub(crate) fn maybe(value: Option<impl ToString>) -> Self {
        match value {
            Some(value) => value.to_string().into(),
            None => Self::new("-", ""),
        }
    }

    /// Several values; a dash where there is none.
    pub(crate) fn list(values: &[String]) -> Self {
        if values.is_empty() { Self::new("-", "") } else { Self::new(values.join(", "), values.join(" ")) }
    }

    /// How long ago a time was.
    pub(crate) fn ago(at: Option<Timestamp>) -> Self {
        Self::new(text::ago(at), at.map(|at| at.to_string()).unwrap_or_default())
    }

    /// A time in the time zone of whoever reads.
    pub(crate) fn clock(at: Option<Timestamp>) -> Self {
        match at {
            Some(at) => Self::new(text::clock(at), at.to_string()),
            None => Self::new("-", ""),
        }
    }

    /// Bytes.
    pub(crate) fn size(bytes: u64) -> Self {
        Self::new(text::size(bytes), bytes.to_string())
    }

    /// A span of seconds.
    pub(crate) fn duration(secs: Option<u64>) -> Self {
        match secs {
            Some(secs) => Self::new(text::duration(secs), secs.to_string()),
            None => Self::new("-", ""),
        }
    }

    /// A state, in its colour: red needs somebody, yellow waits, cyan is in progress, green is done.
    pub(crate) fn state(word: impl Into<String>) -> Self {
        let word = word.into();
        let color = match word.split([',', ' ']).next().unwrap_or_default() {
            "failed" | "stalled" | "abandoned" | "fault" | "burn-in" => Some(AnsiColor::Red),
            "armed" | "waiting" | "warning" | "stopped" => Some(AnsiColor::Yellow),
            "booting" | "installing" | "running" => Some(AnsiColor::Cyan),
            "installed" | "delivered" | "passed" | "done" => Some(AnsiColor::Green),
            _ => None,
        };
        let style = color.map_or_else(Style::new, |color| color.on_default());
        Self { style, ..word.into() }
    }
}

impl<T: Into<String>> From<T> for Cell {
    fn from(text: T) -> Self {
        let text = text.into();
        Self { exact: text.clone(), shown: text, style: Style::new() }
    }
}

/// Rows under a head.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Table {
    head: Vec<String>,
    rows: Vec<Vec<Cell>>,
    /// What stands below it for people.
    note: String,
}

/// A table of these columns.
pub(crate) fn columns<const N: usize>(head: [&str; N], rows: impl IntoIterator<Item = [Cell; N]>) -> Table {
    Table {
        head: head.map(str::to_owned).into(),
        rows: rows.into_iter().map(Vec::from).collect(),
        note: String::new(),
    }
}

impl Table {
    /// With a remark below it for people.
    pub(crate) fn note(mut self, note: impl Into<String>) -> Self {
        self.note = note.into();
        self
    }

    /// With further columns, each with a cell for every row.
    pub(crate) fn and(mut self, head: &[String], rows: impl IntoIterator<Item = Vec<Cell>>) -> Self {
        self.head.extend(head.iter().cloned());
        for (row, more) in self.rows.iter_mut().zip(rows) {
            row.extend(more);
        }
        self
    }

    /// Without rules: columns are two spaces apart. On a terminal, what does not fit goes on below, in its own column;
    /// elsewhere each row is one line.
    pub(crate) fn text(&self) -> String {
        let terminal = terminal_size::terminal_size_of(std::io::stdout());
        self.fitting(terminal.map(|(width, _)| width.0))
    }

    fn fitting(&self, width: Option<u16>) -> String {
        let mut table = comfy_table::Table::new();
        table.load_preset(presets::NOTHING);
        table.set_header(self.head.iter().map(|name| name.to_uppercase()));
        for row in &self.rows {
            table.add_row(row.iter().map(|cell| {
                let Cell { shown, style, .. } = cell;
                if *style == Style::new() { shown.clone() } else { format!("{style}{shown}{style:#}") }
            }));
        }
        for column in table.column_iter_mut() {
            column.set_padding((0, GAP));
        }
        let whole: u16 = table.column_max_content_widths().iter().map(|width| width + GAP).sum();
        // The gap after the last column is not shown.
        let narrow = self.least_widths();
        let folds =
            width.is_some_and(|width| whole > width + GAP && narrow.iter().sum::<u16>() <= width + GAP);
        match width.filter(|_| folds) {
            Some(width) => {
                table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width + GAP);
                for (column, least) in table.column_iter_mut().zip(narrow) {
                    column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(least)));
                }
            }
            None => {
                table.set_content_arrangement(ContentArrangement::Disabled);
            }
        }
        let lines: String = table.lines().map(|line| line.trim_end().to_owned() + "\n").collect();
        lines + &self.note
    }

    /// With the gap, the least width of each column in which none of its words is broken.
    fn least_widths(&self) -> Vec<u16> {
        let longest = |text: &str| text.split(' ').map(|word| word.chars().count()).max().unwrap_or(0);
        let widest = |(at, head): (usize, &String)| {
            let cells = self.rows.iter().filter_map(|row| row.get(at)).map(|cell| longest(&cell.shown));
            cells.chain([longest(head)]).max().and_then(|width| u16::try_from(width).ok()).unwrap_or(u16::MAX)
        };
        self.head.iter().enumerate().map(widest).map(|width| width.saturating_add(GAP)).collect()
    }

    /// RFC 4180, with exact values: times as in RFC 3339, sizes in bytes, spans in seconds.
    pub(crate) fn csv(&self) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        // Writing into memory does not fail.
        let _ = writer.write_record(self.head.iter().map(|name| name.replace(' ', "_")));
        for row in &self.rows {
            let _ = writer.write_record(row.iter().map(|cell| &cell.exact));
        }
        String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_aligned_and_end_without_blanks() {
        let table =
            columns(["name", "stage"], [["auklet-bridge-1".into(), "idle".into()], ["a".into(), "x".into()]]);
        assert_eq!(table.text(), "NAME             STAGE\nauklet-bridge-1  idle\na                x\n");
    }

    #[test]
    fn what_a_terminal_has_no_room_for_goes_on_in_its_column() {
        let row = |name: &str, problem: &str| [name.into(), Cell::state("fault"), problem.into()];
        let table = columns(
            ["name", "state", "problem"],
            [row("02:00:5e:00:53:01", "its disk is not there as its answers describe it"), row("b", "none")],
        );
        let plain = |width| anstream::adapter::strip_str(&table.fitting(width)).to_string();
        let folded = "NAME               STATE  PROBLEM\n\
                      02:00:5e:00:53:01  fault  its disk is not there as\n\
                      \u{20}                         its answers describe it\n\
                      b                  fault  none\n";
        assert_eq!(plain(Some(50)), folded);
        // Room enough, no room at all, or no terminal: each row is one line.
        for width in [Some(80), Some(20), None] {
            assert_eq!(plain(width).lines().count(), 3, "{width:?}");
        }
    }

    #[test]
    fn programs_get_exact_values() {
        let at = Timestamp::from_second(1_764_000_000).unwrap();
        let table = columns(
            ["last seen", "size", "labels", "note"],
            [[
                Cell::ago(Some(at)),
                Cell::size(1_048_576),
                Cell::list(&["a".into(), "b".into()]),
                "x, \"y\"".into(),
            ]],
        );
        assert_eq!(
            table.csv(),
            "last_seen,size,labels,note\n2025-11-24T16:00:00Z,1048576,a b,\"x, \"\"y\"\"\"\n"
        );
    }

    #[test]
    fn colours_take_no_width() {
        let table = columns(
            ["state", "x"],
            [[Cell::state("failed"), "1".into()], [Cell::state("installed"), "2".into()]],
        );
        let plain = anstream::adapter::strip_str(&table.text()).to_string();
        assert_eq!(plain, "STATE      X\nfailed     1\ninstalled  2\n");
        assert_ne!(plain, table.text());
    }
}

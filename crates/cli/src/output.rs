//! What people and programs read: tables, JSON, and failures that teach.

use std::io::{IsTerminal, Write};

use comfy_table::{ColumnConstraint, ContentArrangement, Table, presets};
use indicatif::{ProgressBar, ProgressStyle};
use jiff::Timestamp;
use lastmile_api::DraftDifference;
use lastmile_client::{ClientError, UploadProgress};
use lastmile_core::base::Fault;
use serde::Serialize;
use thiserror::Error;

/// Where results go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    json: bool,
}

impl Output {
    pub(crate) const fn new(json: bool) -> Self {
        Self { json }
    }

    /// Shows a value: as JSON, or as `text` makes it.
    pub(crate) fn show<T: Serialize>(&self, value: &T, text: impl FnOnce(&T) -> String) {
        if self.json {
            self.line(&serde_json::to_string_pretty(value).unwrap_or_default());
        } else {
            self.line(text(value).trim_end());
        }
    }

    /// Says that something was done. Programs asked for values, not for this.
    pub(crate) fn say(&self, text: &str) {
        if !self.json {
            self.line(text);
        }
    }

    /// Warns on standard error.
    pub(crate) fn warn(&self, text: &str) {
        let _ = writeln!(std::io::stderr(), "warning: {text}");
    }

    /// Whether programs read it.
    pub(crate) const fn is_json(&self) -> bool {
        self.json
    }

    /// A value as one line of JSON: what comes bit by bit.
    pub(crate) fn json_line(&self, value: &impl Serialize) {
        self.line(&serde_json::to_string(value).unwrap_or_default());
    }

    /// One line as it is.
    pub(crate) fn line(&self, text: &str) {
        // A reader that has gone, as in `lastmile … | head`, is no failure.
        let _ = writeln!(std::io::stdout(), "{text}");
    }

    /// A sign of life for work of unknown length; none where nobody watches.
    pub(crate) fn spinner(&self, what: &'static str) -> Bar {
        if self.json || !std::io::stderr().is_terminal() {
            return Bar(ProgressBar::hidden());
        }
        let bar = ProgressBar::new_spinner().with_message(what);
        bar.enable_steady_tick(std::time::Duration::from_millis(100));
        Bar(bar)
    }

    /// A bar for so many things; none where nobody watches.
    pub(crate) fn count(&self, what: &str, things: usize) -> Bar {
        if self.json || !std::io::stderr().is_terminal() {
            return Bar(ProgressBar::hidden());
        }
        let bar = ProgressBar::new(things as u64);
        if let Ok(style) = ProgressStyle::with_template("{msg} {bar:30} {pos} of {len} ended, {elapsed}") {
            bar.set_style(style);
        }
        bar.set_message(what.to_owned());
        bar.enable_steady_tick(std::time::Duration::from_secs(1));
        Bar(bar)
    }

    /// A bar for work on `bytes` bytes; none where nobody watches.
    pub(crate) fn progress(&self, what: &str, bytes: u64) -> Bar {
        if self.json || !std::io::stderr().is_terminal() {
            return Bar(ProgressBar::hidden());
        }
        let bar = ProgressBar::new(bytes);
        let template = "{msg:24} {bar:30} {bytes}/{total_bytes} {bytes_per_sec} {eta} left";
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        bar.set_message(what.to_owned());
        Bar(bar)
    }
}

/// A progress bar on standard error.
#[derive(Debug, Clone)]
pub(crate) struct Bar(ProgressBar);

impl Bar {
    pub(crate) fn name(&self, what: &str) {
        self.0.set_message(what.to_owned());
    }

    /// One more of what is counted.
    pub(crate) fn step(&self) {
        self.0.inc(1);
    }

    /// Writes without breaking the bar's line.
    pub(crate) fn beside(&self, write: impl FnOnce()) {
        self.0.suspend(write);
    }

    pub(crate) fn done(&self) {
        self.0.finish_and_clear();
    }
}

impl UploadProgress for Bar {
    fn advance(&self, bytes: u64) {
        self.0.inc(bytes);
    }
}

/// A table without rules: columns stand two spaces apart. `None` stands as a dash.
pub(crate) fn table<const N: usize>(head: [&str; N], rows: impl IntoIterator<Item = [String; N]>) -> String {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(head.map(str::to_uppercase));
    for row in rows {
        table.add_row(row);
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2)).set_constraint(ColumnConstraint::ContentWidth);
    }
    table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
}

/// Names and values below each other.
pub(crate) fn pairs<'a>(pairs: impl IntoIterator<Item = (&'a str, String)>) -> String {
    let pairs: Vec<_> = pairs.into_iter().collect();
    let width = pairs.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    pairs
        .into_iter()
        .map(|(name, value)| {
            let value = value.replace('\n', &format!("\n{:width$}  ", ""));
            format!("{name:width$}  {value}").trim_end().to_owned() + "\n"
        })
        .collect()
}

/// A dash for what is not there.
pub(crate) fn or_dash(text: Option<impl ToString>) -> String {
    text.map_or_else(|| "-".into(), |text| text.to_string())
}

/// How long ago, in the largest unit that fits.
pub(crate) fn ago(at: Option<Timestamp>) -> String {
    let Some(at) = at else { return "-".into() };
    let secs = Timestamp::now().duration_since(at).as_secs().max(0);
    match secs {
        0..=119 => format!("{secs} s ago"),
        120..=7199 => format!("{} min ago", secs / 60),
        7200..=172_799 => format!("{} h ago", secs / 3600),
        _ => format!("{} d ago", secs / 86_400),
    }
}

/// `2026-11-23 14:02:07`, in the time zone of whoever reads.
pub(crate) fn clock(at: Timestamp) -> String {
    at.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// `14:02:07`, in the time zone of whoever reads.
pub(crate) fn time(at: Timestamp) -> String {
    at.to_zoned(jiff::tz::TimeZone::system()).strftime("%H:%M:%S").to_string()
}

/// Bytes in the unit that a person reads at a glance.
/// A span of whole seconds as people say it: 42 s, 12 min 5 s, 2 h 10 min.
pub(crate) fn duration(secs: u64) -> String {
    match secs {
        0..60 => format!("{secs} s"),
        60..3600 if secs.is_multiple_of(60) => format!("{} min", secs / 60),
        60..3600 => format!("{} min {} s", secs / 60, secs % 60),
        _ => format!("{} h {} min", secs / 3600, secs % 3600 / 60),
    }
}

pub(crate) fn size(bytes: u64) -> String {
    indicatif::BinaryBytes(bytes).to_string()
}

/// Why a command did not do what it was asked.
#[derive(Debug, Error)]
pub(crate) enum Failure {
    #[error(transparent)]
    Client(#[from] ClientError),
    #[error(transparent)]
    Start(#[from] lastmile_server::StartError),
    #[error(transparent)]
    Config(#[from] lastmile_server::config::ConfigError),
    #[error("{0}")]
    Io(#[from] std::io::Error),
    #[error("{place}: {what}")]
    Input {
        /// The file or argument.
        place: String,
        /// What is wrong.
        what: String,
        /// What to do.
        fix: &'static str,
    },
    #[error("{0}")]
    Broken(String),
    #[error("{what}")]
    Faults {
        /// What cannot be done.
        what: String,
        /// Why.
        faults: Vec<Fault>,
    },
}

impl Failure {
    /// Says on standard error what is wrong, where, and what to do.
    pub(crate) fn print(&self) {
        let mut error = std::io::stderr();
        let _ = writeln!(error, "lastmile: {self}");
        for line in self.advice() {
            let _ = writeln!(error, "  {line}");
        }
    }

    fn advice(&self) -> Vec<String> {
        match self {
            Self::Client(ClientError::Problem(problem)) => {
                let faults = problem.faults.iter().flat_map(fault_lines);
                faults.chain(problem.differences.iter().flat_map(difference_lines)).collect()
            }
            Self::Client(ClientError::Unreachable { .. }) => vec![
                "Is the service running? `systemctl status lastmile` tells, `lastmile serve` starts it."
                    .into(),
                "Is it elsewhere? Name it with --server or LASTMILE_SERVER.".into(),
            ],
            Self::Input { fix, .. } => vec![(*fix).into()],
            Self::Faults { faults, .. } => faults.iter().flat_map(fault_lines).collect(),
            _ => vec![],
        }
    }
}

fn difference_lines(difference: &DraftDifference) -> [String; 3] {
    let or_nothing = |text: &Option<String>| text.clone().unwrap_or_else(|| "nothing".into());
    [
        format!("{}:", difference.place),
        format!("    saved  {}", or_nothing(&difference.saved)),
        format!("    yours  {}", or_nothing(&difference.yours)),
    ]
}

fn fault_lines(fault: &Fault) -> [String; 2] {
    let place = if fault.place.is_empty() { String::new() } else { format!("{}: ", fault.place) };
    [format!("{place}{}", fault.what), format!("    {}", fault.fix)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_aligned_and_end_without_blanks() {
        let rows = [["auklet-chart".into(), "-".into()], ["a".into(), "tidewrack-12 r1".into()]];
        assert_eq!(
            table(["name", "holds"], rows),
            "NAME          HOLDS\nauklet-chart  -\na             tidewrack-12 r1\n"
        );
        assert_eq!(table(["name"], Vec::<[String; 1]>::new()), "NAME\n");
    }

    #[test]
    fn pairs_are_aligned_over_several_lines() {
        let text = pairs([("name", "auklet".into()), ("listens", "a\nb".into()), ("none", String::new())]);
        assert_eq!(text, "name     auklet\nlistens  a\n         b\nnone\n");
    }

    #[test]
    fn times_are_told_in_the_largest_unit_that_fits() {
        let before = |secs: i64| ago(Some(Timestamp::now() - jiff::SignedDuration::from_secs(secs)));
        assert_eq!(ago(None), "-");
        assert_eq!(before(0), "0 s ago");
        assert_eq!(before(119), "119 s ago");
        assert_eq!(before(130), "2 min ago");
        assert_eq!(before(3 * 3600), "3 h ago");
        assert_eq!(before(9 * 86_400), "9 d ago");
    }

    #[test]
    fn faults_stand_with_their_place_and_fix() {
        let fault =
            Fault { place: "macs[0]".into(), what: "'x' is bad".into(), fix: "Write it well.".into() };
        assert_eq!(fault_lines(&fault), ["macs[0]: 'x' is bad", "    Write it well."]);
    }
}

//! What people and programs read: tables, JSON, and failures that teach.

mod failure;
mod table;
mod text;

use std::io::{IsTerminal, Write};

pub(crate) use failure::{EXIT_CODES, Failure};
use indicatif::{ProgressBar, ProgressStyle};
use lastmile_client::UploadProgress;
use serde::Serialize;
pub(crate) use table::{Cell, Table, columns};
pub(crate) use text::{ago, clock, duration, or_dash, pairs, size, some_names, time, with_clocks};

/// The form in which results are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub(crate) enum Format {
    /// Tables and sentences for people.
    #[default]
    Table,
    /// JSON for programs. Of a list, always an array.
    Json,
    /// Comma-separated values with a head (RFC 4180), of commands that list something.
    Csv,
}

/// Where results go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    format: Format,
}

impl Output {
    pub(crate) const fn new(format: Format) -> Self {
        Self { format }
    }

    /// Shows a list: as JSON, as comma-separated values, or as the table that `table` makes.
    pub(crate) fn list<T: Serialize>(&self, value: &[T], table: impl FnOnce(&[T]) -> Table) {
        match self.format {
            Format::Json => self.json(value),
            Format::Csv => self.line(table(value).csv().trim_end()),
            Format::Table => self.line(table(value).text().trim_end()),
        }
    }

    fn json<T: Serialize + ?Sized>(&self, value: &T) {
        self.line(&serde_json::to_string_pretty(value).unwrap_or_default());
    }

    /// Shows a value: as JSON, or as `text` makes it.
    pub(crate) fn show<T: Serialize + ?Sized>(&self, value: &T, text: impl FnOnce(&T) -> String) {
        if self.is_json() {
            self.json(value);
        } else {
            self.line(text(value).trim_end());
        }
    }

    /// Says that something was done. Programs asked for values, not for this.
    pub(crate) fn say(&self, text: &str) {
        if self.format == Format::Table {
            self.line(text);
        }
    }

    /// Says of what was only tried that nothing came of it.
    pub(crate) fn say_tried(&self, dry_run: bool) {
        if dry_run {
            self.say("Dry run: nothing was changed.");
        }
    }

    /// Warns on standard error.
    pub(crate) fn warn(&self, text: &str) {
        let _ = writeln!(std::io::stderr(), "warning: {text}");
    }

    /// Whether programs read it.
    pub(crate) fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// A value as one line of JSON: what comes bit by bit.
    pub(crate) fn json_line(&self, value: &impl Serialize) {
        self.line(&serde_json::to_string(value).unwrap_or_default());
    }

    /// One line as it is.
    pub(crate) fn line(&self, text: &str) {
        // A reader that has gone, as in `lastmile … | head`, is no failure.
        // Colours go where a terminal reads them, and nobody has set NO_COLOR.
        let _ = writeln!(anstream::stdout(), "{text}");
    }

    /// A sign of life for work of unknown length; none where nobody watches.
    pub(crate) fn spinner(&self, what: &'static str) -> Bar {
        if self.format != Format::Table || !std::io::stderr().is_terminal() {
            return Bar(ProgressBar::hidden());
        }
        let bar = ProgressBar::new_spinner().with_message(what);
        bar.enable_steady_tick(std::time::Duration::from_millis(100));
        Bar(bar)
    }

    /// Whether comma-separated values are wanted.
    pub(crate) fn is_csv(&self) -> bool {
        self.format == Format::Csv
    }

    /// A sign of life for work of a known amount but unknown speed; none where nobody watches.
    fn working(&self, what: &str) -> Bar {
        if self.format != Format::Table || !std::io::stderr().is_terminal() {
            return Bar(ProgressBar::hidden());
        }
        let bar = ProgressBar::new_spinner().with_message(what.to_owned());
        bar.enable_steady_tick(std::time::Duration::from_millis(100));
        Bar(bar)
    }

    /// Waits for work of unknown length, with a sign of life.
    pub(crate) async fn during<T>(&self, what: &str, work: impl Future<Output = T>) -> T {
        let bar = self.working(what);
        let done = work.await;
        bar.done();
        done
    }

    /// A bar for so many things; none where nobody watches.
    pub(crate) fn count(&self, what: &str, things: usize) -> Bar {
        if self.format != Format::Table || !std::io::stderr().is_terminal() {
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
        if self.format != Format::Table || !std::io::stderr().is_terminal() {
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

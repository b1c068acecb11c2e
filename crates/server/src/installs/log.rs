//! The lines that installers write while they work.

use jiff::Timestamp;
use lastmile_api::Event;
use lastmile_core::install::Install;
use lastmile_store::{LogLine, StoreError};

use crate::state::{App, lock};

/// Lines that are taken at once, and characters of one.
const MOST_LINES: usize = 100;
const MOST_LINE: usize = 500;

impl App {
    /// Keeps what an installer wrote. It is a sign of life as well.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn log_lines(&self, install: &Install, text: &str) -> Result<(), StoreError> {
        let at = Timestamp::now();
        let plain = |line: &str| line.chars().filter(|c| !c.is_control()).take(MOST_LINE).collect::<String>();
        let secret = install.token.reveal();
        let lines: Vec<LogLine> = text
            .lines()
            .map(|line| plain(line).trim_end().replace(secret, "(token)"))
            .filter(|line| !line.is_empty())
            .take(MOST_LINES)
            .map(|line| LogLine { at, line })
            .collect();
        lock(&self.signs).insert(install.number, at);
        if lines.is_empty() {
            return Ok(());
        }
        let (number, kept) = (install.number, lines.clone());
        self.store.write(move |tx| tx.add_log(number, &kept)).await?;
        let lines = lines.into_iter().map(|line| lastmile_api::LogLine { at: line.at, line: line.line });
        // Nobody may be watching.
        let _ = self.events.send(Event::Log { install: number, lines: lines.collect() });
        Ok(())
    }
}

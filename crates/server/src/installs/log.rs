//! The lines that installers write while they work.

use lastmile_core::model::install::Install;
use lastmile_store::{LogLine, StoreError};

use crate::{clock, records::Records, sync::lock};

/// Lines that are taken at once, and characters of one.
const MOST_LINES: usize = 100;
const MOST_LINE: usize = 500;

impl Records {
    /// Keeps what an installer wrote. It is a sign of life as well.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn log_lines(&self, install: &Install, text: &str) -> Result<(), StoreError> {
        let at = clock::now();
        let plain = |line: &str| line.chars().filter(|c| !c.is_control()).take(MOST_LINE).collect::<String>();
        let secret = install.token.reveal();
        let mut lines: Vec<LogLine> = text
            .lines()
            .map(|line| plain(line).trim_end().replace(secret, "(token)"))
            .filter(|line| !line.is_empty())
            .map(|line| LogLine { at, line })
            .collect();
        // What was written last tells most.
        let lines = lines.split_off(lines.len().saturating_sub(MOST_LINES));
        lock(&self.signs).insert(install.number, at);
        if lines.is_empty() {
            return Ok(());
        }
        let number = install.number;
        self.store.change_for_machine(move |change| change.add_log(number, lines)).await
    }
}

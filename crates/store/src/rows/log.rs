//! What installers wrote while they worked, as far as it is kept.

use diesel::prelude::*;
use jiff::Timestamp;

use crate::{StoreError, Tx, schema::install_log, value::Row};

/// Lines that are kept of one install: the latest.
const KEPT: i64 = 1000;

/// A line that an installer wrote.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// When it arrived.
    pub at: Timestamp,
    /// What it says.
    pub line: String,
}

impl Tx<'_> {
    /// Keeps lines of an install's log, and lets go of the oldest beyond what is kept.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_log(&mut self, number: i64, lines: &[LogLine]) -> Result<(), StoreError> {
        for line in lines {
            diesel::insert_into(install_log::table)
                .values((
                    install_log::install_number.eq(number),
                    install_log::at.eq(line.at.as_millisecond()),
                    install_log::line.eq(&line.line),
                ))
                .execute(self.connection())?;
        }
        let of_install = install_log::table.filter(install_log::install_number.eq(number));
        let oldest_kept: Option<i32> = of_install
            .select(install_log::id)
            .order(install_log::id.desc())
            .offset(KEPT - 1)
            .first(self.connection())
            .optional()?;
        if let Some(oldest) = oldest_kept {
            let before = install_log::table
                .filter(install_log::install_number.eq(number))
                .filter(install_log::id.lt(oldest));
            diesel::delete(before).execute(self.connection())?;
        }
        Ok(())
    }

    /// The log of an install, oldest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn log(&mut self, number: i64) -> Result<Vec<LogLine>, StoreError> {
        let rows: Vec<(i64, String)> = install_log::table
            .filter(install_log::install_number.eq(number))
            .order(install_log::id)
            .select((install_log::at, install_log::line))
            .load(self.connection())?;
        let key = number.to_string();
        let read = Row { table: "install_log", key: &key };
        rows.into_iter().map(|(at, line)| Ok(LogLine { at: read.time(at)?, line })).collect()
    }
}

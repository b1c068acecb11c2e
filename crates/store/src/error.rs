//! What can go wrong with the records.

use std::path::PathBuf;

use thiserror::Error;

/// What can go wrong with the records.
#[derive(Debug, Error)]
pub enum StoreError {
    /// The database file cannot be opened.
    #[error("cannot open the database {}: {reason}", path.display())]
    Open {
        /// The file.
        path: PathBuf,
        /// Why.
        reason: String,
    },
    /// The tables cannot be brought to this version.
    #[error("cannot bring the database to this version's tables: {reason}")]
    Migrate {
        /// Why.
        reason: String,
    },
    /// A statement failed.
    #[error("the database refused: {0}")]
    Database(#[from] diesel::result::Error),
    /// The transaction could not be kept; nothing of it is saved.
    #[error("nothing was saved: {reason}")]
    Commit {
        /// Why: disk full, database locked.
        reason: String,
    },
    /// A reading connection could not be had.
    #[error("the database does not answer: {reason}")]
    NoConnection {
        /// Why.
        reason: String,
    },
    /// A value cannot be written into a column.
    #[error("a value cannot be stored: {reason}")]
    Unwritable {
        /// Why.
        reason: String,
    },
    /// A row holds what this version cannot read.
    #[error("table {table}, row {row}: {what}")]
    Value {
        /// The table.
        table: &'static str,
        /// The row's key.
        row: String,
        /// What cannot be read.
        what: String,
    },
    /// The service is going down.
    #[error("the database is closed")]
    Closed,
}

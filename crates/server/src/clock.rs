//! The present time as it is recorded.

use jiff::Timestamp;

/// Now, in whole milliseconds: the database keeps no more, and what is in memory is what a restart would load.
pub(crate) fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now)
}

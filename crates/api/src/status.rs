//! How the service stands.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How the service stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// Since when it runs.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// What it listens on, a line each.
    pub listens: Vec<String>,
    /// How many machines are registered.
    pub machines: usize,
    /// Why what was last to be recorded could not be: no room, no right to write. Nothing is granted or taken until it can be.
    pub trouble: Option<String>,
    /// What was counted since the start.
    pub counters: Counters,
}

/// What was counted since the start.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Counters {
    /// DHCP messages answered.
    pub dhcp_answered: u64,
    /// DHCP messages that were right but not for this service, or not to be answered.
    pub dhcp_ignored: u64,
    /// Datagrams to the DHCP port that were no DHCP message.
    pub dhcp_malformed: u64,
    /// TFTP transfers that reached their end.
    pub tftp_done: u64,
    /// TFTP requests refused: no such file, a path outside, a write.
    pub tftp_refused: u64,
    /// TFTP transfers that the client broke off or fell silent in.
    pub tftp_failed: u64,
    /// Datagrams to the TFTP port that were no request.
    pub tftp_malformed: u64,
    /// Requests to the boot listener that got what they asked for.
    pub http_served: u64,
    /// Requests to the boot listener that were refused.
    pub http_refused: u64,
}

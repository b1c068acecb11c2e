//! Reports over the record.

use lastmile_core::report::history::{GroupBy, HostRecord, Rates};
use serde::{Deserialize, Serialize};

/// Which hosts are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryHostsQuery {
    /// Only those whose image has a newer revision that is current.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub behind: Option<bool>,
    /// Those that left as well (`true`, as if left out), or only those that are there (`false`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left: Option<bool>,
    /// Only those that have this image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// `csv` for a table that spreadsheets read (RFC 4180).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<ReportFormat>,
}

/// Which installs are asked for, and how they are put together.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryRatesQuery {
    /// What installs are put together by; their image if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<GroupBy>,
    /// Only those that were armed from this day on (UTC), as in 2026-11-01.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Only those that were armed before this day (UTC).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// `csv` for a table that spreadsheets read (RFC 4180).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<ReportFormat>,
}

/// The form of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ReportFormat {
    /// JSON.
    #[default]
    Json,
    /// Comma-separated values with a line of names (RFC 4180).
    Csv,
}

/// Which image each host has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct HostHistory {
    /// In the order of names.
    pub hosts: Vec<HostRecord>,
    /// How many of them have an image of which a newer revision is current.
    pub behind: usize,
    /// How many of them left.
    pub left: usize,
}

/// How installs went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RateReport {
    /// What they are put together by.
    pub by: GroupBy,
    /// The figures.
    #[serde(flatten)]
    pub rates: Rates,
}

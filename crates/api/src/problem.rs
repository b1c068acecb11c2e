//! Problem details (RFC 9457).

use lastmile_core::base::Fault;
use serde::{Deserialize, Serialize};

use crate::DraftDifference;

/// The media type of a problem (RFC 9457, section 6.1).
pub const PROBLEM_JSON: &str = "application/problem+json";

/// What went wrong with a call.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Problem {
    /// Kind of problem, the same for every occurrence.
    pub title: String,
    /// HTTP status code.
    pub status: u16,
    /// What went wrong this time, for a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// Everything wrong with the input, where that is the problem.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<Fault>,
    /// Where what was sent is not what is saved now, if somebody else has changed it since it was read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<DraftDifference>,
    /// The ETag of what is saved now, then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub etag: Option<String>,
}

//! Why a call did not work.

use lastmile_api::Problem;
use reqwest::StatusCode;
use thiserror::Error;

/// Why a call did not work.
#[derive(Debug, Error)]
pub enum ClientError {
    /// The address is no URL.
    #[error("'{server}' is no address of a service: {reason}")]
    Address {
        /// The address given.
        server: String,
        /// What is wrong with it.
        reason: String,
    },
    /// Nobody answers.
    #[error("no answer from {server}: {source}")]
    Unreachable {
        /// The service's address.
        server: String,
        /// Why.
        source: reqwest::Error,
    },
    /// The service refused the call.
    #[error("{}", problem_text(.0))]
    Problem(Box<Problem>),
    /// Something answered that is not this service.
    #[error("{server} answered {status}, but not as this service does")]
    NotOurs {
        /// The address asked.
        server: String,
        /// What it answered.
        status: StatusCode,
    },
    /// The answer cannot be read.
    #[error("the answer of {server} cannot be read, perhaps because it is of another version: {source}")]
    Answer {
        /// The service's address.
        server: String,
        /// Where and what.
        source: serde_json::Error,
    },
    /// A connection that stays open is not made, or broke.
    #[error("the connection to {server} is lost: {reason}")]
    Connection {
        /// The service's address.
        server: String,
        /// Why.
        reason: String,
    },
    /// A file to upload cannot be read.
    #[error("cannot read {path}: {source}")]
    File {
        /// The file.
        path: String,
        /// Why.
        source: std::io::Error,
    },
}

fn problem_text(problem: &Problem) -> String {
    problem.detail.clone().unwrap_or_else(|| problem.title.clone())
}

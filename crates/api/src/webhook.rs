//! Webhooks and their deliveries as they are read, and what is sent.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use lastmile_core::model::{
    install::{Difference, Outcome},
    webhook::WebhookEvent,
};
use serde::{Deserialize, Serialize};

use crate::InstallRow;

/// Where ends of installs are told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct WebhookView {
    /// Its name, by which receivers know the key (`keyid`).
    pub name: String,
    /// Where to.
    pub url: String,
    /// What is told.
    pub events: Vec<WebhookEvent>,
    /// Deliveries that are still to be made.
    pub waiting: usize,
    /// When one was taken last.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_delivered: Option<Timestamp>,
    /// What the last attempt came to, where deliveries wait.
    pub trouble: Option<String>,
    /// The key that deliveries are signed with: only in the answer to the request that had it made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

/// One delivery.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct DeliveryView {
    /// Its number, which receivers know it by (`Lastmile-Delivery`): the same at every attempt.
    pub number: i32,
    /// The webhook's name.
    pub webhook: String,
    /// The install that it tells of; nothing for a trial.
    pub install: Option<i64>,
    /// What of it.
    pub event: WebhookEvent,
    /// Since when it is to be made.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// How often it was tried.
    pub attempts: u32,
    /// When it is tried next; nothing once it is delivered or was abandoned.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub due: Option<Timestamp>,
    /// When it was taken on the other side.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub delivered: Option<Timestamp>,
    /// When it was tried last.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_attempt: Option<Timestamp>,
    /// What came of that.
    pub last_answer: Option<String>,
    /// What is sent.
    pub body: String,
}

/// Which deliveries are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DeliveriesListQuery {
    /// Only those of this webhook.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub webhook: Option<String>,
    /// Only those of this install.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub install: Option<i64>,
    /// Only those that are still to be made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waiting: Option<bool>,
    /// At most so many; 100 if left out, 1,000 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// What is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct WebhookBody {
    /// What happened.
    pub event: WebhookEvent,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// The machine's name; empty in a trial.
    pub machine: String,
    /// Its MAC addresses.
    pub macs: Vec<String>,
    /// The address that it was lent.
    #[schema(value_type = Option<String>, format = Ipv4)]
    pub address: Option<Ipv4Addr>,
    /// The install; nothing in a trial.
    pub install: Option<InstallRow>,
    /// SHA-256 over all files of the image revision.
    pub manifest_hash: Option<String>,
    /// SHA-256 of the answer file as served last.
    pub answer_hash: Option<String>,
    /// What the host said of itself at its first start, and what was expected.
    pub outcome: Option<Outcome>,
    /// What of it is not as expected.
    pub differences: Vec<Difference>,
}

impl WebhookBody {
    /// One that tells of nothing.
    #[must_use]
    pub const fn trial(at: Timestamp) -> Self {
        Self {
            event: WebhookEvent::Trial,
            at,
            machine: String::new(),
            macs: Vec::new(),
            address: None,
            install: None,
            manifest_hash: None,
            answer_hash: None,
            outcome: None,
            differences: Vec::new(),
        }
    }
}

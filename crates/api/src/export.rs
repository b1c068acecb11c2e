//! What other programs read of the machines.

use std::{collections::BTreeMap, net::Ipv4Addr};

use jiff::Timestamp;
use lastmile_core::{
    decide::machine::DefaultBootDraft,
    model::{facts::Facts, install::Install},
};
use serde::{Deserialize, Serialize};

use crate::Stage;

/// Which machines are written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportsHostsQuery {
    /// Only those with all of these labels, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
}

/// Which machines are written as CSV.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportsMachinesQuery {
    /// Their names or MAC addresses, joined by commas; all machines if neither this nor a label is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machines: Option<String>,
    /// Those with all of these labels, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
}

/// Which machines the inventory has, and what of them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportsInventoryQuery {
    /// Only those with all of these labels, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// With what surveys measured of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<bool>,
}

/// Which zone is written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportsZoneQuery {
    /// A domain, or a network of 8, 16 or 24 bits for the way back from addresses to names.
    pub of: String,
    /// The zone's name server; `NAME=ADDRESS` where it lies in the zone and is no machine of ours. Without one, only
    /// the records are written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_server: Option<String>,
    /// Only machines with all of these labels, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
}

/// All machines and what they hold, at one time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Inventory {
    /// When it was so.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// The machines, in the order of names.
    pub machines: Vec<InventoryMachine>,
}

/// One machine, and what it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct InventoryMachine {
    /// Its name.
    pub name: String,
    /// Its name with its domain, where it has one.
    pub full_name: Option<String>,
    /// The address reserved for it, else the one lent to it.
    #[schema(value_type = Option<String>)]
    pub address: Option<Ipv4Addr>,
    /// Its NICs' addresses.
    pub macs: Vec<String>,
    /// Its labels.
    pub labels: Vec<String>,
    /// What is known of it.
    pub details: BTreeMap<String, String>,
    /// What it does when no install is armed.
    pub default_boot: DefaultBootDraft,
    /// Where it is.
    pub stage: Stage,
    /// What was installed on it last.
    pub holds: Option<Held>,
    /// What the latest survey measured of it, where that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<Facts>,
}

/// What was installed on a machine, and the proof of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Held {
    /// The image's name.
    pub image: String,
    /// The revision's number.
    pub revision: u32,
    /// SHA-256 over all files of the revision.
    pub manifest_hash: Option<String>,
    /// The answers' name.
    pub answers: String,
    /// The version's number.
    pub answers_version: u32,
    /// SHA-256 of the answer file as it was served.
    pub answer_hash: Option<String>,
    /// The install's number.
    pub install: i64,
    /// Who armed it.
    pub armed_by: String,
    /// When it was installed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub at: Option<Timestamp>,
}

impl From<&Install> for Held {
    fn from(install: &Install) -> Self {
        Self {
            image: install.image.clone(),
            revision: install.image_revision,
            manifest_hash: install.manifest_hash.map(|hash| hash.to_string()),
            answers: install.answers_name.clone(),
            answers_version: install.answers_version,
            answer_hash: install.answer_hash.map(|hash| hash.to_string()),
            install: install.number,
            armed_by: install.armed_by.clone(),
            at: install.ended_at,
        }
    }
}

//! Subnets, loaders, images and answers as they are read.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use lastmile_core::{
    decide::subnet::SubnetDraft,
    model::{
        image::FileEntry,
        lease::{LeaseRecord, LeaseState},
        loader::{HttpReach, Language, Loader, LoaderFacts},
    },
};
use serde::{Deserialize, Serialize};

/// A subnet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct SubnetView {
    /// As a person entered it.
    #[serde(flatten)]
    pub subnet: SubnetDraft,
    /// Addresses that may be lent.
    pub pool_size: u64,
    /// How many of them are lent now.
    pub leased: usize,
    /// How many are left alone because they were found in use.
    pub quarantined: usize,
    /// How many addresses are reserved.
    pub reserved: usize,
    /// The address at which its machines reach this service.
    #[schema(value_type = String)]
    pub service: Ipv4Addr,
}

/// How a subnet is removed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SubnetsRemoveQuery {
    /// Its reservations go with it; otherwise a subnet that has some is not removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_reservations: Option<bool>,
}

/// A reservation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ReservationView {
    /// The address.
    #[schema(value_type = String)]
    pub address: Ipv4Addr,
    /// For whom: a MAC address, `uuid:` and a UUID, or `id:` and a client identifier in hexadecimal.
    pub client: String,
    /// The machine's name, if it is registered under that MAC address.
    pub machine: Option<String>,
}

/// One lease.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LeaseView {
    /// The address.
    #[schema(value_type = String)]
    pub address: Ipv4Addr,
    /// Who holds it: a MAC address, or `id:` and a client identifier in hexadecimal.
    pub client: String,
    /// The machine's name, if it is registered.
    pub machine: Option<String>,
    /// What holds it.
    pub state: LeaseState,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

impl LeaseView {
    /// From the record, with the machine's name if it is registered.
    #[must_use]
    pub fn new(record: &LeaseRecord, machine: Option<String>) -> Self {
        Self {
            address: record.address,
            client: record.client.to_string(),
            machine,
            state: record.state,
            since: record.since,
            until: record.until,
        }
    }
}

/// A loader.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LoaderView {
    /// Its name.
    pub name: String,
    /// The firmware it runs on.
    pub architecture: String,
    /// Only for clients whose vendor class begins so.
    pub class: Option<String>,
    /// Only for clients that name this user class.
    pub user_class: Option<String>,
    /// The file that firmware is told to fetch.
    pub boot_file: String,
    /// How it can fetch by HTTP.
    pub http: HttpReach,
    /// The language it reads menus in.
    pub language: Language,
    /// What its files tell of it.
    pub facts: LoaderFacts,
    /// Its files.
    pub files: Vec<FileEntry>,
}

impl From<&Loader> for LoaderView {
    fn from(loader: &Loader) -> Self {
        Self {
            name: loader.name.clone(),
            architecture: loader.architecture.to_string(),
            class: loader.class.clone(),
            user_class: loader.user_class.clone(),
            boot_file: loader.boot_file.clone(),
            http: loader.http,
            language: loader.language,
            facts: loader.facts.clone(),
            files: loader.manifest.files().to_vec(),
        }
    }
}

/// Content in the library.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ContentView {
    /// SHA-256 of it.
    pub sha256: String,
    /// Bytes.
    pub size: u64,
}

/// A loader that was found in the operating system's packages.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FoundLoader {
    /// The name it would get.
    pub name: String,
    /// The package it comes from.
    pub package: String,
    /// What its files tell of it.
    pub facts: LoaderFacts,
    /// Only for clients that name this user class.
    pub user_class: Option<String>,
    /// The file that firmware would be told to fetch.
    pub boot_file: String,
    /// Where its files are: the name each would get, and the path at which its package puts it.
    pub files: Vec<FoundFile>,
    /// Why it cannot be added as it is, if it cannot.
    pub in_the_way: Option<String>,
}

/// Package files, uploaded before, in which loaders are looked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoaderPackages {
    /// Debian packages. The files of one loader may lie in several.
    #[schema(max_items = 16)]
    pub packages: Vec<FileEntry>,
}

impl LoaderPackages {
    /// How many packages are looked into at once.
    pub const MOST: usize = 16;
}

/// A file of a loader that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct FoundFile {
    /// The name it would get.
    pub name: String,
    /// Where it is.
    pub path: String,
}

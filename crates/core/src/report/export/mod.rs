//! What is known of the machines, in the forms that other programs read: the hosts file, zone files.

use std::{collections::HashMap, net::Ipv4Addr};

pub use hosts::hosts_file;
use lastmile_formats::mac::Mac;
pub use zone::{ZoneDraft, ZoneOf};

use crate::{
    model::{machine::Machine, reservation::ReservedFor},
    site::Site,
};

mod hosts;
mod zone;

/// A machine as others are to know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Host {
    /// Its name.
    pub name: String,
    /// Its domain: that of the answers it is or was installed with, else of the subnet that its address is of.
    pub domain: Option<String>,
    /// The address reserved for it, else the one lent to it. `None` while it has neither.
    pub address: Option<Ipv4Addr>,
}

impl Host {
    /// Its name with its domain, where it has one.
    #[must_use]
    pub fn full_name(&self) -> Option<String> {
        self.domain.as_ref().map(|domain| format!("{}.{domain}", self.name))
    }
}

/// Every machine, in the order of names. `lent` gives the address that a machine was lent.
#[must_use]
pub fn hosts(site: &Site, lent: impl Fn(&Machine) -> Option<Ipv4Addr>) -> Vec<Host> {
    let reserved: HashMap<Mac, Ipv4Addr> = site
        .subnets()
        .flat_map(|subnet| site.reservations_of(subnet.id))
        .filter_map(|reservation| match reservation.client {
            ReservedFor::Mac(mac) => Some((mac, reservation.address)),
            _ => None,
        })
        .collect();
    let host = |machine: &Machine| {
        let address =
            machine.macs.iter().find_map(|mac| reserved.get(mac).copied()).or_else(|| lent(machine));
        let install = site.open_install(machine.id).or_else(|| site.last_installed(machine.id));
        let of_answers = install
            .and_then(|install| site.answers_version(install.answers))
            .and_then(|answers| answers.settings.domain.clone());
        let of_subnet = || {
            let address = address?;
            site.subnets().find(|subnet| subnet.network.contains(&address))?.domain.clone()
        };
        Host { name: machine.name.clone(), domain: of_answers.or_else(of_subnet), address }
    };
    site.machines().map(|machine| host(machine)).collect()
}

/// A comment that names what is left out, in lines of their own.
fn left_out(mark: char, why: &str, names: &[&str]) -> String {
    names.iter().map(|name| format!("{mark} left out: {name}, {why}\n")).collect()
}

//! Reservations as people enter them.

use std::net::Ipv4Addr;

use lastmile_formats::mac::MAC_FIX;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults},
    model::{
        reservation::{CLIENT_FIX, Reservation, ReservedFor},
        subnet::Subnet,
    },
    site::Site,
};

/// A reservation as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ReservationDraft {
    /// The address.
    pub address: String,
    /// For whom: a machine's name (its first NIC), a MAC address, `uuid:` and a UUID, or `id:` and a client identifier in hexadecimal.
    pub client: String,
}

impl ReservationDraft {
    /// A draft of what is known already.
    #[must_use]
    pub fn new(address: impl Into<String>, client: ReservedFor) -> Self {
        Self { address: address.into(), client: client.to_string() }
    }

    /// Checks the draft against its subnet, the other reservations and the service's own addresses. One that
    /// the same client has on the subnet is replaced.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, subnet: &Subnet, site: &Site, own: &[Ipv4Addr]) -> Result<Reservation, Vec<Fault>> {
        let mut faults = Faults::new();
        let fix =
            if self.client.contains(':') && !self.client.contains("id:") { MAC_FIX } else { CLIENT_FIX };
        let named = || site.machine_called(self.client.trim())?.macs.first().copied().map(ReservedFor::Mac);
        let client = self.client.parse::<ReservedFor>().or_else(|error| named().ok_or(error));
        let client = faults.keep("client", client, fix);
        let wrong = |_| format!("'{}' is no IPv4 address", self.address);
        let address = faults.keep(
            "address",
            self.address.trim().parse::<Ipv4Addr>().map_err(wrong),
            "Write four numbers from 0 to 255 joined by dots; a name will not do.",
        );
        if let Some(address) = address {
            check_address(&mut faults, subnet, address, own);
            let held = site.reservation_at(address).filter(|held| Some(&held.client) != client.as_ref());
            if let Some(held) = held {
                faults.add(
                    "address",
                    format!("{address} is reserved for {} already", held.client),
                    "Choose another address, or remove that reservation first.",
                );
            }
        }
        faults.into_result(|| Some(Reservation { address: address?, subnet: subnet.id, client: client? }))
    }
}

fn check_address(faults: &mut Faults, subnet: &Subnet, address: Ipv4Addr, own: &[Ipv4Addr]) {
    if !subnet.is_host(address) {
        faults.add(
            "address",
            format!("{address} is no host address of {} ({})", subnet.name, subnet.network),
            "Choose an address of that network.",
        );
    } else if let Some(pool) = subnet.lendable.iter().find(|run| run.contains(address)) {
        faults.add(
            "address",
            format!("{address} is in the pool {pool}, so it may be lent to others"),
            format!(
                "Choose an address outside the pools, or add {address} to the subnet's exclusions first."
            ),
        );
    }
    if subnet.router == Some(address) {
        faults.add("address", format!("{address} is the router's address"), "Choose another address.");
    }
    if own.contains(&address) {
        faults.add("address", format!("{address} is this service's own address"), "Choose another address.");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        base::Id,
        decide::{machine::MachineDraft, subnet::SubnetDraft},
    };

    #[test]
    fn an_address_is_reserved_once_and_never_from_a_pool() {
        let draft = SubnetDraft {
            router: Some("192.0.2.1".into()),
            pools: vec!["192.0.2.50-192.0.2.99".into()],
            exclusions: vec!["192.0.2.60".into()],
            interface: Some("eno1".into()),
            ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
        };
        let subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
        let site = Site::default().with_subnet(subnet.clone());
        let reserve =
            |address: &str, client: &str| ReservationDraft { address: address.into(), client: client.into() };
        let what = |site: &Site, address: &str, client: &str| {
            let faults =
                reserve(address, client).check(&subnet, site, &["192.0.2.2".parse().unwrap()]).unwrap_err();
            faults.into_iter().map(|fault| fault.what).collect::<Vec<_>>().join("; ")
        };
        let good = reserve("192.0.2.60", "02:00:5e:00:53:01").check(&subnet, &site, &[]).unwrap();
        assert!(what(&site, "192.0.2.61", "02:00:5e:00:53:01").contains("may be lent to others"));
        assert!(what(&site, "192.0.2.2", "02:00:5e:00:53:01").contains("own address"));
        assert!(what(&site, "192.0.2.255", "02:00:5e:00:53:01").contains("no host address"));
        assert!(what(&site, "quay", "zz").contains("; 'quay' is no IPv4 address"));
        let site = site.with_reservation(good);
        assert!(
            what(&site, "192.0.2.60", "02:00:5e:00:53:02").contains("reserved for 02:00:5e:00:53:01 already")
        );
        assert!(reserve("192.0.2.60", "02-00-5E-00-53-01").check(&subnet, &site, &[]).is_ok());
        // By the name of a machine, as everywhere.
        let machine = MachineDraft::new("holm-kiosk-1", vec!["02:00:5e:00:53:09".into()]);
        let machine = machine.check(&site, None, jiff::Timestamp::UNIX_EPOCH).unwrap();
        let site = site.with_machine(machine);
        let named = reserve("192.0.2.20", "holm-kiosk-1").check(&subnet, &site, &[]).unwrap();
        assert_eq!(named.client.to_string(), "02:00:5e:00:53:09");
        assert!(what(&site, "192.0.2.20", "holm-kiosk-2").contains("holm-kiosk-2"));
    }
}

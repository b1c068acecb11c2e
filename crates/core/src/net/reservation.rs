//! Reservations: an address that one client always gets, and nobody else ever.

use std::{fmt, net::Ipv4Addr, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use thiserror::Error;
use uuid::Uuid;

use super::{MAC_MEND, Mac, Subnet};
use crate::{Fault, Faults, site::Site};

/// Longest client identifier (option 61) that is taken, in octets.
const MAX_CLIENT_ID: usize = 255;

/// By what a client is known.
///
/// Written as a MAC address, as `uuid:` and an SMBIOS UUID, or as `id:` and a client identifier in hexadecimal.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ReservedFor {
    /// Its hardware address.
    Mac(Mac),
    /// Its SMBIOS UUID, as option 97 carries it (RFC 4578, section 2.3).
    Uuid(Uuid),
    /// Its client identifier (option 61; RFC 2132, section 9.14).
    ClientId(Vec<u8>),
}

/// Why a text names no client.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ClientTextError {
    /// No MAC address.
    #[error(transparent)]
    Mac(#[from] super::MacError),
    /// No UUID after `uuid:`.
    #[error("'{0}' is no UUID")]
    Uuid(String),
    /// Not pairs of hexadecimal digits after `id:`, or none, or too many.
    #[error("'{0}' is not 1 to 255 pairs of hexadecimal digits")]
    ClientId(String),
}

/// How to mend any [`ClientTextError`].
pub const CLIENT_MEND: &str = "Write a MAC address, uuid: and the machine's UUID, or id: and the client \
                               identifier in hexadecimal, as in id:0102005e005301.";

impl fmt::Display for ReservedFor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mac(mac) => fmt::Display::fmt(mac, f),
            Self::Uuid(uuid) => write!(f, "uuid:{uuid}"),
            Self::ClientId(octets) => {
                f.write_str("id:")?;
                octets.iter().try_for_each(|octet| write!(f, "{octet:02x}"))
            }
        }
    }
}

impl FromStr for ReservedFor {
    type Err = ClientTextError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let text = text.trim();
        if let Some(uuid) = text.strip_prefix("uuid:") {
            return Ok(Self::Uuid(uuid.parse().map_err(|_| ClientTextError::Uuid(uuid.into()))?));
        }
        let Some(hex) = text.strip_prefix("id:") else { return Ok(Self::Mac(text.parse()?)) };
        let wrong = || ClientTextError::ClientId(hex.into());
        let octets = crate::hex::decode(hex).ok_or_else(wrong)?;
        if octets.is_empty() || octets.len() > MAX_CLIENT_ID {
            return Err(wrong());
        }
        Ok(Self::ClientId(octets))
    }
}

impl Serialize for ReservedFor {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for ReservedFor {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

/// An address kept for one client.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reservation {
    /// The address.
    pub address: Ipv4Addr,
    /// The subnet it is of.
    pub subnet: crate::Id<Subnet>,
    /// For whom.
    pub client: ReservedFor,
}

/// A reservation as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ReservationDraft {
    /// The address.
    pub address: String,
    /// For whom: a MAC address, `uuid:` and a UUID, or `id:` and a client identifier in hexadecimal.
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
        let mend =
            if self.client.contains(':') && !self.client.contains("id:") { MAC_MEND } else { CLIENT_MEND };
        let client = faults.keep("client", self.client.parse::<ReservedFor>(), mend);
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
    use crate::{Id, net::SubnetDraft};

    #[test]
    fn clients_are_read_back_as_written() {
        for text in ["02:00:5e:00:53:01", "uuid:6f8d0c1e-4e1f-4d5a-9a55-0d2f30b1c001", "id:0102005e005301"] {
            assert_eq!(text.parse::<ReservedFor>().unwrap().to_string(), text);
        }
        assert!(matches!("id:".parse::<ReservedFor>(), Err(ClientTextError::ClientId(_))));
        assert!(matches!("id:0".parse::<ReservedFor>(), Err(ClientTextError::ClientId(_))));
        assert!(matches!("uuid:6f8d".parse::<ReservedFor>(), Err(ClientTextError::Uuid(_))));
    }

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
    }
}

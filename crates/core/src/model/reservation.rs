//! Reservations: an address that one client always gets, and nobody else ever.

use std::{fmt, net::Ipv4Addr, str::FromStr};

use lastmile_formats::mac::Mac;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use thiserror::Error;
use uuid::Uuid;

use crate::model::subnet::Subnet;

/// Longest client identifier (option 61) that is taken, in bytes.
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
    Mac(#[from] lastmile_formats::mac::MacError),
    /// No UUID after `uuid:`.
    #[error("'{0}' is no UUID")]
    Uuid(String),
    /// Not pairs of hexadecimal digits after `id:`, or none, or too many.
    #[error("'{0}' is not 1 to 255 pairs of hexadecimal digits")]
    ClientId(String),
}

/// How to fix any [`ClientTextError`].
pub const CLIENT_FIX: &str = "Write a machine's name, a MAC address, uuid: and the machine's UUID, or id: and the client \
                               identifier in hexadecimal, as in id:0102005e005301.";

impl fmt::Display for ReservedFor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mac(mac) => fmt::Display::fmt(mac, f),
            Self::Uuid(uuid) => write!(f, "uuid:{uuid}"),
            Self::ClientId(bytes) => {
                write!(f, "id:{}", hex::encode(bytes))
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
        let Some(digits) = text.strip_prefix("id:") else { return Ok(Self::Mac(text.parse()?)) };
        let wrong = || ClientTextError::ClientId(digits.into());
        let bytes = hex::decode(digits.replace([':', '-'], "")).map_err(|_| wrong())?;
        if bytes.is_empty() || bytes.len() > MAX_CLIENT_ID {
            return Err(wrong());
        }
        Ok(Self::ClientId(bytes))
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
    pub subnet: crate::base::Id<Subnet>,
    /// For whom.
    pub client: ReservedFor,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clients_are_read_back_as_written() {
        for text in ["02:00:5e:00:53:01", "uuid:6f8d0c1e-4e1f-4d5a-9a55-0d2f30b1c001", "id:0102005e005301"] {
            assert_eq!(text.parse::<ReservedFor>().unwrap().to_string(), text);
        }
        assert!(matches!("id:".parse::<ReservedFor>(), Err(ClientTextError::ClientId(_))));
        assert!(matches!("id:0".parse::<ReservedFor>(), Err(ClientTextError::ClientId(_))));
        assert!(matches!("uuid:6f8d".parse::<ReservedFor>(), Err(ClientTextError::Uuid(_))));
    }
}

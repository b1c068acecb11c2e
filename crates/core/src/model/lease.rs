//! A lease, and the client that holds it.

use std::{fmt, net::Ipv4Addr};

use jiff::Timestamp;
use lastmile_formats::{
    dhcp::{Message, code},
    mac::Mac,
};
use serde::{Deserialize, Serialize};

use crate::{base::Id, model::subnet::Subnet};

/// Who holds a lease.
#[derive(Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum ClientKey {
    /// An Ethernet client.
    Mac(Mac),
    /// Any other: its client identifier (RFC 2132, section 9.14).
    Identifier(Vec<u8>),
}

impl ClientKey {
    /// The key of the client that sent `message`; `None` if it gave nothing to know it by.
    #[must_use]
    pub fn of(message: &Message) -> Option<Self> {
        if let Some(mac) = message.mac() {
            return Some(Self::Mac(mac));
        }
        let identifier = message.options.get(code::CLIENT_IDENTIFIER)?;
        (!identifier.is_empty()).then(|| Self::Identifier(identifier.to_vec()))
    }

    /// The MAC address, if it is known by one.
    #[must_use]
    pub const fn mac(&self) -> Option<Mac> {
        match self {
            Self::Mac(mac) => Some(*mac),
            Self::Identifier(_) => None,
        }
    }

    /// A spread of keys over 64 bits that stays the same across restarts (FNV-1a).
    pub(crate) fn spread(&self) -> u64 {
        let fnv = |bytes: &[u8]| {
            bytes.iter().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
                (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3)
            })
        };
        match self {
            Self::Mac(mac) => fnv(&mac.octets()),
            Self::Identifier(identifier) => fnv(identifier),
        }
    }
}

impl fmt::Display for ClientKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mac(mac) => fmt::Display::fmt(mac, f),
            Self::Identifier(identifier) => {
                write!(f, "id:{}", hex::encode(identifier))
            }
        }
    }
}

impl fmt::Debug for ClientKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl std::str::FromStr for ClientKey {
    type Err = lastmile_formats::mac::MacError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.strip_prefix("id:") {
            Some(digits) => Ok(Self::Identifier(hex::decode(digits).unwrap_or_default())),
            None => text.parse().map(Self::Mac),
        }
    }
}

/// What holds an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum LeaseState {
    /// Offered; nothing is promised, so it is in memory only.
    Offered,
    /// Granted.
    Bound,
    /// Given back: kept so that the client finds its address again.
    Released,
    /// A client found it in use by somebody else.
    Quarantined,
}

impl LeaseState {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One address and what holds it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeaseRecord {
    /// The address.
    pub address: Ipv4Addr,
    /// The subnet it is of.
    pub subnet: Id<Subnet>,
    /// Who holds it, or held it last.
    pub client: ClientKey,
    /// What holds it.
    pub state: LeaseState,
    /// Since when.
    pub since: Timestamp,
    /// Until when.
    pub until: Timestamp,
    /// Which change of the book made it so: of two records of one address the one with the higher number counts, in whatever
    /// order they come to the disk.
    pub version: u64,
}

impl LeaseRecord {
    /// Whether nobody else may have the address at `now`.
    #[must_use]
    pub fn is_held(&self, now: Timestamp) -> bool {
        self.state != LeaseState::Released && self.until > now
    }
}

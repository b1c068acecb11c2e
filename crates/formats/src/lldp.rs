//! What a switch says of itself and of the port that one hangs on: the Link Layer Discovery Protocol (IEEE 802.1AB-2016).

use std::{
    fmt,
    net::{IpAddr, Ipv4Addr, Ipv6Addr},
};

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use thiserror::Error;

use crate::{mac::Mac, reader::Reader};

/// The type of its frames (section 7.1.4).
pub const ETHERTYPE: u16 = 0x88CC;
/// Where they are sent so that no bridge forwards them: "nearest bridge" (section 7.1.1).
pub const NEAREST_BRIDGE: [u8; 6] = [0x01, 0x80, 0xC2, 0x00, 0x00, 0x0E];

/// The organization of VLANs (IEEE 802.1Q-2018, annex D).
const IEEE_802_1: [u8; 3] = [0x00, 0x80, 0xC2];
/// Longest value of one part (nine bits).
const LONGEST: usize = 0x1FF;
/// VLANs that are kept: a trunk may carry 4094.
const MOST_VLANS: usize = 64;

/// Why a frame says nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum LldpError {
    /// It ends within a part.
    #[error("the LLDP frame ends too early")]
    CutOff,
    /// The three that each frame begins with (section 8.2) are not there, in their order.
    #[error("the LLDP frame does not begin with chassis, port and time to live")]
    Beginning,
}

/// By what a chassis or a port is known (sections 8.5.2 and 8.5.3).
///
/// Written as one text, which is read as the first of these that it can be.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Known {
    /// By a MAC address.
    Mac(Mac),
    /// By a network address.
    Address(IpAddr),
    /// By a name: of a component, an interface, or one that was assigned there.
    Name(String),
}

impl fmt::Display for Known {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mac(mac) => mac.fmt(f),
            Self::Address(address) => address.fmt(f),
            Self::Name(name) => f.write_str(name),
        }
    }
}

impl From<String> for Known {
    fn from(text: String) -> Self {
        let mac = text.parse().ok().filter(|mac: &Mac| mac.to_string() == text).map(Self::Mac);
        mac.or_else(|| text.parse().ok().map(Self::Address)).unwrap_or(Self::Name(text))
    }
}

impl Serialize for Known {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Known {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(Self::from)
    }
}

/// A VLAN that a switch has on a port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = NeighbourVlan))]
pub struct Vlan {
    /// Its number.
    pub number: u16,
    /// What it is called there.
    pub name: String,
}

/// What was said about the other end of a cable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Neighbour {
    /// The switch: a MAC address, a network address, or a name.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub chassis: Known,
    /// Its port: the same.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub port: Known,
    /// For how long this holds, s; 0 takes back what was said before (section 8.5.4).
    pub lifetime: u16,
    /// What its owner wrote beside the port.
    pub port_description: Option<String>,
    /// The switch's name.
    pub system_name: Option<String>,
    /// What it is.
    pub system_description: Option<String>,
    /// Where it is managed.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub management: Option<IpAddr>,
    /// The VLAN of untagged frames (IEEE 802.1Q, D.2.1).
    pub untagged_vlan: Option<u16>,
    /// VLANs on the port (D.2.3).
    pub vlans: Vec<Vlan>,
}

/// Kinds of parts (table 8-1).
mod kind {
    pub(super) const END: u8 = 0;
    pub(super) const CHASSIS: u8 = 1;
    pub(super) const PORT: u8 = 2;
    pub(super) const LIFETIME: u8 = 3;
    pub(super) const PORT_DESCRIPTION: u8 = 4;
    pub(super) const SYSTEM_NAME: u8 = 5;
    pub(super) const SYSTEM_DESCRIPTION: u8 = 6;
    pub(super) const MANAGEMENT: u8 = 8;
    pub(super) const ORGANIZATION: u8 = 127;
}

/// What says whether a chassis or a port is known by a MAC or a network address.
struct Subtypes {
    mac: u8,
    address: u8,
}

const OF_CHASSIS: Subtypes = Subtypes { mac: 4, address: 5 };
const OF_PORT: Subtypes = Subtypes { mac: 3, address: 4 };
/// "Locally assigned", of both.
const ASSIGNED: u8 = 7;

impl Neighbour {
    /// One that says only what each frame must say.
    #[must_use]
    pub const fn new(chassis: Known, port: Known) -> Self {
        Self {
            chassis,
            port,
            lifetime: 120,
            port_description: None,
            system_name: None,
            system_description: None,
            management: None,
            untagged_vlan: None,
            vlans: Vec::new(),
        }
    }

    /// Reads what a frame carries after its Ethernet head. Parts that are not known are passed over (section 9.2.7.7.1).
    ///
    /// # Errors
    /// [`LldpError`].
    pub fn parse(bytes: &[u8]) -> Result<Self, LldpError> {
        let mut reader = Reader::new(bytes);
        let mut must = |wanted: u8| match part(&mut reader)? {
            Some((kind, value)) if kind == wanted => Ok(value),
            _ => Err(LldpError::Beginning),
        };
        let chassis = known(must(kind::CHASSIS)?, &OF_CHASSIS).ok_or(LldpError::Beginning)?;
        let port = known(must(kind::PORT)?, &OF_PORT).ok_or(LldpError::Beginning)?;
        let lifetime = Reader::new(must(kind::LIFETIME)?).u16().ok_or(LldpError::Beginning)?;
        let mut neighbour = Self { lifetime, ..Self::new(chassis, port) };
        while let Some((kind, value)) = part(&mut reader)? {
            match kind {
                kind::PORT_DESCRIPTION => neighbour.port_description = text(value),
                kind::SYSTEM_NAME => neighbour.system_name = text(value),
                kind::SYSTEM_DESCRIPTION => neighbour.system_description = text(value),
                // A switch may say several: the first counts.
                kind::MANAGEMENT if neighbour.management.is_none() => {
                    neighbour.management = management(value);
                }
                kind::ORGANIZATION => neighbour.organization(value),
                _ => {}
            }
        }
        Ok(neighbour)
    }

    fn organization(&mut self, value: &[u8]) {
        let mut reader = Reader::new(value);
        if reader.array() != Some(IEEE_802_1) {
            return;
        }
        match reader.u8() {
            // 0 says that there is none.
            Some(1) => self.untagged_vlan = reader.u16().filter(|vlan| *vlan != 0),
            Some(3) if self.vlans.len() < MOST_VLANS => {
                let Some(number) = reader.u16() else { return };
                let name = reader.u8().and_then(|length| reader.take(length.into())).and_then(text);
                self.vlans.push(Vlan { number, name: name.unwrap_or_default() });
            }
            _ => {}
        }
    }

    /// As a frame carries it after its Ethernet head: for stand-ins of switches. Names that are too long are cut off.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        put(&mut bytes, kind::CHASSIS, &known_bytes(&self.chassis, &OF_CHASSIS));
        put(&mut bytes, kind::PORT, &known_bytes(&self.port, &OF_PORT));
        put(&mut bytes, kind::LIFETIME, &self.lifetime.to_be_bytes());
        let texts = [
            (kind::PORT_DESCRIPTION, &self.port_description),
            (kind::SYSTEM_NAME, &self.system_name),
            (kind::SYSTEM_DESCRIPTION, &self.system_description),
        ];
        for (kind, text) in texts {
            if let Some(text) = text {
                put(&mut bytes, kind, text.as_bytes());
            }
        }
        if let Some(address) = self.management {
            let address = address_bytes(address);
            let mut value = vec![u8::try_from(address.len()).unwrap_or_default()];
            value.extend(address);
            // Interface number not known, no object identifier (section 8.5.9).
            value.extend([1, 0, 0, 0, 0, 0]);
            put(&mut bytes, kind::MANAGEMENT, &value);
        }
        if let Some(vlan) = self.untagged_vlan {
            let value = [&IEEE_802_1[..], &[1], &vlan.to_be_bytes()].concat();
            put(&mut bytes, kind::ORGANIZATION, &value);
        }
        for Vlan { number, name } in &self.vlans {
            let name = &name.as_bytes()[..name.len().min(32)];
            let length = u8::try_from(name.len()).unwrap_or_default();
            let value = [&IEEE_802_1[..], &[3], &number.to_be_bytes(), &[length], name].concat();
            put(&mut bytes, kind::ORGANIZATION, &value);
        }
        put(&mut bytes, kind::END, &[]);
        bytes
    }
}

/// The next part: seven bits of kind, nine of length, the value (section 8.4). Nothing at the end, which old devices leave out.
fn part<'a>(reader: &mut Reader<'a>) -> Result<Option<(u8, &'a [u8])>, LldpError> {
    let Some(head) = reader.u16() else { return Ok(None) };
    let kind = u8::try_from(head >> 9).unwrap_or(kind::END);
    if kind == kind::END {
        return Ok(None);
    }
    let value = reader.take(usize::from(head) & LONGEST).ok_or(LldpError::CutOff)?;
    Ok(Some((kind, value)))
}

fn put(bytes: &mut Vec<u8>, kind: u8, value: &[u8]) {
    let value = &value[..value.len().min(LONGEST)];
    let length = u16::try_from(value.len()).unwrap_or_default();
    bytes.extend((u16::from(kind) << 9 | length).to_be_bytes());
    bytes.extend(value);
}

fn known(value: &[u8], subtypes: &Subtypes) -> Option<Known> {
    let (subtype, value) = value.split_first()?;
    if *subtype == subtypes.mac
        && let Ok(octets) = value.try_into()
        && let Ok(mac) = Mac::new(octets)
    {
        return Some(Known::Mac(mac));
    }
    if *subtype == subtypes.address {
        return address(value).map(Known::Address);
    }
    text(value).map(Known::Name)
}

fn known_bytes(known: &Known, subtypes: &Subtypes) -> Vec<u8> {
    match known {
        Known::Mac(mac) => [&[subtypes.mac], &mac.octets()[..]].concat(),
        Known::Address(address) => [vec![subtypes.address], address_bytes(*address)].concat(),
        Known::Name(name) => [&[ASSIGNED], name.as_bytes()].concat(),
    }
}

/// An address with its family (IANA's address family numbers).
fn address(value: &[u8]) -> Option<IpAddr> {
    match value.split_first()? {
        (1, address) => Some(Ipv4Addr::from(<[u8; 4]>::try_from(address).ok()?).into()),
        (2, address) => Some(Ipv6Addr::from(<[u8; 16]>::try_from(address).ok()?).into()),
        _ => None,
    }
}

fn address_bytes(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(address) => [&[1], &address.octets()[..]].concat(),
        IpAddr::V6(address) => [&[2], &address.octets()[..]].concat(),
    }
}

/// The address of a management part: its length, itself; what follows is of no use here.
fn management(value: &[u8]) -> Option<IpAddr> {
    let mut reader = Reader::new(value);
    let length = reader.u8()?;
    address(reader.take(length.into())?)
}

/// A text without blanks around it and without what moves a cursor; nothing if that is all there is.
fn text(value: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(value);
    let text: String = text.chars().map(|one| if one.is_control() { ' ' } else { one }).collect();
    Some(text.trim().to_owned()).filter(|text| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mac() -> Mac {
        Mac::new([0, 0, 0x5E, 0, 0x53, 0xA0]).unwrap()
    }

    fn whole() -> Neighbour {
        Neighbour {
            port_description: Some("rack 12, unit 7".into()),
            system_name: Some("skerry-switch-1".into()),
            system_description: Some("Kelp 48T\nversion 3".into()),
            management: Some("192.0.2.250".parse().unwrap()),
            untagged_vlan: Some(40),
            vlans: vec![Vlan { number: 40, name: "boot".into() }, Vlan { number: 41, name: String::new() }],
            ..Neighbour::new(Known::Mac(mac()), Known::Name("Ethernet1/7".into()))
        }
    }

    #[test]
    fn what_is_sent_is_what_is_heard() {
        let mut heard = whole();
        heard.system_description = Some("Kelp 48T version 3".into());
        assert_eq!(Neighbour::parse(&whole().emit()), Ok(heard));
        let least = Neighbour::new(Known::Address("2001:db8::1".parse().unwrap()), Known::Mac(mac()));
        assert_eq!(Neighbour::parse(&least.emit()), Ok(least));
    }

    #[test]
    fn a_frame_as_a_switch_sends_it() {
        // Written by hand after section 8: chassis by MAC, port by interface name, 120 s, capabilities (passed over), VLAN 7.
        let frame = [
            &[0x02, 0x07, 0x04, 0x00, 0x00, 0x5E, 0x00, 0x53, 0xA0][..],
            &[0x04, 0x04, 0x05, b'g', b'e', b'1'],
            &[0x06, 0x02, 0x00, 0x78],
            &[0x0E, 0x04, 0x00, 0x14, 0x00, 0x04],
            &[0xFE, 0x06, 0x00, 0x80, 0xC2, 0x01, 0x00, 0x07],
            &[0x00, 0x00, 0xAA, 0xAA],
        ]
        .concat();
        let heard = Neighbour::parse(&frame).unwrap();
        assert_eq!((heard.chassis, heard.port), (Known::Mac(mac()), Known::Name("ge1".into())));
        assert_eq!((heard.lifetime, heard.untagged_vlan), (120, Some(7)));
    }

    #[test]
    fn another_reader_hears_what_is_sent() {
        let own = mac().octets();
        let frame = [&NEAREST_BRIDGE[..], &own, &ETHERTYPE.to_be_bytes(), &whole().emit()].concat();
        let mut file = crate::pcapng::Writer::new("test", "port");
        file.packet(0, &frame, frame.len(), None);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("frames.pcapng");
        std::fs::write(&path, file.finish()).unwrap();
        let fields = [
            ("lldp.chassis.id.mac", "00:00:5e:00:53:a0"),
            ("lldp.port.id", "Ethernet1/7"),
            ("lldp.time_to_live", "120"),
            ("lldp.port.desc", "rack 12, unit 7"),
            ("lldp.tlv.system.name", "skerry-switch-1"),
            ("lldp.mgn.addr.ip4", "192.0.2.250"),
            ("lldp.ieee.802_1.port_vlan.id", "40"),
            ("lldp.ieee.802_1.vlan.id", "40,41"),
            ("lldp.ieee.802_1.vlan.name", "boot"),
            ("_ws.malformed", ""),
        ];
        let mut tshark = std::process::Command::new("tshark");
        tshark.arg("-r").arg(&path).args(["-T", "fields", "-E", "separator=|"]);
        for (name, _) in fields {
            tshark.args(["-e", name]);
        }
        let output = tshark.output().expect("tshark: `make packages-test` installs it");
        let heard = String::from_utf8(output.stdout).unwrap();
        let heard: Vec<&str> = heard.trim_end_matches('\n').split('|').collect();
        assert_eq!(heard, fields.map(|(_, value)| value), "{}", String::from_utf8_lossy(&output.stderr));
    }

    #[test]
    fn what_does_not_begin_as_it_must_or_ends_too_early_is_refused() {
        assert_eq!(Neighbour::parse(&[]), Err(LldpError::Beginning));
        let bytes = whole().emit();
        assert_eq!(Neighbour::parse(&bytes[9..]), Err(LldpError::Beginning));
        assert_eq!(Neighbour::parse(&bytes[..20]), Err(LldpError::CutOff));
    }

    proptest! {
        #[test]
        fn whatever_is_heard_is_read(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = Neighbour::parse(&bytes);
        }

        #[test]
        fn names_come_back(name in "[a-zA-Z0-9/.-]{1,60}", vlans in prop::collection::vec((1_u16..4095, "[a-z0-9-]{0,32}"), 0..5)) {
            let vlans = vlans.into_iter().map(|(number, name)| Vlan { number, name }).collect();
            let sent = Neighbour { vlans, ..Neighbour::new(Known::Mac(mac()), Known::Name(name)) };
            prop_assert_eq!(Neighbour::parse(&sent.emit()), Ok(sent));
        }
    }
}

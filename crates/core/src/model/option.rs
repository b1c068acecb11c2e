//! Options beside those that have a field of their own: named, typed and checked.

use std::{collections::BTreeMap, net::Ipv4Addr};

use ipnet::Ipv4Net;
use lastmile_formats::dhcp::{ValueType, catalogue, code};
use thiserror::Error;

use crate::base::{Faults, name};

/// Options that the service itself answers, with the field that a person sets instead.
const OWN: [(u8, &str); 24] = [
    (code::PAD, "it is a filler"),
    (code::SUBNET_MASK, "it follows from `network`"),
    (code::ROUTER, "give it as `router`"),
    (code::DOMAIN_NAME_SERVER, "give it as `dns`"),
    (code::HOST_NAME, "it is the machine's name"),
    (code::DOMAIN_NAME, "give it as `domain`"),
    (code::BROADCAST_ADDRESS, "it follows from `network`"),
    (code::NTP_SERVERS, "give it as `ntp`"),
    (code::REQUESTED_ADDRESS, "only clients send it"),
    (code::LEASE_TIME, "give it as `lease_secs`"),
    (code::OVERLOAD, "it is set where a message needs it"),
    (code::MESSAGE_TYPE, "every message has its own"),
    (code::SERVER_IDENTIFIER, "it is the service's own address"),
    (code::PARAMETER_REQUEST_LIST, "only clients send it"),
    (code::MESSAGE, "it says why a request is refused"),
    (code::MAX_MESSAGE_SIZE, "only clients send it"),
    (code::RENEWAL_TIME, "it is half of `lease_secs`"),
    (code::REBINDING_TIME, "it is seven eighths of `lease_secs`"),
    (code::VENDOR_CLASS, "it follows from what the client is"),
    (code::CLIENT_IDENTIFIER, "it is the client's own"),
    (code::TFTP_SERVER_NAME, "it follows from the boot plan"),
    (code::BOOT_FILE_NAME, "it follows from the boot plan"),
    (code::RELAY_AGENT_INFORMATION, "it is the relay's own"),
    (code::END, "it ends the options"),
];

/// Why an option is not set freely, if it is not.
fn set_elsewhere(code: u8) -> Option<&'static str> {
    OWN.iter().find(|(own, _)| *own == code).map(|(_, why)| *why)
}

/// An option with its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FurtherOption {
    /// Its code.
    pub code: u8,
    /// The name or number by which a person gave it.
    pub name: String,
    /// The value as a person gave it.
    pub text: String,
    /// The value on the wire.
    pub value: Vec<u8>,
}

/// Why an option cannot be set so.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum OptionError {
    /// Neither a standard name nor a number.
    #[error("'{0}' is no option's standard name, and no number from 1 to 254")]
    Unknown(String),
    /// The service answers it itself.
    #[error("option {code} is not set here: {why}")]
    Own {
        /// The option.
        code: u8,
        /// Where it comes from.
        why: &'static str,
    },
    /// No type is known for it, and none is given.
    #[error("option {0} has no standard type, so its value must say one")]
    Untyped(u8),
    /// The value is not of its type.
    #[error("'{text}' is not {}", wanted.form())]
    Value {
        /// The value as given.
        text: String,
        /// The type.
        wanted: ValueType,
    },
}

impl OptionError {
    /// How to fix it.
    #[must_use]
    pub fn fix(&self) -> String {
        match self {
            Self::Unknown(name) => {
                let near = catalogue::KNOWN
                    .iter()
                    .max_by(|a, b| strsim::jaro(name, a.name).total_cmp(&strsim::jaro(name, b.name)));
                match near.filter(|near| strsim::jaro(name, near.name) > 0.75) {
                    Some(near) => format!("Did you mean {} (option {})?", near.name, near.code),
                    None => "Give its number, or its name in IANA's registry, as in interface-mtu.".into(),
                }
            }
            Self::Own { .. } => "Take it out here.".into(),
            Self::Untyped(_) => {
                "Begin with the type: hex:01ff, text:quay, address:192.0.2.5, u8:1, u16:1500, \
                                 u32:1, flag:yes, domains:gannet.example."
                    .into()
            }
            Self::Value { wanted, .. } => format!("Write {}.", wanted.form()),
        }
    }
}

impl FurtherOption {
    /// Reads one option.
    ///
    /// # Errors
    /// Why it cannot be set so.
    pub fn read(name: &str, text: &str) -> Result<Self, OptionError> {
        let known = catalogue::find(name.trim());
        let code = match known {
            Some(known) => known.code,
            None => name.trim().parse().map_err(|_| OptionError::Unknown(name.into()))?,
        };
        if let Some(why) = set_elsewhere(code) {
            return Err(OptionError::Own { code, why });
        }
        let (wanted, value) = match known {
            Some(known) => (known.value, text),
            None => {
                let (word, value) = text.split_once(':').ok_or(OptionError::Untyped(code))?;
                (ValueType::by_word(word.trim()).ok_or(OptionError::Untyped(code))?, value)
            }
        };
        let wrong = || OptionError::Value { text: value.into(), wanted };
        let value = encode(wanted, value.trim()).filter(|value| !value.is_empty()).ok_or_else(wrong)?;
        Ok(Self { code, name: name.trim().into(), text: text.into(), value })
    }

    /// Reads all options of a subnet or machine; records what is wrong below `place`.
    pub fn read_all(faults: &mut Faults, place: &str, texts: &BTreeMap<String, String>) -> Vec<Self> {
        let mut options: Vec<Self> = Vec::new();
        for (name, text) in texts {
            let place = format!("{place}.{name}");
            match Self::read(name, text) {
                Err(error) => faults.add(&place, error.to_string(), error.fix()),
                Ok(option) => match options.iter().find(|known| known.code == option.code) {
                    Some(twice) => faults.add(
                        &place,
                        format!(
                            "option {} is given twice, as {} and as {}",
                            option.code, twice.name, option.name
                        ),
                        "Give it once.",
                    ),
                    None => {
                        option.check_least(faults, &place);
                        options.push(option);
                    }
                },
            }
        }
        options
    }

    /// That a size is no smaller than any host may have it (RFC 2132, sections 4.4 and 5.1).
    fn check_least(&self, faults: &mut Faults, place: &str) {
        let least = match self.code {
            22 => 576,
            26 => 68,
            _ => return,
        };
        let size = <[u8; 2]>::try_from(self.value.as_slice()).map(u16::from_be_bytes);
        if size.is_ok_and(|size| size < least) {
            let fix = "See RFC 2132, sections 4.4 and 5.1.";
            faults.add(place, format!("{} is too small: at least {least}", self.text), fix);
        }
    }

    /// The options as a person gave them.
    #[must_use]
    pub fn texts(options: &[Self]) -> BTreeMap<String, String> {
        options.iter().map(|option| (option.name.clone(), option.text.clone())).collect()
    }
}

fn encode(wanted: ValueType, text: &str) -> Option<Vec<u8>> {
    let parts = || text.split(',').map(str::trim);
    Some(match wanted {
        ValueType::Address => text.parse::<Ipv4Addr>().ok()?.octets().to_vec(),
        ValueType::Addresses => addresses(parts())?.concat(),
        ValueType::AddressPairs => {
            let addresses = addresses(parts())?;
            if addresses.len() % 2 != 0 {
                return None;
            }
            addresses.concat()
        }
        ValueType::U8 => vec![text.parse().ok()?],
        ValueType::U16 => text.parse::<u16>().ok()?.to_be_bytes().to_vec(),
        ValueType::U16s => parts()
            .map(|part| Some(part.parse::<u16>().ok()?.to_be_bytes()))
            .collect::<Option<Vec<_>>>()?
            .concat(),
        ValueType::U32 => text.parse::<u32>().ok()?.to_be_bytes().to_vec(),
        ValueType::I32 => text.parse::<i32>().ok()?.to_be_bytes().to_vec(),
        ValueType::Flag => match text {
            "yes" | "true" | "1" => vec![1],
            "no" | "false" | "0" => vec![0],
            _ => return None,
        },
        ValueType::Text => (text.len() <= 255).then(|| text.as_bytes().to_vec())?,
        ValueType::Domains => parts().map(domain).collect::<Option<Vec<_>>>()?.concat(),
        ValueType::Routes => parts().map(route).collect::<Option<Vec<_>>>()?.concat(),
        ValueType::Octets => hex::decode(text.replace([':', '-'], "")).ok()?,
    })
}

fn addresses<'a>(parts: impl Iterator<Item = &'a str>) -> Option<Vec<[u8; 4]>> {
    parts.map(|part| Some(part.parse::<Ipv4Addr>().ok()?.octets())).collect()
}

/// A domain name in the form of RFC 1035, section 3.1, without compression (RFC 3397, section 2 allows it).
fn domain(text: &str) -> Option<Vec<u8>> {
    name::check_domain(text).ok()?;
    let mut out = Vec::with_capacity(text.len() + 2);
    for label in text.split('.') {
        out.push(u8::try_from(label.len()).ok()?);
        out.extend_from_slice(label.as_bytes());
    }
    out.push(0);
    Some(out)
}

/// Width of the mask, as many bytes of the network as matter, the router (RFC 3442).
fn route(text: &str) -> Option<Vec<u8>> {
    let (network, router) = text.split_once(" via ")?;
    let network: Ipv4Net = network.trim().parse().ok()?;
    let router: Ipv4Addr = router.trim().parse().ok()?;
    if network.trunc() != network {
        return None;
    }
    let significant = usize::from(network.prefix_len().div_ceil(8));
    let mut out = vec![network.prefix_len()];
    out.extend_from_slice(&network.network().octets()[..significant]);
    out.extend(router.octets());
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_written_as_their_rfc_says() {
        let value = |name: &str, text: &str| FurtherOption::read(name, text).unwrap().value;
        assert_eq!(value("interface-mtu", "1500"), [5, 220]);
        assert_eq!(value("26", "1500"), [5, 220]);
        assert_eq!(value("time-offset", "-3600"), (-3600_i32).to_be_bytes());
        assert_eq!(value("log-server", "192.0.2.5, 192.0.2.6"), [192, 0, 2, 5, 192, 0, 2, 6]);
        assert_eq!(value("ip-forwarding", "no"), [0]);
        // RFC 3442's own examples.
        assert_eq!(
            value("classless-static-route", "0.0.0.0/0 via 10.0.0.1, 10.17.0.0/16 via 10.0.0.2"),
            [0, 10, 0, 0, 1, 16, 10, 17, 10, 0, 0, 2]
        );
        assert_eq!(value("domain-search", "eng.gannet.example"), b"\x03eng\x06gannet\x07example\0");
        assert_eq!(value("224", "text:berth 4"), b"berth 4");
        assert_eq!(value("224", "hex:01:0aff"), [1, 10, 255]);
    }

    #[test]
    fn what_is_wrong_is_said_with_its_fix() {
        let wrong = |name: &str, text: &str| {
            let error = FurtherOption::read(name, text).unwrap_err();
            format!("{error}. {}", error.fix())
        };
        assert!(wrong("interface-mtus", "1500").ends_with("Did you mean interface-mtu (option 26)?"));
        assert!(wrong("3", "192.0.2.1").contains("give it as `router`"));
        assert!(wrong("interface-mtu", "huge").contains("'huge' is not a number from 0 to 65535"));
        assert!(wrong("224", "berth").contains("Begin with the type"));
        assert!(wrong("log-server", "quay.gannet.example").contains("IPv4 addresses"));
        assert!(wrong("root-path", "").contains("1 to 255 bytes"));
    }

    #[test]
    fn one_option_under_two_names_is_said() {
        let mut faults = Faults::new();
        let texts = [("26".to_owned(), "1500".to_owned()), ("interface-mtu".to_owned(), "1400".to_owned())];
        FurtherOption::read_all(&mut faults, "options", &BTreeMap::from(texts));
        let faults = faults.into_result(|| Some(())).unwrap_err();
        assert_eq!(faults[0].place, "options.interface-mtu");
        assert!(faults[0].what.contains("given twice"));
    }
}

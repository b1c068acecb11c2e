//! Zone files (RFC 1035, section 5): names to addresses, and addresses to names.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use jiff::Timestamp;

use super::{Host, left_out};
use crate::base::{Fault, name};

/// Seconds that others may keep a record.
const TTL: u32 = 3600;
/// Refresh, retry, expire and negative TTL of the zone, in seconds (RFC 1912, section 2.2; RFC 2308).
const TIMES: [u32; 4] = [7200, 1800, 1_209_600, 900];

/// What a zone is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneOf {
    /// Names of a domain.
    Domain(String),
    /// Addresses of a network whose prefix is 8, 16 or 24 bits long (RFC 1035, section 3.5).
    Network(Ipv4Net),
}

/// A zone as a person asks for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneDraft<'a> {
    /// A domain, or a network as in `192.0.2.0/24`.
    pub of: &'a str,
    /// The name server that has it, as `ns.gannet.example`, or `ns.gannet.example=192.0.2.53` where it lies in the
    /// zone itself and is no machine of ours. Without one, only the records are written, for a zone that includes them.
    pub name_server: Option<&'a str>,
}

impl ZoneDraft<'_> {
    /// Writes the zone. Its serial number is `now` in seconds since 1970, so that it rises.
    ///
    /// # Errors
    /// What is wrong with the domain, the network or the name server.
    pub fn write(&self, hosts: &[Host], now: Timestamp) -> Result<String, Vec<Fault>> {
        let mut faults = crate::base::Faults::new();
        let of = self.of();
        if let Err(fault) = &of {
            faults.add(fault.place.clone(), fault.what.clone(), fault.fix.clone());
        }
        let server = self.name_server.map(|text| match text.split_once('=') {
            Some((name, address)) => Server { name, address: Some(address) },
            None => Server { name: text, address: None },
        });
        if let (Some(server), Ok(of)) = (&server, &of) {
            server.check(of, hosts, &mut faults);
        }
        faults.into_result(|| of.ok().map(|of| zone(&of, server.as_ref(), hosts, now)))
    }

    fn of(&self) -> Result<ZoneOf, Fault> {
        let fault = |what: String, fix: &str| Fault { place: "of".into(), what, fix: fix.into() };
        if let Ok(network) = self.of.parse::<Ipv4Net>() {
            return match network.prefix_len() {
                8 | 16 | 24 => Ok(ZoneOf::Network(network.trunc())),
                _ => {
                    let what = format!("{network} is not a zone of its own");
                    Err(fault(what, "Give a network of 8, 16 or 24 bits, as in 192.0.2.0/24."))
                }
            };
        }
        match name::check_domain(self.of) {
            Ok(()) => Ok(ZoneOf::Domain(self.of.to_ascii_lowercase())),
            Err(error) => Err(fault(error.to_string(), "Give a domain, or a network as in 192.0.2.0/24.")),
        }
    }
}

/// A name server, and its address where one was given.
struct Server<'a> {
    name: &'a str,
    address: Option<&'a str>,
}

impl Server<'_> {
    fn check(&self, of: &ZoneOf, hosts: &[Host], faults: &mut crate::base::Faults) {
        faults.keep("name_server", name::check_domain(self.name), name::DOMAIN_FIX);
        if let Some(address) = self.address {
            let fix = "Write it as in ns.gannet.example=192.0.2.53.";
            faults.keep("name_server", address.parse::<Ipv4Addr>(), fix);
        }
        let is_ours = |host: &Host| {
            host.address.is_some()
                && host.full_name().is_some_and(|full| full.eq_ignore_ascii_case(self.name))
        };
        let ours = hosts.iter().find(|host| is_ours(host));
        if let (Some(said), Some(host)) = (self.address, ours)
            && host.address.is_some_and(|address| address.to_string() != said)
        {
            let what =
                format!("{} is machine {}, which has another address than {said}", self.name, host.name);
            faults.add("name_server", what, "Leave the address out, or correct it.");
        }
        if self.address.is_none() && self.inside(of).is_some() && ours.is_none() {
            let what = format!("{} lies in the zone, and nothing there says its address", self.name);
            faults.add(
                "name_server",
                what,
                "Write its address after it, as in ns.gannet.example=192.0.2.53.",
            );
        }
    }

    /// Its name within the zone, if it lies there.
    fn inside(&self, of: &ZoneOf) -> Option<&str> {
        match of {
            ZoneOf::Domain(domain) => within(self.name, domain),
            ZoneOf::Network(_) => None,
        }
    }
}

fn zone(of: &ZoneOf, name_server: Option<&Server<'_>>, hosts: &[Host], now: Timestamp) -> String {
    let mut text = match of {
        ZoneOf::Domain(domain) => format!("$ORIGIN {domain}.\n"),
        ZoneOf::Network(network) => format!("$ORIGIN {}\n", origin(*network)),
    };
    text.push_str(&format!("$TTL {TTL}\n"));
    if let Some(server) = name_server {
        let [refresh, retry, expire, negative] = TIMES;
        // RFC 1982: what counts is that it rises; it does until 2106.
        let serial = u32::try_from(now.as_second()).unwrap_or(u32::MAX);
        text.push_str(&format!(
            "@ IN SOA {name}. hostmaster.{name}. {serial} {refresh} {retry} {expire} {negative}\n",
            name = server.name
        ));
        text.push_str(&format!("@ IN NS {}.\n", server.name));
        if let Some((name, address)) = server.inside(of).zip(server.address) {
            // A machine of ours has its record among the others.
            let is_listed = |host: &Host| {
                host.address.is_some()
                    && host.full_name().is_some_and(|full| full.eq_ignore_ascii_case(server.name))
            };
            if !hosts.iter().any(is_listed) {
                text.push_str(&format!("{name} IN A {address}\n"));
            }
        }
    }
    let (mut records, mut lacking, mut elsewhere) = (Vec::new(), Vec::new(), Vec::new());
    for host in hosts {
        match (of, host.address, host.full_name()) {
            (_, None, _) => lacking.push(host.name.as_str()),
            (ZoneOf::Domain(domain), Some(address), full) => {
                match full.as_deref().and_then(|full| within(full, domain)) {
                    Some(name) => records.push((address, format!("{name} IN A {address}\n"))),
                    None => elsewhere.push(host.name.as_str()),
                }
            }
            (ZoneOf::Network(network), Some(address), full) if network.contains(&address) => match full {
                Some(full) => {
                    records.push((address, format!("{} IN PTR {full}.\n", suffix(*network, address))));
                }
                None => elsewhere.push(host.name.as_str()),
            },
            (ZoneOf::Network(_), Some(_), _) => {}
        }
    }
    records.sort();
    text.extend(records.into_iter().map(|(_, record)| record));
    let why = match of {
        ZoneOf::Domain(domain) => format!("it is not in {domain}"),
        ZoneOf::Network(_) => "it has no domain".into(),
    };
    text + &left_out(';', "it has no address", &lacking) + &left_out(';', &why, &elsewhere)
}

/// A name relative to a domain, if it lies in it.
fn within<'a>(full: &'a str, domain: &str) -> Option<&'a str> {
    let at = full.len().checked_sub(domain.len())?;
    let (name, end) = full.split_at_checked(at)?;
    if !end.eq_ignore_ascii_case(domain) {
        return None;
    }
    // The zone's own name (RFC 1035, section 5.1).
    if name.is_empty() { Some("@") } else { name.strip_suffix('.') }
}

/// How many bytes of an address the zone itself stands for.
const fn octets(network: Ipv4Net) -> usize {
    network.prefix_len() as usize / 8
}

/// `2.0.192.in-addr.arpa.`
fn origin(network: Ipv4Net) -> String {
    let own = &network.network().octets()[..octets(network)];
    own.iter().rev().map(|byte| format!("{byte}.")).collect::<String>() + "in-addr.arpa."
}

/// The rest of an address, last byte first.
fn suffix(network: Ipv4Net, address: Ipv4Addr) -> String {
    let rest = &address.octets()[octets(network)..];
    rest.iter().rev().map(ToString::to_string).collect::<Vec<_>>().join(".")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hosts() -> Vec<Host> {
        let host = |name: &str, domain: Option<&str>, address: Option<[u8; 4]>| Host {
            name: name.into(),
            domain: domain.map(Into::into),
            address: address.map(Into::into),
        };
        vec![
            host("auklet-chart", Some("gannet.example"), Some([192, 0, 2, 100])),
            host("fulmar-log", Some("deck.gannet.example"), Some([192, 0, 2, 9])),
            host("petrel-log", Some("notgannet.example"), Some([203, 0, 113, 1])),
            host("quay", None, Some([192, 0, 2, 7])),
            host("tern-gate-1", None, None),
        ]
    }

    fn write(of: &str, name_server: Option<&str>) -> Result<String, Vec<Fault>> {
        ZoneDraft { of, name_server }.write(&hosts(), Timestamp::from_second(1_795_000_000).unwrap())
    }

    #[test]
    fn a_zone_of_a_domain_has_its_hosts_and_says_who_is_left_out() {
        assert_eq!(
            write("Gannet.example", Some("ns.gannet.example=192.0.2.53")).unwrap(),
            "$ORIGIN gannet.example.\n\
             $TTL 3600\n\
             @ IN SOA ns.gannet.example. hostmaster.ns.gannet.example. 1795000000 7200 1800 1209600 900\n\
             @ IN NS ns.gannet.example.\n\
             ns IN A 192.0.2.53\n\
             fulmar-log.deck IN A 192.0.2.9\n\
             auklet-chart IN A 192.0.2.100\n\
             ; left out: tern-gate-1, it has no address\n\
             ; left out: petrel-log, it is not in gannet.example\n\
             ; left out: quay, it is not in gannet.example\n"
        );
    }

    #[test]
    fn a_zone_of_a_network_leads_back_to_the_names() {
        let of = |network: &str| write(network, None).unwrap();
        assert!(of("192.0.2.0/24").starts_with(
            "$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n9 IN PTR fulmar-log.deck.gannet.example.\n"
        ));
        assert!(of("192.0.0.0/16").contains("\n100.2 IN PTR auklet-chart.gannet.example.\n"));
        assert!(of("192.0.2.0/24").contains("; left out: quay, it has no domain\n"));
        assert!(!of("192.0.2.0/24").contains("petrel"));
    }

    #[test]
    fn what_is_no_zone_is_said() {
        let places = |of: &str, server: Option<&str>| {
            write(of, server).unwrap_err().into_iter().map(|fault| fault.place).collect::<Vec<_>>()
        };
        assert_eq!(places("192.0.2.0/26", None), ["of"]);
        assert_eq!(places("gannet_example", Some("ns..example")), ["of"]);
        assert_eq!(places("gannet.example", Some("ns..example=192.0.2.300")), ["name_server", "name_server"]);
        assert_eq!(places("gannet.example", Some("ns.gannet.example")), ["name_server"]);
        assert!(write("gannet.example", Some("auklet-chart.gannet.example")).is_ok());
        assert!(write("192.0.2.0/24", Some("ns.gannet.example")).is_ok());
    }
}

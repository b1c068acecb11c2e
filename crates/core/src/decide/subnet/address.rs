//! Addresses as people enter them.

use std::net::Ipv4Addr;

use crate::base::Faults;

/// Reads an address; what is none is a fault.
pub(super) fn parse_address(faults: &mut Faults, place: &str, text: &str) -> Option<Ipv4Addr> {
    let address = text.trim().parse::<Ipv4Addr>();
    let wrong = address.map_err(|_| format!("'{text}' is no IPv4 address"));
    faults.keep(place, wrong, "Write four numbers from 0 to 255 joined by dots; a name will not do.")
}

/// Reads addresses of hosts.
pub(super) fn parse_addresses(faults: &mut Faults, place: &str, texts: &[String]) -> Vec<Ipv4Addr> {
    let numbered = texts.iter().enumerate();
    let parse = |(index, text): (usize, &String)| {
        let at = format!("{place}[{index}]");
        let address = parse_address(faults, &at, text)?;
        // A relay may be simulated on this very host.
        let what = special(address).filter(|_| place != "relays" || !address.is_loopback());
        if let Some(what) = what {
            faults.add(
                &at,
                format!("{address} is no host's address: it is for {what}"),
                "Give a host's address.",
            );
        }
        Some(address)
    };
    numbered.filter_map(parse).collect()
}

/// What an address is for that no host on a network has (RFC 6890, section 2.2.2; RFC 5771).
pub(super) fn special(address: Ipv4Addr) -> Option<&'static str> {
    match address.octets() {
        [0, ..] => Some("hosts that know no address"),
        [127, ..] => Some("the host itself"),
        [224..=239, ..] => Some("groups of hosts (multicast)"),
        [240..=255, ..] => Some("no use yet, or broadcast"),
        _ => None,
    }
}

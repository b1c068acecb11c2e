//! The hosts file (RFC 952, hosts(5)).

use super::{Host, left_out};

/// The lines of a hosts file: address, full name, name. Machines without an address stand in comments at the end.
#[must_use]
pub fn hosts_file(hosts: &[Host]) -> String {
    let mut with_address: Vec<_> = hosts.iter().filter_map(|host| Some((host.address?, host))).collect();
    with_address.sort_by_key(|(address, _)| *address);
    let mut text = String::new();
    for (address, host) in with_address {
        let full = host.full_name().map(|full| format!("{full} ")).unwrap_or_default();
        text.push_str(&format!("{address:<15} {full}{}\n", host.name));
    }
    let lacking: Vec<&str> =
        hosts.iter().filter(|host| host.address.is_none()).map(|host| host.name.as_str()).collect();
    text + &left_out('#', "it has no address", &lacking)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_come_in_their_order_and_nobody_is_lost() {
        let host = |name: &str, domain: Option<&str>, last: Option<u8>| Host {
            name: name.into(),
            domain: domain.map(Into::into),
            address: last.map(|last| [192, 0, 2, last].into()),
        };
        let hosts = [
            host("auklet-chart", Some("gannet.example"), Some(100)),
            host("fulmar-log", None, Some(9)),
            host("tern-gate-1", None, None),
        ];
        assert_eq!(
            hosts_file(&hosts),
            "192.0.2.9       fulmar-log\n\
             192.0.2.100     auklet-chart.gannet.example auklet-chart\n\
             # left out: tern-gate-1, it has no address\n"
        );
    }
}

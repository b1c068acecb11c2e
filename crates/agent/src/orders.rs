//! What the service tells the agent on the kernel's command line.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use lastmile_formats::mac::Mac;
use thiserror::Error;

/// The beginning of the parameters that are for the agent; the kernel and others have the rest.
const PREFIX: &str = "lastmile.";

/// What was ordered.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Orders {
    /// Where the service is, as in `http://192.0.2.2:8080`.
    pub service: Option<String>,
    /// The token of this boot.
    pub token: Option<String>,
    /// The card that the machine booted from.
    pub mac: Option<Mac>,
    /// The VLAN that the service is reached on (IEEE 802.1Q), where the card's frames have to be tagged.
    pub vlan: Option<u16>,
    /// The card's address, where no DHCP server is to be asked.
    pub address: Option<Ipv4Net>,
    /// The way to other networks, beside such an address.
    pub router: Option<Ipv4Addr>,
}

/// An order that is not understood. The others hold.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the kernel parameter {word} is not understood: {expected}")]
pub struct OrderError {
    word: String,
    expected: &'static str,
}

impl Orders {
    /// Reads a kernel's command line (`/proc/cmdline`). Of a parameter that stands several times the last counts.
    #[must_use]
    pub fn read(command_line: &str) -> (Self, Vec<OrderError>) {
        let (mut orders, mut errors) = (Self::default(), Vec::new());
        for word in command_line.split_whitespace() {
            let Some((key, value)) = word.strip_prefix(PREFIX).and_then(|word| word.split_once('=')) else {
                continue;
            };
            if let Err(expected) = orders.take(key, value) {
                // A token is a secret, also one with a mistake in it.
                let word = if key == "token" { format!("{PREFIX}token") } else { word.to_owned() };
                errors.push(OrderError { word, expected });
            }
        }
        (orders, errors)
    }

    fn take(&mut self, key: &str, value: &str) -> Result<(), &'static str> {
        match key {
            "service" if value.starts_with("http://") => {
                self.service = Some(value.trim_end_matches('/').into());
            }
            "service" => return Err("it is an address as http://192.0.2.2:8080"),
            "token" => self.token = Some(value.into()),
            "mac" => self.mac = Some(value.parse().map_err(|_| "it is a MAC address as 02:00:5e:00:53:01")?),
            "vlan" => {
                let vlan = value.parse().ok().filter(|vlan| (1..=4094).contains(vlan));
                self.vlan = Some(vlan.ok_or("it is a number from 1 to 4094")?);
            }
            "address" => {
                self.address = Some(value.parse().map_err(|_| "it is an address as 192.0.2.10/24")?);
            }
            "router" => self.router = Some(value.parse().map_err(|_| "it is an address as 192.0.2.1")?),
            // Which messages this agent speaks: for whoever looks at its image.
            "messages" => {}
            _ => {
                return Err("the agent has service, token, mac, vlan, address and router");
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_are_read_and_mistakes_named_without_secrets() {
        let (orders, errors) = Orders::read(
            "BOOT_IMAGE=/vmlinuz quiet console=ttyS0 lastmile.service=http://192.0.2.2:8080/ lastmile.token=abc \
             lastmile.messages=3 lastmile.mac=02-00-5e-00-53-01 lastmile.vlan=30 lastmile.address=192.0.2.10/24 lastmile.router=192.0.2.1\n",
        );
        assert_eq!(errors, []);
        let expected = Orders {
            service: Some("http://192.0.2.2:8080".into()),
            token: Some("abc".into()),
            mac: Some("02:00:5e:00:53:01".parse().unwrap()),
            vlan: Some(30),
            address: Some("192.0.2.10/24".parse().unwrap()),
            router: Some("192.0.2.1".parse().unwrap()),
        };
        assert_eq!(orders, expected);
        let (orders, errors) = Orders::read(
            "lastmile.vlan=4095 lastmile.service=192.0.2.2 lastmile.tocken=abc lastmile.router=gw",
        );
        assert_eq!(orders, Orders::default());
        let said: Vec<String> = errors.iter().map(ToString::to_string).collect();
        assert_eq!(said.len(), 4, "{said:#?}");
        assert!(said[0].contains("lastmile.vlan=4095 is not understood: it is a number from 1 to 4094"));
    }
}

//! What the kernel knows about an interface's surroundings: by rtnetlink(7), and the host's own resolver.

use std::net::Ipv4Addr;

use futures_util::TryStreamExt;
use lastmile_core::decide::subnet::Surroundings;
use rtnetlink::{
    Handle, RouteMessageBuilder,
    packet_route::{
        AddressFamily,
        address::{AddressAttribute, AddressHeaderFlags},
        neighbour::{NeighbourAddress, NeighbourAttribute, NeighbourState},
        route::{RouteAddress, RouteAttribute},
    },
};

use crate::link::Interface;

/// What is known about an address of this host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fixed {
    /// Set for good.
    Yes,
    /// Came by DHCP or the like, and runs out.
    No,
    /// The interface has no such address.
    Gone,
}

/// Asks the kernel.
pub(crate) struct Kernel {
    handle: Handle,
    /// Ends with the value.
    driver: tokio::task::JoinHandle<()>,
}

impl Drop for Kernel {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl Kernel {
    pub(crate) fn open() -> std::io::Result<Self> {
        let (connection, handle, _) = rtnetlink::new_connection()?;
        Ok(Self { handle, driver: tokio::spawn(connection) })
    }

    /// Whether `address` of an interface is a fixed one.
    pub(crate) async fn is_fixed(
        &self,
        interface: &Interface,
        address: Ipv4Addr,
    ) -> Result<Fixed, rtnetlink::Error> {
        let mut found = self.handle.address().get().set_link_index_filter(interface.index).execute();
        while let Some(message) = found.try_next().await? {
            let is_it = message.attributes.iter().any(|attribute| match attribute {
                AddressAttribute::Local(local) => *local == address,
                _ => false,
            });
            if is_it {
                let fixed = message.header.flags.contains(AddressHeaderFlags::Permanent);
                return Ok(if fixed { Fixed::Yes } else { Fixed::No });
            }
        }
        Ok(Fixed::Gone)
    }

    /// The router of the default route through an interface.
    async fn router(&self, interface: &Interface) -> Result<Option<Ipv4Addr>, rtnetlink::Error> {
        let every = RouteMessageBuilder::<Ipv4Addr>::new().build();
        let mut routes = self.handle.route().get(every).execute();
        while let Some(route) = routes.try_next().await? {
            let through = route.attributes.contains(&RouteAttribute::Oif(interface.index));
            let router = route.attributes.iter().find_map(|attribute| match attribute {
                RouteAttribute::Gateway(RouteAddress::Inet(router)) => Some(*router),
                _ => None,
            });
            if through && route.header.destination_prefix_length == 0 && router.is_some() {
                return Ok(router);
            }
        }
        Ok(None)
    }

    /// The hosts that were heard on an interface.
    async fn neighbours(&self, interface: &Interface) -> Result<Vec<Ipv4Addr>, rtnetlink::Error> {
        let mut all = self.handle.neighbours().get().set_address_family(AddressFamily::Inet).execute();
        let mut heard = Vec::new();
        while let Some(neighbour) = all.try_next().await? {
            let there =
                !matches!(neighbour.header.state, NeighbourState::Failed | NeighbourState::Incomplete);
            if neighbour.header.ifindex != interface.index || !there {
                continue;
            }
            heard.extend(neighbour.attributes.iter().filter_map(|attribute| match attribute {
                NeighbourAttribute::Destination(NeighbourAddress::Inet(address)) => Some(*address),
                _ => None,
            }));
        }
        Ok(heard)
    }

    /// All that a proposal is made from. `None` if the interface has no address. Other DHCP servers are asked for by
    /// the caller.
    pub(crate) async fn surroundings(
        &self,
        interface: &Interface,
        other_servers: Vec<Ipv4Addr>,
    ) -> Result<Option<Surroundings>, rtnetlink::Error> {
        let Some(own) = interface.addresses.first().copied() else { return Ok(None) };
        let resolver = std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
        let (dns, domain) = read_resolver(&resolver);
        Ok(Some(Surroundings {
            interface: interface.name.clone(),
            own,
            own_is_fixed: self.is_fixed(interface, own.addr()).await? == Fixed::Yes,
            router: self.router(interface).await?,
            dns,
            domain,
            vlan: interface.vlan(),
            neighbours: self.neighbours(interface).await?,
            other_servers,
        }))
    }
}

/// Name servers that machines could reach, and the domain, of resolv.conf(5).
fn read_resolver(text: &str) -> (Vec<Ipv4Addr>, Option<String>) {
    let mut servers = Vec::new();
    let mut domain = None;
    for line in text.lines() {
        let mut words = line.split_whitespace();
        match (words.next(), words.next()) {
            (Some("nameserver"), Some(server)) => {
                servers.extend(server.parse::<Ipv4Addr>().ok().filter(|server| !server.is_loopback()));
            }
            (Some("search" | "domain"), Some(name))
                if lastmile_core::base::name::check_domain(name).is_ok() =>
            {
                domain = Some(name.trim_end_matches('.').to_owned());
            }
            _ => {}
        }
    }
    (servers, domain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_resolver_on_the_loopback_is_no_use_to_machines() {
        let text = "# made by hand\nsearch gannet.example\nnameserver 127.0.0.53\nnameserver 192.0.2.53\n";
        assert_eq!(read_resolver(text), (vec![Ipv4Addr::new(192, 0, 2, 53)], Some("gannet.example".into())));
        assert_eq!(read_resolver(""), (vec![], None));
    }
}

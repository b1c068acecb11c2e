//! The kernel's network cards (rtnetlink(7)).

use std::net::Ipv4Addr;

use futures_util::TryStreamExt;
use ipnet::Ipv4Net;
use lastmile_formats::mac::Mac;
use rtnetlink::{
    AddressMessageBuilder, Handle, LinkUnspec, LinkVlan, RouteMessageBuilder,
    packet_route::link::{InfoKind, LinkAttribute, LinkFlags, LinkInfo},
};

use super::NetworkError;

/// A network card, or a VLAN on one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The kernel's number of it.
    pub index: u32,
    /// The kernel's name of it.
    pub name: String,
    /// Its MAC address.
    pub mac: Mac,
    /// The MAC address that its builder gave it, where the kernel knows it.
    pub permanent_mac: Option<Mac>,
    /// Whether a cable is in it and the other end is on.
    pub has_link: bool,
}

/// A connection to the kernel.
#[derive(Debug, Clone)]
pub struct Links(Handle);

impl Links {
    /// Opens the connection, which a task of its own serves.
    ///
    /// # Errors
    /// If the kernel has no such sockets.
    pub fn open() -> std::io::Result<Self> {
        let (connection, handle, _) = rtnetlink::new_connection()?;
        tokio::spawn(connection);
        Ok(Self(handle))
    }

    /// Every card that has a MAC address, in the kernel's order; neither the loopback nor VLANs on cards.
    ///
    /// # Errors
    /// If the kernel refuses.
    pub async fn all(&self) -> Result<Vec<Link>, NetworkError> {
        let messages: Vec<_> = self.0.link().get().execute().try_collect().await?;
        let links = messages.into_iter().filter_map(|message| {
            if message.header.flags.contains(LinkFlags::Loopback) {
                return None;
            }
            let read = |bytes: Vec<u8>| Mac::new(<[u8; 6]>::try_from(bytes).ok()?).ok();
            let (mut name, mut mac, mut permanent_mac, mut is_vlan) = (None, None, None, false);
            for attribute in message.attributes {
                match attribute {
                    LinkAttribute::IfName(text) => name = Some(text),
                    LinkAttribute::Address(bytes) => mac = read(bytes),
                    LinkAttribute::PermAddress(bytes) => permanent_mac = read(bytes),
                    LinkAttribute::LinkInfo(infos) => {
                        is_vlan = infos.iter().any(|info| matches!(info, LinkInfo::Kind(InfoKind::Vlan)));
                    }
                    _ => {}
                }
            }
            let has_link = message.header.flags.contains(LinkFlags::LowerUp);
            let link = Link { index: message.header.index, name: name?, mac: mac?, permanent_mac, has_link };
            (!is_vlan).then_some(link)
        });
        Ok(links.collect())
    }

    /// Switches a card on. It hears frames for groups, too: neighbours speak to one.
    ///
    /// # Errors
    /// If the kernel refuses.
    pub async fn up(&self, index: u32) -> Result<(), NetworkError> {
        let message = LinkUnspec::new_with_index(index).up().allmulticast(true).build();
        Ok(self.0.link().set(message).execute().await?)
    }

    /// The VLAN `id` on a card, made if it is not there, switched on.
    ///
    /// # Errors
    /// If the kernel refuses: its module for VLANs may be missing.
    pub async fn vlan(&self, card: &Link, id: u16) -> Result<Link, NetworkError> {
        let name = format!("{}.{id}", card.name);
        let index = |name: &str| nix::net::if_::if_nametoindex(name).map_err(std::io::Error::from);
        if index(&name).is_err() {
            let message = LinkVlan::new(&name, card.index, id).up().build();
            self.0.link().add(message).execute().await?;
        }
        let link = Link { index: index(&name)?, name, ..card.clone() };
        self.up(link.index).await?;
        Ok(link)
    }

    /// Gives a card an address, and the way to other networks through it.
    ///
    /// # Errors
    /// If the kernel refuses.
    pub async fn set_address(
        &self,
        card: &Link,
        address: Ipv4Net,
        router: Option<Ipv4Addr>,
    ) -> Result<(), NetworkError> {
        let added = self.0.address().add(card.index, address.addr().into(), address.prefix_len()).replace();
        added.execute().await?;
        if let Some(router) = router {
            let route =
                RouteMessageBuilder::<Ipv4Addr>::new().gateway(router).output_interface(card.index).build();
            self.0.route().add(route).replace().execute().await?;
        }
        Ok(())
    }

    /// Takes an address from a card.
    ///
    /// # Errors
    /// If the kernel refuses.
    pub async fn clear_address(&self, card: &Link, address: Ipv4Net) -> Result<(), NetworkError> {
        let message = AddressMessageBuilder::<Ipv4Addr>::new()
            .index(card.index)
            .address(address.addr(), address.prefix_len())
            .build();
        Ok(self.0.address().del(message).execute().await?)
    }
}

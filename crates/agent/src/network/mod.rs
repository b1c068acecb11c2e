//! The way to the service: the card that the machine booted from, with an address.

pub mod dhcp;
mod link;
mod listen;

use std::{net::Ipv4Addr, sync::Arc, time::Duration};

use ipnet::Ipv4Net;
use lastmile_formats::{dhcp::Message, mac::Mac};
pub use link::{Link, Links};
pub use listen::Neighbours;
use socket2::{Domain, Protocol, Socket, Type};
use tokio::{
    net::UdpSocket,
    time::{Instant, interval, sleep, sleep_until},
};

use crate::{orders::Orders, status::Status};
use dhcp::Client;

/// Ports of DHCP (RFC 2131, section 4.1).
const CLIENT: u16 = 68;
const SERVER: u16 = 67;
/// Between two looks for a card that is not there yet.
const LOOK: Duration = Duration::from_millis(100);
/// Between two looks whether a card that has an address is still there, and its cable in.
const LOOK_AFTER: Duration = Duration::from_secs(2);
/// Largest DHCP message that is taken.
const MOST_MESSAGE: usize = 4096;

/// Why there is no way to the service.
#[derive(Debug, thiserror::Error)]
pub enum NetworkError {
    /// The kernel refused.
    #[error("the kernel refused: {0}")]
    Kernel(#[from] rtnetlink::Error),
    /// A socket could not be opened or used.
    #[error("{0}")]
    Socket(#[from] std::io::Error),
    /// The card is not there any more: it was pulled, or its driver gave up.
    #[error("the card {0} is gone")]
    Gone(String),
}

/// Brings the card up that the machine booted from, and keeps an address on it for as long as it is there. Ends only with an error.
///
/// # Errors
/// [`NetworkError`], if the kernel refuses or the card goes away.
pub async fn keep_up(links: &Links, orders: &Orders, status: &Status) -> Result<(), NetworkError> {
    let card = wait_for_card(links, orders.mac, status).await?;
    links.up(card.index).await?;
    status.card(&card.name);
    wait_for_link(links, &card, status).await?;
    let tagged = match orders.vlan {
        Some(vlan) => match links.vlan(&card, vlan).await {
            Ok(tagged) => Some(tagged),
            Err(error) => {
                status.fault(format!("frames of VLAN {vlan} cannot be tagged: {error}"));
                None
            }
        },
        None => None,
    };
    if let Some(address) = orders.address {
        let named = tagged.as_ref().unwrap_or(&card);
        links.set_address(named, address, orders.router).await?;
        status.card(&named.name);
        status.address(Some((address, "given on the command line".into())));
        loop {
            sleep(LOOK_AFTER).await;
            has_link(links, &card, status).await?;
        }
    }
    status.network("an answer of a DHCP server");
    // Whether the switch wants frames to carry the VLAN's tag is not known: where an answer comes first is right.
    let held = match &tagged {
        Some(tagged) => tokio::select! {
            held = Held::first(&card) => held?,
            held = Held::first(tagged) => held?,
        },
        None => Held::first(&card).await?,
    };
    status.card(&held.card.name);
    held.keep(&card, links, status).await
}

/// Whether the cable of a card with an address is in; an error if the card is not there any more.
async fn has_link(links: &Links, card: &Link, status: &Status) -> Result<bool, NetworkError> {
    let found = links.all().await?.into_iter().find(|link| link.index == card.index);
    let Some(found) = found else {
        status.address(None);
        return Err(NetworkError::Gone(card.name.clone()));
    };
    Ok(found.has_link)
}

/// The card that the machine booted from; the first with a link where that is not known.
async fn wait_for_card(links: &Links, mac: Option<Mac>, status: &Status) -> Result<Link, NetworkError> {
    match mac {
        Some(mac) => status.network(&format!("the network card with address {mac}")),
        None => status.network("a network card with a link"),
    }
    loop {
        let all = links.all().await?;
        let found = match mac {
            Some(mac) => all.into_iter().find(|link| link.mac == mac),
            None => {
                for link in &all {
                    links.up(link.index).await?;
                }
                all.into_iter().find(|link| link.has_link)
            }
        };
        match found {
            Some(link) => return Ok(link),
            None => sleep(LOOK).await,
        }
    }
}

/// Waits until a cable is in a card and the other end is on.
async fn wait_for_link(links: &Links, card: &Link, status: &Status) -> Result<(), NetworkError> {
    status.network("a link: is the cable in?");
    while !links.all().await?.iter().any(|link| link.index == card.index && link.has_link) {
        sleep(LOOK).await;
    }
    Ok(())
}

/// A card and its DHCP client.
struct Held {
    card: Link,
    socket: UdpSocket,
    client: Client,
    begun: Instant,
    buffer: Vec<u8>,
}

impl Held {
    /// Asks on a card until an address is granted there.
    async fn first(card: &Link) -> Result<Self, NetworkError> {
        let begun = Instant::now();
        let mut held = Self {
            socket: open(&card.name)?,
            client: Client::new(card.mac, random_xid(card.mac), begun.elapsed()),
            card: card.clone(),
            begun,
            buffer: vec![0; MOST_MESSAGE],
        };
        while held.client.lease().is_none() {
            held.turn().await;
        }
        Ok(held)
    }

    /// Keeps the card at the address that is granted. `card` is what is plugged in, where the address is on a VLAN of it.
    async fn keep(mut self, card: &Link, links: &Links, status: &Status) -> Result<(), NetworkError> {
        let mut set: Option<Ipv4Net> = None;
        let (mut looks, mut had_link) = (interval(LOOK_AFTER), true);
        loop {
            let granted = self.client.lease().map(|lease| lease.address);
            if granted != set {
                if let Some(old) = set {
                    links.clear_address(&self.card, old).await?;
                    status.address(None);
                }
                if let Some(lease) = self.client.lease() {
                    links.set_address(&self.card, lease.address, lease.router).await?;
                    status.address(Some((lease.address, format!("from {}", lease.server))));
                }
                set = granted;
            }
            tokio::select! {
                () = self.turn() => {}
                _ = looks.tick() => {
                    let has_link = has_link(links, card, status).await?;
                    if has_link && !had_link {
                        // It may be in another switch's port by now.
                        self.client.confirm(self.begun.elapsed());
                    }
                    had_link = has_link;
                }
            }
        }
    }

    /// Waits for what comes next, a message or the time for one, and answers.
    async fn turn(&mut self) {
        let Self { socket, client, begun, buffer, .. } = self;
        let answer = tokio::select! {
            () = sleep_until(*begun + client.due()) => client.poll(begun.elapsed()),
            received = socket.recv_from(buffer) => match received {
                Ok((length, _)) => Message::parse(&buffer[..length])
                    .ok()
                    .and_then(|message| client.handle(&message, begun.elapsed())),
                // An error of one datagram, as of a card that went down, is not the end.
                Err(_) => {
                    sleep(LOOK).await;
                    None
                }
            },
        };
        if let Some(send) = answer {
            // What cannot be sent now is sent at the next try.
            let _ = socket.send_to(&send.message.emit(), (send.to, SERVER)).await;
        }
    }
}

/// A socket that hears and speaks on one card, also while that has no address.
fn open(name: &str) -> std::io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_address(true)?;
    socket.set_broadcast(true)?;
    socket.bind_device(Some(name.as_bytes()))?;
    socket.set_nonblocking(true)?;
    socket.bind(&std::net::SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, CLIENT).into())?;
    UdpSocket::from_std(socket.into())
}

/// A transaction id that other machines which start at the same moment do not have.
fn random_xid(mac: Mac) -> u32 {
    let random = getrandom::u32().unwrap_or_default();
    let octets = mac.octets();
    random ^ u32::from_be_bytes([octets[2], octets[3], octets[4], octets[5]])
}

/// An address and whom it is from, as the screen shows it.
pub type Addressed = (Ipv4Net, String);

/// What listens on every card for what its other end says of itself.
#[must_use]
pub fn neighbours() -> Arc<Neighbours> {
    Arc::default()
}

//! Packet and raw sockets: frames to clients that have no address, ARP, DHCP between others, ICMP echo.

use std::{
    io,
    net::{Ipv4Addr, SocketAddrV4},
    time::Duration,
};

use etherparse::{
    ArpHardwareId, ArpOperation, ArpPacket, EtherType, IcmpEchoHeader, Icmpv4Header, Icmpv4Type, IpNumber,
    PacketBuilder, SlicedPacket, TransportSlice,
};
use lastmile_formats::mac::Mac;
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::UdpSocket;

use super::{Interface, address::link_address};

/// Hops a frame on the local wire may live: it never passes a router.
const TTL: u8 = 64;
/// Largest frame heard: an Ethernet frame with a VLAN tag.
const FRAME: usize = 1600;
/// The ICMP type of an echo reply (RFC 792).
const ICMP_ECHO_REPLY: u8 = 0;
/// How long nothing is heard after a socket said that it cannot.
const PAUSE: Duration = Duration::from_secs(1);
const BROADCAST: [u8; 6] = [0xff; 6];

/// A socket that sends whole frames on one interface: a client that has no address yet answers no ARP
/// request, so the kernel could not find its MAC address (RFC 2131, section 4.1).
#[derive(Debug)]
pub(crate) struct FrameSender {
    socket: Socket,
    interface: Interface,
}

impl FrameSender {
    /// Opens the socket; needs the right CAP_NET_RAW.
    pub(crate) fn open(interface: &Interface) -> io::Result<Self> {
        // Protocol 0: the socket receives nothing.
        let socket = Socket::new(Domain::PACKET, Type::RAW, Some(Protocol::from(0)))?;
        socket.set_nonblocking(true)?;
        Ok(Self { socket, interface: interface.clone() })
    }

    /// Sends `payload` as UDP from `from` to `to` in a frame to `mac`.
    pub(crate) fn send(
        &self,
        from: SocketAddrV4,
        mac: Mac,
        to: SocketAddrV4,
        payload: &[u8],
    ) -> io::Result<()> {
        let packet = PacketBuilder::ethernet2(self.interface.mac, mac.octets())
            .ipv4(from.ip().octets(), to.ip().octets(), TTL)
            .udp(from.port(), to.port());
        let mut frame = Vec::with_capacity(packet.size(payload.len()));
        packet.write(&mut frame, payload).map_err(io::Error::other)?;
        self.send_frame(mac.octets(), EtherType::IPV4, &frame)
    }

    /// Asks who has `address`, without claiming one (RFC 5227, section 2.1.1: an ARP probe).
    pub(crate) fn ask_who_has(&self, address: Ipv4Addr) -> io::Result<()> {
        let probe = ArpPacket::new(
            ArpHardwareId::ETHERNET,
            EtherType::IPV4,
            ArpOperation::REQUEST,
            &self.interface.mac,
            &Ipv4Addr::UNSPECIFIED.octets(),
            &[0; 6],
            &address.octets(),
        )
        .map_err(io::Error::other)?;
        let packet = PacketBuilder::ethernet2(self.interface.mac, BROADCAST).arp(probe);
        let mut frame = Vec::with_capacity(packet.size());
        packet.write(&mut frame).map_err(io::Error::other)?;
        self.send_frame(BROADCAST, EtherType::ARP, &frame)
    }

    fn send_frame(&self, to: [u8; 6], kind: EtherType, frame: &[u8]) -> io::Result<()> {
        self.socket.send_to(frame, &link_address(self.interface.index, to, kind.0)?)?;
        Ok(())
    }
}

/// What was heard on the wire.
#[derive(Debug)]
pub(crate) enum Heard {
    /// Somebody says that an address is theirs.
    Has { address: Ipv4Addr, mac: [u8; 6] },
    /// A UDP datagram to port 68: a DHCP server's word to a client.
    ToClient { from: SocketAddrV4, to: SocketAddrV4, payload: Vec<u8> },
}

/// A socket that hears frames of one kind on one interface.
#[derive(Debug)]
pub(crate) struct FrameListener(UdpSocket);

impl FrameListener {
    /// Hears ARP.
    pub(crate) fn arp(interface: &Interface) -> io::Result<Self> {
        Self::open(interface, EtherType::ARP, &[])
    }

    /// Hears UDP to port 68. The kernel sorts them out: no other packet of this host reaches the service.
    pub(crate) fn to_clients(interface: &Interface) -> io::Result<Self> {
        /// Classic BPF (bpf(4)): IPv4 without fragments, UDP, destination port 68.
        const FILTER: [(u16, u8, u8, u32); 9] = [
            (0x30, 0, 0, 23),     // load the protocol
            (0x15, 0, 6, 17),     // UDP?
            (0x28, 0, 0, 20),     // load flags and fragment offset
            (0x45, 4, 0, 0x1fff), // a later fragment?
            (0xb1, 0, 0, 14),     // index ← length of the IPv4 header
            (0x48, 0, 0, 16),     // load the destination port
            (0x15, 0, 1, 68),     // 68?
            (0x06, 0, 0, 0xffff), // take it whole
            (0x06, 0, 0, 0),      // leave it
        ];
        Self::open(interface, EtherType::IPV4, &FILTER)
    }

    fn open(interface: &Interface, kind: EtherType, filter: &[(u16, u8, u8, u32)]) -> io::Result<Self> {
        // Protocol 0 until the filter stands: nothing slips in before it.
        let socket = Socket::new(Domain::PACKET, Type::RAW, Some(Protocol::from(0)))?;
        socket.set_nonblocking(true)?;
        if !filter.is_empty() {
            let filter: Vec<_> = filter
                .iter()
                .map(|(code, jt, jf, k)| socket2::SockFilter::new(*code, *jt, *jf, *k))
                .collect();
            socket.attach_filter(&filter)?;
        }
        socket.bind(&link_address(interface.index, interface.mac, kind.0)?)?;
        Ok(Self(for_the_runtime(socket)?))
    }

    /// What is heard next.
    pub(crate) async fn next(&self) -> io::Result<Heard> {
        let mut buffer = vec![0; FRAME];
        loop {
            let length = self.0.recv(&mut buffer).await?;
            if let Some(heard) = understand(&buffer[..length]) {
                return Ok(heard);
            }
        }
    }
}

fn understand(frame: &[u8]) -> Option<Heard> {
    let packet = SlicedPacket::from_ethernet(frame).ok()?;
    match packet.net? {
        etherparse::NetSlice::Arp(arp) => {
            let address = <[u8; 4]>::try_from(arp.sender_protocol_addr()).ok()?;
            let mac = <[u8; 6]>::try_from(arp.sender_hw_addr()).ok()?;
            Some(Heard::Has { address: address.into(), mac })
        }
        etherparse::NetSlice::Ipv4(ipv4) => {
            let Some(TransportSlice::Udp(udp)) = packet.transport else { return None };
            Some(Heard::ToClient {
                from: SocketAddrV4::new(ipv4.header().source_addr(), udp.source_port()),
                to: SocketAddrV4::new(ipv4.header().destination_addr(), udp.destination_port()),
                payload: udp.payload().to_vec(),
            })
        }
        etherparse::NetSlice::Ipv6(_) => None,
    }
}

/// ICMP echo from this host (RFC 792).
#[derive(Debug)]
pub(crate) struct Icmp(UdpSocket);

impl Icmp {
    /// Opens the socket; needs the right CAP_NET_RAW.
    pub(crate) fn open() -> io::Result<Self> {
        let socket = Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::ICMPV4))?;
        socket.set_nonblocking(true)?;
        Ok(Self(for_the_runtime(socket)?))
    }

    /// Sends an echo request to `address`.
    pub(crate) async fn ask(&self, address: Ipv4Addr) -> io::Result<()> {
        let echo = IcmpEchoHeader { id: std::process::id() as u16, seq: 1 };
        let header = Icmpv4Header::with_checksum(Icmpv4Type::EchoRequest(echo), &[]);
        let to = SocketAddrV4::new(address, 0);
        self.0.send_to(&header.to_bytes(), std::net::SocketAddr::from(to)).await?;
        Ok(())
    }

    /// The address that answered an echo next.
    pub(crate) async fn next(&self) -> io::Result<Ipv4Addr> {
        let mut buffer = vec![0; FRAME];
        loop {
            let length = self.0.recv(&mut buffer).await?;
            let Ok(ipv4) = etherparse::Ipv4HeaderSlice::from_slice(&buffer[..length]) else { continue };
            let answers = buffer.get(ipv4.slice().len()) == Some(&ICMP_ECHO_REPLY);
            if ipv4.protocol() == IpNumber::ICMP && answers {
                return Ok(ipv4.source_addr());
            }
        }
    }
}

/// Says that nothing was heard, and waits a moment: a socket of an interface that goes down says so once, and hears again when
/// the interface is back (packet(7)).
pub(crate) async fn not_heard(what: &str, error: &io::Error) {
    tracing::warn!("{what} is not heard at the moment: {error}");
    tokio::time::sleep(PAUSE).await;
}

/// A datagram socket of any family, as the runtime waits for it. Its type says UDP, but `recv` is the same call for
/// all of them; who sent it, which the type would misread, is never asked.
fn for_the_runtime(socket: Socket) -> io::Result<UdpSocket> {
    UdpSocket::from_std(socket.into())
}

//! Questions that the service asks itself: which DHCP servers answer, and whether it is one of them.

use std::{
    io,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use lastmile_formats::{
    architecture::Firmware,
    dhcp::{Kind, Message, Op, RelayInfo, code},
    mac::Mac,
};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::{net::UdpSocket, time::Instant};

use crate::link::Interface;

/// How long servers may take to answer.
const PATIENCE: Duration = Duration::from_millis(1500);
/// The port of clients.
const CLIENT_PORT: u16 = 68;
/// What firmware asks for.
const WANTED: [u8; 10] = [1, 3, 6, 12, 15, 43, 60, 66, 67, 97];

/// How long after its end a trial's last packets may still be under way, such as the acknowledgement of a file's end.
const ECHO: Duration = Duration::from_secs(10);

/// The MAC address of the machine that the service plays, while it does: it gets an answer and leaves no record.
#[derive(Debug, Default)]
pub(crate) struct Trial {
    part: Mutex<Part>,
    xid: AtomicU32,
}

#[derive(Debug, Default)]
struct Part {
    playing: Option<Mac>,
    played: Vec<(Mac, Instant)>,
}

/// The part of the machine is given back with the value.
#[derive(Debug)]
pub(crate) struct Playing<'a> {
    trial: &'a Trial,
    pub(crate) mac: Mac,
}

impl Trial {
    /// Whether `mac` is the machine's that the service plays just now.
    pub(crate) fn is(&self, mac: Mac) -> bool {
        self.part().playing == Some(mac)
    }

    /// Whether what `mac` does is to leave no record: it is being played, or was until just now.
    pub(crate) fn leaves_no_record(&self, mac: Mac) -> bool {
        let part = self.part();
        part.playing == Some(mac)
            || part.played.iter().any(|(past, end)| *past == mac && end.elapsed() < ECHO)
    }

    fn part(&self) -> MutexGuard<'_, Part> {
        self.part.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Plays a machine of a random, locally administered address (IEEE 802c). `None` while somebody does already.
    pub(crate) fn play(&self) -> Option<Playing<'_>> {
        let mut bytes = [0; 6];
        getrandom::fill(&mut bytes).ok()?;
        bytes[0] = 0x02;
        let mac = Mac::new(bytes).ok()?;
        let mut part = self.part();
        if part.playing.is_some() {
            return None;
        }
        part.playing = Some(mac);
        Some(Playing { trial: self, mac })
    }
}

impl Drop for Playing<'_> {
    fn drop(&mut self) {
        let mut part = self.trial.part();
        part.playing = None;
        part.played.retain(|(_, end)| end.elapsed() < ECHO);
        part.played.push((self.mac, Instant::now()));
    }
}

impl Playing<'_> {
    fn discover(&self, firmware: Firmware) -> Message {
        let xid = self.trial.xid.fetch_add(1, Ordering::Relaxed) ^ 0x4c4d_0000;
        let mut message = Message::request(Kind::Discover, xid, self.mac);
        message.options.set(code::VENDOR_CLASS, format!("{}:UNDI:003000", firmware.class()));
        message.options.set(code::CLIENT_ARCHITECTURE, firmware.code().to_be_bytes());
        message.options.set(code::CLIENT_INTERFACE, [1, 3, 0]);
        message.options.set(code::PARAMETER_REQUEST_LIST, WANTED);
        message
    }

    /// Asks on a wire as firmware does, and gives every offer that came: this service's own among them.
    pub(crate) async fn ask_wire(
        &self,
        interface: &Interface,
        firmware: Firmware,
    ) -> io::Result<Vec<Message>> {
        let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
        socket.set_nonblocking(true)?;
        // Beside a DHCP client of this host, which may have the port.
        socket.set_reuse_address(true)?;
        socket.bind_device(Some(interface.name.as_bytes()))?;
        socket.set_broadcast(true)?;
        socket.bind(&SocketAddr::from((Ipv4Addr::UNSPECIFIED, CLIENT_PORT)).into())?;
        let socket = UdpSocket::from_std(socket.into())?;
        let mut message = self.discover(firmware);
        message.set_broadcast();
        socket.send_to(&message.emit(), (Ipv4Addr::BROADCAST, 67)).await?;
        gather(&socket, message.xid).await
    }

    /// Asks on the service's own port as a relay on this host that stands on `link`.
    pub(crate) async fn ask_as_relay(
        &self,
        server: SocketAddrV4,
        relay: Ipv4Addr,
        link: Ipv4Addr,
        firmware: Firmware,
    ) -> io::Result<Vec<Message>> {
        let socket = UdpSocket::bind((relay, 0)).await?;
        let mut message = self.discover(firmware);
        message.hops = 1;
        message.giaddr = relay;
        let info = RelayInfo { link_selection: Some(link), uses_source_port: true, ..RelayInfo::default() };
        message.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
        socket.send_to(&message.emit(), server).await?;
        gather(&socket, message.xid).await
    }
}

/// Every offer to `xid` that comes in time. Only one is waited for as a relay: there is one server.
async fn gather(socket: &UdpSocket, xid: u32) -> io::Result<Vec<Message>> {
    let end = Instant::now() + PATIENCE;
    let mut offers = Vec::new();
    let mut buffer = [0; 2048];
    while let Ok(received) = tokio::time::timeout_at(end, socket.recv_from(&mut buffer)).await {
        let (length, _) = received?;
        if let Ok(offer) = Message::parse(&buffer[..length])
            && offer.op == Op::Reply
            && offer.xid == xid
        {
            let relayed = !offer.giaddr.is_unspecified();
            offers.push(offer);
            if relayed {
                break;
            }
        }
    }
    Ok(offers)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_under_way_when_a_trial_ends_leaves_no_record_either() {
        let trial = Trial::default();
        let first = trial.play().unwrap().mac;
        // Its last acknowledgement is still on the wire: it is no newcomer's, and no answer is due to it.
        assert!(trial.leaves_no_record(first) && !trial.is(first));
        let playing = trial.play().unwrap();
        assert!(trial.play().is_none(), "one at a time");
        assert!(trial.is(playing.mac) && trial.leaves_no_record(playing.mac));
        assert!(trial.leaves_no_record(first), "that of the one before is remembered");
        assert!(!trial.leaves_no_record(Mac::new([2, 0, 0x5e, 0, 0x53, 1]).unwrap()));
    }
}

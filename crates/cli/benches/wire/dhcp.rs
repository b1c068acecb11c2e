//! DHCP: exchanges a second, and how long one takes.

use std::{
    collections::HashMap,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket},
    thread,
    time::{Duration, Instant},
};

use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, RelayInfo, code},
};
use lastmile_server::Running;

use super::{MACHINES, PATIENCE, best, echo, mac, p99, row, socket};

/// Exchanges that are made, and how many of them are under way at a time.
const EXCHANGES: u32 = 20_000;
const IN_FLIGHT: usize = 256;

pub(super) fn measure(running: &Running) {
    let Some(SocketAddr::V4(service)) = running.listening().relays else { panic!("no relay port") };
    let (request, reply) = (Forms::new().discover(0).len(), 330);
    let echoed = || {
        let server = echo(move |length| if length == 1 { 0 } else { reply });
        let socket = socket();
        let rate = echo_exchanges(&socket, server, request);
        socket.send_to(&[0], server).unwrap();
        rate
    };
    let mut first = 0;
    let mut latencies = Vec::new();
    let (floor, rate) = best(echoed, || {
        first += EXCHANGES;
        exchanges(service, first, EXCHANGES, f64::INFINITY, &mut Vec::new())
    });
    row("DHCP, four packets, lease on disk, 256 in flight", floor, rate, "/s", "60 %");
    exchanges(service, first + EXCHANGES, EXCHANGES, rate / 2.0, &mut latencies);
    println!(
        "DHCP at half that rate: p99 of the exchange {:.2} ms (aim: under 5 ms)",
        p99(&mut latencies).as_secs_f64() * 1e3
    );
}

/// Two datagrams each way an exchange, as in DHCP; gives exchanges a second.
fn echo_exchanges(socket: &UdpSocket, server: SocketAddr, length: usize) -> f64 {
    let (datagram, mut buffer) = (vec![0; length], [0; 2048]);
    let began = Instant::now();
    let (mut sent, mut received) = (0, 0);
    let all = EXCHANGES as usize * 2;
    while received < all {
        while sent < all && sent - received < IN_FLIGHT {
            socket.send_to(&datagram, server).unwrap();
            sent += 1;
        }
        socket.recv(&mut buffer).unwrap();
        received += 1;
    }
    f64::from(EXCHANGES) / began.elapsed().as_secs_f64()
}

/// Datagrams as a relay on this host forwards them, made once and filled in: what the measuring end costs is not the
/// service's.
struct Forms {
    discover: Vec<u8>,
    request: Vec<u8>,
    /// Where the requested address stands in `request`.
    wanted: usize,
}

const XID: std::ops::Range<usize> = 4..8;
const YIADDR: std::ops::Range<usize> = 16..20;
const CHADDR: std::ops::Range<usize> = 28..34;
/// Where the message type stands: the first option of every message of ours.
const KIND: usize = 242;

impl Forms {
    fn new() -> Self {
        let relayed = |kind| {
            let mut message = Message::request(kind, 0, mac(0));
            message.giaddr = Ipv4Addr::LOCALHOST;
            message.options.set(code::VENDOR_CLASS, *b"PXEClient:Arch:00007:UNDI:003000");
            message.options.set(code::CLIENT_ARCHITECTURE, Architecture::UefiX64.code().to_be_bytes());
            message
        };
        let info = RelayInfo {
            link_selection: Some(Ipv4Addr::new(10, 0, 0, 1)),
            uses_source_port: true,
            ..RelayInfo::default()
        };
        let mut discover = relayed(Kind::Discover);
        discover.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
        let mut request = relayed(Kind::Request);
        let placeholder = [203, 0, 113, 77];
        request.options.set(code::REQUESTED_ADDRESS, placeholder);
        request.options.set(code::SERVER_IDENTIFIER, Ipv4Addr::LOCALHOST.octets());
        request.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
        let request = request.emit();
        let wanted = request.windows(4).position(|bytes| bytes == placeholder).unwrap();
        Self { discover: discover.emit(), request, wanted }
    }

    fn discover(&mut self, number: u32) -> &[u8] {
        self.discover[XID].copy_from_slice(&number.to_be_bytes());
        self.discover[CHADDR].copy_from_slice(&mac(number % MACHINES).octets());
        &self.discover
    }

    fn request(&mut self, number: u32, offer: &[u8]) -> &[u8] {
        self.request[XID].copy_from_slice(&number.to_be_bytes());
        self.request[CHADDR].copy_from_slice(&mac(number % MACHINES).octets());
        let wanted = self.wanted;
        self.request[wanted..wanted + 4].copy_from_slice(&offer[YIADDR]);
        &self.request
    }
}

/// So many full exchanges from `first` on, begun at no more than `rate` a second; gives how many a second were made.
pub(super) fn exchanges(
    server: SocketAddrV4,
    first: u32,
    count: u32,
    rate: f64,
    latencies: &mut Vec<Duration>,
) -> f64 {
    let socket = socket();
    let (mut forms, mut buffer) = (Forms::new(), [0; 2048]);
    let mut under_way: HashMap<u32, Instant> = HashMap::new();
    let (mut begun, mut ended) = (0, 0);
    let began = Instant::now();
    while ended < count {
        let due = (began.elapsed().as_secs_f64() * rate) as u64;
        while begun < count && under_way.len() < IN_FLIGHT && u64::from(begun) <= due {
            let number = first + begun;
            socket.send_to(forms.discover(number), server).unwrap();
            under_way.insert(number, Instant::now());
            begun += 1;
        }
        if under_way.is_empty() {
            thread::sleep(Duration::from_micros(100));
            continue;
        }
        let wait = if rate.is_finite() { Duration::from_millis(1) } else { PATIENCE };
        socket.set_read_timeout(Some(wait)).unwrap();
        let Ok(length) = socket.recv(&mut buffer) else {
            assert!(rate.is_finite(), "an exchange was lost");
            continue;
        };
        let reply = &buffer[..length];
        let number = u32::from_be_bytes(reply[XID].try_into().unwrap());
        match Kind::from_byte(reply[KIND]) {
            Kind::Offer => {
                socket.send_to(forms.request(number, reply), server).unwrap();
            }
            Kind::Ack => {
                let since = under_way.remove(&number).unwrap();
                latencies.push(since.elapsed());
                ended += 1;
            }
            kind => panic!("{kind}"),
        }
    }
    f64::from(count) / began.elapsed().as_secs_f64()
}

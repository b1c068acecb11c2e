//! DHCP and TFTP against floors measured in the same run, on the same kind of sockets.
//!
//! A figure is the ratio of two rates. Absolute rates are printed beside it, and say nothing on a shared machine.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark that cannot go on ends")]
#![allow(missing_docs, reason = "a program, not a library")]

use std::{
    collections::HashMap,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket},
    thread,
    time::{Duration, Instant},
};

use lastmile_api::{ImageKind, MachineDraft, RevisionDraft, SubnetDraft};
use lastmile_client::Client;
use lastmile_core::{
    boot::Architecture,
    dhcp::{Kind, Message, RelayInfo, code},
    net::Mac,
    tftp::{Packet, Wishes},
};
use lastmile_server::{Config, Running};

/// The same as the program's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const MIB: usize = 1024 * 1024;
const FILE: usize = 64 * MIB;
const BLKSIZE: u16 = 1468;
/// Machines that are registered while DHCP is measured.
const MACHINES: u32 = 10_000;
/// Exchanges that are made, and how many of them are under way at a time.
const EXCHANGES: u32 = 20_000;
const IN_FLIGHT: usize = 256;
/// Floor and service take turns so many times; of each the best counts, as what disturbs it only makes it worse.
const ROUNDS: usize = 5;
const PATIENCE: Duration = Duration::from_secs(5);

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let running = runtime.block_on(start(folder.path()));
    println!("{:<46} {:>14} {:>14} {:>8} {:>8}", "work", "floor", "service", "ratio", "aim");
    tftp(&running);
    dhcp(&running);
    runtime.block_on(running.stop());
}

/// A service with one subnet, 10,000 machines, and one image of 64 MiB.
async fn start(folder: &std::path::Path) -> Running {
    let mut config: Config = toml::from_str("").unwrap();
    config.data_dir = folder.into();
    config.boot.address = Some(Ipv4Addr::LOCALHOST);
    config.boot.relay_listen = Some(SocketAddrV4::new(Ipv4Addr::LOCALHOST, 0));
    config.boot.tftp_port = 0;
    config.boot.http_port = 0;
    config.admin.listen = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let running = lastmile_server::start(&config).await.unwrap();
    let client = Client::new(&format!("http://{}", running.listening().admin), "bench").unwrap();
    let mut subnet = SubnetDraft::new("hall", "10.0.0.0/16");
    subnet.pools = vec!["10.0.16.0-10.0.255.250".into()];
    subnet.relays = vec!["127.0.0.1".into()];
    client.create_subnet(&subnet).await.unwrap();
    let kernel = client.upload_bytes("linux", vec![7; FILE]).await.unwrap();
    let image = RevisionDraft {
        name: "tidewrack-12".into(),
        title: None,
        kind: ImageKind::Tool,
        family: lastmile_api::Family::None,
        kernel: "linux".into(),
        initrds: vec![],
        parameters: vec![],
        files: vec![kernel],
    };
    client.create_revision(&image).await.unwrap();
    let numbers: Vec<u32> = (0..MACHINES).collect();
    for batch in numbers.chunks(128) {
        let mut adding = tokio::task::JoinSet::new();
        for number in batch {
            let draft = MachineDraft::new(format!("locker-{number:05}"), vec![mac(*number).to_string()]);
            let client = client.clone();
            adding.spawn(async move { client.create_machine(&draft).await.unwrap() });
        }
        adding.join_all().await;
    }
    running
}

fn mac(number: u32) -> Mac {
    let [a, b, c, d] = number.to_be_bytes();
    Mac::new([2, 0, a, b, c, d]).unwrap()
}

/// The best rate of the floor and of the service.
fn best(mut floor: impl FnMut() -> f64, mut service: impl FnMut() -> f64) -> (f64, f64) {
    (0..ROUNDS).fold((0.0, 0.0), |(low, rate), _| (floor().max(low), service().max(rate)))
}

fn row(work: &str, floor: f64, service: f64, unit: &str, aim: &str) {
    let ratio = 100.0 * service / floor;
    println!(
        "{work:<46} {:>14} {:>14} {ratio:>6.0} % {aim:>8}",
        format!("{floor:.0} {unit}"),
        format!("{service:.0} {unit}")
    );
}

fn socket() -> UdpSocket {
    let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    socket2::SockRef::from(&socket).set_recv_buffer_size(4 * MIB).unwrap();
    socket
}

/// A thread that answers every datagram with one of the length that `reply` gives for it; 0 ends it.
fn echo(reply: impl Fn(usize) -> usize + Send + 'static) -> SocketAddr {
    let socket = socket();
    socket.set_read_timeout(None).unwrap();
    let address = socket.local_addr().unwrap();
    thread::spawn(move || {
        let (mut buffer, answer) = ([0; 4096], [0; 4096]);
        while let Ok((length, from)) = socket.recv_from(&mut buffer) {
            match reply(length) {
                0 => break,
                length => socket.send_to(&answer[..length], from).unwrap(),
            };
        }
    });
    address
}

fn tftp(running: &Running) {
    let blocks = FILE / usize::from(BLKSIZE) + 1;
    let ping_pong = || {
        let server = echo(|length| if length == 1 { 0 } else { usize::from(BLKSIZE) + 4 });
        let socket = socket();
        socket.connect(server).unwrap();
        let mut buffer = [0; 2048];
        let began = Instant::now();
        for _ in 0..blocks {
            socket.send(&[0; 4]).unwrap();
            socket.recv(&mut buffer).unwrap();
        }
        let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
        socket.send(&[0]).unwrap();
        rate
    };
    let (floor, service) = best(ping_pong, || read_file(running.listening().tftp[0]));
    row("TFTP, 64 MiB, blksize 1468, windowsize 1", floor, service, "MB/s", "90 %");
}

/// Reads the file in lock-step; gives MB/s.
fn read_file(server: SocketAddr) -> f64 {
    let socket = socket();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: None, tsize: true };
    let path = format!("boot/{}/tidewrack-12/r1/linux", mac(1).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    let began = Instant::now();
    socket.send_to(&request.emit(), server).unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).unwrap();
    socket.connect(transfer).unwrap();
    let mut acknowledgement = [0, 4, 0, 0];
    let mut got = 0;
    loop {
        socket.send(&acknowledgement).unwrap();
        let length = socket.recv(&mut buffer).unwrap() - 4;
        acknowledgement[2..].copy_from_slice(&buffer[2..4]);
        got += length;
        if length < usize::from(BLKSIZE) {
            break;
        }
    }
    let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
    socket.send(&acknowledgement).unwrap();
    assert_eq!(got, FILE);
    rate
}

fn dhcp(running: &Running) {
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
        exchanges(service, first, f64::INFINITY, &mut Vec::new())
    });
    row("DHCP, four packets, lease on disk, 256 in flight", floor, rate, "/s", "60 %");
    exchanges(service, first + EXCHANGES, rate / 2.0, &mut latencies);
    latencies.sort_unstable();
    let p99 = latencies[latencies.len() * 99 / 100];
    println!(
        "DHCP at half that rate: p99 of the exchange {:.2} ms (aim: under 5 ms)",
        p99.as_secs_f64() * 1e3
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
        let wanted = request.windows(4).position(|octets| octets == placeholder).unwrap();
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

/// Full exchanges from `first` on, begun at no more than `rate` a second; gives how many a second were made.
fn exchanges(server: SocketAddrV4, first: u32, rate: f64, latencies: &mut Vec<Duration>) -> f64 {
    let socket = socket();
    let (mut forms, mut buffer) = (Forms::new(), [0; 2048]);
    let mut under_way: HashMap<u32, Instant> = HashMap::new();
    let (mut begun, mut ended) = (0, 0);
    let began = Instant::now();
    while ended < EXCHANGES {
        let due = (began.elapsed().as_secs_f64() * rate) as u64;
        while begun < EXCHANGES && under_way.len() < IN_FLIGHT && u64::from(begun) <= due {
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
        match Kind::from_octet(reply[KIND]) {
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
    f64::from(EXCHANGES) / began.elapsed().as_secs_f64()
}

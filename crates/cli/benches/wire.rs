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

use lastmile_api::{
    HttpReach, ImageKind, LoaderDraft, MachineDraft, RevisionDraft, StandingDraft, SubnetDraft,
};
use lastmile_client::Client;
use lastmile_core::{
    boot::Architecture,
    dhcp::{Kind, Message, RelayInfo, code},
    net::Mac,
    tftp::{Packet, Wishes},
};
use lastmile_server::{Config, Running};
use lastmile_sim::{Identity, Machine, Pace, Reached};

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
    tftp_windows(&running);
    tftp_many(&running);
    dhcp(&running);
    runtime.block_on(running.stop());
    runtime.block_on(hall());
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
    fill(&client, MACHINES, FILE, SHARE).await;
    running
}

/// One subnet, a loader, an image of one file and a live one, and machines that run that.
async fn fill(client: &Client, machines: u32, image_size: usize, live_size: usize) {
    let mut subnet = SubnetDraft::new("hall", "10.0.0.0/16");
    subnet.pools = vec!["10.0.16.0-10.0.255.250".into()];
    subnet.relays = vec!["127.0.0.1".into()];
    client.create_subnet(&subnet).await.unwrap();
    let image = RevisionDraft {
        name: "tidewrack-12".into(),
        title: None,
        kind: ImageKind::Tool,
        family: lastmile_api::Family::None,
        kernel: "linux".into(),
        initrds: vec![],
        parameters: vec![],
        files: vec![client.upload_bytes("linux", vec![7; image_size]).await.unwrap()],
    };
    client.create_revision(&image).await.unwrap();
    let live = RevisionDraft {
        name: "lantern-3".into(),
        kind: ImageKind::Live,
        kernel: "share".into(),
        files: vec![client.upload_bytes("share", vec![9; live_size]).await.unwrap()],
        ..image
    };
    client.create_revision(&live).await.unwrap();
    let files = vec![client.upload_bytes("core.efi", vec![1; 256 * 1024]).await.unwrap()];
    let loader =
        LoaderDraft { http: HttpReach::AnyPort, ..LoaderDraft::new("x64", "uefi-x64", "core.efi", files) };
    client.create_loader(&loader).await.unwrap();
    let numbers: Vec<u32> = (0..machines).collect();
    for batch in numbers.chunks(128) {
        let mut adding = tokio::task::JoinSet::new();
        for number in batch {
            let draft = MachineDraft {
                standing: StandingDraft::Live("lantern-3".into()),
                ..MachineDraft::new(format!("locker-{number:05}"), vec![mac(*number).to_string()])
            };
            let client = client.clone();
            adding.spawn(async move { client.create_machine(&draft).await.unwrap() });
        }
        adding.join_all().await;
    }
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

/// Windows against a sender that only sends: no file, no acknowledgements, one system call a block.
fn tftp_windows(running: &Running) {
    let blocks = FILE / usize::from(BLKSIZE) + 1;
    let one_way = || {
        let (receiver, sender) = (socket(), socket());
        sender.connect(receiver.local_addr().unwrap()).unwrap();
        let block = [0; BLKSIZE as usize + 4];
        // Somebody takes them in, as a client would; what it misses is not counted against the floor.
        receiver.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let taking = thread::spawn(move || {
            let mut buffer = [0; 2048];
            while receiver.recv(&mut buffer).is_ok() {}
        });
        let began = Instant::now();
        for _ in 0..blocks {
            sender.send(&block).unwrap();
        }
        let rate = FILE as f64 / 1e6 / began.elapsed().as_secs_f64();
        taking.join().unwrap();
        rate
    };
    for windowsize in [16, 64] {
        let (floor, service) = best(one_way, || read_windows(running.listening().tftp[0], windowsize));
        let work = format!("TFTP, 64 MiB, blksize 1468, windowsize {windowsize}");
        row(&work, floor, service, "MB/s", "100 %");
    }
}

/// Reads the file with a window, acknowledging its last block only; gives MB/s.
fn read_windows(server: SocketAddr, windowsize: u16) -> f64 {
    let socket = socket();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: Some(windowsize), tsize: true };
    let path = format!("boot/{}/tidewrack-12/r1/linux", mac(1).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    let began = Instant::now();
    socket.send_to(&request.emit(), server).unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).unwrap();
    socket.connect(transfer).unwrap();
    let (mut expected, mut got) = (1_u64, 0);
    socket.send(&[0, 4, 0, 0]).unwrap();
    loop {
        let length = socket.recv(&mut buffer).unwrap() - 4;
        let block = u16::from_be_bytes([buffer[2], buffer[3]]);
        assert_eq!(u64::from(block), expected & 0xffff, "a block was lost on the loopback");
        got += length;
        let last = length < usize::from(BLKSIZE);
        if last || expected % u64::from(windowsize) == 0 {
            socket.send(&[0, 4, buffer[2], buffer[3]]).unwrap();
        }
        if last {
            break;
        }
        expected += 1;
    }
    assert_eq!(got, FILE);
    FILE as f64 / 1e6 / began.elapsed().as_secs_f64()
}

/// Clients that read at once, and how much each reads.
const MANY: usize = 512;
const SHARE: usize = 2 * MIB;

/// 512 clients against one, by their total rate; and how far apart the first and the last of them end. One thread drives
/// all clients and answers each as its blocks come, as 512 computers would: their own scheduling is not measured.
fn tftp_many(running: &Running) {
    let server = running.listening().tftp[0];
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let rate = |clients: usize| {
        runtime.block_on(async {
            let began = Instant::now();
            let reads = (0..clients).map(|number| async move {
                read_share(server, number).await;
                began.elapsed().as_secs_f64()
            });
            let mut took = futures_util::future::join_all(reads).await;
            took.sort_by(f64::total_cmp);
            let rate = (clients * SHARE) as f64 / 1e6 / took[clients - 1];
            (rate, took[clients - 1] / took[0])
        })
    };
    let one = (0..5).map(|_| rate(1).0).fold(0.0, f64::max);
    let (many, apart) = rate(MANY);
    row("TFTP, 512 clients at once, blksize 1468", one, many, "MB/s", "100 %");
    println!(
        "TFTP, 512 clients: none failed; the slowest took {apart:.2} times as long as the fastest (aim: within 2)"
    );
}

/// Reads 2 MiB in lock-step.
async fn read_share(server: SocketAddr, number: usize) {
    let socket = tokio::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let wishes = Wishes { blksize: Some(BLKSIZE), windowsize: None, tsize: true };
    let path = format!("boot/{}/lantern-3/r1/share", mac(number as u32).dashed());
    let request = Packet::Read { name: path.into(), mode: "octet".into(), options: wishes.options() };
    let mut buffer = [0; 2048];
    socket.send_to(&request.emit(), server).await.unwrap();
    let (_, transfer) = socket.recv_from(&mut buffer).await.unwrap();
    socket.connect(transfer).await.unwrap();
    let (mut acknowledgement, mut got, mut expected) = ([0, 4, 0, 0], 0, 1_u16);
    loop {
        socket.send(&acknowledgement).await.unwrap();
        let length = tokio::time::timeout(PATIENCE, socket.recv(&mut buffer)).await.unwrap().unwrap() - 4;
        acknowledgement[2..].copy_from_slice(&buffer[2..4]);
        // Sent again, because the acknowledgement came late: acknowledged again, and not counted.
        if u16::from_be_bytes([buffer[2], buffer[3]]) != expected {
            continue;
        }
        expected = expected.wrapping_add(1);
        got += length;
        if length < usize::from(BLKSIZE) {
            break;
        }
    }
    socket.send(&acknowledgement).await.unwrap();
    assert_eq!(got, SHARE);
}

/// Machines in the hall.
const HALL: u32 = 2000;
/// Ports of the hall's own service: relays, TFTP, HTTP, the API.
const HALL_PORTS: u16 = 25_100;

/// Power returns to a hall: every machine boots at once, to the kernel of a live image. The service is a process of
/// its own, so that its memory is its own.
async fn hall() {
    let folder = tempfile::tempdir().unwrap();
    let config = folder.path().join("lastmile.toml");
    let text = format!(
        "data_dir = '{}'\n[boot]\naddress = '127.0.0.1'\nrelay_listen = '127.0.0.1:{HALL_PORTS}'\ntftp_port = {}\n\
         http_port = {}\n[admin]\nlisten = '127.0.0.1:{}'\n[log]\nlevel = 'error'\n",
        folder.path().join("data").display(),
        HALL_PORTS + 1,
        HALL_PORTS + 2,
        HALL_PORTS + 3
    );
    std::fs::write(&config, text).unwrap();
    let mut service = std::process::Command::new(env!("CARGO_BIN_EXE_lastmile"))
        .args(["serve", "--config"])
        .arg(&config)
        .spawn()
        .unwrap();
    let client = Client::new(&format!("http://127.0.0.1:{}", HALL_PORTS + 3), "bench").unwrap();
    while client.status().await.is_err() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    fill(&client, HALL, MIB, 256 * 1024).await;
    let reached = Reached {
        dhcp: SocketAddrV4::new(Ipv4Addr::LOCALHOST, HALL_PORTS),
        tftp_port: HALL_PORTS + 1,
        http_port: HALL_PORTS + 2,
        link: Ipv4Addr::new(10, 0, 0, 1),
    };
    let before = memory(service.id(), "VmRSS:");
    let began = Instant::now();
    let mut machines = tokio::task::JoinSet::new();
    for number in 0..HALL {
        machines.spawn(async move {
            let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
            let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
            // A computer that is not answered in time is switched off and on again.
            for tries in 1..=5 {
                if machine.boot(&mut |_| {}).await.is_ok() {
                    return Some(tries);
                }
            }
            None
        });
    }
    let tries = machines.join_all().await;
    let booted = tries.iter().flatten().count();
    let at_once = tries.iter().filter(|tries| **tries == Some(1)).count();
    println!(
        "hall of {HALL} machines at once: {booted} booted ({at_once} at the first try) in {:.1} s; memory of the service \
         {} MiB at most, {before} MiB before (aim: every one, at most 150 MiB)",
        began.elapsed().as_secs_f64(),
        memory(service.id(), "VmHWM:")
    );
    service.kill().unwrap();
    service.wait().unwrap();
}

/// Memory of a process in MiB (proc(5)).
fn memory(process: u32, what: &str) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix(what)).unwrap();
    line.trim().trim_end_matches(" kB").trim().parse::<u64>().unwrap() / 1024
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

//! DHCP and TFTP against floors measured in the same run, on the same kind of sockets.
//!
//! A figure is the ratio of two rates. Absolute rates are printed beside it, and say nothing on a shared machine. Names of parts
//! (`tftp`, `dhcp`, `busy`, `hall`, `newcomers`) after `--` run only those.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark that cannot go on ends")]
#![allow(missing_docs, reason = "a program, not a library")]

mod busy;
mod dhcp;
mod hall;
mod newcomers;
mod tftp;

use std::{
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket},
    thread,
    time::Duration,
};

use lastmile_api::{
    DefaultBootDraft, HttpReach, ImageKind, LoaderDraft, MachineDraft, RevisionDraft, SubnetDraft,
};
use lastmile_client::Client;
use lastmile_formats::mac::Mac;
use lastmile_server::{Config, Running};

const MIB: usize = 1024 * 1024;
const FILE: usize = 64 * MIB;
/// Machines that are registered while DHCP is measured.
const MACHINES: u32 = 10_000;
/// Floor and service take turns so many times; of each the best counts, as what disturbs it only makes it worse.
const ROUNDS: usize = 5;
const PATIENCE: Duration = Duration::from_secs(5);

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let running = runtime.block_on(start(folder.path()));
    let parts: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let is_wanted = |part: &str| parts.is_empty() || parts.iter().any(|wanted| wanted == part);
    println!("{:<46} {:>14} {:>14} {:>8} {:>8}", "work", "floor", "service", "ratio", "aim");
    if is_wanted("tftp") {
        tftp::lock_step(&running);
        tftp::windows(&running);
        tftp::many(&running);
    }
    if is_wanted("dhcp") {
        dhcp::measure(&running);
    }
    if is_wanted("busy") {
        busy::measure(&runtime, &running);
    }
    runtime.block_on(running.stop());
    if is_wanted("hall") {
        runtime.block_on(hall::measure());
    }
    if is_wanted("newcomers") {
        runtime.block_on(newcomers::measure());
    }
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
    fill(&client, MACHINES, FILE, tftp::SHARE).await;
    running
}

/// One subnet, a loader, an image of one file and a live one, and machines that run that.
async fn fill(client: &Client, machines: u32, image_size: usize, live_size: usize) {
    let mut subnet = SubnetDraft::new("hall", "10.0.0.0/16");
    subnet.pools = vec!["10.0.16.0-10.0.255.250".into()];
    subnet.relays = vec!["127.0.0.1".into()];
    client.subnets_create(&subnet).await.unwrap();
    let image = RevisionDraft {
        name: "tidewrack-12".into(),
        kind: Some(ImageKind::Tool),
        kernel: Some("linux".into()),
        initrds: Some(vec![]),
        files: vec![client.upload_bytes("linux", vec![7; image_size]).await.unwrap()],
        ..RevisionDraft::default()
    };
    client.images_create(&image).await.unwrap();
    let live = RevisionDraft {
        name: "lantern-3".into(),
        kind: Some(ImageKind::Live),
        kernel: Some("share".into()),
        files: vec![client.upload_bytes("share", vec![9; live_size]).await.unwrap()],
        ..image
    };
    client.images_create(&live).await.unwrap();
    let files = vec![client.upload_bytes("core.efi", vec![1; 256 * 1024]).await.unwrap()];
    let loader = LoaderDraft {
        http: Some(HttpReach::AnyPort),
        ..LoaderDraft::new("x64", "uefi-x64", "core.efi", files)
    };
    client.loaders_create(&loader).await.unwrap();
    let numbers: Vec<u32> = (0..machines).collect();
    for batch in numbers.chunks(128) {
        let mut adding = tokio::task::JoinSet::new();
        for number in batch {
            let draft = MachineDraft {
                default_boot: DefaultBootDraft::Live("lantern-3".into()),
                ..MachineDraft::new(format!("locker-{number:05}"), vec![mac(*number).to_string()])
            };
            let client = client.clone();
            adding.spawn(async move { client.machines_create(&draft).await.unwrap() });
        }
        adding.join_all().await;
    }
}

fn mac(number: u32) -> Mac {
    let [a, b, c, d] = number.to_be_bytes();
    Mac::new([2, 0, a, b, c, d]).unwrap()
}

/// The time within which 99 of 100 were done.
fn p99(latencies: &mut [Duration]) -> Duration {
    latencies.sort_unstable();
    latencies[latencies.len() * 99 / 100]
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

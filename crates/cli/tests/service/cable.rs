//! What goes wrong on a cable: loss, doubled, swapped and cut frames, and tags. Every transfer ends with the right
//! digest or a clear error.

use std::{
    net::{SocketAddr, UdpSocket},
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

use lastmile_api::Sha256;
use lastmile_formats::tftp::{Packet, Receiver, ReceiverState, Wishes};
use lastmile_sim::cable::{Cable, End, Faults, Tally};

use crate::support::{
    background::Background,
    netns::Netns,
    service::Service,
    udhcpc::{address, ask, try_ask},
};

const MAC: &str = "02:00:5e:00:53:aa";

/// Two hosts joined by a cable with faults.
struct Pair {
    server: Netns,
    client: Netns,
    tally: Arc<Tally>,
    _cable: Background,
}

fn joined(what: &str, faults: Faults) -> Pair {
    let server = Netns::new(&format!("{what}-s"));
    let client = Netns::new(&format!("{what}-c"));
    let near = client.inside(|| End::make("eth0").unwrap());
    let far = server.inside(|| End::make("quay0").unwrap());
    client.run(&format!("ip link set eth0 address {MAC}"));
    client.run("ip link set eth0 up");
    server.run("ip address add 192.0.2.2/24 dev quay0");
    server.run("ip link set quay0 up");
    let tally = Arc::new(Tally::default());
    let told = tally.clone();
    let cable = Cable::new(near, far, faults, 20_261_123);
    let cable = Background::run(move |stop| cable.run(stop, &told));
    Pair { server, client, tally, _cable: cable }
}

fn start(server: &Netns) -> Service<'_> {
    let service = Service::start(Some(server), "interfaces = ['quay0']", 8480);
    let pool = ["--pool", "192.0.2.100-192.0.2.110", "--newcomers", "menu"];
    let base = ["subnet", "add", "quay-lab", "192.0.2.0/24", "--interface", "quay0"];
    service.run(&[&base[..], &pool[..]].concat());
    service.add_loader();
    service
}

/// Fetches a file by TFTP from inside a namespace; gives its digest, or why it did not come.
fn fetch(client: &Netns, path: &str, wishes: Wishes) -> Result<Sha256, String> {
    let path = path.to_owned();
    client.inside(move || {
        let server: SocketAddr = "192.0.2.2:69".parse().unwrap();
        let socket = UdpSocket::bind("0.0.0.0:0").unwrap();
        let mut receiver = Receiver::new(&path, wishes, Instant::now());
        socket.send_to(receiver.request(), server).unwrap();
        let (mut file, mut buffer, mut peer) = (Vec::new(), vec![0; 65_507], server);
        loop {
            let wait = receiver.deadline().saturating_duration_since(Instant::now());
            socket.set_read_timeout(Some(wait.max(Duration::from_millis(1)))).unwrap();
            let word = match socket.recv_from(&mut buffer) {
                Ok((length, from)) => {
                    if peer == server {
                        peer = from;
                    }
                    match Packet::parse(&buffer[..length]) {
                        Ok(packet) if from == peer => receiver.handle(&packet, &mut file, Instant::now()),
                        _ => continue,
                    }
                }
                Err(_) => receiver.on_deadline(Instant::now()),
            };
            if let Some(word) = word {
                socket.send_to(word, peer).unwrap();
            }
            match receiver.state() {
                ReceiverState::Running => {}
                ReceiverState::Done => return Ok(Sha256::of(&file)),
                other => return Err(format!("{other:?}")),
            }
        }
    })
}

fn transfers_come_whole(what: &str, faults: Faults) {
    let pair = joined(what, faults);
    let service = start(&pair.server);
    let folder = tempfile::tempdir().unwrap();
    // DHCP gets through first: a client repeats what is lost.
    let all = ask(&pair.client, folder.path(), &["-t", "20"]);
    pair.client.run(&format!("ip address add {}/24 dev eth0", address(&all)));
    let path = format!("loader/{}/signed-x64/grubx64.efi", MAC.replace(':', "-"));
    let expected = Sha256::of(&[2; 70_000]);
    for (blksize, windowsize) in
        [(None, None), (Some(1468), None), (Some(1468), Some(4)), (Some(512), Some(16))]
    {
        let wishes = Wishes { blksize, windowsize, tsize: true };
        let got = fetch(&pair.client, &path, wishes);
        assert_eq!(got, Ok(expected), "{what}: blksize {blksize:?}, windowsize {windowsize:?}");
    }
    let harmed = pair.tally.harmed.load(Ordering::Relaxed);
    let carried = pair.tally.carried.load(Ordering::Relaxed);
    assert!(harmed > 20, "{what}: only {harmed} of {carried} frames were harmed");
    let trace = service.run(&["trace", MAC, "--all"]);
    assert!(trace.contains("68.36 KiB"), "{trace}");
}

#[test]
fn lost_frames() {
    transfers_come_whole("lost", Faults { lost: 5, ..Faults::default() });
}

#[test]
fn doubled_frames() {
    transfers_come_whole("twice", Faults { doubled: 20, ..Faults::default() });
}

#[test]
fn swapped_frames() {
    transfers_come_whole("swap", Faults { swapped: 10, ..Faults::default() });
}

#[test]
fn cut_frames() {
    transfers_come_whole("cut", Faults { cut: 5, ..Faults::default() });
}

#[test]
fn all_of_it_at_once() {
    transfers_come_whole("all", Faults { lost: 2, doubled: 5, swapped: 5, cut: 2, vlan: None });
}

#[test]
fn a_priority_tag_does_not_matter_and_another_vlan_is_not_answered() {
    // A tag of VLAN 0 says a priority only (IEEE 802.1Q, section 9.6); some firmware and switches send it.
    let folder = tempfile::tempdir().unwrap();
    let tagged = joined("prio", Faults { vlan: Some(0), ..Faults::default() });
    let _service = start(&tagged.server);
    address(&ask(&tagged.client, folder.path(), &[]));
    drop(_service);
    let other = joined("vlan", Faults { vlan: Some(20), ..Faults::default() });
    let service = start(&other.server);
    assert!(
        try_ask(&other.client, folder.path(), &["-t", "2"]).is_err(),
        "a question from another VLAN was answered"
    );
    assert!(service.json(&["subnet", "leases", "quay-lab"]).as_array().unwrap().is_empty());
}

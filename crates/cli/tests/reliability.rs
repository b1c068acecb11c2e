//! Killed in mid-work, and a hall that powers on at once.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod support;

use std::{
    collections::HashMap,
    net::{Ipv4Addr, UdpSocket},
    time::{Duration, Instant},
};

use lastmile_api::{ArmRequest, InstallQuery, InstallState, MachineDraft};
use lastmile_client::Client;
use lastmile_core::{
    boot::Architecture,
    dhcp::{Kind, Message, RelayInfo, code},
    net::Mac,
};
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};
use support::{service::Service, site::loopback};

fn mac(number: u16) -> Mac {
    let [high, low] = number.to_be_bytes();
    Mac::new([2, 0, 0, 0, high, low]).unwrap()
}

/// A message as a relay on this host forwards it.
fn relayed(kind: Kind, number: u16) -> Message {
    let mut message = Message::request(kind, u32::from(number), mac(number));
    message.giaddr = Ipv4Addr::LOCALHOST;
    let info = RelayInfo {
        link_selection: Some(Ipv4Addr::new(10, 0, 0, 1)),
        uses_source_port: true,
        ..RelayInfo::default()
    };
    message.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
    message
}

/// A load of leases: each machine asks, and asks again when its request is lost. What was granted is written down.
struct Load {
    socket: UdpSocket,
    port: u16,
    granted: HashMap<Ipv4Addr, Mac>,
    next: u16,
}

impl Load {
    fn new(port: u16) -> Self {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
        Self { socket, port, granted: HashMap::new(), next: 0 }
    }

    /// Keeps up to 64 exchanges under way until `end`.
    fn run(&mut self, end: Instant) {
        let mut under_way = 0_u16;
        let mut buffer = [0; 2048];
        while Instant::now() < end {
            while under_way < 64 {
                self.send(&relayed(Kind::Discover, self.next % 3000));
                self.next += 1;
                under_way += 1;
            }
            // Nothing comes while the service is down: what was under way is lost, and begun again.
            let Ok(length) = self.socket.recv(&mut buffer) else {
                under_way = 0;
                continue;
            };
            let reply = Message::parse(&buffer[..length]).unwrap();
            let number = u16::try_from(reply.xid).unwrap();
            if reply.kind == Kind::Offer {
                let mut request = relayed(Kind::Request, number);
                request.options.set(code::REQUESTED_ADDRESS, reply.yiaddr.octets());
                let server = reply.options.get(code::SERVER_IDENTIFIER).unwrap();
                request.options.set(code::SERVER_IDENTIFIER, server);
                self.send(&request);
            } else {
                under_way = under_way.saturating_sub(1);
                if reply.kind == Kind::Ack {
                    let former = self.granted.insert(reply.yiaddr, mac(number));
                    let other = former.filter(|former| *former != mac(number));
                    assert_eq!(other, None, "{} was given to two machines", reply.yiaddr);
                }
            }
        }
    }

    fn send(&self, message: &Message) {
        // The port may be closed just now.
        let _ = self.socket.send_to(&message.emit(), ("127.0.0.1", self.port));
    }
}

#[test]
fn killed_under_load_it_forgets_no_lease_and_gives_none_twice() {
    let mut service = loopback(24_000);
    service.run(&[
        "subnet",
        "add",
        "hall",
        "10.0.0.0/16",
        "--relay",
        "127.0.0.1",
        "--pool",
        "10.0.16.0-10.0.255.250",
    ]);
    let mut load = Load::new(24_000);
    for round in 0..5_u64 {
        load.run(Instant::now() + Duration::from_millis(150 + 70 * round));
        assert!(!service.signal("KILL"));
        service.spawn();
        let leases = service.json(&["subnet", "leases", "hall"]);
        let kept: HashMap<&str, &str> = leases
            .as_array()
            .unwrap()
            .iter()
            .filter(|lease| lease["state"] == "bound")
            .map(|lease| (lease["address"].as_str().unwrap(), lease["client"].as_str().unwrap()))
            .collect();
        for (address, mac) in &load.granted {
            let holder = kept.get(address.to_string().as_str()).copied();
            assert_eq!(holder, Some(mac.to_string().as_str()), "round {round}: {address}");
        }
    }
    assert!(load.granted.len() > 100, "only {} leases were granted", load.granted.len());
}

const HALL: u16 = 120;

async fn fill_hall(service: &Service<'_>, client: &Client) {
    service.run(&[
        "subnet",
        "add",
        "hall",
        "10.0.0.0/16",
        "--relay",
        "127.0.0.1",
        "--pool",
        "10.0.16.0-10.0.17.250",
    ]);
    service.add_loader();
    service.add_image();
    service.add_answers();
    for number in 0..HALL {
        let name = format!("locker-{number:03}");
        let draft = MachineDraft::new(name.clone(), vec![mac(number).to_string()]);
        client.create_machine(&draft).await.unwrap();
        let arm = ArmRequest {
            machine: name,
            image: "tidewrack-12".into(),
            answers: "quay-server".into(),
            asked: Default::default(),
        };
        client.arm(&arm).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_hall_that_powers_on_at_once_is_installed_and_recorded_once() {
    let service = loopback(24_010);
    let client = Client::new(service.server(), "test").unwrap();
    fill_hall(&service, &client).await;
    let reached = Reached {
        dhcp: "127.0.0.1:24010".parse().unwrap(),
        tftp_port: 24_011,
        http_port: 24_012,
        link: Ipv4Addr::new(10, 0, 0, 1),
    };
    let mut hall = tokio::task::JoinSet::new();
    for number in 0..HALL {
        hall.spawn(async move {
            let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
            let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
            let booted = machine.boot(&mut |_| {}).await.unwrap();
            let Booted::Kernel { address, parameters } = booted else { panic!("{number}: {booted:?}") };
            let host_name = machine.install(address, &parameters, &mut |_| {}).await.unwrap();
            assert_eq!(host_name, format!("locker-{number:03}"));
            assert_eq!(machine.boot(&mut |_| {}).await.unwrap(), Booted::LocalDisk);
            address
        });
    }
    let mut addresses = hall.join_all().await;
    addresses.sort_unstable();
    addresses.dedup();
    assert_eq!(addresses.len(), usize::from(HALL), "each has an address of its own");
    let list = client.installs(&InstallQuery { limit: Some(1000), ..Default::default() }).await.unwrap();
    assert_eq!(list.total, i64::from(HALL));
    for install in &list.installs {
        assert_eq!(install.state, InstallState::Installed, "{install:?}");
        let steps = client.install(install.number).await.unwrap().steps;
        let done = steps.iter().filter(|step| step.kind == lastmile_api::StepKind::Done).count();
        assert_eq!((done, steps.len()), (1, 11), "{steps:?}");
    }
    let counters = client.status().await.unwrap().counters;
    assert_eq!((counters.tftp_failed, counters.dhcp_malformed), (0, 0), "{counters:?}");
}

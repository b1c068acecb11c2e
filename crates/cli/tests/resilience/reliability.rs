//! Killed in mid-work, and a hall that powers on at once.

use std::{
    collections::HashMap,
    net::{Ipv4Addr, UdpSocket},
    time::{Duration, Instant},
};

use lastmile_api::{ArmSeveral, InstallRow, InstallState, InstallsListQuery, MachineDraft, StepKind};
use lastmile_client::Client;
use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, RelayInfo, code},
    mac::Mac,
};
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};

use crate::{
    THIS_MACHINE,
    support::{service::Service, site::loopback},
};

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
    let _held = THIS_MACHINE.blocking_read();
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

/// Power returns to a hall.
const HALL: u16 = 2000;

/// A hall of so many machines, each with an install armed.
async fn fill_hall(service: &Service<'_>, client: &Client, machines: u16) {
    service.run(&[
        "subnet",
        "add",
        "hall",
        "10.0.0.0/16",
        "--relay",
        "127.0.0.1",
        "--pool",
        "10.0.16.0-10.0.31.250",
    ]);
    service.add_loader();
    // Small, so that it is the number of machines that weighs and not their files.
    let kernel = service.write("linux", vec![3; 60_000]);
    let initrd = service.write("initrd.gz", vec![4; 40_001]);
    let words = "--name tidewrack-12 --kind installer --family preseed --kernel linux --initrd initrd.gz";
    let words: Vec<&str> = words.split(' ').collect();
    service.run(&[&["image", "add", &kernel, &initrd], &words[..]].concat());
    service.add_answers();
    for number in 0..machines {
        let mut draft = MachineDraft::new(format!("locker-{number:04}"), vec![mac(number).to_string()]);
        draft.labels = vec!["hall".into()];
        client.machines_create(&draft).await.unwrap();
    }
    let all = ArmSeveral {
        labels: vec!["hall".into()],
        image: Some("tidewrack-12".into()),
        answers: Some("quay-server".into()),
        ..ArmSeveral::default()
    };
    client.installs_arm_several(&all).await.unwrap();
}

fn reached(first_port: u16) -> Reached {
    Reached {
        dhcp: format!("127.0.0.1:{first_port}").parse().unwrap(),
        tftp_port: first_port + 1,
        http_port: first_port + 2,
        link: Ipv4Addr::new(10, 0, 0, 1),
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_hall_that_powers_on_at_once_is_installed_and_recorded_once() {
    let _held = THIS_MACHINE.write().await;
    let service = loopback(24_010);
    let client = Client::new(service.server(), "test").unwrap();
    fill_hall(&service, &client, HALL).await;
    let reached = reached(24_010);
    let mut hall = tokio::task::JoinSet::new();
    for number in 0..HALL {
        hall.spawn(async move {
            let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
            let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
            let booted = machine.boot(&mut |_| {}).await.unwrap();
            let Booted::Kernel { address, parameters } = booted else { panic!("{number}: {booted:?}") };
            let system = machine.install(address, &parameters, &mut |_| {}).await.unwrap();
            assert_eq!(system.host_name, format!("locker-{number:04}"));
            assert_eq!(machine.boot(&mut |_| {}).await.unwrap(), Booted::LocalDisk);
            address
        });
    }
    let mut addresses = hall.join_all().await;
    addresses.sort_unstable();
    addresses.dedup();
    assert_eq!(addresses.len(), usize::from(HALL), "each has an address of its own");
    let installs = all_installs(&client).await;
    assert_eq!(installs.len(), usize::from(HALL));
    for install in &installs {
        assert_eq!(install.state, InstallState::Installed, "{install:?}");
        let steps = client.installs_read(install.number).await.unwrap().steps;
        let count = |kind: StepKind| steps.iter().filter(|step| step.kind == kind).count();
        let once = [StepKind::Armed, StepKind::Menu, StepKind::Kernel, StepKind::Answers, StepKind::Started];
        assert!(once.into_iter().chain([StepKind::Done]).all(|kind| count(kind) == 1), "{steps:?}");
        // A machine whose answer was long in coming asks for its address again, and both are told. A loader whose last
        // acknowledgement was lost is not known to have arrived, and its machine goes on with it.
        assert!((1..=2).contains(&count(StepKind::Loader)), "{steps:?}");
        assert!(steps.len() - count(StepKind::Lease) - count(StepKind::Loader) == 7, "{steps:?}");
    }
    let counters = client.status_read().await.unwrap().counters;
    assert_eq!((counters.dhcp_malformed, counters.tftp_refused), (0, 0), "{counters:?}");
    // A file that was asked for again, before the first answer came, is sent twice, once to nobody. One whose last
    // acknowledgement was lost counts as failed, though its machine has it.
    assert!(counters.tftp_done + counters.tftp_failed >= 8 * u64::from(HALL), "{counters:?}");
    assert!(counters.tftp_failed < u64::from(HALL) / 10, "{counters:?}");
}

/// Every install, page by page.
async fn all_installs(client: &Client) -> Vec<InstallRow> {
    let mut all = Vec::new();
    loop {
        let offset = Some(u32::try_from(all.len()).unwrap());
        let query = InstallsListQuery { limit: Some(1000), offset, ..Default::default() };
        let page = client.installs_list(&query).await.unwrap();
        all.extend(page.installs);
        if all.len() as i64 >= page.total {
            return all;
        }
    }
}

/// Machines of the hall whose service is killed again and again.
const KILLED: u16 = 60;

/// Boots and installs one machine, switched off and on again whenever anything fails. Gives whether its end was
/// acknowledged; not, if the service had it start from its disk before.
async fn install_whatever_happens(number: u16, first_port: u16) -> bool {
    let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
    let pace = Pace { install: Duration::from_millis(200), ..Pace::FULL };
    let machine = Machine::new(identity, reached(first_port), pace).unwrap();
    loop {
        match machine.boot(&mut |_| {}).await {
            Ok(Booted::Kernel { address, parameters }) => {
                if machine.install(address, &parameters, &mut |_| {}).await.is_ok() {
                    return true;
                }
            }
            Ok(Booted::LocalDisk) => return false,
            Ok(other) => panic!("{number}: {other:?}"),
            Err(_) => {}
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn killed_over_installs_it_keeps_every_end_that_was_acknowledged_and_each_once() {
    let _held = THIS_MACHINE.read().await;
    let mut service = loopback(24_020);
    let client = Client::new(service.server(), "test").unwrap();
    fill_hall(&service, &client, KILLED).await;
    let mut hall = tokio::task::JoinSet::new();
    for number in 0..KILLED {
        hall.spawn(async move {
            // One after another, so that every kill finds some in each part of their way.
            tokio::time::sleep(Duration::from_millis(60 * u64::from(number))).await;
            (number, install_whatever_happens(number, 24_020).await)
        });
    }
    for round in 0..6_u64 {
        tokio::time::sleep(Duration::from_millis(350 + 90 * round)).await;
        service.signal("KILL");
        service.spawn();
    }
    let ends: HashMap<u16, bool> = hall.join_all().await.into_iter().collect();
    let installs = all_installs(&client).await;
    assert_eq!(installs.len(), usize::from(KILLED), "nothing was armed twice");
    let mut acknowledged = 0;
    for install in &installs {
        let number: u16 = install.machine.strip_prefix("locker-").unwrap().parse().unwrap();
        let steps = client.installs_read(install.number).await.unwrap().steps;
        let count = |kind: StepKind| steps.iter().filter(|step| step.kind == kind).count();
        if ends[&number] {
            acknowledged += 1;
            assert_eq!(install.state, InstallState::Installed, "{install:?}");
        } else {
            // Its end was recorded and the answer lost, or it began too often.
            let is_over = matches!(install.state, InstallState::Installed | InstallState::Stalled);
            assert!(is_over, "{install:?}");
        }
        assert_eq!(
            (count(StepKind::Armed), count(StepKind::Done)),
            (1, usize::from(install.state == InstallState::Installed))
        );
        let times: Vec<_> = steps.iter().map(|step| step.at).collect();
        assert!(times.is_sorted(), "{steps:?}");
    }
    assert!(acknowledged >= KILLED / 2, "only {acknowledged} ends were acknowledged");
}

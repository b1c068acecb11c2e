//! The same core, hundreds of machines, a lossy wire, restarts of the service, virtual time, and a seed.
//!
//! Held at each step: no address is lent to two machines; an installed machine is not installed again.
//! Held at the end: every machine got through.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BinaryHeap, HashMap},
    net::{Ipv4Addr, SocketAddrV4},
    sync::Arc,
};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::{
    base::Id,
    decide::{
        answers::Subject,
        boot::{Action, plan},
        dhcp::{Answer, Arrival, LeaseBook, Responder},
        image::RevisionDraft,
        install::{ArmRequest, Evidence},
        machine::MachineDraft,
        subnet::SubnetDraft,
    },
    model::{
        answers::{AnswersVersion, Password, Scope, Settings},
        image::{Family, FileEntry, Holding, ImageKind, Sha256},
        install::{InstallState, ReportStage, Token},
        lease::LeaseRecord,
        subnet::Subnet,
    },
    site::Site,
};
use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, code},
    mac::Mac,
};

const MACHINES: u16 = 200;
const SERVER: Ipv4Addr = Ipv4Addr::new(10, 0, 0, 2);
/// A client asks again after so many seconds.
const PATIENCE: i64 = 4;

/// SplitMix64: the same seed gives the same run.
struct Chance(u64);

impl Chance {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % limit
    }

    fn percent(&mut self, share: u64) -> bool {
        self.below(100) < share
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Discover,
    Request(Ipv4Addr),
    Menu,
    Kernel,
    Installer,
    Report(ReportStage),
    LocalDisk,
}

/// One computer: where it is, and how often it was installed.
struct Computer {
    mac: Mac,
    phase: Phase,
    address: Option<Ipv4Addr>,
    installs: u32,
}

/// The service, as far as it has no sockets: what is in memory, and what a restart leaves.
struct Service {
    subnet: Arc<Subnet>,
    book: LeaseBook,
    kept: HashMap<Ipv4Addr, LeaseRecord>,
    site: Site,
}

impl Service {
    fn new() -> Self {
        let mut draft = SubnetDraft::new("hall", "10.0.0.0/22");
        draft.pools = vec!["10.0.1.0-10.0.1.220".into()];
        draft.interface = Some("eno1".into());
        draft.lease_secs = 600;
        let subnet = draft.check(Id::generate(), &Site::default(), &[SERVER]).unwrap();
        let file = FileEntry::new("linux", 1, Sha256::of(b"k"));
        let image = RevisionDraft {
            name: "tidewrack-12".into(),
            kind: Some(ImageKind::Installer),
            family: Some(Family::Preseed),
            kernel: Some("linux".into()),
            files: vec![file],
            ..RevisionDraft::default()
        };
        let settings: Settings<Password> = serde_json::from_value(serde_json::json!({
            "users": { "purser": { "password": { "hash": "$6$saltsalt$0123456789abcdef" } } },
        }))
        .unwrap();
        let answers = AnswersVersion {
            id: Id::generate(),
            scope: Scope::Answers("locker".into()),
            number: 1,
            created: at(0),
            settings,
        };
        let mut site = Site::default()
            .with_subnet(subnet.clone())
            .with_image(image.check(None, 0, Holding::of(&image.files), at(0), |_, _| true).unwrap())
            .with_answers(answers);
        for number in 0..MACHINES {
            let name = format!("locker-{number}");
            let draft = MachineDraft::new(name.clone(), vec![mac(number).to_string()]);
            let machine = draft.check(&site, None, at(0)).unwrap();
            site = site.with_machine(machine);
            let arm = ArmRequest {
                machine: name,
                image: "tidewrack-12".into(),
                answers: "locker".into(),
                asked: BTreeMap::new(),
            };
            let token = Token::new(format!("token-{number}"));
            let install = arm
                .check(&site, &|_, _| Subject::example(), i64::from(number) + 1, token, "test", at(0))
                .unwrap();
            site = site.with_install(install);
        }
        Self { subnet: Arc::new(subnet), book: LeaseBook::default(), kept: HashMap::new(), site }
    }

    /// Killed and started again: what was not kept is gone, as offers are.
    fn restart(&mut self) {
        self.book = LeaseBook::new(self.kept.values().cloned());
    }

    fn dhcp(&mut self, request: &Message, now: Timestamp) -> Option<Message> {
        let from = SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 68);
        let arrival = Arrival { interface: Some("eno1"), from, local: SERVER };
        let subnet = self.subnet.clone();
        let mut responder = Responder {
            subnet: &subnet,
            book: &mut self.book,
            boot: None,
            reserved: None,
            known: true,
            host_name: None,
            options: &[],
            now,
        };
        match responder.answer(request, &arrival).ok()? {
            Answer::Record(_) => None,
            Answer::Reply { message, record, .. } => {
                if let Some(record) = record {
                    self.kept.insert(record.address, record);
                }
                Some(*message)
            }
        }
    }

    fn see(&mut self, mac: Mac, evidence: &Evidence, now: Timestamp) {
        let machine = self.site.machine_by_mac(mac).unwrap().id;
        let Some(open) = self.site.open_install(machine) else { return };
        if let Some((next, _)) = open.see(evidence, now) {
            self.site = self.site.with_install(next);
        }
    }
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + second).unwrap()
}

fn mac(number: u16) -> Mac {
    let [high, low] = number.to_be_bytes();
    Mac::new([2, 0, 0, 0, high, low]).unwrap()
}

/// What a computer does next; gives in how many seconds it does something again.
fn step(computer: &mut Computer, service: &mut Service, chance: &mut Chance, now: Timestamp) -> i64 {
    // Half of what is lost is lost on the way there: then nothing happens at all.
    let (lost_there, lost_back) = (chance.percent(8), chance.percent(8));
    if lost_there {
        return PATIENCE;
    }
    let next = match computer.phase {
        Phase::Discover => {
            let discover = Message::request(Kind::Discover, 1, computer.mac);
            service.dhcp(&discover, now).map(|offer| Phase::Request(offer.yiaddr))
        }
        Phase::Request(address) => {
            let mut request = Message::request(Kind::Request, 2, computer.mac);
            request.options.set(code::REQUESTED_ADDRESS, address.octets());
            request.options.set(code::SERVER_IDENTIFIER, SERVER.octets());
            match service.dhcp(&request, now) {
                Some(ack) if ack.kind == Kind::Ack => {
                    let firmware = Some(Architecture::UefiX64);
                    service.see(computer.mac, &Evidence::Lease { address, firmware }, now);
                    computer.address = Some(address);
                    Some(Phase::Menu)
                }
                Some(_) => Some(Phase::Discover),
                None => None,
            }
        }
        Phase::Menu => {
            let plan = plan(&service.site, computer.mac, Some(&service.subnet));
            match plan.action {
                Action::Install { .. } => {
                    assert_eq!(computer.installs, 0, "{} is installed again: {}", computer.mac, plan.why);
                    service.see(computer.mac, &Evidence::Menu, now);
                    Some(Phase::Kernel)
                }
                _ => Some(Phase::LocalDisk),
            }
        }
        Phase::Kernel => {
            service.see(computer.mac, &Evidence::Kernel { file: "linux".into(), size: 1 }, now);
            // Some fall over here and begin again; never so often that the install is stopped.
            let stalls_next = service
                .site
                .open_install(service.site.machine_by_mac(computer.mac).unwrap().id)
                .is_none_or(|open| open.kernel_fetches >= 2);
            if chance.percent(10) && !stalls_next { Some(Phase::Discover) } else { Some(Phase::Installer) }
        }
        Phase::Installer => {
            service.see(computer.mac, &Evidence::Answers { sha256: Sha256::of(b"a") }, now);
            Some(Phase::Report(ReportStage::Started))
        }
        Phase::Report(stage) => {
            service.see(computer.mac, &Evidence::Report(stage, None), now);
            match stage {
                ReportStage::Started => Some(Phase::Report(ReportStage::Done)),
                _ if lost_back => None,
                _ => {
                    computer.installs += 1;
                    Some(Phase::Discover)
                }
            }
        }
        Phase::LocalDisk => None,
    };
    match next {
        // The answer is lost: asked again later, as reports and requests are.
        Some(_) if lost_back && !matches!(computer.phase, Phase::Menu | Phase::Kernel) => PATIENCE,
        Some(phase) => {
            computer.phase = phase;
            1 + i64::try_from(chance.below(3)).unwrap()
        }
        None => PATIENCE,
    }
}

fn check_leases(computers: &[Computer], service: &Service, now: Timestamp) {
    let mut held: HashMap<Ipv4Addr, Mac> = HashMap::new();
    for computer in computers {
        let Some(address) = computer.address else { continue };
        let runs = service
            .kept
            .get(&address)
            .is_some_and(|record| record.client.mac() == Some(computer.mac) && record.until > now);
        if runs && let Some(other) = held.insert(address, computer.mac) {
            panic!("{address} is held by {other} and {}", computer.mac);
        }
    }
}

fn run(seed: u64) {
    let mut chance = Chance(seed);
    let mut service = Service::new();
    let mut computers: Vec<Computer> = (0..MACHINES)
        .map(|number| Computer { mac: mac(number), phase: Phase::Discover, address: None, installs: 0 })
        .collect();
    let mut agenda: BinaryHeap<Reverse<(i64, usize)>> = BinaryHeap::new();
    for number in 0..computers.len() {
        agenda.push(Reverse((i64::try_from(chance.below(20)).unwrap(), number)));
    }
    let mut next_restart = 15;
    while let Some(Reverse((second, number))) = agenda.pop() {
        assert!(second < 3600, "seed {seed}: machines are still on their way after an hour");
        if second >= next_restart {
            service.restart();
            next_restart = second + 10 + i64::try_from(chance.below(60)).unwrap();
        }
        let now = at(second);
        let wait = step(&mut computers[number], &mut service, &mut chance, now);
        check_leases(&computers, &service, now);
        if computers[number].phase != Phase::LocalDisk {
            agenda.push(Reverse((second + wait, number)));
        }
    }
    for computer in &computers {
        let machine = service.site.machine_by_mac(computer.mac).unwrap().id;
        let install = service.site.latest_install(machine).unwrap();
        assert_eq!(install.state, InstallState::Installed, "seed {seed}, {}", computer.mac);
        assert!(install.ended_at.unwrap().duration_since(install.armed_at) > SignedDuration::ZERO);
        assert_eq!(computer.installs, 1);
    }
}

#[test]
fn a_hall_gets_through_whatever_is_lost() {
    for seed in 0..12 {
        run(seed);
    }
}

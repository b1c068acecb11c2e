//! The survey with simulated machines: the agent's own code on invented hardware, over the real sockets.

use std::{sync::mpsc, time::Duration};

use lastmile_agent::{
    network::{Links, Neighbours, NetworkError, keep_up},
    orders::Orders,
    status::{Shown, Status},
};
use lastmile_formats::lldp::{Known, Neighbour};

use lastmile_sim::{Beat, Booted, Card, HardDisk, Hardware, SwitchPort};
use lastmile_survey::messages::Finish;
use serde_json::Value;
use uuid::Uuid;

use crate::support::{
    background::Background,
    netns::Netns,
    service::Service,
    simulated::machine,
    site::{MAC, loopback},
    wait_for,
};

/// A computer with so many disks, whose card hangs on nothing that says what it is.
pub(super) fn hardware(disks: u8) -> Hardware {
    let disk = |number: u8| HardDisk {
        model: "Tideline 480".into(),
        serial: format!("TL-{number}"),
        size: 480_103_981_056,
    };
    Hardware {
        vendor: "Marram Systems".into(),
        product: "MS-20".into(),
        serial: "MS20-4711".into(),
        uuid: Uuid::from_u128(0x4711),
        cpu: "Marram Dune 8".into(),
        cores: 8,
        memory: vec![16_384, 16_384],
        disks: (1..=disks).map(disk).collect(),
        nics: vec![Card { mac: MAC.parse().unwrap(), neighbour: None }],
    }
}

/// A site where unknown machines are surveyed.
pub(super) fn surveying(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=survey"]);
    service.add_loader();
    let (kernel, archive) =
        (service.write("vmlinuz", vec![3; 300_000]), service.write("survey.cpio", vec![4; 500_000]));
    let paths = ["image", "add", &kernel, &archive, "--name", "survey", "--kind", "survey", "--cpu", "x64"];
    service.run(&[&paths[..], &["--kernel", "vmlinuz", "--initrd", "survey.cpio"]].concat());
    service
}

/// A simulated machine that runs the survey in the background until it is told how to end.
pub(super) struct Surveyed {
    heard: mpsc::Receiver<Beat>,
    pub(super) ended: tokio::task::JoinHandle<Finish>,
}

impl Surveyed {
    fn start(first_port: u16, disks: u8) -> Self {
        Self::of(first_port, hardware(disks))
    }

    /// One of that hardware, which boots from its first card.
    pub(super) fn of(first_port: u16, hardware: Hardware) -> Self {
        let (say, heard) = mpsc::channel();
        let mac = hardware.nics[0].mac.to_string();
        let ended = tokio::spawn(async move {
            let machine = machine(first_port, &mac, Duration::ZERO);
            let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
                panic!("no kernel was started")
            };
            let facts = hardware.facts().unwrap();
            machine.survey(address, &parameters, &facts, &mut |beat| drop(say.send(beat))).await.unwrap()
        });
        Self { heard, ended }
    }

    /// Waits until it shows this name, and that it waits.
    pub(super) fn waits_as(&self, name: Option<&str>) {
        let is_it =
            |beat: &Beat| matches!(beat, Beat::Surveyed { machine, .. } if machine.as_deref() == name);
        let heard = std::iter::from_fn(|| self.heard.recv_timeout(Duration::from_secs(20)).ok());
        assert!(heard.into_iter().any(|beat| is_it(&beat)), "it never waited as {name:?}");
    }
}

fn facts(service: &Service<'_>) -> Value {
    service.json(&["machine", "facts", MAC])
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_newcomer_is_measured_named_and_installed_without_a_hand_on_it() {
    let service = surveying(28_000);
    let surveyed = Surveyed::start(28_000, 2);
    surveyed.waits_as(None);
    let found = facts(&service);
    assert_eq!(found["facts"]["system"]["serial"], "MS20-4711");
    assert_eq!(found["facts"]["disks"].as_array().unwrap().len(), 2);
    assert!(found["agent"]["from"].is_string(), "{found}");
    let newcomers = service.json(&["machine", "newcomers"]);
    assert_eq!(newcomers[0]["is_waiting"], true, "{newcomers}");
    assert_eq!(newcomers[0]["product"], "Marram Systems MS-20, serial MS20-4711");
    assert_eq!(newcomers[0]["hardware"], "8 cores, 32 GiB, 2 disks of 894.26 GiB, 1 network card");
    // The one to whom it was shown gives it a name, and it shows that.
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    surveyed.waits_as(Some("auklet-gate"));
    assert_eq!(service.json(&["machine", "facts", "auklet-gate"])["who"], "auklet-gate");
    // Once something is armed it restarts by itself, and is installed.
    service.add_image();
    service.add_answers();
    service.run(&["install", "arm", "auklet-gate", "--image", "tidewrack-12", "--answers", "quay-server"]);
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
    crate::support::simulated::install(28_000, MAC, Duration::ZERO).await;
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");
    let trace = service.run(&["trace", "auklet-gate", "--all"]);
    for line in ["survey's agent connects", "report of a survey", "restart: install 1 of tidewrack-12"] {
        assert!(trace.contains(line), "the trace lacks {line:?}\n{trace}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_survey_is_kept_with_what_was_different() {
    let service = surveying(28_010);
    for disks in [2, 1] {
        let surveyed = Surveyed::start(28_010, disks);
        surveyed.waits_as(None);
        surveyed.ended.abort();
    }
    let all = service.json(&["machine", "surveys", MAC]);
    assert_eq!(all.as_array().unwrap().len(), 2);
    assert_eq!(all[1]["changes"], serde_json::json!([]));
    let changes = all[0]["changes"].as_array().unwrap();
    let before = changes[0]["before"].as_str().unwrap();
    assert_eq!((&changes[0]["place"], &changes[0]["now"]), (&"disks[TL-2]".into(), &Value::Null));
    assert!(before.contains("Tideline 480") && changes.len() == 1, "{changes:?}");
    // The check tells of it, and a condition finds who is so.
    let report = service.try_run(&["check", "--json"]);
    let report: Value = serde_json::from_slice(&report.stdout).unwrap();
    let found = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|found| found["topic"] == "survey" && found["severity"] == "warning");
    assert!(found.unwrap()["what"].as_str().unwrap().contains("disks[TL-2]: Tideline 480"), "{found:?}");
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    service.run(&["machine", "add", "fulmar-log", "--mac", "00:00:5e:00:53:02"]);
    let so = |condition: &str| {
        let machines = service.json(&["machine", "list", "--where", condition]);
        machines
            .as_array()
            .unwrap()
            .iter()
            .map(|machine| machine["name"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(so("memory_gib >= 32 and disks | length == 1"), ["auklet-gate"]);
    assert!(so("cores > 8").is_empty());
    assert_eq!(so("not surveyed"), ["fulmar-log"]);
    let (code, said) = service.fail(&["machine", "list", "--where", "memory_gb > 2"]);
    assert!(code == 1 && said.contains("names memory_gb, which nothing is called"), "{code} {said}");
    let earlier = service.json(&["machine", "facts", MAC, "--survey", all[1]["boot"].as_str().unwrap()]);
    assert_eq!(earlier["facts"]["disks"].as_array().unwrap().len(), 2);
    // Whoever asks for a survey that is none is told so.
    let (code, said) = service.fail(&["machine", "facts", MAC, "--survey", "no-such"]);
    assert_eq!(code, 3, "{said}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_survey_goes_on_over_a_restart_of_the_service() {
    let mut service = surveying(28_020);
    let surveyed = Surveyed::start(28_020, 1);
    surveyed.waits_as(None);
    service.signal("KILL");
    service.spawn();
    // It connects again by itself, and what is said of it is shown. Its report may not have been on record yet: it is said again.
    wait_for("the agent's return", Duration::from_secs(30), || {
        let ended = service.try_run(&["--json", "machine", "facts", MAC]);
        let facts: Value = serde_json::from_slice(&ended.stdout).ok()?;
        facts["agent"]["from"].is_string().then_some(())
    });
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    surveyed.waits_as(Some("auklet-gate"));
    assert_eq!(service.json(&["machine", "surveys", MAC]).as_array().unwrap().len(), 1);
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_a_token_of_this_service_nobody_reports() {
    let service = surveying(28_030);
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    for token in ["", "Bearer abc", "Bearer AABeAFMBAAAAAGnrKkAAAAAAAAAAAAAAAAAAAAAA"] {
        let asked = http
            .get("http://127.0.0.1:28032/agent")
            .header("authorization", token)
            .header("connection", "upgrade")
            .header("upgrade", "websocket")
            .header("sec-websocket-version", "13")
            .header("sec-websocket-key", "dGhlIHNhbXBsZSBub25jZQ==");
        let refused = asked.send().await.unwrap();
        assert_eq!(refused.status(), 403, "{token}");
        let text = refused.text().await.unwrap();
        assert!(text.contains("not one that this service gave"), "{text}");
    }
    assert_eq!(service.try_run(&["machine", "facts", MAC]).status.code(), Some(3));
}

/// Runs what needs the agent's own runtime in a namespace that stands for its machine.
fn on_machine<T: Send + 'static, F: Future<Output = T>>(
    machine: &Netns,
    work: impl FnOnce(Links, Status) -> F + Send + 'static,
) -> T {
    machine.inside(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async { work(Links::open().unwrap(), Status::default()).await })
    })
}

/// What is shown once `is_it` holds of it, while the network is kept up.
async fn shown_once(links: &Links, orders: &str, status: &Status, is_it: impl Fn(&Shown) -> bool) -> Shown {
    let (orders, errors) = Orders::read(orders);
    assert_eq!(errors, []);
    let mut follows = status.follow();
    let seen = async { follows.wait_for(|shown| is_it(shown)).await.unwrap().clone() };
    tokio::select! {
        seen = seen => seen,
        ended = keep_up(links, &orders, status) => panic!("the network is not kept up: {ended:?}"),
        () = tokio::time::sleep(Duration::from_secs(30)) => panic!("{}", *status.follow().borrow()),
    }
}

#[test]
fn the_agents_own_client_brings_the_card_up_that_booted_and_sets_what_it_is_granted() {
    let (server, machine) = (Netns::new("agent-server"), Netns::new("agent"));
    server.bridge("quay0", "192.0.2.2/24");
    server.hang("quay0", &machine, "eth0");
    machine.run("ip link set eth0 down");
    machine.run("ip link set eth0 address 02:00:5e:00:53:01");
    let service = Service::start(Some(&server), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&["--router", "192.0.2.1"]);
    let shown = on_machine(&machine, |links, status| async move {
        // No VLAN can be made on every kernel; then it goes on without.
        let orders = "lastmile.mac=02:00:5e:00:53:01 lastmile.vlan=30";
        shown_once(&links, orders, &status, |shown| shown.address.is_some()).await
    });
    let (address, from) = shown.address.unwrap();
    assert!(address.to_string().starts_with("192.0.2.1") && from == "from 192.0.2.2", "{address} {from}");
    let kernels = machine.run("ip -4 address show dev eth0");
    assert!(kernels.contains(&format!("inet {address}")), "{kernels}");
    let routes = machine.run("ip -4 route show");
    assert!(routes.contains("default via 192.0.2.1 dev eth0"), "{routes}");
    let leases = service.run(&["subnet", "leases", "quay-lab"]);
    assert!(leases.contains("02:00:5e:00:53:01"), "{leases}");
    // Told an address, it asks nobody.
    let shown = on_machine(&machine, |links, status| async move {
        let orders = "lastmile.mac=02:00:5e:00:53:01 lastmile.address=192.0.2.9/24";
        shown_once(&links, orders, &status, |shown| shown.address.is_some()).await
    });
    assert_eq!(shown.address.unwrap().0.to_string(), "192.0.2.9/24");
}

#[test]
fn a_cable_that_is_moved_to_another_network_gets_an_address_of_that() {
    let (server, machine) = (Netns::new("moved-server"), Netns::new("moved"));
    server.bridge("quay0", "192.0.2.2/24");
    server.bridge("quay1", "198.51.100.2/24");
    server.join("port0", &machine, "eth0");
    machine.run("ip link set eth0 address 02:00:5e:00:53:01");
    server.run("ip link set port0 master quay0");
    let service = Service::start(Some(&server), "interfaces = ['quay0', 'quay1']", 8480);
    service.add_wire_subnet(&[]);
    let pool = ["--interface", "quay1", "--pool", "198.51.100.100-198.51.100.150"];
    service.run(&[&["subnet", "add", "holm-lab", "198.51.100.0/24"], &pool[..]].concat());
    let (wire, card) = (server.name().to_owned(), machine.name().to_owned());
    let ended = on_machine(&machine, move |links, status| async move {
        let (orders, _) = Orders::read("lastmile.mac=02:00:5e:00:53:01");
        let mut follows = status.follow();
        let ip = |namespace: &str, words: &str| {
            let words = words.split(' ');
            let done = std::process::Command::new("ip").args(["-n", namespace, "link"]).args(words).status();
            assert!(done.unwrap().success());
        };
        let starts = |start: &'static str| {
            move |shown: &Shown| {
                shown.address.as_ref().is_some_and(|(address, _)| address.to_string().starts_with(start))
            }
        };
        let moves = async {
            follows.wait_for(starts("192.0.2.1")).await.unwrap();
            ip(&wire, "set port0 down");
            // Longer than between two looks at it.
            tokio::time::sleep(Duration::from_secs(3)).await;
            ip(&wire, "set port0 master quay1");
            ip(&wire, "set port0 up");
            follows.wait_for(starts("198.51.100.1")).await.unwrap();
            // And the card itself is pulled.
            ip(&card, "delete eth0");
            follows.wait_for(|shown| shown.address.is_none()).await.unwrap();
        };
        let kept = keep_up(&links, &orders, &status);
        let both = async { tokio::join!(kept, moves).0 };
        tokio::time::timeout(Duration::from_secs(40), both).await.expect("it ends with the card")
    });
    let NetworkError::Gone(card) = ended.unwrap_err() else { panic!("it ends as the card is gone") };
    assert_eq!(card, "eth0");
}

#[test]
fn the_agent_says_what_it_waits_for_and_hears_the_other_end_of_each_cable() {
    let (switch, machine) = (Netns::new("agent-switch"), Netns::new("agent-cables"));
    switch.join("sw0", &machine, "eth0");
    switch.join("sw1", &machine, "eth1");
    switch.run("ip link set sw1 down");
    machine.run("ip link set eth1 address 02:00:5e:00:53:02");
    let waits = |orders: &'static str, text: &'static str| {
        let waits = move |shown: &Shown| shown.network.as_ref().is_some_and(|network| network.contains(text));
        on_machine(
            &machine,
            move |links, status| async move { shown_once(&links, orders, &status, waits).await },
        )
    };
    waits("lastmile.mac=02:00:5e:00:53:02", "is the cable in?");
    waits("lastmile.mac=02:00:5e:00:53:99", "the network card with address 02:00:5e:00:53:99");

    let says = Neighbour {
        system_name: Some("sw-holm-1".into()),
        ..Neighbour::new(Known::Name("chassis".into()), Known::Name("Ethernet1/7".into()))
    };
    let (port, expected) = (says.clone(), says);
    let port = switch.inside(move || SwitchPort::open("sw0", &port).unwrap());
    let _port = Background::run(move |stop| port.run(stop));
    let heard = on_machine(&machine, |links, _| async move {
        let neighbours = std::sync::Arc::new(Neighbours::default());
        neighbours.listen().unwrap();
        tokio::time::timeout(Duration::from_secs(20), neighbours.changed()).await.unwrap();
        let all = links.all().await.unwrap();
        all.into_iter().map(|link| (link.name, neighbours.on(link.index))).collect::<Vec<_>>()
    });
    let on = |name: &str| heard.iter().find(|(card, _)| card == name).unwrap().1.clone();
    assert_eq!((on("eth0"), on("eth1")), (Some(expected), None));
}

#[test]
fn a_system_whose_agent_speaks_otherwise_is_told_by_the_check() {
    let service = surveying(28_050);
    let told = || {
        let report: Value = serde_json::from_slice(&service.try_run(&["check", "--json"]).stdout).unwrap();
        let found = report["findings"].as_array().unwrap().clone();
        found.into_iter().find(|found| found["topic"] == "survey" && found["severity"] == "fault")
    };
    assert_eq!(told(), None);
    let (kernel, archive) =
        (service.write("vmlinuz", "another"), service.write("survey.cpio", "of an earlier day"));
    let paths = ["image", "add", &kernel, &archive, "--name", "survey", "--kind", "survey", "--cpu", "x64"];
    let more = ["--kernel", "vmlinuz", "--initrd", "survey.cpio", "--parameter", "lastmile.messages=1"];
    service.run(&[&paths[..], &more[..]].concat());
    let found = told().unwrap();
    assert_eq!(found["where"], "survey");
    assert!(
        found["what"].as_str().unwrap().contains("its agent speaks version 1 of the messages"),
        "{found}"
    );
}

#[test]
fn where_there_is_no_system_it_is_said_before_a_machine_has_to_find_out() {
    let service = loopback(28_040);
    service.add_subnet();
    service.add_loader();
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=survey"]);
    let report: Value = serde_json::from_slice(&service.try_run(&["check", "--json"]).stdout).unwrap();
    let found =
        report["findings"].as_array().unwrap().iter().find(|found| found["topic"] == "survey").unwrap();
    assert_eq!((&found["severity"], &found["where"]), (&"fault".into(), &"holm-quay".into()), "{found}");
    assert!(found["what"].as_str().unwrap().contains("no image of kind survey is for x64"), "{found}");
    // What is named in the place of a package is refused, and nothing is begun.
    let text = service.write("kernel.deb", "no package");
    let (code, said) = service.fail(&["survey", "build", "--package", &text]);
    assert!(code == 1 && said.contains("kernel.deb: this is no Debian package"), "{code} {said}");
    let (code, said) = service.fail(&["survey", "build", "--kernel", &text]);
    assert!(code == 2 && said.contains("--modules"), "{code} {said}");
    let (code, said) = service.fail(&["survey", "build", "--package", &text, "--add", "/no-such-folder"]);
    assert!(code == 1 && said.contains("/no-such-folder"), "{code} {said}");
    assert!(service.json(&["image", "list"]).as_array().unwrap().is_empty());
}

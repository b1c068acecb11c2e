//! A MAC address in a path is a claim: what counts is whose address the request comes from.

use std::{path::Path, time::Duration};

use lastmile_sim::{ForeignServer, Relay};

use crate::support::{
    background::Background,
    need,
    netns::Netns,
    service::Service,
    site::{MAC, MACHINE},
    udhcpc::{address, ask},
    wait_for,
};

const OTHER: &str = "02:00:5e:00:53:bb";
const MENU: &str = "/grub/grub.cfg-01-00-00-5e-00-53-01";

/// A host on the wire of a bridge.
fn host(server: &Netns, what: &str, mac: &str) -> Netns {
    let host = Netns::new(what);
    server.hang("quay0", &host, "eth0");
    host.run(&format!("ip link set eth0 address {mac}"));
    host
}

/// Leases an address as firmware does, and takes it.
fn lease(host: &Netns, folder: &Path) -> String {
    let got = address(&ask(host, folder, &["-V", "PXEClient:Arch:00007:UNDI:003000", "-x", "0x5d:0007"]));
    host.run(&format!("ip address add {got}/24 dev eth0"));
    got
}

/// What a host gets by HTTP: status and body.
fn get(host: &Netns, path: &str) -> (u16, String) {
    fetch(host, &["-s"], path)
}

fn fetch(host: &Netns, options: &[&str], path: &str) -> (u16, String) {
    let curl = need("/usr/bin/curl", "curl");
    let url = format!("http://192.0.2.2{path}");
    let output = host
        .command(&curl)
        .args(["-m", "20", "-w", "\n%{http_code}"])
        .args(options)
        .arg(url)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (body, status) = text.rsplit_once('\n').unwrap();
    (status.parse().unwrap(), body.into())
}

/// The answer file's path and the kernel's, as a menu names them.
fn paths(menu: &str) -> Option<(String, String)> {
    let word = |begins: &str| {
        let at = menu.find(begins)?;
        let word: String =
            menu[at..].chars().take_while(|c| !c.is_whitespace() && !"\"';".contains(*c)).collect();
        Some(word)
    };
    Some((word("/answers/")?, word("/boot/")?))
}

fn state(service: &Service<'_>) -> String {
    service.json(&["install", "show", "1"])["state"].as_str().unwrap().to_owned()
}

/// A service on a bridge with an install armed, in a subnet with these settings beside.
fn armed<'a>(server: &'a Netns, settings: &[&str]) -> Service<'a> {
    let service = Service::start(Some(server), "interfaces = ['quay0']", 8480);
    let base = ["subnet", "add", "quay-lab", "192.0.2.0/24", "--interface", "quay0", "--probe", "no"];
    service.run(&[&base, settings].concat());
    service.add_loader();
    service.add_image();
    service.add_answers();
    service.add_machine();
    service.arm();
    service
}

#[test]
fn who_asks_in_another_machines_name_changes_nothing_and_is_noted() {
    let server = Netns::new("claim-s");
    server.bridge("quay0", "192.0.2.2/24");
    let service = armed(&server, &["--pool", "192.0.2.100-192.0.2.110", "--newcomers", "menu"]);
    service.run(&["machine", "add", "skerry-kiosk-1", "--mac", OTHER]);
    let machine = host(&server, "claim-m", MAC);
    let other = host(&server, "claim-o", OTHER);
    let folder = tempfile::tempdir().unwrap();
    let theirs = lease(&other, folder.path());
    // The machine itself has not booted: nothing is known of its address.
    let before = service.steps();
    let (status, menu) = get(&other, MENU);
    assert_eq!(status, 200);
    assert_eq!(paths(&menu), None, "the token was given away: {menu}");
    assert!(!menu.contains("/answers/"), "{menu}");
    assert_eq!((state(&service).as_str(), service.steps()), ("armed", before));
    // The machine boots: what it gets is its own.
    let own = lease(&machine, folder.path());
    let (_, menu) = get(&machine, MENU);
    let (answers, kernel) = paths(&menu).unwrap_or_else(|| panic!("no token: {menu}"));
    assert_eq!(get(&machine, &kernel).0, 200);
    assert_eq!(get(&machine, &answers).0, 200);
    assert_eq!(state(&service), "installing");
    // Neither its kernel, nor its menu, nor its answers in another's hands move it.
    let before = service.steps();
    for _ in 0..4 {
        assert_eq!(get(&other, &kernel).0, 200, "what is in an image is no secret");
        assert!(!get(&other, MENU).1.contains("/answers/"));
    }
    assert_eq!(get(&other, &answers).0, 403);
    assert_eq!(state(&service), "installing");
    let after: Vec<_> = service.steps().into_iter().filter(|step| step != "refused").collect();
    assert_eq!(after, before);
    for who in [MACHINE, "skerry-kiosk-1"] {
        let trace = service.run(&["trace", who, "--all"]);
        let said = format!("{theirs} asked in the name of {MACHINE}, and is skerry-kiosk-1");
        assert!(trace.contains(&said), "{who}: {trace}");
    }
    // Only the head of a menu or of a report does nothing either.
    let report = answers.replace("/answers/", "/report/");
    let done = report.rsplit_once('/').unwrap().0.to_owned() + "/done";
    for method in ["HEAD", "DELETE", "PUT"] {
        let (status, _) = fetch(&machine, &["-s", "-X", method, "-I"], &done);
        assert_eq!(status, 405, "{method}");
        assert_eq!(state(&service), "installing", "{method}");
    }
    assert_eq!(get(&machine, &done).0, 200);
    assert_eq!(state(&service), "installed");
    assert!(own != theirs);
}

#[test]
fn a_forged_reply_of_a_dhcp_server_makes_nobody_another_machine() {
    let server = Netns::new("forge-s");
    server.bridge("quay0", "192.0.2.2/24");
    let service = armed(&server, &["--pool", "192.0.2.100-192.0.2.110"]);
    let other = host(&server, "forge-o", OTHER);
    other.run("ip address add 192.0.2.77/24 dev eth0");
    // It answers every question as if the machine had its own address.
    let forging =
        other.inside(|| ForeignServer::open("eth0", [192, 0, 2, 77].into(), [192, 0, 2, 77].into()).unwrap());
    let _forging = Background::run(move |stop| forging.run(stop));
    let machine = host(&server, "forge-m", MAC);
    let folder = tempfile::tempdir().unwrap();
    let _ =
        crate::support::udhcpc::try_ask(&machine, folder.path(), &["-V", "PXEClient:Arch:00007:UNDI:003000"]);
    wait_for("the forged reply", Duration::from_secs(10), || {
        service.run(&["trace", MACHINE, "--all"]).contains("192.0.2.77").then_some(())
    });
    let (_, menu) = get(&other, MENU);
    assert!(!menu.contains("/answers/"), "a forged reply was believed: {menu}");
    assert!(!service.steps().contains(&"menu".to_owned()), "{:?}", service.steps());
}

#[test]
fn what_was_overheard_beside_another_server_survives_a_restart() {
    let server = Netns::new("heard-s");
    server.bridge("quay0", "192.0.2.2/24");
    let mut service = armed(&server, &["--mode", "proxy"]);
    let elsewhere = host(&server, "heard-f", "02:00:5e:00:53:cc");
    elsewhere.run("ip address add 192.0.2.3/24 dev eth0");
    let foreign = elsewhere
        .inside(|| ForeignServer::open("eth0", [192, 0, 2, 3].into(), [192, 0, 2, 88].into()).unwrap());
    let _foreign = Background::run(move |stop| foreign.run(stop));
    let machine = host(&server, "heard-m", MAC);
    let folder = tempfile::tempdir().unwrap();
    // As an operating system asks: the offer without an address is for firmware alone.
    assert_eq!(address(&ask(&machine, folder.path(), &[])), "192.0.2.88");
    machine.run("ip address add 192.0.2.88/24 dev eth0");
    let (_, menu) = get(&machine, MENU);
    let (answers, kernel) = paths(&menu).unwrap_or_else(|| panic!("no token: {menu}"));
    assert_eq!(get(&machine, &kernel).0, 200);
    let trace = service.run(&["trace", MACHINE, "--all"]);
    std::thread::sleep(Duration::from_millis(600));
    service.signal("TERM");
    service.spawn();
    let again = service.run(&["trace", MACHINE, "--all"]);
    assert_eq!(trace.lines().count(), again.lines().count(), "traces are kept:\n{trace}\n{again}");
    // The installer goes on where it was.
    assert_eq!(get(&machine, &answers).0, 200);
    let report = answers.replace("/answers/", "/report/");
    assert_eq!(get(&machine, &(report.rsplit_once('/').unwrap().0.to_owned() + "/done")).0, 200);
    assert_eq!(state(&service), "installed");
}

#[test]
fn what_a_machine_asks_for_in_mode_off_is_in_its_trace_and_moves_nothing() {
    let server = Netns::new("off-s");
    server.bridge("quay0", "192.0.2.2/24");
    let service = armed(&server, &["--mode", "off", "--identify", "address"]);
    let elsewhere = host(&server, "off-f", "02:00:5e:00:53:cc");
    elsewhere.run("ip address add 192.0.2.3/24 dev eth0");
    let foreign = elsewhere
        .inside(|| ForeignServer::open("eth0", [192, 0, 2, 3].into(), [192, 0, 2, 88].into()).unwrap());
    let _foreign = Background::run(move |stop| foreign.run(stop));
    let machine = host(&server, "off-m", MAC);
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(lease(&machine, folder.path()), "192.0.2.88");
    let before = service.steps();
    assert_eq!(get(&machine, "/loader/mistyped.efi").0, 404);
    let trace = service.run(&["trace", MACHINE, "--all"]);
    assert!(trace.contains("mistyped.efi"), "{trace}");
    // What another server told is evidence of nothing.
    assert!(!get(&machine, MENU).1.contains("/answers/"));
    let after: Vec<_> = service.steps().into_iter().filter(|step| step != "refused").collect();
    assert_eq!((state(&service).as_str(), after), ("armed", before));
}

/// A subnet behind a relay, in mode `off`: another server lends its addresses, and nothing of that is heard here.
#[test]
fn where_addresses_cannot_be_known_the_first_claim_of_a_boot_counts() {
    let server = Netns::new("first-s");
    server.bridge("quay0", "192.0.2.2/24");
    let router = Netns::new("first-r");
    server.hang("quay0", &router, "core0");
    router.run("ip address add 192.0.2.1/24 dev core0");
    router.bridge("shed0", "198.51.100.1/24");
    router.run("sysctl -qw net.ipv4.ip_forward=1");
    server.run("ip route add 198.51.100.0/24 via 192.0.2.1");
    let behind = |what: &str, mac: &str| {
        let host = Netns::new(what);
        router.hang("shed0", &host, "eth0");
        host.run(&format!("ip link set eth0 address {mac}"));
        host
    };
    let lending = behind("first-f", "02:00:5e:00:53:cc");
    lending.run("ip address add 198.51.100.3/24 dev eth0");
    let machine = behind("first-m", MAC);
    let other = behind("first-o", OTHER);
    let foreign = lending
        .inside(|| ForeignServer::open("eth0", [198, 51, 100, 3].into(), [198, 51, 100, 50].into()).unwrap());
    let _foreign = Background::run(move |stop| foreign.run(stop));
    let relay = router
        .inside(|| Relay::open("shed0", [198, 51, 100, 1].into(), [192, 0, 2, 2].into(), "shed").unwrap());
    let _relay = Background::run(move |stop| relay.run(stop));
    let mut service = armed(&server, &["--pool", "192.0.2.100-192.0.2.110"]);
    service.run(&["subnet", "add", "shed", "198.51.100.0/24", "--relay", "198.51.100.1", "--mode", "off"]);
    assert_eq!(
        service.json(&["subnet", "show", "shed"])["identify"],
        serde_json::Value::Null,
        "that of its mode"
    );
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(lease(&machine, folder.path()), "198.51.100.50");
    machine.run("ip route add default via 198.51.100.1");
    other.run("ip address add 198.51.100.66/24 dev eth0");
    other.run("ip route add default via 198.51.100.1");
    let (_, menu) = get(&machine, MENU);
    let (answers, kernel) = paths(&menu).unwrap_or_else(|| panic!("no token: {menu}"));
    assert_eq!(get(&machine, &kernel).0, 200);
    // The second that claims it is refused, and shown.
    assert!(!get(&other, MENU).1.contains("/answers/"));
    let trace = service.run(&["trace", MACHINE, "--all"]);
    assert!(
        trace.contains("198.51.100.66 asked in the name of auklet-chart, which 198.51.100.50 did first"),
        "{trace}"
    );
    assert_eq!(get(&other, &answers).0, 403);
    assert_eq!(get(&machine, &answers).0, 200);
    // Also after a restart in the middle of it.
    std::thread::sleep(Duration::from_millis(600));
    service.signal("TERM");
    service.spawn();
    assert_eq!(get(&other, &answers).0, 403);
    let report = answers.replace("/answers/", "/report/");
    assert_eq!(get(&machine, &(report.rsplit_once('/').unwrap().0.to_owned() + "/done")).0, 200);
    assert_eq!(state(&service), "installed");
    // With the end of the install the claim ends: the next boot may come from elsewhere.
    service.arm();
    assert!(get(&other, MENU).1.contains("/answers/"), "the claim of the boot that ended is kept");
    // Where the subnet says that addresses count, nobody is known there.
    service.run(&["install", "cancel", "2", "--yes"]);
    service.run(&["subnet", "change", "shed", "--set", "identify=address"]);
    service.arm();
    assert!(!get(&machine, MENU).1.contains("/answers/"));
    let (_, check) = (0, service.try_run(&["check"]));
    assert!(
        String::from_utf8_lossy(&check.stdout).contains("identify"),
        "{}",
        String::from_utf8_lossy(&check.stdout)
    );
}

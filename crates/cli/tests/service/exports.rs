//! What other programs read of the machines, read by such programs.

use std::process::Command;

use crate::support::{
    need,
    netns::Netns,
    service::Service,
    site::{MAC, MACHINE, loopback},
};

/// Three machines: one whose address is reserved, one of another label, and one without an address.
fn fill(service: &Service<'_>) {
    service.add_subnet();
    service.add_machine();
    service.run(&["subnet", "reserve", "holm-quay", "198.51.100.20", MAC]);
    service.run(&[
        "machine",
        "add",
        "tern-gate-1",
        "--mac",
        "00:00:5e:00:53:43",
        "--label",
        "gate",
        "--detail",
        "berth=7",
    ]);
    service.run(&["subnet", "reserve", "holm-quay", "198.51.100.9", "00:00:5e:00:53:43"]);
    service.run(&["machine", "add", "fulmar-log", "--mac", "00:00:5e:00:53:44", "--label", "engine"]);
}

#[test]
fn a_name_server_takes_our_zones() {
    let service = loopback(25_090);
    fill(&service);
    let checker = need("/usr/bin/named-checkzone", "bind9-utils");
    for (of, zone, words) in [
        ("gannet.example", "gannet.example", &["--name-server", "ns.gannet.example=198.51.100.2"][..]),
        ("198.51.100.0/24", "100.51.198.in-addr.arpa", &["--name-server", "ns.gannet.example"]),
    ] {
        let text = service.run(&[&["export", "zone", of], words].concat());
        let file = service.write("zone", &text);
        let checked = Command::new(&checker).args(["-D", zone, &file]).output().unwrap();
        let said = String::from_utf8_lossy(&checked.stdout) + String::from_utf8_lossy(&checked.stderr);
        assert!(checked.status.success(), "{said}\n{text}");
        let answers = match of {
            "gannet.example" => [
                ("auklet-chart.gannet.example.", "198.51.100.20"),
                ("tern-gate-1.gannet.example.", "198.51.100.9"),
            ],
            _ => [
                ("20.100.51.198.in-addr.arpa.", "auklet-chart.gannet.example."),
                ("9.100.51.198.in-addr.arpa.", "tern-gate-1.gannet.example."),
            ],
        };
        for (name, value) in answers {
            let is_there = |line: &str| line.starts_with(name) && line.ends_with(value);
            assert!(said.lines().any(is_there), "{name} {value} is not in\n{said}");
        }
    }
    let records = service.run(&["export", "zone", "gannet.example", "--label", "gate"]);
    assert!(records.contains("tern-gate-1 IN A") && !records.contains("auklet"), "{records}");
    assert!(!records.contains("SOA"), "{records}");
    let (_, said) = service.fail(&["export", "zone", "198.51.100.0/26"]);
    assert!(said.contains("198.51.100.0/26 is not a zone of its own") && said.contains("24 bits"), "{said}");
    let (_, said) = service.fail(&["export", "zone", "gannet.example", "--name-server", "ns.gannet.example"]);
    assert!(said.contains("nothing there says its address"), "{said}");
}

#[test]
fn a_host_finds_our_machines_by_our_hosts_file() {
    let service = loopback(25_094);
    fill(&service);
    let text = service.run(&["export", "hosts"]);
    assert!(text.ends_with("# left out: fulmar-log, it has no address\n"), "{text}");
    // A namespace has a hosts file of its own, which its programs see in the place of the host's.
    let host = Netns::new("hosts");
    let folder = std::path::Path::new("/etc/netns").join(host.name());
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("hosts"), &text).unwrap();
    let find = |name: &str| {
        let found = host.command("getent").args(["hosts", name]).output().unwrap();
        String::from_utf8_lossy(&found.stdout).into_owned()
    };
    let found = [find(MACHINE), find("tern-gate-1.gannet.example")];
    std::fs::remove_dir_all(&folder).unwrap();
    assert!(found[0].starts_with("198.51.100.20 ") && found[1].starts_with("198.51.100.9 "), "{found:?}");
}

#[tokio::test]
async fn a_reserved_address_and_the_answers_domain_go_before_what_the_subnet_gives() {
    let service = loopback(25_102);
    service.fill();
    let reached = lastmile_sim::Reached {
        dhcp: "127.0.0.1:25102".parse().unwrap(),
        tftp_port: 25_103,
        http_port: 25_104,
        link: "198.51.100.1".parse().unwrap(),
    };
    let architecture = lastmile_formats::architecture::Architecture::UefiX64;
    let identity = lastmile_sim::Identity { mac: MAC.parse().unwrap(), architecture };
    let machine = lastmile_sim::Machine::new(identity, reached, lastmile_sim::Pace::FULL).unwrap();
    let lastmile_sim::Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap()
    else {
        panic!("nothing was started")
    };
    let hosts = || service.run(&["export", "hosts"]);
    assert_eq!(hosts(), format!("{:<15} {MACHINE}.gannet.example {MACHINE}\n", address.to_string()));
    machine.install(address, &parameters, &mut |_| {}).await.unwrap();
    service.run(&["subnet", "reserve", "holm-quay", "198.51.100.20", MAC]);
    assert_eq!(hosts(), format!("198.51.100.20   {MACHINE}.gannet.example {MACHINE}\n"));
    let held = service.json(&["export", "inventory"])["machines"][0]["holds"].clone();
    let install = service.json(&["install", "show", "1"]);
    for part in ["manifest_hash", "answer_hash", "armed_by"] {
        assert!(held[part].is_string() && held[part] == install[part], "{part}: {held}");
    }
    let answers = service.answers();
    let answers = service.write("deck.toml", format!("domain = \"deck.gannet.example\"\n{answers}"));
    service.put("answers", "quay-server", &answers);
    service.arm();
    assert_eq!(hosts(), format!("198.51.100.20   {MACHINE}.deck.gannet.example {MACHINE}\n"));
}

#[test]
fn the_inventory_says_what_each_machine_holds() {
    let service = loopback(25_098);
    fill(&service);
    let all = service.json(&["export", "inventory"]);
    let machines = all["machines"].as_array().unwrap();
    assert_eq!(machines.len(), 3);
    let gate = machines.iter().find(|machine| machine["name"] == "tern-gate-1").unwrap();
    assert_eq!(gate["full_name"], "tern-gate-1.gannet.example");
    assert_eq!(gate["details"]["berth"], "7");
    assert!(gate["holds"].is_null());
    let one = service.json(&["export", "inventory", "--label", "engine"]);
    assert_eq!(one["machines"][0]["name"], "fulmar-log");
    assert_eq!(one["machines"].as_array().unwrap().len(), 1);
    let table = service.run(&["export", "inventory"]);
    assert!(table.contains("auklet-chart.gannet.example  198.51.100.20"), "{table}");
}

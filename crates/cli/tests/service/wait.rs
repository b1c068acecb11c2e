//! `lastmile wait` as a script uses it.

use std::{
    process::{Child, Command, Stdio},
    time::Duration,
};

use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};
use serde_json::Value;

use crate::support::{
    service::{LASTMILE, Service},
    site::{MAC, MACHINE, loopback},
    wait_for,
};

fn start(service: &Service<'_>, words: &[&str]) -> Child {
    Command::new(LASTMILE)
        .args(["--server", service.server(), "wait"])
        .args(words)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap()
}

/// Its exit code, and what it wrote.
fn end(waiting: Child) -> (i32, String, String) {
    let output = waiting.wait_with_output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

/// Boots the machine and installs it to the end.
async fn install(first_port: u16) {
    let reached = Reached {
        dhcp: format!("127.0.0.1:{first_port}").parse().unwrap(),
        tftp_port: first_port + 1,
        http_port: first_port + 2,
        link: "198.51.100.1".parse().unwrap(),
    };
    let identity = Identity { mac: MAC.parse().unwrap(), architecture: Architecture::UefiX64 };
    let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
        panic!("nothing was started")
    };
    machine.install(address, &parameters, &mut |_| {}).await.unwrap();
}

#[tokio::test]
async fn it_ends_with_the_installs_it_names_and_says_what_came_of_each() {
    let mut service = loopback(25_080);
    service.fill();
    service.run(&["machine", "add", "tern-gate-1", "--mac", "00:00:5e:00:53:43", "--label", "gate"]);
    let arm = || {
        service.run(&["install", "arm", "tern-gate-1", "--image", "tidewrack-12", "--answers", "quay-server"])
    };
    arm();
    let by_name = start(&service, &[MACHINE]);
    let all = start(&service, &["--json"]);
    let by_label = start(&service, &["--label", "gate"]);

    // The service goes away in the middle of it: that is no end of an install.
    std::thread::sleep(Duration::from_millis(500));
    service.signal("KILL");
    std::thread::sleep(Duration::from_millis(1500));
    service.spawn();
    install(25_080).await;
    let (code, said, complaint) = end(by_name);
    assert_eq!(code, 0, "{said}{complaint}");
    assert!(
        said.contains("installed  tidewrack-12 r1 in ") && said.ends_with("1 of 1 installed\n"),
        "{said}"
    );
    assert!(complaint.contains("waiting for it to come back"), "{complaint}");

    service.run(&["install", "cancel", "2", "--yes"]);
    let (code, said, _) = end(by_label);
    assert_eq!(code, 1, "{said}");
    assert!(said.contains("cancelled") && said.ends_with("0 of 1 installed\n"), "{said}");
    let (code, said, _) = end(all);
    let ended: Vec<Value> = said.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let ended: Vec<_> = ended.iter().map(|one| (one["number"].as_i64(), one["state"].as_str())).collect();
    assert_eq!((code, ended), (1, vec![(Some(1), Some("installed")), (Some(2), Some("cancelled"))]));

    // What ended before is said at once; nothing to wait for is no failure.
    assert_eq!(end(start(&service, &["1"])).0, 0);
    assert_eq!(end(start(&service, &["1", "2"])).0, 1);
    assert_eq!(end(start(&service, &[])), (0, "0 of 0 installed\n".into(), String::new()));
}

#[test]
fn it_says_what_is_wrong_and_what_goes_on_when_time_is_up() {
    let service = loopback(25_084);
    service.fill();
    let (code, _, said) = end(start(&service, &["--timeout", "1s"]));
    assert_eq!(code, 6, "time was up");
    for part in
        ["after 1s", "install 1 of auklet-chart is armed (nothing was seen yet)", "nothing was cancelled"]
    {
        assert!(said.contains(part), "lacks {part:?}: {said}");
    }
    let state = || service.json(&["install", "show", "1"])["state"].clone();
    assert_eq!(state(), "armed");
    service.run(&["machine", "add", "fulmar-log", "--mac", "00:00:5e:00:53:44"]);
    for (words, ends, part) in [
        (&["7"][..], 3, "7"),
        (&["fulmar-log"], 1, "no install was ever armed for it"),
        (&["fulmar"], 3, "fulmar"),
        (&["--label", "kiosk"], 1, "no machine with kiosk"),
    ] {
        let (code, _, said) = end(start(&service, words));
        assert!(code == ends && said.contains(part), "{words:?} ends with {code}: {said}");
    }
    let (code, _, said) = end(start(&service, &["--timeout", "soon"]));
    assert!(code == 2 && said.contains("soon"), "{said}");
    // One that is waited for from the start to the end of time is let go when it is cancelled.
    let waiting = start(&service, &["1", "--timeout", "1m"]);
    std::thread::sleep(Duration::from_millis(300));
    service.run(&["install", "cancel", "1", "--yes"]);
    wait_for("the end", Duration::from_secs(10), || (state() == "cancelled").then_some(()));
    assert_eq!(end(waiting).0, 1);
}

//! What is kept of installs: how far they are, what they wrote, how they ended, and what is told of it.

use std::{
    process::{Command, Stdio},
    time::Duration,
};

use lastmile_sim::{Beat, Booted};
use serde_json::{Value, json};

use crate::support::{
    curl, need,
    service::Service,
    simulated::{install, machine},
    site::{MAC, MACHINE, loopback},
    wait_for,
};

const SECOND_MAC: &str = "00:00:5e:00:53:02";

/// Boots a machine as far as its answers; gives the folder of its reports.
async fn begin(first_port: u16, mac: &str) -> String {
    let machine = machine(first_port, mac, Duration::from_secs(3600));
    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
        panic!("nothing was started")
    };
    let url = parameters.iter().find_map(|word| word.strip_prefix("url=")).unwrap();
    let reports = url.replace("/answers/", "/report/").replace("/preseed.cfg", "");
    let mut begun = false;
    {
        let mut watch = |beat: Beat| begun |= matches!(beat, Beat::Reported { stage: "started" });
        let installing = machine.install(address, &parameters, &mut watch);
        let _ = tokio::time::timeout(Duration::from_millis(1500), installing).await;
    }
    assert!(begun);
    reports
}

fn show(service: &Service<'_>, number: &str) -> Value {
    service.json(&["install", "show", number])
}

fn words(line: &str) -> Vec<&str> {
    line.split_whitespace().collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn how_far_an_install_is_is_learned_from_those_before_it() {
    let service = loopback(26_000);
    service.fill();
    assert_eq!(show(&service, "1")["progress"], Value::Null, "nothing was learned yet");
    install(26_000, MAC, Duration::from_secs(4)).await;
    service.run(&["machine", "add", "fulmar-log", "--mac", SECOND_MAC]);
    service.run(&words("install arm fulmar-log --image tidewrack-12 --answers quay-server"));
    let second = tokio::spawn(install(26_000, SECOND_MAC, Duration::from_secs(4)));
    let far = wait_for("progress", Duration::from_secs(20), || {
        let progress = show(&service, "2")["progress"].clone();
        (progress["percent"].as_u64()? >= 40).then_some(progress)
    });
    assert_eq!(far["learned_from"], json!(1), "{far}");
    // Four seconds, and what a machine under load adds.
    let (total, left) = (far["total_secs"].as_u64().unwrap(), far["left_secs"].as_u64().unwrap());
    assert!((4..10).contains(&total) && left * 100 <= total * 60 + 100, "{far}");
    let list = service.run(&["install", "list"]);
    assert!(list.contains(" %, ") && list.contains(" left"), "{list}");
    second.await.unwrap();
    assert_eq!(show(&service, "2")["progress"], Value::Null, "it is through");
    assert_eq!(show(&service, "2")["subnet"], "holm-quay");

    let log = service.run(&["install", "log", "2"]);
    assert!(log.contains("  partman: the disk is partitioned\n") && log.lines().count() == 4, "{log}");
    // What had been learned is learned again after a restart.
    let mut service = service;
    service.signal("KILL");
    service.spawn();
    let preview =
        service.run(&words("install arm fulmar-log --image tidewrack-12 --answers quay-server --dry-run"));
    assert!(preview.contains("tidewrack-12 r1") && preview.contains("its only disk"), "{preview}");
    service.run(&words("install retry 1 2 --yes"));
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 4);
    let said = service.run(&words("install cancel 3 4 --yes"));
    assert!(
        said.contains("install 3 of auklet-chart is cancelled\ninstall 4 of fulmar-log is cancelled"),
        "{said}"
    );
    let (code, said) = service.fail(&words("install retry 3 9 --yes"));
    assert!(code == 3 && said.contains('9'), "{said}");
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 4, "all of them, or none");
}

#[tokio::test]
async fn what_installers_write_is_kept_in_each_of_their_ways_and_shows_no_token() {
    let service = loopback(26_010);
    service.fill();
    let reports = begin(26_010, MAC).await;
    let log = format!("{reports}/log");
    let token = reports.rsplit('/').next().unwrap();
    let following = Command::new(crate::support::service::LASTMILE)
        .args(["--server", service.server(), "install", "log", "1", "--follow"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(500));
    // As a small installer's wget asks, as curl posts, and as cloud-init's reporter does.
    assert_eq!(curl(&[&format!("{log}?text=a%20%2B%20b%0Asecond%09line")]).0, "200");
    assert_eq!(
        curl(&["--data-binary", &format!("got http://x/answers/{token}/preseed.cfg\n"), &log]).0,
        "200"
    );
    let event = json!({
        "name": "subiquity/Filesystem", "description": "dividing the disk", "event_type": "finish",
        "origin": "curtin", "timestamp": 1.5, "level": "INFO", "result": "SUCCESS",
    });
    let json = ["-H", "content-type: application/json", "-d"];
    assert_eq!(curl(&[&json[..], &[&event.to_string(), &log]].concat()).0, "200");
    let kept = show(&service, "1")["log"].clone();
    let lines: Vec<&str> =
        kept.as_array().unwrap().iter().map(|line| line["line"].as_str().unwrap()).collect();
    let expected = [
        "a + b",
        "secondline",
        "got http://x/answers/(token)/preseed.cfg",
        "finish subiquity/Filesystem SUCCESS: dividing the disk",
    ];
    assert_eq!(&lines[lines.len() - 4..], expected);
    // No more than so much is kept, and nothing is taken after the end.
    for _ in 0..13 {
        let many: String = (0..100).map(|line| format!("line {line}\n")).collect();
        assert_eq!(curl(&["--data-binary", &many, &log]).0, "200");
    }
    assert_eq!(show(&service, "1")["log"].as_array().unwrap().len(), 1000);
    assert_eq!(curl(&["--data-binary", &"x".repeat(70_000), &log]).0, "413");
    assert_eq!(curl(&[&format!("{reports}/done")]).0, "200");
    let output = following.wait_with_output().unwrap();
    let followed = String::from_utf8(output.stdout).unwrap();
    assert!(
        followed.contains("finish subiquity/Filesystem SUCCESS") && followed.contains("line 99"),
        "{followed}"
    );
    assert_eq!(curl(&["--data-binary", "late", &log]).0, "200");
    let kept = show(&service, "1")["log"].as_array().unwrap().len();
    assert_eq!(kept, 1000);
    assert!(!service.log().contains(token));
}

#[tokio::test]
async fn silence_beyond_a_limit_ends_an_install_and_a_late_end_mends_it() {
    let service = loopback(26_020);
    service.fill();
    service.run(&words("settings change --set limits.installing_minutes=1 --set limits.loading_minutes=1"));
    let (_, said) = service.fail(&words("settings change --set limits.whole_minutes=99999"));
    assert!(said.contains("limits.whole_minutes") && said.contains("10080"), "{said}");
    service.run(&["machine", "add", "fulmar-log", "--mac", SECOND_MAC]);
    service.run(&words("install arm fulmar-log --image tidewrack-12 --answers quay-server"));
    let reports = begin(26_020, MAC).await;
    std::thread::sleep(Duration::from_secs(40));
    // A line of the log is a sign of life.
    curl(&[&format!("{reports}/log?text=still%20there")]);
    std::thread::sleep(Duration::from_secs(25));
    assert_eq!(show(&service, "1")["state"], "installing");
    let stalled = wait_for("a stall", Duration::from_secs(60), || {
        let install = show(&service, "1");
        (install["state"] == "stalled").then_some(install)
    });
    let reason = stalled["reason"].as_str().unwrap();
    assert!(
        reason.starts_with("nothing was seen of it for 1 minutes after the installer was heard of"),
        "{reason}"
    );
    assert_eq!(show(&service, "2")["state"], "armed", "it was never switched on");
    let answers = reports.replace("/report/", "/answers/") + "/preseed.cfg";
    assert_eq!(curl(&[&answers]).0, "403", "its secrets are shut");
    assert_eq!(curl(&[&format!("{reports}/done")]).0, "200");
    let installed = show(&service, "1");
    assert_eq!((&installed["state"], &installed["reason"]), (&json!("installed"), &Value::Null));
    assert!(service.run(&["install", "show", "1"]).contains("after the install was stalled"));
    let machine = service.run(&["machine", "list", MACHINE]);
    assert!(machine.contains("installed"), "{machine}");
}

#[tokio::test]
async fn the_record_tells_who_has_what_and_how_installs_went() {
    let service = loopback(26_040);
    service.fill();
    service.run(&["machine", "change", MACHINE, "--append", "labels=chart", "--append", "labels=vessel"]);
    service.run(&["install", "cancel", "1", "--yes"]);
    service.run(&["install", "retry", "1", "--yes"]);
    install(26_040, MAC, Duration::ZERO).await;
    service.run(&["machine", "add", "=fulmar", "--mac", SECOND_MAC].map(|word| word.trim_start_matches('=')));
    service.run(&words("install arm fulmar --image tidewrack-12 --answers quay-server"));
    let reports = begin(26_040, SECOND_MAC).await;
    curl(&[&format!("{reports}/failed?text=no%20disk")]);
    let rates = service.json(&words("history rates --by label"));
    let group = |name: &str| {
        let groups = rates["groups"].as_array().unwrap();
        groups.iter().find(|group| group["group"] == name).unwrap_or_else(|| panic!("{rates}")).clone()
    };
    assert_eq!(
        (&group("chart")["installed"], &group("chart")["success_percent"]),
        (&json!(1), &json!(100.0))
    );
    assert_eq!((&group("(none)")["failed"], &group("(none)")["cancelled"]), (&json!(1), &json!(1)));
    assert_eq!((&rates["all"]["armed"], &rates["all"]["success_percent"]), (&json!(3), &json!(50.0)));
    assert_eq!(
        rates["days"].as_array().unwrap().iter().map(|day| day["failed"].as_u64().unwrap()).sum::<u64>(),
        1
    );
    let by_subnet = service.run(&words("history rates --by subnet"));
    assert!(by_subnet.contains("holm-quay") && by_subnet.contains("50.0 %"), "{by_subnet}");
    for (span, armed) in
        [("--since 2999-01-01", 0), ("--until 2026-01-01", 0), ("--since 2026-01-01 --until 2999-01-01", 3)]
    {
        let within = service.json(&words(&format!("history rates {span}")));
        assert_eq!(within["all"]["armed"], armed, "{span}");
    }
    let (_, said) = service.fail(&words("history rates --since yesterday --until never"));
    assert!(said.contains("since") && said.contains("until") && said.contains("2026-11-01"), "{said}");

    let kernel = service.write("linux", vec![5; 1000]);
    let initrd = service.write("initrd.gz", vec![6; 1000]);
    let image =
        words("--name tidewrack-12 --kind installer --family preseed --kernel linux --initrd initrd.gz");
    service.run(&[&["image", "add", &kernel, &initrd], &image[..]].concat());
    let hosts = service.json(&words("history hosts --behind"));
    assert_eq!((&hosts["behind"], &hosts["hosts"][0]["machine"]), (&json!(1), &json!(MACHINE)));
    let host = &hosts["hosts"][0];
    assert_eq!((&host["revision"], &host["current"], &host["install"]), (&json!(1), &json!(2), &json!(2)));
    // What fails afterwards changes nothing of what the host has; what is installed afterwards does.
    service.run(&["install", "arm", MACHINE, "--image", "tidewrack-12", "--answers", "quay-server", "--yes"]);
    let reports = begin(26_040, MAC).await;
    curl(&[&format!("{reports}/failed?text=no%20disk")]);
    assert_eq!(service.json(&words("history hosts"))["hosts"][0]["install"], 2);
    service.run(&["install", "retry", "4", "--yes"]);
    install(26_040, MAC, Duration::ZERO).await;
    let hosts = service.json(&words("history hosts"));
    let host = &hosts["hosts"][0];
    assert_eq!((&host["install"], &host["revision"], &hosts["behind"]), (&json!(5), &json!(2), &json!(0)));
    // Who leaves stays in the history, under the last name.
    service.run(&["machine", "rename", MACHINE, "auklet-bridge"]);
    service.run(&["machine", "remove", "auklet-bridge", "--yes"]);
    let hosts = service.json(&words("history hosts"));
    assert_eq!((&hosts["left"], &hosts["behind"]), (&json!(1), &json!(0)), "who left is behind nobody");
    assert!(
        hosts["hosts"][0]["left"].is_string() && hosts["hosts"][0]["machine"] == "auklet-bridge",
        "{hosts}"
    );
    assert_eq!(service.json(&words("history hosts --present"))["hosts"], json!([]));

    // Read by somebody else's reader of tables.
    let read = |what: &str| {
        let text = service.run(&words(&format!("history {what} --output csv")));
        let program = "import csv,json,sys; print(json.dumps(list(csv.DictReader(sys.stdin))))";
        let path = service.write("table.csv", text);
        let output = Command::new(need("/usr/bin/python3", "python3"))
            .args(["-c", program])
            .stdin(std::fs::File::open(path).unwrap())
            .output()
            .unwrap();
        serde_json::from_slice::<Value>(&output.stdout).unwrap()
    };
    let table = read("hosts");
    assert_eq!((&table[0]["machine"], &table[0]["revision"]), (&json!("auklet-bridge"), &json!("2")));
    let table = read("rates --by image");
    assert_eq!((&table[0]["group"], &table[0]["armed"]), (&json!("tidewrack-12"), &json!("5")));
    assert_eq!(table[1]["group"], "all");
}

#[test]
fn names_and_addresses_are_given_by_pattern_to_all_or_to_none() {
    let service = loopback(26_050);
    service.fill();
    for (name, mac, hall) in [("b", "02:00:5e:00:53:12", "Holm Quay"), ("a", "02:00:5e:00:53:11", "Tern Bay")]
    {
        let detail = format!("hall={hall}");
        service.run(&["machine", "add", name, "--mac", mac, "--label", "kiosk", "--detail", &detail]);
    }
    let pattern = "{{ details.hall | slug }}-{{ counter | pad(2) }}";
    let naming = ["machine", "name", "--label", "kiosk", "--name", pattern];
    let dry_run = ["--dry-run"];
    let preview = service.run(&[&naming[..], &dry_run].concat());
    assert!(preview.contains("tern-bay-01") && preview.contains("nothing was saved"), "{preview}");
    assert_eq!(service.json(&["machine", "list"]).as_array().unwrap().len(), 3);
    let with_address = |address: &'static str| [&naming[..], &["--address", address]].concat();
    let bad = service.try_run(&[with_address("198.51.100.{{ 99 + counter }}"), dry_run.to_vec()].concat());
    assert_eq!(bad.status.code(), Some(1), "a preview that cannot be saved is no success");
    let bad = String::from_utf8(bad.stdout).unwrap();
    assert!(bad.contains("in the pool") && bad.contains("2 of 2 cannot be renamed so"), "{bad}");
    let (_, said) = service.fail(&with_address("198.51.100.{{ 99 + counter }}"));
    assert!(said.contains("a: ") && said.contains("b: ") && said.contains("in the pool"), "{said}");
    assert!(service.json(&["machine", "list"]).to_string().contains("\"name\":\"a\""), "nothing was changed");
    service.run(&with_address("198.51.100.{{ 10 + counter }}"));
    let reserved = service.run(&["subnet", "reservations", "holm-quay"]);
    assert!(reserved.contains("198.51.100.11") && reserved.contains("02:00:5e:00:53:11"), "{reserved}");
    // The two change names with each other, and it outlives a restart.
    let swap = "{{ {'tern-bay-01': 'holm-quay-02', 'holm-quay-02': 'tern-bay-01'}[name] }}";
    service.run(&["machine", "name", "--label", "kiosk", "--name", swap]);
    let mut service = service;
    service.signal("KILL");
    service.spawn();
    let detail = service.json(&["machine", "show", "holm-quay-02"]);
    assert_eq!(detail["macs"][0], "02:00:5e:00:53:11");
    let (_, said) = service.fail(&["machine", "name", MACHINE, "--name", "{{ nothing }}"]);
    assert!(said.contains("name") && said.contains("at column 4"), "{said}");
    let (_, said) = service.fail(&["machine", "name", MACHINE, "--name", "chart-1"]);
    assert!(said.contains("install 1 goes on"), "{said}");
}

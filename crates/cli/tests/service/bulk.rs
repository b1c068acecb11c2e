//! Many machines at once: CSV files, newcomers, changes of a selection.

use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Identity, Machine, Pace, Reached};
use serde_json::json;

use crate::support::{service::Service, site::loopback};

const HEAD: &str = "name,mac,labels,detail.rack,address\n";

fn names(service: &Service<'_>) -> Vec<String> {
    let machines = service.json(&["machine", "list"]);
    let machines = machines.as_array().unwrap();
    machines.iter().map(|machine| machine["name"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_list_of_machines_is_imported_as_a_whole_or_not_at_all() {
    let service = loopback(21_200);
    service.add_subnet();
    service.add_machine();
    let rows = "\
        kiosk-1,00:00:5e:00:53:11,kiosk,r12,198.51.100.21\n\
        kiosk-2,00-00-5E-00-53-12 0000.5e00.5313,kiosk spare,r12,\n\
        auklet-chart,,chart,r3,\n";
    let csv = service.write("machines.csv", format!("{HEAD}{rows}"));
    let said = service.run(&["machine", "import", &csv, "--dry-run"]);
    assert!(said.contains("2 new, 1 changed, 0 unchanged") && said.contains("Dry run"), "{said}");
    assert_eq!(names(&service), ["auklet-chart"]);
    service.run(&["machine", "import", &csv]);
    let machine = service.json(&["machine", "show", "kiosk-2"]);
    assert_eq!(machine["macs"], json!(["00:00:5e:00:53:12", "00:00:5e:00:53:13"]));
    assert_eq!(
        (&machine["labels"], &machine["details"]["rack"]),
        (&json!(["kiosk", "spare"]), &json!("r12"))
    );
    let reserved = service.json(&["subnet", "reservations", "holm-quay"]);
    assert_eq!(
        (&reserved[0]["address"], &reserved[0]["machine"]),
        (&json!("198.51.100.21"), &json!("kiosk-1"))
    );
    assert_eq!(service.json(&["machine", "show", "auklet-chart"])["labels"], json!(["chart"]));
    // Once more: nothing is left to do. What an export writes is what an import reads.
    assert!(service.run(&["machine", "import", &csv]).contains("0 new, 0 changed, 3 unchanged"));
    let exported = service.write("exported.csv", service.run(&["export", "machines"]));
    assert!(service.run(&["machine", "import", &exported]).contains("0 new, 0 changed, 3 unchanged"));
    // A dash empties, an empty cell leaves; several columns may hold the addresses.
    let csv = service.write(
        "less.csv",
        "name,labels,detail.rack,mac,mac\nkiosk-2,-,,02:00:5e:00:53:01,02:00:5e:00:53:02\n",
    );
    service.run(&["machine", "import", &csv]);
    let machine = service.json(&["machine", "show", "kiosk-2"]);
    assert_eq!((&machine["labels"], &machine["details"]["rack"]), (&json!([]), &json!("r12")));
    assert_eq!(machine["macs"], json!(["02:00:5e:00:53:01", "02:00:5e:00:53:02"]));
}

#[test]
fn everything_that_is_wrong_in_a_list_is_told_with_its_line_and_column() {
    let service = loopback(21_210);
    service.add_subnet();
    service.add_machine();
    let rows = "\
        kiosk-1,00:00:5e:00:53:11,kiosk,r12,198.51.100.999\n\
        two words,00:00:5e:00:53:zz,kiosk,r12,\n\
        kiosk-3,00:00:5e:00:53:01,,,\n\
        kiosk-4,,,,\n\
        kiosk-1,00:00:5e:00:53:15,,,\n\
        kiosk-6,00:00:5e:00:53:16,,,203.0.113.5\n\
        kiosk-7,00:00:5e:00:53:17,\"a label, with a comma\",,\n";
    let csv = service.write("machines.csv", format!("{HEAD}{rows}"));
    for words in [&["machine", "import", &csv][..], &["machine", "import", &csv, "--dry-run"]] {
        let (code, said) = service.fail(words);
        assert_eq!(code, 1, "{said}");
        for part in [
            ("line 2, column address", "198.51.100.999"),
            ("line 3, column name", "two words"),
            ("line 3, column mac", "00:00:5e:00:53:zz"),
            ("line 4, column mac", "auklet-chart"),
            ("line 5, column mac", "no MAC address"),
            ("line 6, column name", "line 2"),
            ("line 7, column address", "203.0.113.5"),
        ] {
            let line = said.lines().find(|line| line.contains(part.0));
            let line = line.unwrap_or_else(|| panic!("nothing at {}: {said}", part.0));
            assert!(line.contains(part.1), "{line}");
        }
        assert_eq!(names(&service), ["auklet-chart"], "nothing is half-saved");
    }
    for (text, says) in [
        ("name,mac,colour\nkiosk-1,02:00:5e:00:53:01,red\n", "colour"),
        ("mac\n02:00:5e:00:53:01\n", "name"),
        ("name,mac\nkiosk-1,02:00:5e:00:53:01,more\n", "line 2"),
        ("", "name"),
    ] {
        let csv = service.write("wrong.csv", text);
        let (code, said) = service.fail(&["machine", "import", &csv]);
        assert!(code == 1 && said.contains(says), "{text:?}: {said}");
    }
}

#[test]
fn ten_thousand_rows_are_imported_in_one_piece() {
    let service = loopback(21_220);
    let rows = (0..10_000).map(|number| {
        let (high, low) = (number / 256, number % 256);
        format!("locker-{number:05},02:00:00:00:{high:02x}:{low:02x},locker,r{},\n", number / 40)
    });
    let csv = service.write("machines.csv", HEAD.to_owned() + &rows.collect::<String>());
    let said = service.run(&["machine", "import", &csv]);
    assert!(said.contains("10000 new, 0 changed, 0 unchanged"), "{said}");
    assert!(said.lines().count() < 40, "ten thousand lines help nobody");
    // A list of any length is written as a whole.
    assert_eq!(names(&service).len(), 10_000);
    assert_eq!(
        service.run(&["machine", "list", "--label", "locker", "--output", "csv"]).lines().count(),
        10_001
    );
}

#[tokio::test]
async fn newcomers_are_adopted_under_names_by_pattern() {
    let service = loopback(21_230);
    service.fill();
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=menu"]);
    let macs = ["02:00:5e:00:53:31", "02:00:5e:00:53:32", "02:00:5e:00:53:33"];
    for mac in macs {
        let identity = Identity { mac: mac.parse().unwrap(), architecture: Architecture::UefiX64 };
        let reached = Reached {
            dhcp: "127.0.0.1:21230".parse().unwrap(),
            tftp_port: 21_231,
            http_port: 21_232,
            link: "198.51.100.1".parse().unwrap(),
        };
        let _ = Machine::new(identity, reached, Pace::FULL).unwrap().boot(&mut |_| {}).await;
    }
    let newcomers = || service.json(&["machine", "newcomers"]).as_array().unwrap().len();
    assert_eq!(newcomers(), 3);
    let adopt = [
        "machine",
        "adopt",
        macs[0],
        macs[1],
        "--name",
        "kiosk-{{ counter | pad(2) }}",
        "--first",
        "7",
        "--label",
        "kiosk",
    ];
    let said = service.run(&[&adopt[..], &["--dry-run"]].concat());
    assert!(said.contains("kiosk-07") && said.contains("kiosk-08") && said.contains("Dry run"), "{said}");
    assert_eq!(newcomers(), 3);
    service.run(&adopt);
    assert_eq!(newcomers(), 1);
    let machine = service.json(&["machine", "show", "kiosk-08"]);
    assert_eq!((&machine["macs"][0], &machine["labels"][0]), (&json!(macs[1]), &json!("kiosk")));
    // One that is registered by now, and one whose name another has: none is adopted.
    let (_, said) = service.fail(&["machine", "adopt", macs[2], macs[0]]);
    assert!(said.contains("kiosk-07"), "{said}");
    let (_, said) = service.fail(&["machine", "adopt", macs[2], "--name", "kiosk-07"]);
    assert!(said.contains("kiosk-07"), "{said}");
    assert_eq!(newcomers(), 1);
    let said = service.run(&["machine", "adopt", macs[2]]);
    assert!(said.contains("machine-02005e005333"), "{said}");
}

#[test]
fn several_machines_are_changed_and_removed_together_or_none_is() {
    let service = loopback(21_240);
    service.add_subnet();
    service.add_machine();
    for (name, mac) in [("kiosk-1", "02:00:5e:00:53:11"), ("kiosk-2", "02:00:5e:00:53:12")] {
        service.run(&["machine", "add", name, "--mac", mac, "--label", "kiosk"]);
    }
    let change = ["machine", "change", "auklet-chart", "--label", "kiosk"];
    service.run(&[&change[..], &["--set", "details.hall=pier", "--append", "labels=spare"]].concat());
    for name in ["auklet-chart", "kiosk-1", "kiosk-2"] {
        let machine = service.json(&["machine", "show", name]);
        assert_eq!(machine["details"]["hall"], "pier", "{name}");
        assert!(machine["labels"].as_array().unwrap().contains(&json!("spare")), "{name}");
    }
    // By MAC address as well as by name, in one command; one that is not there, and nothing is done.
    let (code, said) =
        service.fail(&["machine", "change", "kiosk-1", "no-such", "--set", "details.hall=quay"]);
    assert!(code != 0 && said.contains("no-such"), "{said}");
    assert_eq!(service.json(&["machine", "show", "kiosk-1"])["details"]["hall"], "pier");
    let (_, said) =
        service.fail(&["machine", "change", "kiosk-1", "kiosk-2", "--set", "details.hall=a\u{7}b"]);
    assert!(said.contains("kiosk-2"), "every one is told: {said}");
    let (_, said) = service.fail(&["machine", "remove", "kiosk-1", "no-such", "--yes"]);
    assert!(said.contains("no-such"), "{said}");
    assert_eq!(names(&service).len(), 3);
    service.run(&["machine", "remove", "kiosk-1", "02:00:5e:00:53:12", "--yes"]);
    assert_eq!(names(&service), ["auklet-chart"]);
}

#[test]
fn machines_are_armed_with_what_their_labels_say() {
    let service = loopback(26_360);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    service.add_answers();
    for (number, labels) in [(1, "kiosk"), (2, "kiosk,spare"), (3, "spare")] {
        let (name, mac) = (format!("berth-{number}"), format!("02:00:5e:00:53:6{number}"));
        let labels = labels.split(',').flat_map(|label| ["--label", label]);
        let words: Vec<&str> = ["machine", "add", &name, "--mac", &mac].into_iter().chain(labels).collect();
        service.run(&words);
    }
    // What is not there cannot be said of a label; both errors at once.
    let (code, said) =
        service.fail(&["label", "add", "kiosk", "--set", "image=wrack", "--set", "answers=no-such"]);
    assert!(code == 1 && said.contains("no image is named 'wrack'"), "{said}");
    assert!(said.contains("no answers are named 'no-such'"), "{said}");
    service.run(&["label", "add", "kiosk", "--set", "image=tidewrack-12", "--set", "answers=quay-server"]);
    // A machine whose labels name nothing is told by name, and none is armed.
    let (code, said) = service.fail(&["install", "arm", "--label", "spare"]);
    assert!(code == 1, "{said}");
    assert!(said.contains("berth-3: no image is named, and no label of berth-3 names any"), "{said}");
    assert!(said.contains("berth-3: no answers are named"), "{said}");
    assert!(service.json(&["install", "list"]).as_array().unwrap().is_empty());
    // Of two labels the one of the higher rank counts, for what it says.
    service.run(&["answers", "copy", "quay-server", "spare-server"]);
    service.run(&["label", "add", "spare", "--set", "answers=spare-server", "--set", "rank=900"]);
    let tried = service.json(&["install", "arm", "--label", "kiosk", "--dry-run"]);
    let answers = |number: usize| tried[number]["answers"].as_str().unwrap().to_owned();
    assert_eq!((answers(0), answers(1)), ("quay-server v1".into(), "spare-server v1".into()));
    service.run(&["install", "arm", "--label", "kiosk"]);
    let armed = service.json(&["install", "list"]);
    assert_eq!(armed.as_array().unwrap().len(), 2);
    // What is said by hand goes before.
    let tried = service.json(&[
        "install",
        "arm",
        "berth-3",
        "--image",
        "tidewrack-12",
        "--answers",
        "quay-server",
        "--dry-run",
    ]);
    assert_eq!(tried[0]["answers"], "quay-server v1");
    service.run(&["install", "cancel", "1", "2", "--yes"]);

    // References follow, and what a label names is not removed.
    service.run(&["image", "rename", "tidewrack-12", "wrack-12"]);
    service.run(&["answers", "rename", "quay-server", "pier-server"]);
    let kiosk = service.json(&["label", "show", "kiosk"]);
    assert_eq!((&kiosk["image"], &kiosk["answers"]), (&"wrack-12".into(), &"pier-server".into()));
    let (_, said) = service.fail(&["image", "remove", "wrack-12", "--yes"]);
    assert!(said.contains("machines of label kiosk are armed with wrack-12"), "{said}");
    let (_, said) = service.fail(&["answers", "remove", "pier-server", "--yes"]);
    assert!(said.contains("label kiosk"), "{said}");
    // Kept over a kill.
    let mut service = service;
    service.signal("KILL");
    service.spawn();
    assert_eq!(service.json(&["label", "show", "kiosk"])["answers"], "pier-server");
}

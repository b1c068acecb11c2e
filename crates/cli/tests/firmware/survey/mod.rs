//! The survey on emulated machines: real firmware, Debian's signed loaders and its kernel, our agent, and hardware of which the
//! emulator was told what it is.

mod long;

use std::{
    io::Write,
    os::unix::fs::PermissionsExt,
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use lastmile_formats::{
    lldp::{Known, Neighbour, Vlan},
    mac::Mac,
};
use lastmile_sim::SwitchPort;
use serde_json::{Value, json};

use crate::support::{
    background::Background,
    computer::{Computer, add_signed_loader, uefi, wire},
    need,
    netns::Netns,
    service::Service,
    site::MAC,
    wait_for,
};

/// From power-on to the first report, in software emulation.
const LIMIT: Duration = Duration::from_secs(600);

/// The words that name Debian's packages in a folder below `target/witnesses`, which make fetches: a kernel, and what is beside it.
fn packages(folder: &str, target: &str) -> Vec<String> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses").join(folder);
    let files = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let packages: Vec<_> = files.filter(|path| path.extension().is_some_and(|end| end == "deb")).collect();
    assert!(!packages.is_empty(), "{} has no packages: make {target}", folder.display());
    packages.iter().flat_map(|path| ["--package".into(), path.to_str().unwrap().to_owned()]).collect()
}

/// A service on a wire where unknown machines are surveyed.
fn surveying<'a>(namespace: &'a Netns) -> Service<'a> {
    let service = Service::start(Some(namespace), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&["--newcomers", "survey", "--domain", "gannet.example"]);
    // A program of the site's, whose shell is that of this host.
    need("/bin/busybox", "busybox-static");
    let program = "#!/bin/busybox sh\nread facts\necho \"{\\\"heard\\\": ${#facts}}\"\n";
    let program = service.write("site/lastmile/before-report/raid", program);
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let program = "#!/bin/sh\nread facts\necho \"\\\"$LASTMILE_MACHINE is at $LASTMILE_DETAIL_RACK\\\"\"\n";
    let program = service.write("site/lastmile/after-rules/place", program);
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let site = service.folder.path().join("site");
    let packages = packages("kernel", "packages-firmware");
    let packages: Vec<&str> = packages.iter().map(String::as_str).collect();
    let built =
        service.run(&[&["survey", "build"], &packages[..], &["--add", site.to_str().unwrap()]].concat());
    println!("{}", built.lines().filter(|line| line.starts_with("note:")).collect::<Vec<_>>().join("\n"));
    service
}

/// A disk image of so many MiB.
fn disk(folder: &Path, name: &str, mib: u64) -> String {
    let path = folder.join(name);
    std::fs::File::create(&path).unwrap().set_len(mib << 20).unwrap();
    path.to_str().unwrap().into()
}

/// What the emulator is told that the machine is: every disk, card and text of it.
fn hardware(folder: &Path) -> Vec<String> {
    let (nvme, sata, virtio) =
        (disk(folder, "nvme", 96), disk(folder, "sata", 64), disk(folder, "virtio", 32));
    // What an earlier system left: a table of partitions, and a file system without one.
    divide(&nvme, "label: gpt\nsize=40M, type=linux, name=holm\nsize=20M, type=swap\n");
    let formatted =
        Command::new(need("/usr/sbin/mkfs.ext4", "e2fsprogs")).args(["-q", "-L", "ebb", &sata]).status();
    assert!(formatted.unwrap().success());
    let words = [
        "-smbios type=1,manufacturer=Marram,product=MS-20,version=B,serial=MS20-4711,uuid=6f9619ff-8b86-d011-b42d-00c04fc964ff",
        "-smbios type=2,manufacturer=Marram,product=MB-7,serial=MB7-0815",
        "-smbios type=3,manufacturer=Marram,serial=CH-11,asset=GSF-0007",
        &format!("-drive if=none,id=nvme,format=raw,file={nvme}"),
        "-device nvme,drive=nvme,serial=PUFFIN-1",
        &format!("-drive if=none,id=sata,format=raw,file={sata}"),
        "-device ide-hd,drive=sata,serial=RAZORBILL-2",
        &format!("-drive if=none,id=virtio,format=raw,file={virtio}"),
        "-device virtio-blk-pci,drive=virtio,serial=GULL-3",
        "-netdev user,id=second,restrict=on",
        "-device e1000e,netdev=second,mac=00:00:5e:00:53:02,romfile=",
        "-netdev user,id=third,restrict=on",
        "-device vmxnet3,netdev=third,mac=00:00:5e:00:53:03,romfile=",
        "-device ipmi-bmc-sim,id=bmc,fwrev1=3,fwrev2=0x21,ipmi_version=0x02",
        "-device isa-ipmi-kcs,bmc=bmc",
    ];
    words.iter().flat_map(|words| words.split(' ')).map(str::to_owned).collect()
}

fn divide(disk: &str, script: &str) {
    let mut child = Command::new(need("/usr/sbin/sfdisk", "fdisk"))
        .args(["--quiet", disk])
        .stdin(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

/// The switch that the machine's first card hangs on.
fn switch() -> Neighbour {
    Neighbour {
        system_name: Some("sw-holm-1".into()),
        untagged_vlan: Some(30),
        vlans: vec![Vlan { number: 30, name: "boot".into() }],
        ..Neighbour::new(
            Known::Mac(Mac::new([0x02, 0, 0x5e, 0, 0x53, 0xf0]).unwrap()),
            Known::Name("Ethernet1/7".into()),
        )
    }
}

/// Waits for a survey of the machine that `is_it`; prints how long it took.
fn surveyed(service: &Service<'_>, powered_on: Instant, what: &str, is_it: impl Fn(&Value) -> bool) -> Value {
    let found = wait_for(what, LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let ended = service.try_run(&["machine", "facts", MAC, "--json"]);
        let facts: Value = serde_json::from_slice(&ended.stdout).ok()?;
        is_it(&facts).then_some(facts)
    });
    println!("{:6.1} s  {what}", powered_on.elapsed().as_secs_f64());
    found
}

fn list<'a>(facts: &'a Value, list: &str, key: &str) -> Vec<&'a Value> {
    facts["facts"][list].as_array().unwrap().iter().map(|item| &item[key]).collect()
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn an_unknown_machine_is_measured_named_by_rule_and_waits() {
    let namespace = wire("survey");
    let service = surveying(&namespace);
    add_signed_loader(&service, "port-80");
    add_rule(&service);
    let port = namespace.inside(|| SwitchPort::open("tap0", &switch()).unwrap());
    let _switch = Background::run(move |stop| port.run(stop));

    let folder = service.folder.path();
    let mut firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    firmware.extend(hardware(folder));
    let powered_on = Instant::now();
    let _computer = Computer::power_on_with(&namespace, folder, "q35", 512, ",romfile=", &firmware);
    surveyed(&service, powered_on, "the first report", |_| true);
    let facts = surveyed(&service, powered_on, "the report with the switch", |facts| {
        facts["facts"]["nics"]
            .as_array()
            .is_some_and(|nics| nics.iter().any(|nic| !nic["neighbour"].is_null()))
    });
    println!("{}", service.run(&["machine", "facts", MAC]));
    println!("{}", service.run(&["trace", MAC]));

    let (system, board, chassis) =
        (&facts["facts"]["system"], &facts["facts"]["board"], &facts["facts"]["chassis"]);
    let expected = [
        (&system["vendor"], "Marram"),
        (&system["product"], "MS-20"),
        (&system["version"], "B"),
        (&system["serial"], "MS20-4711"),
        (&system["uuid"], "6f9619ff-8b86-d011-b42d-00c04fc964ff"),
        (&board["product"], "MB-7"),
        (&board["serial"], "MB7-0815"),
        (&chassis["serial"], "CH-11"),
        (&chassis["asset_tag"], "GSF-0007"),
        (&facts["facts"]["start"]["mode"], "uefi"),
    ];
    for (found, expected) in expected {
        assert_eq!(found, expected, "{facts:#}");
    }
    assert_eq!(facts["facts"]["start"]["secure_boot"], false);
    assert_eq!(facts["facts"]["memory"]["mib"], 512);
    assert_eq!(facts["facts"]["has_bmc"], true);
    let mut serials = list(&facts, "disks", "serial");
    serials.sort_by_key(|serial| serial.to_string());
    assert_eq!(serials, ["GULL-3", "PUFFIN-1", "RAZORBILL-2"]);
    let size = |serial: &str| {
        let disks = facts["facts"]["disks"].as_array().unwrap();
        disks.iter().find(|disk| disk["serial"] == serial).unwrap()["size"].as_u64().unwrap() >> 20
    };
    assert_eq!([size("GULL-3"), size("PUFFIN-1"), size("RAZORBILL-2")], [32, 96, 64]);
    let mut transports = list(&facts, "disks", "transport");
    transports.sort_by_key(|transport| transport.to_string());
    assert_eq!(transports, ["nvme", "sata", "virtio"]);
    let mut cards: Vec<(String, String)> = facts["facts"]["nics"]
        .as_array()
        .unwrap()
        .iter()
        .map(|nic| (nic["mac"].as_str().unwrap().into(), nic["driver"].as_str().unwrap().into()))
        .collect();
    cards.sort();
    let expected = [(MAC, "virtio_net"), ("00:00:5e:00:53:02", "e1000e"), ("00:00:5e:00:53:03", "vmxnet3")];
    assert_eq!(cards, expected.map(|(mac, driver)| (mac.to_owned(), driver.to_owned())));
    assert_eq!(list(&facts, "nics", "permanent_mac"), list(&facts, "nics", "mac"), "{facts:#}");
    devices_say(&facts["facts"]);
    let neighbour = &facts["facts"]["nics"].as_array().unwrap().iter().find(|nic| nic["mac"] == MAC).unwrap()
        ["neighbour"];
    assert_eq!(neighbour["system_name"], "sw-holm-1");
    assert_eq!(neighbour["port"], "Ethernet1/7");
    assert_eq!(neighbour["untagged_vlan"], 30);
    let heard = facts["found"]["raid"]["heard"].as_u64().unwrap();
    assert!(heard > 500, "the site's program was told the facts: {heard} characters");
    // Links come up at their own pace, some after the first report: what is recorded follows them.
    surveyed(&service, powered_on, "the link of every card", |facts| {
        list(facts, "nics", "link").iter().all(|link| **link == true)
    });
    // It waits: its agent stays connected, and shows what a rule made of it once the switch was heard.
    assert!(facts["agent"]["from"].as_str().unwrap().starts_with("192.0.2."), "{facts:#}");
    let machine = service.json(&["machine", "show", "holm-kiosk-01"]);
    let place = serde_json::json!({ "hall": "Holm Quay", "row": "A", "rack": "r01", "unit": "12-13" });
    assert_eq!((&machine["details"], &machine["labels"]), (&place, &serde_json::json!(["kiosk"])));
    assert_eq!(machine["macs"], serde_json::json!([MAC]));
    wait_for("its name on the serial line", Duration::from_secs(60), || {
        // Firmware has written there before, and not only text.
        let screen = std::fs::read(folder.join("serial")).unwrap_or_default();
        String::from_utf8_lossy(&screen).contains("machine   holm-kiosk-01").then_some(())
    });
    surveyed(&service, powered_on, "what a program said after rules", |facts| {
        facts["found"]["place"] == "holm-kiosk-01 is at r01"
    });
    works(&service);
    works_without_network(&namespace, &service);
}

/// What only disks, cards and the management controller themselves say.
fn devices_say(facts: &Value) {
    let disk = |serial: &str| {
        facts["disks"].as_array().unwrap().iter().find(|disk| disk["serial"] == serial).unwrap().clone()
    };
    let (nvme, sata, virtio) = (disk("PUFFIN-1"), disk("RAZORBILL-2"), disk("GULL-3"));
    // The emulator's: 50 °C of NVMe, 31 °C of ATA.
    assert_eq!(
        (&nvme["health"]["is_well"], &nvme["health"]["temperature"]),
        (&json!(true), &json!(50)),
        "{nvme:#}"
    );
    assert_eq!(
        (&sata["health"]["is_well"], &sata["health"]["reallocated"]),
        (&json!(true), &json!(0)),
        "{sata:#}"
    );
    assert!(virtio["health"].is_null(), "{virtio:#}");
    let parts = nvme["layout"]["partitions"].as_array().unwrap();
    let read: Vec<_> = parts
        .iter()
        .map(|part| (part["size"].as_u64().unwrap() >> 20, &part["kind"], &part["name"]))
        .collect();
    let (linux, swap) = (json!("Linux"), json!("Linux swap"));
    assert_eq!(read, [(40, &linux, &json!("holm")), (20, &swap, &Value::Null)], "{nvme:#}");
    let volume = &sata["layout"]["volume"];
    assert_eq!((&volume["kind"], &volume["label"]), (&json!("ext4"), &json!("ebb")), "{sata:#}");
    let bmc = &facts["bmc"];
    assert_eq!((&bmc["firmware"], &bmc["ipmi"]), (&json!("3.21"), &json!("2.0")), "{bmc:#}");
    let card = facts["nics"].as_array().unwrap().iter().find(|nic| nic["driver"] == "e1000e").unwrap();
    assert!(card["firmware"].is_string(), "{card:#}");
}

/// A command, a shell, lights and a burn-in, on the hardware that the emulator was told of.
fn works(service: &Service<'_>) {
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let script = "uname -r; ls /dev/ipmi0; ls /sys/block | grep -c -e nvme -e sd -e vd; exit 7";
    let ended = service.try_run(&["machine", "run", "holm-kiosk-01", "--", "sh", "-c", script]);
    let said = String::from_utf8_lossy(&ended.stdout).into_owned();
    assert!(said.contains("-amd64\n/dev/ipmi0\n3\n"), "{said}");
    assert!(!ended.status.success(), "its exit status is not that of a success");
    assert_eq!(service.json(&["job", "show", "1"])["result"]["exit_status"], 7);
    let typed = "uname -m\nstty size\necho kept=$((6 * 7))\nexit 3\n";
    let shell = service.piped_whatever(&["machine", "shell", "holm-kiosk-01"], typed);
    let screen = String::from_utf8_lossy(&shell.stdout).into_owned();
    assert!(
        screen.contains("x86_64\r\n") && screen.contains("24 80\r\n") && screen.contains("kept=42\r\n"),
        "{screen}"
    );
    assert_eq!(service.json(&["job", "show", "2"])["result"]["exit_status"], 3);
    assert!(service.run(&["job", "recording", "2"]).contains("kept=42"));
    service.run(&["job", "arm", "holm-kiosk-01", "--kind", "locate", "--minutes", "10"]);
    wait_for("its screen says that it is the one", Duration::from_secs(60), || {
        let screen = std::fs::read(service.folder.path().join("serial")).unwrap_or_default();
        String::from_utf8_lossy(&screen).contains("this is the machine that is looked for").then_some(())
    });
    service.run(&["job", "cancel", "3", "--yes"]);
    let located = wait_for("what showed it", Duration::from_secs(60), || {
        Some(service.json(&["job", "show", "3"])).filter(|job| !job["result"].is_null())
    });
    println!("{}", service.run(&["job", "show", "3"]));
    println!("{}", service.run(&["job", "log", "3"]));
    let shown = located["result"]["shown"].to_string();
    // Of the emulator's cards this one can blink.
    assert!(shown.contains("network card") && shown.contains("its screens"), "{located:#}");
    let begun = Instant::now();
    service.run(&[
        "job",
        "arm",
        "holm-kiosk-01",
        "--kind",
        "burn-in",
        "--minutes",
        "1",
        "--limit-minutes",
        "20",
        "--wait",
    ]);
    println!("{:6.1} s  the burn-in\n{}", begun.elapsed().as_secs_f64(), service.run(&["job", "show", "4"]));
    let found = service.json(&["job", "show", "4"])["result"]["burn_in"].clone();
    let (memory, cpu) = (&found["memory"], &found["cpu"]);
    assert!(memory["mib"].as_u64().unwrap() > 100 && memory["passes"].as_u64().unwrap() > 0, "{found:#}");
    assert!(cpu["rounds"].as_u64().unwrap() > 0 && cpu["errors"] == 0 && memory["errors"] == 0, "{found:#}");
    let mut read: Vec<u64> =
        found["disks"].as_array().unwrap().iter().map(|disk| disk["read"].as_u64().unwrap() >> 20).collect();
    read.sort_unstable();
    assert_eq!(read, [32, 64, 96], "every disk is read to its end: {found:#}");
    assert!(found["network"]["in_mbit_s"].as_f64().unwrap() > 0.1, "{found:#}");
}

/// The network is cut between machine and service while the machine is at a job, and mended after the job's end.
fn works_without_network(namespace: &Netns, service: &Service<'_>) {
    let arm = ["job", "arm", "holm-kiosk-01", "--kind", "burn-in", "--minutes", "1"];
    service.run(&[&arm[..], &["--without", "network", "--without", "disks"]].concat());
    let job = || service.json(&["job", "show", "5"]);
    wait_for("it has begun", Duration::from_secs(60), || (job()["state"] == "running").then_some(()));
    // Behind the machine's switch, which goes on talking to it.
    let uplink = |words: &[&str]| {
        let done = namespace.command("ip").args(["link", "set", "tap0"]).args(words).status().unwrap();
        assert!(done.success());
    };
    uplink(&["nomaster"]);
    // Longer than the job takes, and than either side waits for a sign of life.
    std::thread::sleep(Duration::from_secs(80));
    assert_eq!((&job()["state"], &job()["is_connected"]), (&json!("running"), &json!(false)));
    uplink(&["master", "quay0"]);
    let mended = Instant::now();
    let done = wait_for("its result", Duration::from_secs(120), || {
        Some(job()).filter(|job| job["state"] != "running")
    });
    println!("{:6.1} s  from the network to the result", mended.elapsed().as_secs_f64());
    assert_eq!(done["state"], "done", "{done:#}");
    assert!(done["result"]["burn_in"]["memory"]["passes"].as_u64().unwrap() > 0, "{done:#}");
    let lines: Vec<&str> =
        done["log"].as_array().unwrap().iter().map(|line| line["line"].as_str().unwrap()).collect();
    assert!(lines.last().unwrap().starts_with("memory: "), "what it wrote meanwhile arrived, too: {lines:?}");
}

/// A rule that names machines by where their cable ends, and the table that says where that is.
fn add_rule(service: &Service<'_>) {
    let table = "switch,port,hall,row,rack,unit\nsw-holm-1,Ethernet1/7,Holm Quay,A,r01,12-13\n";
    service.run(&["location", "import", &service.write("ports.csv", table)]);
    let condition = "condition=product == 'MS-20' and nics | length == 3 and location.rack == 'r01'";
    let words =
        ["rule", "add", "kiosks", "--set", "mode=apply", "--set", condition, "--set", "location=true"];
    let gives = ["--set", "name=holm-kiosk-{{ counter | pad(2) }}", "--append", "labels=kiosk"];
    service.run(&[&words[..], &gives].concat());
}

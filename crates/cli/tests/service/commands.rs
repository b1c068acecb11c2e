//! The client's commands against a running service: what they change, what they say, and what they refuse.

use std::{
    io::Write,
    path::Path,
    process::{Command, Stdio},
};

use crate::support::{need, site::loopback};

#[test]
fn a_person_sets_up_a_site_and_reads_it_back() {
    let service = loopback(21_000);
    service.add_subnet();
    let table = service.run(&["subnet", "list"]);
    assert!(table.starts_with("NAME") && table.contains("holm-quay  198.51.100.0/24  lease"), "{table}");
    service.run(&[
        "subnet",
        "change",
        "holm-quay",
        "--append",
        "dns=198.51.100.53",
        "--set",
        "newcomers=menu",
    ]);
    let subnet = service.json(&["subnet", "show", "holm-quay"]);
    assert_eq!(subnet["dns"][0], "198.51.100.53");
    assert_eq!(subnet["domain"], "gannet.example", "what is not named stays");

    service.add_image();
    service.add_answers();
    service.run(&["machine", "add", "auklet-chart", "--mac", "0200.5E00.5301"]);
    let plan = service.run(&["plan", "auklet-chart"]);
    assert!(plan.contains("gets     its local disk"), "{plan}");
    assert!(plan.contains("why      auklet-chart is known and no install is armed"), "{plan}");
    let armed = service.run(&[
        "install",
        "arm",
        "auklet-chart",
        "--image",
        "tidewrack-12",
        "--answers",
        "quay-server",
    ]);
    assert!(armed.starts_with("install 1 is armed: auklet-chart gets tidewrack-12 r1"), "{armed}");
    let plan = service.run(&["plan", "auklet-chart"]);
    assert!(plan.contains("why      install 1 of tidewrack-12 r1 is armed since"), "{plan}");
    assert!(plan.contains("url=http://127.0.0.1:21002/answers/(token)/preseed.cfg"), "{plan}");
    service.run(&["install", "cancel", "1", "--yes"]);
    assert!(service.run(&["plan", "auklet-chart"]).contains("its local disk"));
    let list = service.run(&["install", "list"]);
    assert!(list.contains("auklet-chart") && list.contains("cancelled"), "{list}");
}

#[test]
fn a_change_adds_to_a_subnets_lists_and_what_is_to_go_is_said() {
    let service = loopback(21_050);
    service.add_subnet();
    let change = |settings: &[&str]| {
        service.run(&[&["subnet", "change", "holm-quay"], settings].concat());
        service.json(&["subnet", "show", "holm-quay"])
    };
    let list = |of: &[&str]| serde_json::json!(of);
    change(&["--append", "exclusions=198.51.100.105"]);
    let two =
        ["--append", "exclusions=198.51.100.107-198.51.100.108", "--append", "exclusions=198.51.100.105"];
    let grown = change(&two);
    assert_eq!(grown["exclusions"], list(&["198.51.100.105", "198.51.100.107-198.51.100.108"]));
    let anew = change(&["--drop", "exclusions", "--append", "exclusions=198.51.100.109"]);
    assert_eq!(anew["exclusions"], list(&["198.51.100.109"]));
    assert_eq!(change(&["--drop", "exclusions=198.51.100.109"])["exclusions"], list(&[]));
    // A second run that lies in the first is refused, and nothing is saved.
    let before = service.json(&["subnet", "show", "holm-quay"]);
    let (_, said) =
        service.fail(&["subnet", "change", "holm-quay", "--append", "pools=198.51.100.110-198.51.100.115"]);
    assert!(said.contains("pools[1]") && said.contains("overlaps"), "{said}");
    assert_eq!(service.json(&["subnet", "show", "holm-quay"]), before);
}

#[test]
fn a_folder_becomes_an_image_and_the_same_content_is_stored_once() {
    let service = loopback(21_010);
    service.write("netboot/boot/linux", b"kernel");
    service.write("netboot/boot/initrd.gz", b"initrd");
    service.write("netboot/notes.txt", b"initrd");
    let folder = service.folder.path().join("netboot");
    let add = |kernel: &str, parameter: &str| {
        service.try_run(&[
            "image",
            "add",
            folder.to_str().unwrap(),
            "--name",
            "bollard-9",
            "--kind",
            "installer",
            "--kernel",
            kernel,
            "--initrd",
            "boot/initrd.gz",
            "--parameter",
            parameter,
        ])
    };
    let wrong = add("linux", "quiet");
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("the kernel 'linux' is not among the files"));
    assert!(add("boot/linux", "quiet").status.success());
    let again = add("boot/linux", "quiet");
    assert!(String::from_utf8_lossy(&again.stderr).contains("exactly revision 1"), "{again:?}");
    assert!(add("boot/linux", "noquiet").status.success());
    let image = service.json(&["image", "show", "bollard-9"]);
    assert_eq!(image["current"]["number"], 2);
    assert_eq!(image["revision"]["files"].as_array().unwrap().len(), 3);
    assert_eq!(files_below(&service.folder.path().join("data/content")), 2);
}

fn files_below(folder: &Path) -> usize {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.map(|path| if path.is_dir() { files_below(&path) } else { 1 }).sum()
}

#[test]
fn kernel_parameters_of_every_level_are_merged_with_their_origins() {
    let service = loopback(21_060);
    service.fill();
    service.run(&["install", "cancel", "1", "--yes"]);
    let example = service.answers();
    let answers = example.replace(
        r#"# installer_parameters = ["priority=critical"]"#,
        "installer_parameters = ['vga=791', 'role=quay', 'ip={{ name }}']",
    );
    assert_ne!(answers, example);
    let answers = service.write("more.toml", answers);
    service.put("answers", "quay-server", &answers);
    let both = ["--append", "parameters=role=chart", "--append", "parameters=console=tty1"];
    service.run(&[&["label", "add", "chart"][..], &both].concat());
    service.run(&[
        "machine",
        "change",
        "auklet-chart",
        "--append",
        "labels=chart",
        "--append",
        "without_parameters=vga",
    ]);
    service.arm();
    let machine = service.json(&["machine", "show", "auklet-chart"]);
    let shown = machine["plan"]["parameters"].as_array().unwrap().iter().map(|parameter| {
        let origin = &parameter["origin"];
        let origin = origin.as_str().or(origin["label"].as_str()).unwrap();
        format!("{} {origin}", parameter["word"].as_str().unwrap())
    });
    let shown: Vec<String> = shown.filter(|shown| !shown.ends_with(" family")).collect();
    assert_eq!(shown, ["ip=auklet-chart answers", "role=chart chart", "console=tty1 chart"]);
    let plan = service.run(&["plan", "auklet-chart"]);
    assert!(plan.contains("role=chart") && plan.contains("role=quay"), "what was replaced is told: {plan}");
    let bad = service.write(
        "bad.toml",
        example.replace(
            r#"# installer_parameters = ["priority=critical"]"#,
            "installer_parameters = ['ip={{ adress }}']",
        ),
    );
    let (_, said) = service.fail(&["answers", "change", "quay-server", "--from", &bad]);
    assert!(
        said.contains("installer_parameters[0]: 'ip={{ adress }}'") && said.contains("column 7"),
        "{said}"
    );
}

#[test]
fn bad_input_is_refused_whole_with_place_and_fix() {
    let service = loopback(21_020);
    let (code, said) = service.fail(&[
        "subnet",
        "add",
        "holm quay",
        "198.51.100.7/24",
        "--router",
        "quay-router",
        "--lease-secs",
        "5",
        "--pool",
        "198.51.100.100-",
        "--option",
        "interface-mtus=1400",
        "--option",
        "3=198.51.100.1",
    ]);
    assert_eq!(code, 1);
    for part in [
        "Nothing was saved.",
        "name: 'holm quay' holds ' '",
        "network: 198.51.100.7/24 has host bits set",
        "Write 198.51.100.0/24 if that is the network meant.",
        "router: 'quay-router' is no IPv4 address",
        "lease_secs: a lease of 5 s",
        "pools[0]: '' is no IPv4 address",
        "options.interface-mtus: 'interface-mtus' is no option's standard name",
        "Did you mean interface-mtu (option 26)?",
        "options.3: option 3 is not set here: give it as `router`",
        "interface: neither an interface nor a relay is named",
    ] {
        assert!(said.contains(part), "lacks {part:?}:\n{said}");
    }
    assert_eq!(service.json(&["subnet", "list"]).as_array().unwrap().len(), 0);
    // A network that no machine is on.
    let (_, said) = service.fail(&[
        "subnet",
        "add",
        "loop",
        "127.0.0.0/24",
        "--relay",
        "127.0.0.9",
        "--pool",
        "127.0.0.1-127.0.0.5",
    ]);
    assert!(said.contains("127.0.0.0/24 is no network of hosts: it is for the host itself"), "{said}");

    let (_, said) = service.fail(&["machine", "add", "auklet", "--mac", "02:00:5e:00:53", "--mac", "x"]);
    assert!(said.contains("macs[0]: '02:00:5e:00:53' has 10 hexadecimal digits"), "{said}");
    assert!(said.contains("macs[1]: 'x' holds 'x'"), "{said}");
    let (_, said) = service.fail(&["image", "add", "/nowhere/linux"]);
    assert!(said.contains("/nowhere/linux"), "{said}");
    let (_, said) = service.fail(&["install", "arm", "a", "--image", "b", "--answers", "c"]);
    for part in [
        "machine: no machine is named 'a'",
        "image: no image is named 'b'",
        "answers: no answers are named 'c'",
    ] {
        assert!(said.contains(part), "{said}");
    }
    let answers = service.write("bad.toml", b"locale = 'en_GB.UTF-8'\nkeybord = 'gb'\n");
    let (_, said) = service.fail(&["answers", "add", "x", "--from", &answers]);
    assert!(
        said.contains("line 2") && said.contains("keybord") && said.contains("answers example"),
        "{said}"
    );
    let (code, _) = service.fail(&["subnet", "add"]);
    assert_eq!(code, 2, "wrong usage");
    let nobody = Command::new(crate::support::service::LASTMILE)
        .args(["--server", "http://127.0.0.1:9", "status"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&nobody.stderr);
    assert!(
        said.contains("no answer from http://127.0.0.1:9") && said.contains("systemctl status"),
        "{said}"
    );
}

#[test]
fn several_are_armed_all_or_none() {
    let service = loopback(21_080);
    service.add_subnet();
    service.add_image();
    service.add_answers();
    for (name, last, label) in
        [("gate-1", "41", "gate"), ("gate-2", "42", "gate"), ("kiosk-1", "43", "kiosk")]
    {
        service.run(&["machine", "add", name, "--mac", &format!("00:00:5e:00:53:{last}"), "--label", label]);
    }
    service.run(&["machine", "change", "gate-2", "--set", "default_boot=ignored"]);
    let list = service.write("list", "kiosk-1   # the one by the ramp\n\n# gate-9\ngate-7\n");
    let what = ["--image", "tidewrack-12", "--answers", "quay-server"];
    fn arm<'a>(words: &[&'a str], what: &[&'a str]) -> Vec<&'a str> {
        [&["install", "arm"], words, what].concat()
    }
    let total = || service.json(&["install", "list"]).as_array().unwrap().len();

    let (code, said) = service.fail(&arm(&["--label", "gate", "--from", &list], &what));
    assert_eq!((code, total()), (1, 0));
    for part in ["gate-2: gate-2 is set to be ignored", "gate-7: no machine is named 'gate-7'"] {
        assert!(said.contains(part), "lacks {part:?}: {said}");
    }
    assert!(!said.contains("gate-9") && !said.contains("kiosk-1"), "{said}");
    let (_, said) = service.fail(&arm(&["--label", "bridge"], &what));
    assert!(said.contains("no machine has the label bridge"), "{said}");
    let (_, said) = service.fail(&[
        "install",
        "arm",
        "gate-1",
        "kiosk-1",
        "--image",
        "nothing",
        "--answers",
        "quay-server",
    ]);
    assert_eq!(said.matches("no image is named 'nothing'").count(), 1, "said once: {said}");

    // What would happen is told before it does.
    let preview = ["--label", "gate", "--dry-run"];
    let told = service.try_run(&arm(&preview, &what));
    let said = String::from_utf8(told.stdout).unwrap();
    assert_eq!(told.status.code(), Some(1));
    assert!(said.contains("gate-2: obstacle: machine: gate-2 is set to be ignored"), "{said}");
    assert!(said.contains("none would be armed, as 1 of 2 cannot be."), "{said}");
    service.run(&["machine", "change", "gate-2", "--set", "default_boot=local-disk"]);
    let said = service.run(&arm(&preview, &what));
    assert!(said.contains("all 2 would be armed; 0 would lose an installed system."), "{said}");
    let first = service.json(&arm(&preview, &what))[0].clone();
    assert_eq!((&first["machine"], &first["gets"]), (&"gate-1".into(), &"tidewrack-12 r1".into()));
    assert_eq!((&first["host_name"], &first["takes"][0]), (&"gate-1".into(), &"its only disk".into()));
    assert_eq!(total(), 0);

    let all = service.json(&arm(&["--label", "gate", "gate-1", "kiosk-1"], &what));
    let armed: Vec<_> = all.as_array().unwrap().iter().map(|one| (&one["number"], &one["machine"])).collect();
    let expected = [(1.into(), "gate-1".into()), (2.into(), "gate-2".into()), (3.into(), "kiosk-1".into())];
    assert_eq!(armed, expected.iter().map(|(number, name)| (number, name)).collect::<Vec<_>>(), "each once");
    service.run(&["install", "cancel", "3", "--yes"]);
    let alone = service.write("list", "kiosk-1\n");
    let one = service.json(&arm(&["--from", &alone], &what));
    assert_eq!(one[0]["machine"], "kiosk-1", "a list, though of one: {one}");
    let (_, said) = service.fail(&arm(&["--label", "gate"], &what));
    assert!(
        said.contains("install 1 of tidewrack-12 is armed on gate-1") && said.contains("install 2"),
        "{said}"
    );
}

#[test]
fn what_is_in_use_stays() {
    let service = loopback(21_030);
    service.add_subnet();
    service.add_image();
    service.add_answers();
    service.run(&["machine", "add", "auklet-chart", "--mac", "02:00:5e:00:53:01"]);
    let arm = ["install", "arm", "auklet-chart", "--image", "tidewrack-12", "--answers", "quay-server"];
    service.run(&arm);
    for (words, part) in [
        (["image", "remove", "tidewrack-12", "--yes"], "install 1 of tidewrack-12 goes on"),
        (["answers", "remove", "quay-server", "--yes"], "install 1 uses answers quay-server"),
        (["machine", "remove", "auklet-chart", "--yes"], "install 1 of auklet-chart is in progress"),
    ] {
        let (_, said) = service.fail(&words);
        assert!(said.contains(part), "{said}");
    }
    let (_, said) = service.fail(&arm);
    assert!(said.contains("install 1 of tidewrack-12 is armed on auklet-chart"), "{said}");
    service.run(&["install", "cancel", "1", "--yes"]);
    let (_, said) = service.fail(&["install", "cancel", "1", "--yes"]);
    assert!(said.contains("install 1 has ended already: cancelled"), "{said}");
    service.run(&["machine", "remove", "auklet-chart", "--yes"]);
    service.run(&["image", "remove", "tidewrack-12", "--yes"]);
    // The record outlives what it names.
    assert_eq!(service.json(&["install", "show", "1"])["machine"], "auklet-chart");
}

#[test]
fn debconf_takes_the_answer_file_and_grub_the_menu() {
    need("/usr/bin/debconf-set-selections", "debconf");
    need("/usr/bin/grub-script-check", "grub-common");
    let service = loopback(21_040);
    service.add_subnet();
    service.add_image();
    let answers = r#"
locale = "en_GB.UTF-8"
keyboard = "gb"
time_zone = "Europe/London"
ntp = ["time.gannet.example"]
[root]
password = { plain = "holm quay at dawn" }
[users.purser]
full_name = "Ship's \"Purser\" $HOME `x` %n <b> ö"
password = { plain = "tern bay at dusk" }
[storage]
logical_volumes = true
disks.system = { device = "/dev/disk/by-id/nvme-eui.0025" }
[software]
packages = ["openssh-server", "chrony"]
source = "http://mirror.gannet.example:8080/debian"
"#;
    let path = service.write("answers.toml", answers.as_bytes());
    service.put("answers", "quay-server", &path);
    service.run(&["machine", "add", "auklet-chart", "--mac", "02:00:5e:00:53:01"]);
    let text = service.run(&["answers", "preview", "quay-server", "--machine", "auklet-chart"]);
    assert!(
        text.contains("d-i passwd/user-fullname string Ship's \"Purser\" $HOME `x` %n <b> ö\n"),
        "{text}"
    );
    assert!(!text.contains("$6$") && !text.contains("dawn"), "a hash or a password shows:\n{text}");
    check("debconf-set-selections", &["--checkonly"], &text);

    service.run(&["install", "arm", "auklet-chart", "--image", "tidewrack-12", "--answers", "quay-server"]);
    let plan = service.json(&["machine", "show", "auklet-chart"]);
    check("grub-script-check", &[], plan["plan"]["menu"].as_str().unwrap());
}

/// Feeds a witness; it must find nothing wrong.
fn check(program: &str, arguments: &[&str], text: &str) {
    let mut child =
        Command::new(program).args(arguments).stdin(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && !said.contains("warning"), "{program}: {said}\n{text}");
}

#[test]
fn completion_and_reference_name_every_command() {
    for shell in ["bash", "zsh", "fish"] {
        let output =
            Command::new(crate::support::service::LASTMILE).args(["completion", shell]).output().unwrap();
        let script = String::from_utf8(output.stdout).unwrap();
        assert!(script.contains("COMPLETE") && script.contains("lastmile"), "{shell}");
    }
    for (arguments, path) in [(&["reference"][..], "commands.md"), (&["reference", "--api"], "calls.md")] {
        let output = Command::new(crate::support::service::LASTMILE).args(arguments).output().unwrap();
        let made = String::from_utf8(output.stdout).unwrap();
        let kept = std::fs::read_to_string(format!("../../docs/{path}")).unwrap();
        assert!(made == kept, "docs/{path} is old; run `make reference`");
    }
}

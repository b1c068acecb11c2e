//! Mistakes that were once accepted, each tried as a person would make it.

use std::{process::Command, time::Duration};

use lastmile_core::model::image::Sha256;
use serde_json::json;

use crate::support::{
    curl,
    site::{MAC, MACHINE, loopback},
    wait_for,
};

/// The token of the machine's install, as its loader reads it.
fn token(http_port: u16) -> String {
    let menu = curl(&[&format!("http://127.0.0.1:{http_port}/grub/grub.cfg-01-{}", MAC.replace(':', "-"))]).1;
    menu.split("/answers/").nth(1).unwrap().split('/').next().unwrap().to_owned()
}

#[test]
fn a_template_that_would_exhaust_memory_is_refused_and_the_service_goes_on() {
    let service = loopback(26_100);
    service.fill();
    let bomb = "x={% macro m(a) %}{{ m(a ~ a) }}{% endmacro %}{{ m('x') }}";
    let (code, said) =
        service.fail(&["machine", "add", "oom", "--mac", "02:00:5e:00:53:09", "--parameter", bomb]);
    assert!(code == 1 && said.contains("macro"), "{said}");
    let doubling: String = (0..40).map(|n| format!("{{% set v{} = v{n} ~ v{n} %}}", n + 1)).collect();
    let template = format!(
        "locale = 'en_GB.UTF-8'\n[formats.preseed]\ntemplate = \"{{% set v0 = 'x' %}}{doubling}{{{{ v40 }}}}\"\n"
    );
    let file = service.write("bomb.toml", template);
    let (_, said) = service.fail(&["answers", "add", "bomb", "--from", &file]);
    assert!(said.contains("a variable cannot be made of another"), "{said}");
    assert_eq!(service.json(&["status"])["machines"], 1);
}

#[test]
fn the_digest_that_a_publisher_gives_counts_for_uploads_and_in_place() {
    let service = loopback(26_110);
    let root = service.folder.path().join("tree");
    std::fs::create_dir_all(&root).unwrap();
    std::fs::copy("/bin/busybox", root.join("linux")).unwrap();
    let iso = service.folder.path().join("tree.iso");
    let made = Command::new(crate::support::need("/usr/bin/xorriso", "xorriso"))
        .args(["-as", "mkisofs", "-quiet", "-R", "-o"])
        .args([&iso, &root])
        .status()
        .unwrap();
    assert!(made.success());
    let (iso, wrong) = (iso.to_str().unwrap(), "0".repeat(64));
    let base =
        ["image", "add", iso, "--name", "tree", "--kind", "tool", "--family", "none", "--kernel", "linux"];
    let (code, said) = service.fail(&[&base[..], &["--sha256", &wrong, "--yes"]].concat());
    assert!(code == 1 && said.contains("not 0000"), "{said}");
    assert!(service.json(&["image", "list"]).as_array().unwrap().is_empty(), "nothing is saved");
    let (code, said) =
        service.fail(&[&base[..], &["--in-place", "--wait", "--yes", "--sha256", &wrong]].concat());
    assert!(code == 1 && said.contains("it is not served"), "{said}");
}

#[test]
fn an_iso_in_place_that_is_put_back_as_it_was_is_served_again() {
    let service = loopback(26_120);
    let root = service.folder.path().join("tree");
    std::fs::create_dir_all(&root).unwrap();
    std::fs::copy("/bin/busybox", root.join("linux")).unwrap();
    let iso = service.folder.path().join("tree.iso");
    let xorriso = crate::support::need("/usr/bin/xorriso", "xorriso");
    assert!(
        Command::new(xorriso)
            .args(["-as", "mkisofs", "-quiet", "-R", "-o"])
            .args([&iso, &root])
            .status()
            .unwrap()
            .success()
    );
    let path = iso.to_str().unwrap();
    let add =
        ["image", "add", path, "--name", "tree", "--kind", "tool", "--family", "none", "--kernel", "linux"];
    service.run(&[&add[..], &["--in-place", "--wait", "--yes"]].concat());
    let bytes = std::fs::read(&iso).unwrap();
    let lacking =
        || service.json(&["image", "show", "tree"])["revision"]["lacking"].as_array().unwrap().len();
    assert_eq!(lacking(), 0);
    // Other bytes of the same size.
    let mut other = bytes.clone();
    let at = other.len() / 2;
    other[at] ^= 0xff;
    std::thread::sleep(std::time::Duration::from_millis(20));
    std::fs::write(&iso, &other).unwrap();
    let _ = service.try_run(&["image", "verify", "tree"]);
    assert!(lacking() > 0, "a changed ISO is served");
    std::thread::sleep(std::time::Duration::from_millis(20));
    std::fs::write(&iso, &bytes).unwrap();
    service.run(&["image", "verify", "tree"]);
    assert_eq!(lacking(), 0, "the same bytes are not taken again");
}

#[test]
fn answers_that_are_used_stay_and_what_leads_nowhere_is_told() {
    let service = loopback(26_130);
    service.add_subnet();
    service.add_image();
    service.add_answers();
    let menu = "title = 'Workshop'\n[[entries]]\nkey = 'install'\ntitle = 'Install'\naction = { image = { name = 'tidewrack-12', answers = 'quay-server' } }\n";
    let file = service.write("menu.toml", menu);
    service.put("menu", "workshop", &file);
    let (code, said) = service.fail(&["answers", "remove", "quay-server", "--yes"]);
    assert!(code == 1 && said.contains("menu workshop uses answers quay-server"), "{said}");
    service.run(&["menu", "remove", "workshop", "--yes"]);
    service.run(&["answers", "remove", "quay-server", "--yes"]);
    // A set of answers whose host name is made of a detail that the example has not.
    let file = service.write("named.toml", "host_name = \"{{ details.rack }}-{{ name }}\"\n");
    service.put("answers", "named", &file);
    // A name that is in no value is a mistake on every machine.
    let file = service.write("unknown.toml", "[formats.preseed]\ntemplate = \"{{ generated }}{{ nmae }}\"\n");
    let (_, said) = service.fail(&["answers", "add", "unknown", "--from", &file]);
    assert!(said.contains("nmae"), "{said}");
}

#[test]
fn numbers_of_revisions_are_not_used_again_after_an_image_was_removed() {
    let service = loopback(26_140);
    service.add_image();
    service.run(&["image", "remove", "tidewrack-12", "--yes"]);
    service.add_image();
    let image = service.json(&["image", "show", "tidewrack-12"]);
    assert_eq!(image["revision"]["number"], 2, "{image}");
}

#[test]
fn changes_of_one_machine_at_the_same_time_lose_nothing() {
    let service = loopback(26_150);
    service.add_machine();
    std::thread::scope(|scope| {
        for number in 0..8 {
            let service = &service;
            scope.spawn(move || {
                service.run(&["machine", "change", MACHINE, "--append", &format!("labels=label-{number}")])
            });
        }
    });
    let labels = service.json(&["machine", "show", MACHINE])["labels"].as_array().unwrap().len();
    assert_eq!(labels, 8);
    // Two people who opened the same page: the second is told what the first has saved.
    let server = service.server();
    let url = format!("{server}/api/v1/machines/{MACHINE}");
    let (_, head) = curl(&["-i", &url]);
    let etag = head.lines().find_map(|line| line.strip_prefix("etag: ")).unwrap().trim().to_owned();
    let put = |etag: &str, rack: &str| {
        let body = json!({ "name": MACHINE, "macs": [MAC], "details": { "rack": rack } }).to_string();
        let condition = format!("If-Match: {etag}");
        curl(&["-X", "PUT", "-H", "Content-Type: application/json", "-H", &condition, "-d", &body, &url])
    };
    assert_eq!(put(&etag, "r1").0, "200");
    let (status, problem) = put(&etag, "r2");
    let problem: serde_json::Value = serde_json::from_str(&problem).unwrap();
    assert_eq!(status, "412");
    assert_eq!(
        problem["differences"],
        json!([{ "place": "details.rack", "yours": "\"r2\"", "saved": "\"r1\"" }]),
        "{problem}"
    );
    assert_eq!(put(problem["etag"].as_str().unwrap(), "r2").0, "200");
    assert_eq!(put("17", "r3").0, "400");
    // A file that `show` wrote is not saved over a later version.
    service.add_answers();
    let shown = service.write("shown.toml", service.run(&["answers", "show", "quay-server"]));
    let changed = std::fs::read_to_string(&shown).unwrap().replace("en_GB", "en_IE");
    let mine = service.write("mine.toml", changed);
    let theirs = service.write("theirs.toml", "locale = 'da_DK.UTF-8'\n");
    service.put("answers", "quay-server", &theirs);
    let (code, said) = service.fail(&["answers", "change", "quay-server", "--from", &mine]);
    assert!(code == 4 && said.contains("Somebody has changed it") && said.contains("locale:"), "{said}");
}

#[test]
fn names_that_mean_something_else_are_no_machines_names() {
    let service = loopback(26_160);
    service.run(&["machine", "add", "Auklet", "--mac", MAC]);
    for name in ["auklet", "AUKLET", "localhost", "5", "0012"] {
        let (code, _) = service.fail(&["machine", "add", name, "--mac", "02:00:5e:00:53:02"]);
        assert_eq!(code, 1, "{name}");
    }
    assert_eq!(service.json(&["machine", "show", "auklet"])["name"], "Auklet", "found in whatever case");
    let (code, said) = service.fail(&["machine", "list", "--stage", "faild"]);
    assert!(code == 1 && said.contains("there is no stage 'faild'"), "{said}");
    let (code, said) = service.fail(&["machine", "change", "Auklet", "--set", "details.rack"]);
    assert!(code == 2 && said.contains("--set details.rack: there is no KEY=VALUE"), "{said}");
}

#[test]
fn another_machine_of_the_same_name_is_not_installed_by_a_retry() {
    let service = loopback(26_170);
    service.fill();
    service.run(&["install", "cancel", "1", "--yes"]);
    service.run(&["machine", "remove", MACHINE, "--yes"]);
    service.run(&["machine", "add", MACHINE, "--mac", "02:00:5e:00:53:77"]);
    let (code, said) = service.fail(&["install", "retry", "1", "--yes"]);
    assert!(code == 1 && said.contains("was removed"), "{said}");
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 1);
}

#[test]
fn subnets_that_no_host_could_be_on_are_refused_and_reservations_are_not_lost() {
    let service = loopback(26_180);
    service.add_subnet();
    let add = |network: &str, more: &[&str]| {
        let base = ["subnet", "add", "odd", network, "--relay", "127.0.0.3", "--mode", "proxy"];
        service.fail(&[&base[..], more].concat()).1
    };
    for (network, what) in [
        ("224.0.0.0/24", "multicast"),
        ("127.0.0.0/8", "the host itself"),
        ("0.0.0.0/8", "hosts that know no address"),
        ("240.0.0.0/8", "no use yet"),
    ] {
        let said = add(network, &[]);
        assert!(said.contains(what), "{network}: {said}");
    }
    assert!(add("10.9.0.0/24", &["--dns", "255.255.255.255"]).contains("broadcast"));
    assert!(add("10.9.0.0/24", &["--option", "interface-mtu=10"]).contains("too small: at least 68"));
    service.run(&["subnet", "reserve", "holm-quay", "198.51.100.9", MAC]);
    let (_, said) = service.fail(&["subnet", "change", "holm-quay", "--set", "router=198.51.100.9"]);
    assert!(said.contains("198.51.100.9 is reserved for"), "{said}");
    let (code, said) = service.fail(&["subnet", "remove", "holm-quay", "--yes"]);
    assert!(code == 1 && said.contains("1 addresses of holm-quay are reserved"), "{said}");
    service.run(&["subnet", "remove", "holm-quay", "--with-reservations", "--yes"]);
}

#[test]
fn what_two_hosts_cannot_both_be_is_said_before_they_are_installed() {
    let service = loopback(26_190);
    service.add_subnet();
    service.add_image();
    let file = service.write("same.toml", "images = ['tidewrack-12']\nhost_name = 'kiosk'\n[users.purser]\npassword = { plain = 'sea-legs-4-all' }\nsudo = 'password'\n");
    service.put("answers", "same", &file);
    for number in 1..4 {
        service.run(&[
            "machine",
            "add",
            &format!("kiosk-{number}"),
            "--mac",
            &format!("02:00:5e:00:53:0{number}"),
        ]);
    }
    let arm = |names: &[&str]| {
        let words = [&["install", "arm"], names, &["--image", "tidewrack-12", "--answers", "same"]].concat();
        service.try_run(&words)
    };
    let both = arm(&["kiosk-1", "kiosk-2"]);
    let said = String::from_utf8_lossy(&both.stderr).into_owned();
    assert!(!both.status.success() && said.contains("kiosk-1, kiosk-2 would all be called 'kiosk"), "{said}");
    assert!(arm(&["kiosk-1"]).status.success());
    let second = arm(&["kiosk-2"]);
    assert!(!second.status.success(), "the other is being installed");
    let lint = service.try_run(&["answers", "lint"]);
    assert!(String::from_utf8_lossy(&lint.stdout).contains("would all be called"), "{lint:?}");
}

#[test]
fn two_versions_that_differ_in_a_password_are_not_called_alike() {
    let service = loopback(26_200);
    let file = |password: &str| {
        service.write("one.toml", format!("[root]\npassword = {{ plain = '{password}' }}\n"))
    };
    service.put("answers", "quay", &file("first-of-them"));
    service.put("answers", "quay", &file("second-of-them"));
    let compared = service.run(&["answers", "compare", "quay", "--old", "1", "--new", "2"]);
    assert!(compared.contains("root.password"), "{compared}");
    assert!(!compared.contains("first-of") && !compared.contains('$'), "{compared}");
}

#[test]
fn a_parameter_is_one_word_and_a_number_is_a_number() {
    let service = loopback(26_210);
    service.fill();
    let (code, said) = service.fail(&["machine", "change", MACHINE, "--append", "parameters=quiet splash"]);
    assert!(code == 1 && said.contains("is not one word"), "{said}");
    let file = service.write("asks.toml", "[questions.berth]\ntext = 'Which berth?'\nkind = 'number'\n");
    let saved = service.try_run(&["answers", "add", "asks", "--from", &file]);
    if !saved.status.success() {
        panic!("{}", String::from_utf8_lossy(&saved.stderr));
    }
    let (_, said) = service.fail(&["answers", "preview", "asks", "--asked", "berth=many"]);
    assert!(said.contains("asked.berth"), "{said}");
}

#[test]
fn the_root_folder_of_an_image_is_listed() {
    let service = loopback(26_220);
    service.fill();
    let url = format!("http://127.0.0.1:26222/boot/{MAC}/tidewrack-12/r1/");
    let (status, page) = curl(&[&url]);
    assert_eq!(status, "200", "{page}");
    assert!(page.contains("linux") && page.contains("initrd.gz"), "{page}");
    let (status, _) = curl(&[url.trim_end_matches('/')]);
    assert_eq!(status, "301");
}

#[test]
fn a_folder_is_imported_without_what_its_links_lead_out_to() {
    let service = loopback(26_230);
    let root = service.folder.path().join("tree");
    std::fs::create_dir_all(root.join("boot")).unwrap();
    std::fs::write(root.join("boot/linux"), vec![3; 5000]).unwrap();
    std::os::unix::fs::symlink(".", root.join("debian")).unwrap();
    std::os::unix::fs::symlink("boot/linux", root.join("vmlinuz")).unwrap();
    let add = || {
        let path = root.to_str().unwrap();
        let words = [
            "image", "add", path, "--name", "tree", "--kind", "tool", "--family", "none", "--kernel",
            "vmlinuz", "--yes",
        ];
        service.try_run(&words)
    };
    std::os::unix::fs::symlink("/etc/passwd", root.join("users")).unwrap();
    let out = add();
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(!out.status.success() && said.contains("users") && said.contains("leads out"), "{said}");
    std::fs::remove_file(root.join("users")).unwrap();
    let fifo = root.join("pipe");
    assert!(Command::new("mkfifo").arg(&fifo).status().unwrap().success());
    let out = add();
    assert!(!out.status.success() && String::from_utf8_lossy(&out.stderr).contains("pipe"));
    std::fs::remove_file(&fifo).unwrap();
    let out = add();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let files = service.json(&["image", "show", "tree"])["revision"]["files"].clone();
    let names: Vec<_> = files.as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(names, ["boot/linux", "vmlinuz"]);
}

#[test]
fn naming_with_conflicts_says_so_by_its_exit_code() {
    let service = loopback(26_240);
    for number in 1..3 {
        service.run(&[
            "machine",
            "add",
            &format!("kiosk-{number}"),
            "--mac",
            &format!("02:00:5e:00:53:0{number}"),
        ]);
    }
    let (code, _) = service.fail(&["machine", "name", "kiosk-1", "kiosk-2", "--name", "same"]);
    assert_eq!(code, 1);
}

#[test]
fn the_newest_lines_of_a_long_log_are_kept() {
    let service = loopback(26_250);
    service.fill();
    let token = token(26_252);
    let lines: String = (1..=150).map(|number| format!("line {number}\n")).collect();
    let url = format!("http://127.0.0.1:26252/report/{token}/log");
    assert_eq!(curl(&["-X", "POST", "--data-binary", &lines, &url]).0, "200");
    let log = service.json(&["install", "show", "1"])["log"].clone();
    let log = log.as_array().unwrap();
    assert_eq!(
        (log.len(), log[0]["line"].as_str(), log[99]["line"].as_str()),
        (100, Some("line 51"), Some("line 150"))
    );
}

#[test]
fn a_zone_says_the_address_of_its_own_name_server() {
    let service = loopback(26_260);
    service.fill();
    let zone =
        service.run(&["export", "zone", "gannet.example", "--name-server", "gannet.example=192.0.2.53"]);
    assert!(zone.contains("@ IN A 192.0.2.53"), "{zone}");
    let file = service.write("zone", &zone);
    let checked = Command::new(crate::support::need("/usr/bin/named-checkzone", "bind9-utils"))
        .args(["gannet.example", &file])
        .output()
        .unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stdout));
}

#[test]
fn a_question_with_faults_is_not_told_that_nothing_was_saved() {
    let service = loopback(26_270);
    service.fill();
    for question in [
        &["export", "zone", "gannet..example"][..],
        &["machine", "name", "auklet-chart", "--name", "{{ nothing }}", "--dry-run"],
        &["install", "arm", "auklet-chart", "--image", "nothing", "--answers", "quay-server", "--dry-run"],
        &["answers", "compare", "quay-server", "--machine", "auklet-chart", "--image", "nothing"],
    ] {
        let (_, said) = service.fail(question);
        assert!(!said.contains("Nothing was saved"), "{question:?}: {said}");
    }
    let (_, said) = service.fail(&["machine", "name", "auklet-chart", "--name", "{{ nothing }}"]);
    assert!(said.contains("Nothing was saved"), "{said}");
}

#[test]
fn every_answer_file_that_was_fetched_is_on_record_the_last_one_as_the_installs() {
    let service = loopback(26_280);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    let file = service.write(
        "berth.toml",
        "host_name = \"{{ name }}-{{ details.berth }}\"\n[root]\npassword = { plain = \"herring and tide\" }\n",
    );
    service.put("answers", "berth", &file);
    service.run(&["machine", "add", MACHINE, "--mac", MAC, "--detail", "berth=3"]);
    service.run(&["install", "arm", MACHINE, "--image", "tidewrack-12", "--answers", "berth"]);
    let token = token(26_282);
    let fetched = || {
        let (status, file) = curl(&[&format!("http://127.0.0.1:26282/answers/{token}/preseed.cfg")]);
        assert_eq!(status, "200", "{file}");
        Sha256::of(file.as_bytes()).to_string()
    };
    let first = fetched();
    service.run(&["machine", "change", MACHINE, "--set", "details.berth=4"]);
    let second = fetched();
    assert_ne!(first, second);
    // What was delivered is on record a moment after its last byte has arrived.
    let install = wait_for("the second file on record", Duration::from_secs(10), || {
        let install = service.json(&["install", "show", "1"]);
        (install["answer_hash"] == second.as_str()).then_some(install)
    });
    let steps = install["steps"].as_array().unwrap().iter();
    let digests: Vec<&str> = steps
        .filter(|step| step["kind"] == "answers")
        .map(|step| step["detail"].as_str().unwrap().rsplit(' ').next().unwrap())
        .collect();
    assert!(
        digests.len() == 2 && first.starts_with(digests[0]) && second.starts_with(digests[1]),
        "{digests:?} of {first} and {second}"
    );
}

#[test]
fn nothing_is_armed_with_the_password_of_the_example() {
    let service = loopback(26_350);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    service.add_machine();
    let example = service
        .run(&["answers", "example"])
        .replace("# images = [\"tidewrack-12\"]", "images = ['tidewrack-12']");
    let file = service.write("answers.toml", &example);
    service.run(&["answers", "add", "quay-server", "--from", &file]);
    let arm = ["install", "arm", MACHINE, "--image", "tidewrack-12", "--answers", "quay-server"];
    let (code, said) = service.fail(&arm);
    assert!(code == 1 && said.contains("users.purser.password: it is still that of the example"), "{said}");
    assert!(said.contains("Choose your own"), "{said}");
    let preview = service.try_run(&[&arm[..], &["--dry-run"]].concat());
    let preview = String::from_utf8(preview.stdout).unwrap();
    assert!(preview.contains("that of the example"), "{preview}");
    // It is found before anybody arms.
    let found = service.try_run(&["--json", "answers", "lint"]);
    assert!(String::from_utf8_lossy(&found.stdout).contains("that of the example"));
    // Saved again as it is shown, it is still that one; another is another.
    service.run(&["answers", "change", "quay-server", "--set", "time_zone=Europe/Oslo"]);
    assert_eq!(service.fail(&arm).0, 1);
    let own = example.replace("change me before use", "skerry tide table");
    let file = service.write("own.toml", &own);
    service.run(&["answers", "change", "quay-server", "--from", &file]);
    service.run(&arm);
    // A passphrase is no better.
    service.run(&["install", "cancel", "1", "--yes"]);
    let file = service.write("passphrase.toml", own.replace("# encrypt = ", "encrypt = "));
    service.run(&["answers", "change", "quay-server", "--from", &file]);
    let (_, said) = service.fail(&arm);
    assert!(said.contains("storage.encrypt: it is still that of the example"), "{said}");
}

//! Answers through the real service: layers, versions, questions, secrets, and the files as a machine fetches them.

mod installer;

use std::{fs, process::Command};

use crate::support::{
    curl, need, program,
    service::Service,
    site::{MACHINE, loopback},
};

/// The machine's MAC address as paths have it.
const DASHED: &str = "00-00-5e-00-53-01";

const QUAY: &str = r#"
images = ["tidewrack-12"]
host_name = "{{ name }}-{{ asked.berth }}"
[users.purser]
full_name = "Purser"
password = { plain = "tern bay at dusk" }
[users.clerk]
password = { plain = "skerry point at noon" }
[storage]
logical_volumes = true
encrypt = { plain = "kittiwake and petrel" }
[questions.berth]
text = "At which berth?"
kind = "number"
"#;

fn quay(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    service.add_machine();
    service.run(&["machine", "change", MACHINE, "--append", "labels=chart"]);
    save(
        &service,
        "site:",
        "time_zone = 'Europe/London'\nntp = ['time.gannet.example']\nlocale = 'en_GB.UTF-8'\n",
    );
    save(&service, "quay-server", QUAY);
    service
}

fn save(service: &Service<'_>, name: &str, toml: &str) {
    let file = service.write("settings.toml", toml);
    service.put("answers", name, &file);
}

fn get(url: &str) -> (String, String) {
    curl(&[url])
}

#[test]
fn layers_override_each_other_and_every_value_says_where_it_comes_from() {
    let service = quay(25_110);
    save(
        &service,
        "label:chart",
        "without = ['users.clerk']\ntime_zone = 'Europe/Oslo'\n[users.purser]\ngroups = ['dialout']\n",
    );
    let machine = format!("machine:{MACHINE}");
    save(&service, &machine, "ntp = ['192.0.2.4']\n");
    let preview =
        service.json(&["answers", "preview", "quay-server", "--machine", MACHINE, "--asked", "berth=7"]);
    let origin = |path: &str| preview["origins"][path].as_str().unwrap_or("none").to_owned();
    assert_eq!(origin("time_zone"), "label chart");
    assert_eq!(origin("ntp"), format!("machine {MACHINE}"));
    assert_eq!(origin("locale"), "site");
    assert_eq!(origin("users.purser.full_name"), "answers quay-server");
    assert_eq!(origin("users.purser.groups"), "label chart");
    assert_eq!(origin("keyboard"), "built in");
    assert_eq!(preview["settings"]["host_name"], format!("{MACHINE}-7"));
    let text = preview["files"][0]["text"].as_str().unwrap();
    assert!(text.contains("time/zone string Europe/Oslo") && !text.contains("clerk"), "{text}");
    // The faults of a layer that is no answers name what it cannot say.
    let bad = service.write(
        "bad.toml",
        "images = ['tidewrack-12']\ninstaller_parameters = ['quiet']\nlocale = 'english'\n",
    );
    let (_, said) = service.fail(&["answers", "change", "label:chart", "--from", &bad]);
    for part in
        ["images: only answers say this", "installer_parameters: only", "locale: 'english' is no locale"]
    {
        assert!(said.contains(part), "{said}");
    }
    let (_, said) = service.fail(&["answers", "add", "machine:nobody", "--from", &bad]);
    assert!(said.contains("no machine is named 'nobody'"), "{said}");
    service.run(&["answers", "remove", "label:chart", "--yes"]);
    // A machine takes its settings with it: another of that name begins with none.
    service.run(&["machine", "add", "gate-9", "--mac", "02:00:5e:00:53:99"]);
    save(&service, "machine:gate-9", "keyboard = 'no'\n");
    service.run(&["machine", "remove", "gate-9", "--yes"]);
    let left = service.run(&["answers", "list"]);
    assert!(!left.contains("machine:gate-9") && left.matches("machine:").count() == 1, "{left}");
    let preview = service.json(&["answers", "preview", "quay-server", "--machine", MACHINE]);
    assert_eq!(preview["origins"]["time_zone"], "site");
}

#[test]
fn versions_are_kept_and_passwords_stay_what_they_were() {
    let service = quay(25_114);
    let shown = service.json(&["answers", "show", "quay-server"]);
    let text = shown.to_string();
    assert!(!text.contains("$6$") && !text.contains("kittiwake") && !text.contains("tern bay"), "{text}");
    // What was read can be saved again: the passwords stay.
    let again = toml::to_string(&shown["settings"]).unwrap().replace("Purser", "Ship's purser");
    assert!(again.contains("password = \"set\""), "{again}");
    save(&service, "quay-server", &again);
    let compared = service.run(&["answers", "compare", "quay-server", "--old", "1"]);
    assert!(
        compared.contains("- full_name = \"Purser\"") && compared.contains("+ full_name = \"Ship's purser\""),
        "{compared}"
    );
    let first = service.json(&["answers", "show", "quay-server", "--at", "1"]);
    assert_eq!(first["settings"], shown["settings"]);
    let (_, said) = service.fail(&["answers", "show", "quay-server", "--at", "9"]);
    assert!(said.contains("no version 9; the last is 2"), "{said}");
    let new = service.write("new.toml", "[users.deckhand]\npassword = 'set'\n");
    let (_, said) = service.fail(&["answers", "add", "other", "--from", &new]);
    assert!(
        said.contains("users.deckhand.password: it is to stay as it is, and none was saved before"),
        "{said}"
    );
    // Nothing of a secret lies in the data folder in clear, and the key is the service's alone.
    let data = service.folder.path().join("data");
    let mut seen = 0;
    for file in fs::read_dir(&data).unwrap().map(|file| file.unwrap().path()).filter(|path| path.is_file()) {
        let bytes = fs::read(&file).unwrap();
        let holds = |secret: &str| bytes.windows(secret.len()).any(|window| window == secret.as_bytes());
        assert!(!holds("kittiwake and petrel") && !holds("tern bay at dusk"), "{}", file.display());
        seen += usize::from(holds("$6$"));
    }
    assert!(seen > 0, "the hashes are somewhere here");
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &fs::metadata(data.join("secrets.key")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o077, 0);
    assert!(!service.log().contains("tern bay") && !service.log().contains("$6$"));
}

#[test]
fn what_an_images_format_cannot_say_is_refused_on_saving() {
    let service = quay(25_118);
    let bad = service.write("bad.toml", format!("{QUAY}\n[security]\nmandatory_access = 'enforcing'\n"));
    let (_, said) = service.fail(&["answers", "change", "quay-server", "--from", &bad]);
    assert!(
        said.contains(
            "security.mandatory_access: a preseed file cannot say SELinux's policy (for image tidewrack-12)"
        ),
        "{said}"
    );
    let bad = service.write("bad.toml", QUAY.replace("tidewrack-12", "tidewrack-13"));
    let (_, said) = service.fail(&["answers", "change", "quay-server", "--from", &bad]);
    assert!(said.contains("images[0]: no image is named 'tidewrack-13'"), "{said}");
    // A layer below cannot make answers wrong either; nothing is saved.
    let site = service.write("bad.toml", "[security]\nfirewall = 'on'\n");
    let (_, said) = service.fail(&["answers", "change", "site:", "--from", &site]);
    assert!(said.contains("security.firewall: a preseed file cannot say a firewall, on"), "{said}");
    assert_eq!(service.json(&["answers", "show", "site:"])["version"], 1);
    // What is wrong on some machines only is found by the lint.
    assert!(service.run(&["answers", "lint"]).contains("no problem found"));
    save(&service, &format!("machine:{MACHINE}"), "without = ['users.purser', 'users.clerk']\n");
    let (code, said) = service.fail(&["answers", "lint"]);
    assert_eq!(code, 1);
    let said = format!("{said}{}", String::from_utf8_lossy(&service.try_run(&["answers", "lint"]).stdout));
    assert!(
        said.contains("quay-server with tidewrack-12, on every machine")
            && said.contains("nobody could log in"),
        "{said}"
    );
    let (_, said) =
        service.fail(&["install", "arm", MACHINE, "--image", "tidewrack-12", "--answers", "quay-server"]);
    assert!(said.contains("users: nobody could log in"), "{said}");
}

#[test]
fn a_machine_waits_for_what_is_asked_and_goes_on_by_itself() {
    let service = quay(25_122);
    let arm = ["install", "arm", MACHINE, "--image", "tidewrack-12", "--answers", "quay-server"];
    let (_, said) = service.fail(&[&arm[..], &["--asked", "berth=seven"]].concat());
    assert!(said.contains("asked.berth: 'seven' is no whole number"), "{said}");
    let (_, said) = service.fail(&[&arm[..], &["--asked", "birth=7"]].concat());
    assert!(
        said.contains("nothing is asked under 'birth'") && said.contains("Questions are: berth"),
        "{said}"
    );
    let said = service.run(&arm);
    assert!(said.contains("waits there until its questions are answered"), "{said}");
    let plan = service.json(&["machine", "show", MACHINE]);
    let menu = plan["plan"]["menu"].as_str().unwrap();
    assert!(menu.contains("Waiting for an answer to: At which berth?"), "{menu}");
    assert!(menu.contains(&format!("source \"$from\"/pick/{DASHED}/wait.grub")), "{menu}");
    let grub = service.write("grub.cfg", menu);
    assert!(Command::new("grub-script-check").arg(grub).status().unwrap().success(), "{menu}");
    let url = |file: &str| format!("http://127.0.0.1:25124/{file}");
    let (status, text) = get(&url(&format!("pick/{DASHED}/wait.grub")));
    assert_eq!(status, "200");
    assert!(
        text.starts_with("# install 1 of tidewrack-12 r1 is armed and waits for answers: berth"),
        "{text}"
    );
    let (_, script) = get(&url(&format!("script/{DASHED}/menu.script")));
    assert!(
        script.contains("chain --replace --autofree")
            && script.contains("choose --timeout 10000 --default wait"),
        "{script}"
    );
    let (_, config) = get(&url(&format!("pxelinux.cfg/01-{DASHED}")));
    assert!(config.contains("Waiting for an answer"), "{config}");

    // An answer that makes the settings wrong is not taken.
    let long = "9".repeat(18);
    let many = format!("berth={}", long.repeat(4));
    let (_, said) = service.fail(&["install", "answer", "1", &many]);
    assert!(said.contains("is no whole number"), "{said}");
    service.run(&["install", "answer", "1", "berth=7"]);
    let (_, text) = get(&url(&format!("pick/{DASHED}/wait.grub")));
    assert!(
        text.contains("linux \"$from\"/boot/") && text.contains(&format!("hostname={MACHINE}-7")),
        "{text}"
    );
    let words: Vec<&str> = text.split_whitespace().collect();
    let file = words.iter().find_map(|word| word.strip_prefix("url=")).unwrap();
    let file = file.trim_end_matches(';');
    // The machine's loopback stand-in may read its file; the secrets are in it, and only there.
    let (status, text) = get(file);
    assert_eq!(status, "200", "{}", service.log());
    assert!(
        text.contains(&format!("netcfg/get_hostname string {MACHINE}-7")) && text.contains("$6$"),
        "{text}"
    );
    assert!(text.contains("partman-crypto/passphrase password kittiwake and petrel"), "{text}");
    let (status, _) = get(&file.replace("preseed.cfg", "ks.cfg"));
    assert_eq!(status, "403", "an image has the files of its family alone");
    let (_, said) = service.fail(&["install", "answer", "1", "berth=8"]);
    assert!(said.contains("install 1 asks nothing any more: it is installing"), "{said}");
    // Settings that are saved later do not change what was armed.
    save(&service, "site:", "time_zone = 'Europe/Oslo'\n");
    assert!(get(file).1.contains("time/zone string Europe/London"));
    let shown = service.run(&["install", "show", "1"]);
    assert!(shown.contains("answered") && shown.contains("berth: 7"), "{shown}");
}

#[test]
fn the_table_of_formats_is_what_the_writers_say() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/answers.md");
    let text = fs::read_to_string(path).unwrap();
    let (before, rest) = text.split_once("<!-- formats -->\n").unwrap();
    let (kept, after) = rest.split_once("<!-- /formats -->").unwrap();
    let output =
        Command::new(crate::support::service::LASTMILE).args(["answers", "formats"]).output().unwrap();
    let table = String::from_utf8(output.stdout).unwrap();
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        fs::write(path, format!("{before}<!-- formats -->\n{table}<!-- /formats -->{after}")).unwrap();
    } else {
        assert!(kept == table, "the table in docs/answers.md is old: run this test with LASTMILE_ACCEPT=1");
    }
}

#[test]
fn what_the_host_says_at_its_first_start_is_held_against_what_was_expected() {
    let service = quay(25_126);
    let arm = [
        "install",
        "arm",
        MACHINE,
        "--image",
        "tidewrack-12",
        "--answers",
        "quay-server",
        "--asked",
        "berth=7",
    ];
    // The loader's menu alone has the token: no call of the API gives it.
    let answers_url = || {
        let (_, menu) = get(&format!("http://127.0.0.1:25128/grub/grub.cfg-01-{DASHED}"));
        let words = menu.split_whitespace().map(str::to_owned);
        words
            .filter_map(|word| word.strip_prefix("url=").map(|url| url.trim_end_matches(';').to_owned()))
            .next()
            .unwrap()
    };
    service.run(&arm);
    let (_, said) = service.fail(&["install", "retry", "1", "--yes"]);
    assert!(said.contains("install 1 goes on: it is armed"), "{said}");
    let file = answers_url();
    let report = |stage: &str| file.replace("/answers/", "/report/").replace("preseed.cfg", stage);
    assert_eq!(get(&report("done")).0, "200");
    let said = "booted?host_name=auklet-chart-7&address=192.0.2.50&os=Tidewrack%2012%20(tern)&kernel=6.1.0-9&first_boot=0";
    assert_eq!(get(&report(said)).0, "200");
    let shown = service.json(&["install", "show", "1"]);
    assert_eq!(shown["outcome"]["actual"]["os"], "Tidewrack 12 (tern)");
    assert_eq!((&shown["state"], &shown["differs"]), (&"installed".into(), &0.into()), "{shown}");
    // Said twice, it is on record once; what it says later changes nothing.
    assert_eq!(get(&report("booted?host_name=localhost")).0, "200");
    let steps = service.json(&["install", "show", "1"])["steps"].clone();
    let booted: Vec<_> = steps.as_array().unwrap().iter().filter(|step| step["kind"] == "booted").collect();
    assert_eq!(booted.len(), 1);
    assert!(booted[0]["detail"].as_str().unwrap().ends_with("as expected"), "{booted:?}");
    // The token reads no answer file any more, and another's says nothing.
    assert_eq!(get(&file).0, "403");
    assert_eq!(get("http://127.0.0.1:25128/report/guessed/booted?host_name=x").0, "403");

    // Once more: the host comes up otherwise than its answers say, before the installer's own report.
    service.run(&["install", "retry", "1", "--yes"]);
    let file = answers_url();
    let report = |stage: &str| file.replace("/answers/", "/report/").replace("preseed.cfg", stage);
    assert_eq!(get(&report("booted?host_name=localhost&first_boot=1")).0, "200");
    assert_eq!(get(&report("done")).0, "200", "late, and no news");
    let shown = service.run(&["install", "show", "2"]);
    assert!(shown.contains("host name: localhost; expected: auklet-chart-7"), "{shown}");
    assert!(shown.contains("first boot: a script failed") && shown.contains("installed"), "{shown}");
}

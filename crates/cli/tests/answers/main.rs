//! Answers through the real service: layers, versions, questions, secrets, and the files as a machine fetches them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod support;

use std::{fs, io::Write, os::unix::process::CommandExt, process::Command, time::Duration};

use support::{
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
layout = "lvm"
encrypt = { plain = "kittiwake and petrel" }
[questions.berth]
ask = "At which berth?"
kind = "number"
"#;

fn quay(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    service.add_machine();
    service.run(&["machine", "change", MACHINE, "--label", "chart"]);
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
    service.run(&["answers", "save", name, "--from", &file]);
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
    let (_, said) = service.fail(&["answers", "save", "label:chart", "--from", &bad]);
    for part in
        ["images: only answers say this", "installer_parameters: only", "locale: 'english' is no locale"]
    {
        assert!(said.contains(part), "{said}");
    }
    let (_, said) = service.fail(&["answers", "save", "machine:nobody", "--from", &bad]);
    assert!(said.contains("no machine is named 'nobody'"), "{said}");
    service.run(&["answers", "remove", "label:chart"]);
    // A machine takes its settings with it: another of that name begins with none.
    service.run(&["machine", "add", "gate-9", "--mac", "02:00:5e:00:53:99"]);
    save(&service, "machine:gate-9", "keyboard = 'no'\n");
    service.run(&["machine", "remove", "gate-9"]);
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
    let compared = service.run(&["answers", "compare", "quay-server", "--from", "1"]);
    assert!(
        compared.contains("- full_name = \"Purser\"") && compared.contains("+ full_name = \"Ship's purser\""),
        "{compared}"
    );
    let first = service.json(&["answers", "show", "quay-server", "--at", "1"]);
    assert_eq!(first["settings"], shown["settings"]);
    let (_, said) = service.fail(&["answers", "show", "quay-server", "--at", "9"]);
    assert!(said.contains("no version 9; the last is 2"), "{said}");
    let new = service.write("new.toml", "[users.deckhand]\npassword = 'set'\n");
    let (_, said) = service.fail(&["answers", "save", "other", "--from", &new]);
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
    let (_, said) = service.fail(&["answers", "save", "quay-server", "--from", &bad]);
    assert!(
        said.contains(
            "security.mandatory_access: a preseed file cannot say SELinux's policy (for image tidewrack-12)"
        ),
        "{said}"
    );
    let bad = service.write("bad.toml", QUAY.replace("tidewrack-12", "tidewrack-13"));
    let (_, said) = service.fail(&["answers", "save", "quay-server", "--from", &bad]);
    assert!(said.contains("images[0]: no image is named 'tidewrack-13'"), "{said}");
    // A layer below cannot make answers wrong either; nothing is saved.
    let site = service.write("bad.toml", "[security]\nfirewall = 'on'\n");
    let (_, said) = service.fail(&["answers", "save", "site:", "--from", &site]);
    assert!(said.contains("security.firewall: a preseed file cannot say a firewall, on"), "{said}");
    assert_eq!(service.json(&["answers", "show", "site:"])["version"], 1);
    // What is wrong on some machines only is found by the lint.
    assert!(service.run(&["answers", "lint"]).contains("nothing is wrong"));
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
    let output = Command::new(support::service::LASTMILE).args(["answers", "formats"]).output().unwrap();
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
    let (_, said) = service.fail(&["install", "retry", "1"]);
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
    service.run(&["install", "retry", "1"]);
    let file = answers_url();
    let report = |stage: &str| file.replace("/answers/", "/report/").replace("preseed.cfg", stage);
    assert_eq!(get(&report("booted?host_name=localhost&first_boot=1")).0, "200");
    assert_eq!(get(&report("done")).0, "200", "late, and no news");
    let shown = service.run(&["install", "show", "2"]);
    assert!(shown.contains("host name: localhost; expected: auklet-chart-7"), "{shown}");
    assert!(shown.contains("first boot: a script failed") && shown.contains("installed"), "{shown}");
}

/// Debian's installer, unpacked: its own shell, parser and question database, without a machine to boot.
fn installer() -> tempfile::TempDir {
    let initrd = need(
        "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/initrd.gz",
        "debian-installer-12-netboot-amd64",
    );
    let root = tempfile::tempdir().unwrap();
    let unpack = format!(
        "zcat {initrd} | cpio --quiet -id --no-absolute-filenames 2>/dev/null; test -x bin/debconf-get"
    );
    assert!(Command::new("sh").args(["-c", &unpack]).current_dir(root.path()).status().unwrap().success());
    root
}

/// What the installer's database holds after it has read a file, by question. Each of them must be there.
fn read_back<const N: usize>(root: &std::path::Path, file: &str, questions: [&str; N]) -> [String; N] {
    fs::copy(file, root.join("tmp/preseed.cfg")).unwrap();
    let ask: String = questions
        .iter()
        .enumerate()
        .map(|(index, q)| format!("debconf-get {q} >/tmp/{index} || {{ echo no {q}; exit 1; }}\n"))
        .collect();
    // Whether the script's exit status becomes the frontend's is a matter of which of the two notices the end first: the script
    // says itself that it came to its end.
    let script = format!(
        "#!/bin/sh\n. /usr/share/debconf/confmodule\nexec >/tmp/said 2>&1\n\
         debconf-loadtemplate d-i /var/lib/dpkg/info/*.templates\n\
         debconf-set-selections /tmp/preseed.cfg || exit 1\n{ask}echo all of it"
    );
    program(&root.join("tmp/ask"), &script);
    let run = Command::new("chroot")
        .arg(root)
        .args(["/bin/sh", "-c", "exec debconf -od-i -fnoninteractive /tmp/ask"])
        .output()
        .unwrap();
    let said = fs::read_to_string(root.join("tmp/said")).unwrap_or_default();
    fs::remove_file(root.join("tmp/said")).unwrap();
    let errors = String::from_utf8_lossy(&run.stderr);
    assert!(said.ends_with("all of it\n"), "{file}, {}: {said} {errors}", run.status);
    std::array::from_fn(|index| {
        fs::read_to_string(root.join(format!("tmp/{index}"))).unwrap().trim_end().to_owned()
    })
}

#[test]
fn debians_installer_holds_what_the_files_say_however_hostile_it_is() {
    let root = installer();
    let golden = |case: &str| {
        format!("{}/../core/tests/answers/golden/preseed/{case}.preseed.cfg", env!("CARGO_MANIFEST_DIR"))
    };
    let unpacked = |command: &str, cut: &str| {
        let command = command.split(cut).next().unwrap();
        let output =
            Command::new("chroot").arg(root.path()).args(["/bin/sh", "-c", command]).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    let [full_name, late] =
        read_back(root.path(), &golden("hostile"), ["passwd/user-fullname", "preseed/late_command"]);
    assert_eq!(full_name, "it's \"Ö\" <b>&amp;</b> $HOME `id` %end #- yes {{ name }}");
    let script = unpacked(&late, " >/target/root/lastmile-setup;");
    for line in
        ["|END", "||it's \"quoted\" \\ $HOME `id` \\n %s", "|\ttab – čaj ☕ <&>", "# First start", "END"]
    {
        assert!(script.lines().any(|found| found == line), "{line:?} is not in\n{script}");
    }
    let asked = [
        "partman-auto/method",
        "partman-auto/expert_recipe",
        "netcfg/get_hostname",
        "partman-crypto/passphrase",
    ];
    let [method, recipe, host_name, passphrase] = read_back(root.path(), &golden("quay"), asked);
    assert_eq!((method.as_str(), host_name.as_str()), ("crypto", "auklet-chart"));
    assert_eq!(passphrase, "kittiwake & petrel");
    assert!(
        recipe.starts_with("lastmile :: 537 537 537 fat32 ") && recipe.ends_with("mountpoint{ /var/log } ."),
        "{recipe}"
    );
    let asked = ["partman-auto/method", "partman/early_command"];
    let [method, early] = read_back(root.path(), &golden("mirror"), asked);
    assert_eq!(method, "raid");
    let chooser = unpacked(&early, " >/tmp/lastmile-disks;");
    assert!(chooser.lines().any(|line| line.starts_with("disk_left=$(usable |")), "{chooser}");
}

/// The installer's own shell and tools run the early command as its database holds it: the report comes, and then the
/// lines of its log, as they are written.
#[test]
fn debians_installer_reports_its_start_and_sends_its_log() {
    let service = quay(25_134);
    let arm = "install arm auklet-chart --image tidewrack-12 --answers quay-server --asked berth=7";
    service.run(&arm.split(' ').collect::<Vec<_>>());
    let (_, menu) = get(&format!("http://127.0.0.1:25136/grub/grub.cfg-01-{DASHED}"));
    let url = menu.split_whitespace().find_map(|word| word.strip_prefix("url=")).unwrap();
    let (_, text) = get(url.trim_end_matches(';'));
    let file = service.write("preseed.cfg", text);
    let root = installer();
    let [early] = read_back(root.path(), &file, ["preseed/early_command"]);
    fs::create_dir_all(root.path().join("var/log")).unwrap();
    let log = root.path().join("var/log/syslog");
    fs::write(&log, "Nov 24 12:00:00 kernel: nothing to tell\n").unwrap();
    // What it leaves running ends with its process group.
    let mut run = Command::new("chroot")
        .arg(root.path())
        .args(["/bin/sh", "-c", &early])
        .process_group(0)
        .spawn()
        .unwrap();
    assert!(run.wait().unwrap().success());
    let install = service.json(&["install", "show", "1"]);
    assert_eq!(install["state"], "installing", "the report came");
    let lines = [
        "Nov 24 12:00:01 main-menu[17]: INFO: Menu item 'partman-base' selected",
        "Nov 24 12:00:02 base-installer: 100 % & more #1 + \"quoted\" <b> Ö?",
        "Nov 24 12:00:03 kernel: nothing to tell",
    ];
    let mut syslog = fs::OpenOptions::new().append(true).open(&log).unwrap();
    lines.iter().for_each(|line| writeln!(syslog, "{line}").unwrap());
    let kept = support::wait_for("the log", Duration::from_secs(30), || {
        let install = service.json(&["install", "show", "1"]);
        let kept = install["log"].as_array().unwrap().clone();
        (!kept.is_empty()).then_some(kept)
    });
    Command::new("kill").args(["--", &format!("-{}", run.id())]).status().unwrap();
    let kept: Vec<&str> = kept.iter().map(|line| line["line"].as_str().unwrap()).collect();
    let expected = [
        "Nov 24 12:00:01 main-menu?17?: INFO: Menu item ?partman-base? selected",
        "Nov 24 12:00:02 base-installer: 100 % & more #1 + ?quoted? ?b? ????",
    ];
    // What a query cannot hold is a question mark; how many an umlaut makes is the tool's own affair.
    assert_eq!(kept[0], expected[0]);
    assert_eq!(kept[1].trim_end_matches('?'), expected[1].trim_end_matches('?'));
    assert_eq!(kept.len(), 2, "{kept:?}");
}

/// What the new system runs at its first start, out of the answer file: run by a real shell, it reports to the service.
#[test]
fn the_first_start_runs_its_scripts_and_reports_by_the_shell_alone() {
    let service = quay(25_130);
    save(&service, "label:chart", "[first_boot]\nb = 'exit 3'\na = 'touch $0.ran'\n");
    service.run(&[
        "install",
        "arm",
        MACHINE,
        "--image",
        "tidewrack-12",
        "--answers",
        "quay-server",
        "--asked",
        "berth=7",
    ]);
    let (_, menu) = get(&format!("http://127.0.0.1:25132/grub/grub.cfg-01-{DASHED}"));
    let file =
        menu.split_whitespace().find_map(|word| word.strip_prefix("url=")).unwrap().trim_end_matches(';');
    let (_, text) = get(file);
    let late = text.lines().find_map(|line| line.strip_prefix("d-i preseed/late_command string ")).unwrap();
    let dir = tempfile::tempdir().unwrap();
    let here = dir.path().to_str().unwrap();
    let sh = |script: &str| {
        let path = format!("{here}:{}", std::env::var("PATH").unwrap());
        let output = Command::new("bash").args(["-c", script]).env("PATH", path).output().unwrap();
        (
            output.status.success(),
            String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned(),
        )
    };
    let (_, script) = sh(late.split(" >/target/root").next().unwrap());
    // Only what puts the first start in place, with its folders elsewhere; what would switch it off tells that it was asked.
    let begin = script.find("# First start\n").unwrap();
    let place = script[begin..].split("# Last step").next().unwrap();
    let place =
        place.replace("/usr/local/lib/lastmile", &format!("{here}/lib")).replace("/etc/systemd/system", here);
    for (name, body) in [
        ("systemctl", format!("echo \"$@\" >>{here}/asked")),
        ("sleep", format!("echo slept >>{here}/asked")),
    ] {
        program(&dir.path().join(name), &format!("#!/bin/sh\n{body}\n"));
    }
    let (ok, said) = sh(&place);
    assert!(ok, "{said}");
    let asked = || fs::read_to_string(dir.path().join("asked")).unwrap();
    assert_eq!(asked(), "enable lastmile-first-boot.service\n");
    let unit = fs::read_to_string(dir.path().join("lastmile-first-boot.service")).unwrap();
    assert!(unit.contains(&format!("ExecStart=/bin/bash {here}/lib/first-boot")), "{unit}");

    let (ok, said) = sh(&format!("bash {here}/lib/first-boot"));
    assert!(!ok && said.contains("first-boot.d/b failed"), "{said}");
    assert!(dir.path().join("lib/first-boot.d/a.ran").exists(), "the one before it ran");
    assert_eq!(asked().lines().last(), Some("disable lastmile-first-boot.service"));
    let outcome = service.json(&["install", "show", "1"])["outcome"]["actual"].clone();
    let own = |command: &str| sh(command).1.trim().to_owned();
    assert_eq!(outcome["host_name"], own("uname -n"));
    assert_eq!(outcome["kernel"], own("uname -r"));
    assert_eq!(outcome["os"], own(". /etc/os-release; echo \"$PRETTY_NAME\""));
    assert_eq!(outcome["is_first_boot_failed"], true);

    // Where nobody answers it tries again for a while, and ends.
    fs::write(dir.path().join("asked"), "").unwrap();
    let away = fs::read_to_string(dir.path().join("lib/first-boot")).unwrap().replace("/25132", "/9");
    fs::write(dir.path().join("lib/first-boot"), away).unwrap();
    sh(&format!("bash {here}/lib/first-boot"));
    assert_eq!(asked().matches("slept").count(), 10, "{}", asked());
    assert!(asked().ends_with("disable lastmile-first-boot.service\n"));
}

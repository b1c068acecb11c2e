//! What Debian's installer makes of its file, asked of the installer itself out of its initrd; and what the new system does at
//! its first start.

use std::{fs, io::Write, os::unix::process::CommandExt, process::Command, time::Duration};

use super::*;

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
    let kept = crate::support::wait_for("the log", Duration::from_secs(30), || {
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

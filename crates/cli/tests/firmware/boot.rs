//! Real firmware, real loaders, a real installer, in a network namespace of the test's own.

use std::{
    net::Ipv4Addr,
    process::Command,
    time::{Duration, Instant},
};

use lastmile_sim::ForeignServer;
use serde_json::Value;

use crate::support::{
    background::Background,
    computer::{Computer, INSTALLER, add_bios_grub, add_signed_loader, uefi, wire},
    need,
    netns::Netns,
    service::Service,
    site::disc,
    wait_for,
};

/// From power-on to the installer's first report. It took about 210 s on an idle machine with two cores.
const LIMIT: Duration = Duration::from_secs(900);

/// A DHCP server of somebody else on the same wire, which hands out 192.0.2.90.
pub(crate) fn other_server(
    namespace: &Netns,
    wire: &str,
    what: &str,
    boot: Option<(Ipv4Addr, String)>,
) -> (Netns, Background) {
    let other = Netns::new(what);
    namespace.hang(wire, &other, "eth0");
    other.run("ip address add 192.0.2.3/24 dev eth0");
    let mut server = other.inside(|| {
        ForeignServer::open("eth0", Ipv4Addr::new(192, 0, 2, 3), Ipv4Addr::new(192, 0, 2, 90)).unwrap()
    });
    server.boot = boot;
    (other, Background::run(move |stop| server.run(stop)))
}

/// Waits until the machine's trace holds an event that `is_it`; prints the story.
fn wait_for_event(service: &Service<'_>, what: &str, is_it: impl Fn(&str) -> bool) {
    wait_for(what, LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let trace = service.json(&["trace", "auklet-chart"]);
        let lines = trace["lines"].as_array().unwrap();
        let line =
            |line: &Value| format!("{} → {}", line["asked"].as_str().unwrap(), line["got"].as_str().unwrap());
        lines.iter().any(|found| is_it(&line(found))).then_some(())
    });
    println!("{}", service.run(&["trace", "auklet-chart", "--all"]));
}

fn fill(service: &Service<'_>) {
    service.add_wire_subnet(&["--domain", "gannet.example"]);
    service.run(&[
        "image",
        "add",
        &need(&format!("{INSTALLER}/linux"), "debian-installer-12-netboot-amd64"),
        &need(&format!("{INSTALLER}/initrd.gz"), "debian-installer-12-netboot-amd64"),
        "--name",
        "tidewrack-12",
        "--title",
        "Tidewrack 12",
        "--parameter",
        "console=ttyS0",
    ]);
    let answers = service.write("answers.toml", ANSWERS);
    service.put("answers", "quay-server", &answers);
    service.add_machine();
    service.arm();
}

/// Answers whose early step reads back from the installer's own question database what it took of them, and asks the
/// service for paths that name it: these stand in the trace.
const ANSWERS: &str = r#"
locale = "nb_NO.UTF-8"
keyboard = "no"
time_zone = "Europe/Oslo"
host_name = "{{ name }}-7"
kernel_parameters = ["console=ttyS0"]

[users.purser]
full_name = "Ship's \"Purser\" $HOME `id` <b> & 100 %"
password = { plain = "tern bay at dusk" }
sudo = "password"

[storage]
logical_volumes = true
disks.system = { model = "Puffin 480*", prefer = "small" }

[[storage.volumes]]
mount = "/"
size = "20G"
[[storage.volumes]]
mount = "/var/log"
size = "rest"
file_system = "xfs"

[software]
packages = ["openssh-server", "tmux"]

[last_steps]
odd = "echo 'it''s \\n 100 % $HOME' >/etc/motd\n# END\n"

[formats.preseed.fragments]
end = """
d-i preseed/early_command string \\
 tell() { v=$(echo "$2" | sed 's/%/%25/g; s/ /%20/g; s,/,%2F,g; s/{/%7B/g; s/}/%7D/g; s/</%3C/g; s/>/%3E/g; s/"/%22/g; s/`/%60/g; s/#/%23/g; s/?/%3F/g'); \\
  wget -q -O /dev/null "http://{{ service }}/readback/$1/$v"; }; \\
 for q in debian-installer/locale keyboard-configuration/xkb-keymap time/zone netcfg/get_hostname netcfg/get_domain \\
  partman-auto/method partman-auto/expert_recipe pkgsel/include passwd/username passwd/user-fullname \\
  passwd/user-password-crypted debian-installer/add-kernel-opts; do \\
  tell "$(echo $q | tr / .)" "$(debconf-get $q)"; done; \\
 debconf-get preseed/late_command | sed 's| >/target/root/lastmile-setup;.*||' >/tmp/late; \\
 tell late "$(sh /tmp/late | sed -n '/# Last step/,$p' | md5sum | cut -d' ' -f1)"; \\
 debconf-get partman/early_command | sed 's| >/tmp/lastmile-disks;.*||' >/tmp/early; \\
 tell disks "$(sh /tmp/early | grep -v report | md5sum | cut -d' ' -f1)"; \\
 wget -q -O /dev/null '{{ reports.started }}' || true
"""
"#;

/// A value of a preseed file on one line.
fn preseeded(text: &str, question: &str) -> String {
    let line = text.lines().find(|line| line.split(' ').nth(1) == Some(question)).unwrap();
    line.splitn(4, ' ').nth(3).unwrap_or_default().into()
}

/// What the installer has in its database is what the answers say.
fn compare_with_readback(service: &Service<'_>, got: &[String]) {
    let preview = service.json(&["answers", "preview", "quay-server", "--machine", "auklet-chart"]);
    let file = preview["files"][0]["text"].as_str().unwrap();
    let read = |question: &str| {
        let start = format!("GET /readback/{}/", question.replace('/', "."));
        let line = got.iter().find_map(|line| line.strip_prefix(&start));
        let line = line.unwrap_or_else(|| panic!("{question} was not read back: {got:#?}"));
        line.split(" → ").next().unwrap().to_owned()
    };
    for question in [
        "debian-installer/locale",
        "keyboard-configuration/xkb-keymap",
        "time/zone",
        "netcfg/get_hostname",
        "netcfg/get_domain",
        "partman-auto/method",
        "pkgsel/include",
        "passwd/username",
        "passwd/user-fullname",
        "debian-installer/add-kernel-opts",
    ] {
        let value = read(question);
        println!("read back: {question} = {value}");
        assert!(value.starts_with(&preseeded(file, question)), "{question}: {value}");
    }
    assert!(read("netcfg/get_hostname").starts_with("auklet-chart-7"));
    assert!(
        read("passwd/user-password-crypted").starts_with("$6$"),
        "the hash, and not what stands in a preview"
    );
    // The scripts, unpacked by the installer's shell out of its database, are those that ours unpacks out of the file.
    let digest = |question: &str, cut: &str, rest: &str| {
        let command = preseeded(file, question).split(cut).next().unwrap().to_owned() + rest;
        let output =
            Command::new(need("/usr/bin/busybox", "busybox-static")).args(["sh", "-c", &command]).output();
        String::from_utf8(output.unwrap().stdout).unwrap().split(' ').next().unwrap().to_owned()
    };
    let late = digest(
        "preseed/late_command",
        " >/target/root/lastmile-setup;",
        " | sed -n '/# Last step/,$p' | md5sum",
    );
    assert_eq!(read("late"), late);
    let disks = digest("partman/early_command", " >/tmp/lastmile-disks;", " | grep -v report | md5sum");
    assert_eq!(read("disks"), disks);
    println!("read back: late command {late}, early command {disks}");
    let recipe = read("partman-auto/expert_recipe");
    // The trace keeps the first 500 bytes of a path; the whole is read back in the tests of answers.
    assert!(recipe.starts_with("lastmile :: 537 537 537 fat32 $primary{ } method{ efi }"), "{recipe}");
    assert!(recipe.contains("$lvmok{ } lv_name{ root } in_vg{ system }"), "{recipe}");
}

/// Waits until the record holds `step`; prints each step as it comes, with the seconds since power-on.
fn wait_for_step(service: &Service<'_>, step: &str, powered_on: Instant) -> Value {
    let mut known = 0;
    wait_for(&format!("step '{step}'"), LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let install = service.json(&["install", "show", "1"]);
        let all = install["steps"].as_array().unwrap().clone();
        for new in all.iter().skip(known) {
            println!(
                "{:6.1} s  {:8} {}",
                powered_on.elapsed().as_secs_f64(),
                new["kind"].as_str().unwrap(),
                new["detail"].as_str().unwrap()
            );
        }
        known = all.len();
        all.iter().any(|new| new["kind"] == step).then_some(install)
    })
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn debians_installer_takes_our_answers_under_uefi() {
    let namespace = wire("uefi");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    add_signed_loader(&service, "port-80");
    fill(&service);

    let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    let install = wait_for_step(&service, "started", powered_on);
    drop(computer);

    assert_eq!(install["state"], "installing");
    let steps = service.steps();
    let expected =
        ["armed", "lease", "loader", "loader", "menu", "kernel", "initrd", "lease", "answers", "started"];
    let mut seen = steps.iter();
    for step in expected {
        assert!(seen.any(|found| found == step), "no '{step}' in its place in {steps:?}");
    }
    // Firmware and installer are two clients with two identifiers, and one address.
    let details: Vec<_> =
        install["steps"].as_array().unwrap().iter().filter(|s| s["kind"] == "lease").collect();
    let address = |lease: &Value| lease["detail"].as_str().unwrap().split(' ').next().unwrap().to_owned();
    assert!(details.iter().all(|lease| address(lease) == address(details[0])), "{details:?}");
    assert!(details[0]["detail"].as_str().unwrap().ends_with("to uefi-x64 firmware"));
    // What was served is what the record says.
    assert_eq!(install["answer_hash"].as_str().unwrap().len(), 64);
    assert_eq!(install["kernel_fetches"], 1);
    let machine = service.json(&["machine", "show", "auklet-chart"]);
    let trace = machine["trace"].as_array().unwrap();
    let got: Vec<String> = trace
        .iter()
        .map(|event| format!("{} → {}", event["asked"].as_str().unwrap(), event["got"].as_str().unwrap()))
        .collect();
    println!("{}", got.join("\n"));
    compare_with_readback(&service, &got);
    assert!(got.iter().any(|line| line.contains("only its size was asked")), "the firmware's probe");
    assert!(
        got.iter().any(|line| line.starts_with("GET /boot/") && line.contains("linux")),
        "the kernel by HTTP"
    );
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn bios_is_told_apart_and_starts_the_kernel() {
    let namespace = wire("bios");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    add_bios_grub(&service);
    // A loader for the other firmware is there too: only option 93 tells which one this machine is given.
    service.run(&[
        "loader",
        "add",
        "signed-x64",
        "--architecture",
        "uefi-x64",
        "--boot-file",
        &format!("shimx64.efi={}", need("/usr/lib/shim/shimx64.efi.signed", "shim-signed")),
    ]);
    fill(&service);
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), "", &[]);
    let install = wait_for_step(&service, "initrd", powered_on);
    drop(computer);
    let lease = install["steps"].as_array().unwrap().iter().find(|step| step["kind"] == "lease").unwrap();
    assert!(lease["detail"].as_str().unwrap().ends_with("to bios firmware"), "{lease}");
    assert_eq!(install["state"], "booting");
    let loaders: Vec<_> =
        install["steps"].as_array().unwrap().iter().filter(|s| s["kind"] == "loader").collect();
    assert!(!loaders.is_empty() && loaders.iter().all(|step| step["detail"] == "core.0"), "{loaders:?}");
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn uefi_boots_by_http_to_our_menu() {
    let namespace = wire("http");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    let mkimage = need("/usr/bin/grub-mkimage", "grub-common");
    need("/usr/lib/grub/x86_64-efi/http.mod", "grub-efi-amd64-bin");
    // GRUB 2.06 takes nothing over from the firmware's HTTP boot: it asks for its address itself.
    let begin = service.write("begin.cfg", "net_bootp\nconfigfile (http,192.0.2.2)/grub/grub.cfg\n");
    let loader = service.folder.path().join("grub-http.efi");
    let modules = "http tftp efinet net normal configfile linux echo sleep test reboot halt chain";
    let made = Command::new(mkimage)
        .args(["-O", "x86_64-efi", "--prefix=/grub", "-c", &begin, "-o", loader.to_str().unwrap()])
        .args(modules.split(' '))
        .status()
        .unwrap();
    assert!(made.success());
    service.run(&[
        "loader",
        "add",
        "http-x64",
        "--architecture",
        "uefi-x64",
        "--class",
        "HTTPClient",
        "--boot-file",
        loader.to_str().unwrap(),
    ]);
    fill(&service);
    let mut firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    // Without PXE, the firmware's next choice is HTTP.
    for family in ["IPv4", "IPv6"] {
        firmware.push("-fw_cfg".into());
        firmware.push(format!("name=opt/org.tianocore/{family}PXESupport,string=no"));
    }
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    wait_for_step(&service, "menu", powered_on);
    drop(computer);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("from uefi-x64 by HTTP firmware"), "{story}");
    assert!(
        story.contains("to fetch http://192.0.2.2/loader/00-00-5e-00-53-01/http-x64/grub-http.efi"),
        "{story}"
    );
    assert!(story.contains("GET /loader/00-00-5e-00-53-01/http-x64/grub-http.efi"), "{story}");
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn uefi_takes_a_disc_whole_by_http_and_starts_it_from_memory() {
    let namespace = wire("disc");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&[]);
    need("/usr/lib/grub/x86_64-efi/iso9660.mod", "grub-efi-amd64-bin");
    // The disc's program reads a file of the disc, and then tells of it by asking for a path that names it.
    let begin = service.write(
        "begin.cfg",
        "search --set=root --file /lantern/readme\nnet_bootp\nconfigfile (http,192.0.2.2)/disc-was-found-as-$root\n",
    );
    let program = service.folder.path().join("disc.efi");
    let modules =
        "http tftp efinet net normal configfile iso9660 part_gpt part_msdos search search_fs_file echo";
    let made = Command::new(need("/usr/bin/grub-mkimage", "grub-common"))
        .args(["-O", "x86_64-efi", "--prefix=/grub", "-c", &begin, "-o", program.to_str().unwrap()])
        .args(modules.split(' '))
        .status()
        .unwrap();
    assert!(made.success());
    let disc = disc(service.folder.path(), "lantern", &program);
    service.run(&["image", "add", disc.to_str().unwrap(), "--name", "lantern", "--kind", "live"]);
    service.run(&[
        "machine",
        "add",
        "auklet-chart",
        "--mac",
        "00:00:5e:00:53:01",
        "--default-boot",
        "live:lantern",
    ]);
    let mut firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    for family in ["IPv4", "IPv6"] {
        firmware.push("-fw_cfg".into());
        firmware.push(format!("name=opt/org.tianocore/{family}PXESupport,string=no"));
    }
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    wait_for_event(&service, "that the disc's program runs and finds its disc", |asked| {
        asked.contains("disc-was-found-as-")
    });
    drop(computer);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("GET /boot/00-00-5e-00-53-01/lantern/r1/lantern.iso"), "{story}");
    assert!(!story.contains("disc-was-found-as-\n"), "{story}");
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn uefi_with_secure_boot_enforced_reaches_our_menu() {
    let namespace = wire("secure");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    // Under Secure Boot GRUB loads no module that is not built in: kernels go by TFTP.
    add_signed_loader(&service, "none");
    fill(&service);
    let mut firmware = uefi(&service, "OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd");
    firmware.extend(["-global", "driver=cfi.pflash01,property=secure,value=on"].map(str::to_owned));
    let powered_on = Instant::now();
    let computer =
        Computer::power_on_as(&namespace, service.folder.path(), "q35,smm=on", ",romfile=", &firmware);
    // That the kernel is asked for says that the menu was understood; that it comes by TFTP, that it was ours.
    wait_for_step(&service, "kernel", powered_on);
    drop(computer);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("TFTP /boot/00-00-5e-00-53-01/tidewrack-12/r1/linux"), "{story}");

    // Enforced: a loader that nobody signed is fetched, and never asks for its menu.
    let unsigned = service
        .write("unsigned.efi", std::fs::read("/usr/lib/grub/x86_64-efi/monolithic/grubnetx64.efi").unwrap());
    service.run(&["loader", "remove", "signed-x64", "--yes"]);
    service.run(&["loader", "add", "unsigned", "--architecture", "uefi-x64", "--boot-file", &unsigned]);
    let firmware = {
        let mut firmware = uefi(&service, "OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd");
        firmware.extend(["-global", "driver=cfi.pflash01,property=secure,value=on"].map(str::to_owned));
        firmware
    };
    let computer =
        Computer::power_on_as(&namespace, service.folder.path(), "q35,smm=on", ",romfile=", &firmware);
    wait_for("the diagnosis", LIMIT, || {
        std::thread::sleep(Duration::from_secs(1));
        let trace = service.json(&["trace", "auklet-chart"]);
        trace["diagnoses"]
            .as_array()
            .unwrap()
            .iter()
            .any(|found| found["case"] == "no-menu-asked")
            .then_some(())
    });
    drop(computer);
    println!("{}", service.run(&["trace", "auklet-chart"]));
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn firmware_beside_another_server_boots_what_we_add() {
    let namespace = wire("proxy");
    // GRUB 2.06 asks the server that the other one's acknowledgement names, not the one of our offer: that is the one
    // value to enter there (`lastmile subnet advice` says so).
    let named = Some((Ipv4Addr::new(192, 0, 2, 2), String::new()));
    let (_other, _running) = other_server(&namespace, "quay0", "proxy-o", named);
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    add_signed_loader(&service, "port-80");
    fill(&service);
    service.run(&["subnet", "change", "quay-lab", "--set", "mode=proxy", "--drop", "pools"]);
    let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    let install = wait_for_step(&service, "menu", powered_on);
    drop(computer);
    println!("{}", service.run(&["trace", "auklet-chart", "--all"]));
    let lease = install["steps"].as_array().unwrap().iter().find(|step| step["kind"] == "lease").unwrap();
    assert!(
        lease["detail"].as_str().unwrap().starts_with("192.0.2.90 "),
        "the other server's address: {lease}"
    );
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_boot_file_mistyped_in_another_server_is_explained() {
    let namespace = wire("typo");
    let boot = (Ipv4Addr::new(192, 0, 2, 2), "loader/signed-x64/shimx46.efi".to_owned());
    let (_other, _running) = other_server(&namespace, "quay0", "typo-o", Some(boot));
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    add_signed_loader(&service, "port-80");
    fill(&service);
    service.run(&["subnet", "change", "quay-lab", "--set", "mode=off"]);
    let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    wait_for_event(&service, "the wrong name", |line| line.contains("shimx46.efi → nothing is served"));
    drop(computer);
    let trace = service.json(&["trace", "auklet-chart"]);
    let found = trace["diagnoses"]
        .as_array()
        .unwrap()
        .iter()
        .find(|found| found["case"] == "file-not-found")
        .cloned();
    let means = found.expect("not recognised")["means"].as_str().unwrap().to_owned();
    assert!(means.contains("loader/signed-x64/shimx64.efi"), "{means}");
}

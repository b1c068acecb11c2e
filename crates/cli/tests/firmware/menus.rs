//! Menus on real firmware, picked at the keyboard, in each loader's language; images out of a real ISO.

use std::{
    process::Command,
    time::{Duration, Instant},
};

use crate::support::{
    computer::{Computer, INSTALLER, add_bios_grub, add_pxelinux, add_signed_loader, uefi, wire},
    need,
    netns::Netns,
    service::Service,
    wait_for,
};

const LIMIT: Duration = Duration::from_secs(600);
/// What a loader needs at least to begin drawing its menu once it has the text.
const DRAWING: Duration = Duration::from_secs(4);
/// And at most to draw it.
const DRAWN: Duration = Duration::from_secs(120);

const MENU: &str = r#"
title = "Gannet Sound Ferries"
default = "disk"

[[entries]]
key = "disk"
title = "Start from the local disk"
action = "local-disk"

[[entries]]
key = "install"
title = "Install Tidewrack 12 on {{ name }}"
guard = "erase it all"
action = { image = { name = "tidewrack-12", answers = "quay-server" } }

[[entries]]
key = "tools"
title = "Tools"

[[entries.action.entries]]
key = "try"
title = "Start the installer by hand"
parameters = ["lang={{ details.lang }}"]
action = { image = { name = "tidewrack-12" } }
"#;

/// A service on the wire with an ISO of Debian's network boot files, in place, and a menu for the machine.
fn prepare<'a>(namespace: &'a Netns) -> Service<'a> {
    let service = Service::start(Some(namespace), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&[]);
    let iso = service.folder.path().join("tidewrack.iso");
    let tree = service.folder.path().join("tree/install.amd");
    std::fs::create_dir_all(&tree).unwrap();
    for (name, from) in [("vmlinuz", "linux"), ("initrd.gz", "initrd.gz")] {
        let from = need(&format!("{INSTALLER}/{from}"), "debian-installer-12-netboot-amd64");
        std::fs::copy(from, tree.join(name)).unwrap();
    }
    let made = Command::new(need("/usr/bin/xorriso", "xorriso"))
        .args(["-as", "mkisofs", "-quiet", "-R", "-J", "-V", "TIDEWRACK_12", "-o"])
        .args([&iso, &service.folder.path().join("tree")])
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    service.run(&[
        "image",
        "add",
        iso.to_str().unwrap(),
        "--in-place",
        "--name",
        "tidewrack-12",
        "--parameter",
        "console=ttyS0",
        "--yes",
    ]);
    service.add_answers();
    let menu = service.write("menu.toml", MENU);
    service.put("menu", "quay", &menu);
    service.run(&["settings", "change", "--set", "menu=quay"]);
    service.add_machine();
    service.run(&[
        "machine",
        "change",
        "auklet-chart",
        "--set",
        "default_boot=menu",
        "--set",
        "details.lang=en",
    ]);
    service
}

/// Waits until the trace tells of something; prints how long that took.
fn wait_for_line(service: &Service<'_>, what: &str, since: Instant, is_it: impl Fn(&str) -> bool) {
    wait_for(what, LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        service.run(&["trace", "auklet-chart", "--all"]).lines().any(&is_it).then_some(())
    });
    println!("{:6.1} s  {what}", since.elapsed().as_secs_f64());
}

fn step(service: &Service<'_>, kind: &str, since: Instant) {
    wait_for(kind, LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let installs = service.json(&["install", "list"]);
        let any = installs.as_array().unwrap().first()?.clone();
        let steps = service.json(&["install", "show", &any["number"].to_string()])["steps"].clone();
        steps.as_array().unwrap().iter().any(|step| step["kind"] == kind).then_some(())
    });
    println!("{:6.1} s  {kind}", since.elapsed().as_secs_f64());
}

/// Waits until the loader has drawn what comes next, which it begins within `beginning`.
fn drawn(computer: &Computer, beginning: Duration) {
    std::thread::sleep(beginning);
    computer.wait_until_still(DRAWN);
}

/// The picture of the screen, kept where somebody may look at it.
fn picture(computer: &Computer, name: &str) {
    if let Some(folder) = std::env::var_os("LASTMILE_SCREENSHOTS") {
        computer.picture(&std::path::Path::new(&folder).join(name));
    }
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn grub_asks_for_the_phrase_and_installs_out_of_the_iso() {
    let namespace = wire("menu-g");
    let service = prepare(&namespace);
    add_signed_loader(&service, "port-80");
    let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    let since = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    wait_for_line(&service, "menu", since, |line| line.contains("→ menu,"));
    drawn(&computer, DRAWING);
    picture(&computer, "firmware-grub.png");
    // A wrong phrase leads nowhere.
    computer.press(&["down", "ret"]);
    computer.type_text("install");
    computer.press(&["ret"]);
    computer.type_text("erase it al");
    computer.press(&["ret"]);
    // GRUB works out the hash, says that access is denied, waits ten seconds, and begins at its default again.
    drawn(&computer, Duration::from_secs(20));
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 0, "a wrong phrase");
    picture(&computer, "firmware-grub-again.png");
    computer.press(&["down", "ret"]);
    computer.type_text("install");
    computer.press(&["ret"]);
    computer.type_text("erase it all");
    computer.press(&["ret"]);
    step(&service, "kernel", since);
    step(&service, "initrd", since);
    step(&service, "answers", since);
    drop(computer);
    let install = service.json(&["install", "show", "1"]);
    assert_eq!(install["armed_by"], "somebody at the machine");
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("GET /pick/00-00-5e-00-53-01/install.grub"), "{story}");
    assert!(story.contains("GET /boot/00-00-5e-00-53-01/tidewrack-12/r1/install.amd/vmlinuz"), "{story}");
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn pxelinux_asks_for_the_phrase_and_starts_the_kernel() {
    let namespace = wire("menu-p");
    let service = prepare(&namespace);
    add_pxelinux(&service);
    let since = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), "", &[]);
    wait_for_line(&service, "menu", since, |line| line.contains("→ menu,"));
    drawn(&computer, DRAWING);
    picture(&computer, "firmware-pxelinux.png");
    computer.press(&["down", "ret"]);
    drawn(&computer, Duration::from_secs(1));
    computer.type_text("erase it all");
    computer.press(&["ret"]);
    step(&service, "kernel", since);
    step(&service, "initrd", since);
    drop(computer);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("/pick/00-00-5e-00-53-01/install.pxelinux"), "{story}");
    assert!(story.contains("GET /boot/00-00-5e-00-53-01/tidewrack-12/r1/install.amd/initrd.gz"), "{story}");
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn firmware_with_scripts_gets_one_and_hands_the_phrase_over() {
    let namespace = wire("menu-s");
    let service = prepare(&namespace);
    let since = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), "", &[]);
    wait_for_line(&service, "menu", since, |line| line.contains("GET /script/"));
    drawn(&computer, DRAWING);
    picture(&computer, "firmware-script.png");
    computer.press(&["down", "ret"]);
    drawn(&computer, Duration::from_secs(1));
    computer.type_text("wrong");
    computer.press(&["ret"]);
    wait_for_line(&service, "the refusal", since, |line| line.contains("the phrase is another"));
    // Back in the menu; this time the further entries, of which the first starts without answers.
    drawn(&computer, Duration::from_secs(8));
    computer.press(&["down", "down", "ret"]);
    drawn(&computer, Duration::from_secs(1));
    computer.press(&["ret"]);
    wait_for_line(&service, "the initrd", since, |line| {
        line.contains("install.amd/initrd.gz") && !line.contains("broke")
    });
    drop(computer);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(!story.contains("phrase=") && !story.contains("wrong"), "a phrase is in the trace: {story}");
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 0, "nothing was armed");
}

/// A disk image whose first sector writes `text` to the serial port and stops.
fn bios_disk(service: &Service<'_>, text: &str) -> String {
    // xor ax,ax; mov ds,ax; mov si,text; mov dx,0x3f8; next: lodsb; test al,al; jz end; out dx,al; jmp next;
    // end: hlt; jmp end
    let mut sector = vec![
        0x31, 0xc0, 0x8e, 0xd8, 0xbe, 0x15, 0x7c, 0xba, 0xf8, 0x03, 0xac, 0x84, 0xc0, 0x74, 0x03, 0xee, 0xeb,
        0xf8, 0xf4, 0xeb, 0xfd,
    ];
    sector.extend_from_slice(text.as_bytes());
    sector.resize(510, 0);
    sector.extend([0x55, 0xaa]);
    sector.resize(1 << 20, 0);
    service.write("disk.img", sector)
}

/// The folder of an EFI system partition with an installed system's own loader and the one for any machine. Each
/// writes `text` and which of them it is to the serial port, and stops.
fn uefi_disk(service: &Service<'_>, text: &str) -> String {
    let mkimage = need("/usr/bin/grub-mkimage", "grub-common");
    need("/usr/lib/grub/x86_64-efi/serial.mod", "grub-efi-amd64-bin");
    for (path, which) in [("EFI/skerry/grubx64.efi", "its own"), ("EFI/BOOT/BOOTX64.EFI", "any")] {
        let begin = format!("serial\nterminal_output serial\necho '{text} by {which} loader'\nsleep 600\n");
        let begin = service.write("local.cfg", begin);
        let loader = service.write(&format!("esp/{path}"), "");
        let made = Command::new(&mkimage)
            .args(["-O", "x86_64-efi", "--prefix=/none", "-c", &begin, "-o", &loader])
            .args(["normal", "serial", "terminal", "echo", "sleep"])
            .status()
            .unwrap();
        assert!(made.success());
    }
    service.folder.path().join("esp").to_str().unwrap().into()
}

/// Adds a loader to the service.
type AddLoader = fn(&Service<'_>);

/// Starts the first entry, and waits for what that writes.
fn chooses_the_first(service: &Service<'_>, computer: Computer, text: &str) {
    let since = Instant::now();
    wait_for_line(service, "menu", since, |line| line.contains("→ menu,") || line.contains("GET /script/"));
    drawn(&computer, DRAWING);
    computer.press(&["ret"]);
    wait_for(text, LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let written = std::fs::read(service.folder.path().join("serial")).unwrap_or_default();
        String::from_utf8_lossy(&written).contains(text).then_some(())
    });
    println!("{:6.1} s  {text}", since.elapsed().as_secs_f64());
    drop(computer);
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_local_disk_is_started_by_every_loader_under_bios() {
    let text = "the disk of auklet-chart was started";
    let loaders: [(&str, AddLoader); 3] =
        [("grub", add_bios_grub), ("pxelinux", add_pxelinux), ("script", |_| {})];
    for (name, add_loader) in loaders {
        println!("{name} under BIOS");
        let namespace = wire(&format!("disk-{name}"));
        let service = prepare(&namespace);
        add_loader(&service);
        let drive = format!("file={},format=raw,if=none,id=disk", bios_disk(&service, text));
        let parts = ["-drive", &drive, "-device", "ide-hd,drive=disk,bootindex=2"].map(str::to_owned);
        let computer = Computer::power_on(&namespace, service.folder.path(), "", &parts);
        chooses_the_first(&service, computer, text);
    }
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_local_disk_is_started_by_every_loader_under_uefi() {
    let text = "the disk of auklet-chart was started";
    let loaders: [(&str, AddLoader, &str, &str); 2] = [
        ("grub", |service| add_signed_loader(service, "port-80"), ",romfile=", "its own"),
        // The NIC's own option ROM is the firmware with scripts. Firmware that was told of no system takes any loader.
        ("script", |_| {}, "", "any"),
    ];
    for (name, add_loader, nic, which) in loaders {
        println!("{name} under UEFI");
        let namespace = wire(&format!("disk-u{name}"));
        let service = prepare(&namespace);
        add_loader(&service);
        let drive = format!("file=fat:rw:{},format=raw,if=none,id=disk", uefi_disk(&service, text));
        let mut parts = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
        if name == "script" {
            // The firmware's own network boot would be tried next, for minutes.
            for family in ["IPv4", "IPv6"] {
                parts.push("-fw_cfg".into());
                parts.push(format!("name=opt/org.tianocore/{family}Support,string=no"));
            }
        }
        parts.extend(["-drive", &drive, "-device", "ide-hd,drive=disk,bootindex=2"].map(str::to_owned));
        let computer = Computer::power_on(&namespace, service.folder.path(), nic, &parts);
        chooses_the_first(&service, computer, &format!("{text} by {which} loader"));
    }
}

/// A UEFI application that, as boot managers do, asks the server for a file by a path of its own, and writes it to the
/// serial port.
fn application(service: &Service<'_>, text: &str) -> String {
    let begin = "serial\nterminal_output serial\nnet_bootp\ncat (tftp,192.0.2.2)/Boot/BCD\nsleep 600\n";
    let begin = service.write("app.cfg", begin);
    let program = service.write("app/bootmgr.efi", "");
    service.write("app/boot/bcd", text);
    let modules = "normal serial terminal echo cat sleep net efinet tftp";
    let made = Command::new(need("/usr/bin/grub-mkimage", "grub-common"))
        .args(["-O", "x86_64-efi", "--prefix=/none", "-c", &begin, "-o", &program])
        .args(modules.split(' '))
        .status()
        .unwrap();
    assert!(made.success());
    service.folder.path().join("app").to_str().unwrap().into()
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_uefi_application_is_handed_over_to_and_finds_its_own_files() {
    let text = "what bollard-pe keeps beside itself";
    let namespace = wire("menu-app");
    let service = prepare(&namespace);
    let folder = application(&service, text);
    let program = ["--kind", "firmware-app", "--program", "bootmgr.efi", "--cpu", "x64", "--wait", "--yes"];
    service.run(&[&["image", "add", &folder, "--name", "bollard-pe"], &program[..]].concat());
    let menu = "title = 'Quay'\n[[entries]]\nkey = 'app'\ntitle = 'Hand over'\n\
                action = { image = { name = 'bollard-pe' } }\n";
    let menu = service.write("app.toml", menu);
    service.put("menu", "quay", &menu);
    // GRUB does not give the firmware's network back to what it starts; firmware with scripts does.
    let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    let computer = Computer::power_on(&namespace, service.folder.path(), "", &firmware);
    chooses_the_first(&service, computer, text);
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    println!("{story}");
    assert!(story.contains("boot/bcd of bollard-pe r1"), "{story}");
}

/// Answers that leave something open.
const ASKS: &str = r#"
[users.purser]
password = { plain = "tern bay at dusk" }
[questions.berth]
text = "At which berth does it stand?"
kind = "number"
"#;

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_machine_waits_for_answers_and_goes_on_by_itself_with_every_loader() {
    let loaders: [(&str, AddLoader); 3] =
        [("g", |service| add_bios_grub(service)), ("p", |service| add_pxelinux(service)), ("s", |_| ())];
    for (name, add_loader) in loaders {
        let namespace = wire(&format!("wait-{name}"));
        let service = prepare(&namespace);
        add_loader(&service);
        let asks = service.write("asks.toml", ASKS);
        service.put("answers", "asks", &asks);
        service.run(&["install", "arm", "auklet-chart", "--image", "tidewrack-12", "--answers", "asks"]);
        let since = Instant::now();
        let computer = Computer::power_on(&namespace, service.folder.path(), "", &[]);
        // Nobody presses a key: it asks, and asks again.
        let asked = || {
            let story = service.run(&["trace", "auklet-chart", "--all"]);
            story
                .lines()
                .filter(|line| line.contains("→ menu,") || line.contains("→ whether there is more"))
                .count()
        };
        wait_for("the third question", LIMIT, || {
            std::thread::sleep(Duration::from_millis(500));
            (asked() >= 3).then_some(())
        });
        println!("{:6.1} s  {name}: asked three times", since.elapsed().as_secs_f64());
        picture(&computer, &format!("firmware-wait-{name}.png"));
        assert_eq!(service.json(&["install", "show", "1"])["kernel_fetches"], 0);
        if name == "g" {
            // Whoever stands there can leave it, and come back.
            computer.press(&["esc"]);
            let left = asked();
            std::thread::sleep(Duration::from_secs(15));
            picture(&computer, "firmware-wait-left.png");
            assert!(asked() <= left + 1, "it asks on, though somebody left");
            computer.press(&["ret"]);
        }
        service.run(&["install", "answer", "1", "berth=7"]);
        step(&service, "kernel", since);
        step(&service, "initrd", since);
        drop(computer);
        println!("{}", service.run(&["trace", "auklet-chart", "--all"]));
    }
}

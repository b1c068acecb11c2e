//! Menus through the real service: picked at the machine, entered with the client, with the loaders of Debian's packages.

use std::process::Command;

use crate::support::{
    curl, need,
    service::Service,
    site::{MACHINE, loopback},
};

/// The machine's MAC address as paths have it.
const DASHED: &str = "00-00-5e-00-53-01";

const MENU: &str = r#"
title = "Quay: {{ name }}"
default = "disk"

[[entries]]
key = "disk"
title = "Start from the local disk"
action = "local-disk"

[[entries]]
key = "install"
title = "Install Tidewrack 12"
guard = "erase it all"
action = { image = { name = "tidewrack-12", answers = "quay-server" } }

[[entries]]
key = "tools"
title = "Tools"

[[entries.action.entries]]
key = "again"
title = "Install Tidewrack 12, really"
action = { image = { name = "tidewrack-12", answers = "quay-server" } }
"#;

/// A site whose machine is shown `MENU`.
fn quay(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.add_loader();
    service.add_image();
    service.add_answers();
    service.add_machine();
    let menu = service.write("menu.toml", MENU);
    service.put("menu", "quay", &menu);
    service.run(&["machine", "change", MACHINE, "--set", "default_boot=menu", "--set", "menu=quay"]);
    service
}

fn installs(service: &Service<'_>) -> usize {
    service.json(&["install", "list"]).as_array().unwrap().len()
}

#[test]
fn a_pick_arms_once_and_only_when_it_is_taken_whole() {
    let service = quay(25_060);
    let at = |mac: &str, key: &str| format!("http://127.0.0.1:25062/pick/{mac}/{key}.grub");

    let (status, _) = curl(&["-I", &at(DASHED, "tools.again")]);
    assert_eq!((status.as_str(), installs(&service)), ("409", 0), "only its size was asked for");
    let (status, said) = curl(&[&at("00-00-5e-00-53-99", "tools.again")]);
    assert_eq!(
        (status.as_str(), installs(&service)),
        ("404", 0),
        "nothing is installed on a newcomer: {said}"
    );
    let (status, _) = curl(&[&at(DASHED, "tools.nothing")]);
    assert_eq!((status.as_str(), installs(&service)), ("404", 0));
    let (status, _) = curl(&["-X", "POST", &at(DASHED, "tools.again")]);
    assert_eq!((status.as_str(), installs(&service)), ("405", 0));

    let (status, first) = curl(&[&at(DASHED, "tools.again")]);
    assert_eq!((status.as_str(), installs(&service)), ("200", 1), "{first}");
    assert!(first.contains("linux ") && first.contains("/answers/"), "{first}");
    let install = service.json(&["install", "show", "1"]);
    assert_eq!(
        (&install["armed_by"], &install["state"]),
        (&"somebody at the machine".into(), &"booting".into())
    );
    // A loader that asks a second time, or in another language's words, is led to the same install.
    assert_eq!(curl(&[&at(DASHED, "tools.again")]).1, first);
    let again = curl(&["tftp://127.0.0.1:25061/pick/00-00-5e-00-53-01/tools.again.pxelinux"]).1;
    let token = first.split("/answers/").nth(1).unwrap().split('/').next().unwrap();
    assert!(again.contains(token), "{again}");
    assert_eq!(installs(&service), 1);
    // From here on the machine is installed without being asked again.
    let (_, menu) = curl(&[&format!("http://127.0.0.1:25062/grub/grub.cfg-01-{DASHED}")]);
    assert!(menu.contains(token), "{menu}");
    let story = service.run(&["trace", MACHINE, "--all"]);
    assert!(!story.contains(token), "a token is in the trace: {story}");
}

#[test]
fn a_script_hands_the_phrase_over_and_a_wrong_one_arms_nothing() {
    let service = quay(25_064);
    let pick = format!("http://127.0.0.1:25066/pick/{DASHED}/install.script");
    for wrong in
        ["", "?phrase=", "?phrase=erase%20it%20al", "?phrase=Erase%20it%20all", "?other=erase%20it%20all"]
    {
        let (status, said) = curl(&[&format!("{pick}{wrong}")]);
        assert_eq!((status.as_str(), installs(&service)), ("403", 0), "{wrong}: {said}");
    }
    // TFTP has no place for a phrase.
    let (_, by_tftp) = curl(&[&format!("tftp://127.0.0.1:25065/pick/{DASHED}/install.script")]);
    assert_eq!((by_tftp.as_str(), installs(&service)), ("", 0));
    let (status, text) = curl(&[&format!("{pick}?phrase=erase%20it%20all")]);
    assert_eq!((status.as_str(), installs(&service)), ("200", 1), "{text}");
    assert!(text.starts_with("#!ipxe\n"), "{text}");
    // Nobody reads a phrase back, nor what it was turned into.
    let shown = service.run(&["--json", "menu", "show", "quay"]) + &service.run(&["trace", MACHINE, "--all"]);
    assert!(shown.contains("keep_guard"), "{shown}");
    for secret in ["erase it all", "erase%20it", "pbkdf2", "$6$"] {
        assert!(
            !shown.contains(secret) && !service.log().contains(secret),
            "{secret} in {shown}\n{}",
            service.log()
        );
    }
}

#[test]
fn a_menu_is_kept_changed_without_its_phrase_and_removed_when_nobody_is_shown_it() {
    let service = quay(25_068);
    let menu = |language: &str| {
        let words = ["menu", "preview", "quay", "--machine", MACHINE, "--text", "--architecture"];
        service.run(
            &[
                &words[..],
                &[if language == "pxelinux" { "bios" } else { "uefi-x64" }, "--language", language],
            ]
            .concat(),
        )
    };
    let hash = |text: &str| text.lines().find(|line| line.starts_with("password_pbkdf2")).map(str::to_owned);
    let before = hash(&menu("grub"));
    assert!(before.is_some());

    // What `show` writes can be changed and saved: the phrase stays.
    let shown = service.run(&["menu", "show", "quay"]).replace("Quay: ", "New quay: ");
    let changed = service.write("changed.toml", shown);
    service.put("menu", "quay", &changed);
    assert_eq!(hash(&menu("grub")), before);
    for language in ["grub", "pxelinux", "script"] {
        let text = menu(language);
        assert!(text.contains(&format!("New quay: {MACHINE}")), "{language}: {text}");
        assert!(!text.contains("erase it all"), "{language}: {text}");
    }

    // Bad ones are refused whole, with where and how; what there is stays.
    let kept = service.run(&["menu", "show", "quay"]);
    for (what, bad, parts) in [
        (
            "unknown setting",
            MENU.replace("default =", "defualt ="),
            &["unknown field `defualt`", "line 3"][..],
        ),
        ("unknown image", MENU.replace("\"tidewrack-12\"", "\"tidewrack-13\""), &["tidewrack-13"]),
        ("erases by itself", MENU.replace("\"disk\"\n\n", "\"install\"\ntimeout_secs = 5\n\n"), &["default"]),
        ("unknown value", MENU.replace("{{ name }}", "{{ nmae }}"), &["nmae"]),
        ("no text at all", String::new(), &["entries"]),
    ] {
        let bad = service.write("bad.toml", bad);
        let (code, said) = service.fail(&["menu", "change", "quay", "--from", &bad]);
        assert_eq!(code, 1, "{what}: {said}");
        for part in parts {
            assert!(said.contains(part), "{what} lacks {part:?}: {said}");
        }
        assert_eq!(service.run(&["menu", "show", "quay"]), kept, "{what}");
    }
    let (_, said) = service.fail(&["menu", "remove", "quay", "--yes"]);
    assert!(said.contains(MACHINE), "{said}");
    service.run(&["machine", "change", MACHINE, "--drop", "menu"]);
    service.run(&["menu", "remove", "quay", "--yes"]);
    assert!(service.json(&["menu", "list"]).as_array().unwrap().is_empty());
}

#[test]
fn the_menu_of_the_machine_its_label_its_subnet_and_the_site_go_in_this_order() {
    let service = quay(25_072);
    let title = || {
        let (_, text) = curl(&[&format!("http://127.0.0.1:25074/grub/grub.cfg-01-{DASHED}")]);
        ["quay", "kiosks", "holm", "gannet"]
            .into_iter()
            .find(|name| text.contains(&format!("menu of {name}")))
    };
    for name in ["quay", "kiosks", "holm", "gannet"] {
        let text = MENU.replace("Quay: {{ name }}", &format!("menu of {name}"));
        let file = service.write("one.toml", text);
        service.put("menu", name, &file);
    }
    service.run(&["settings", "change", "--set", "menu=gannet"]);
    service.run(&["label", "add", "kiosk", "--set", "menu=kiosks", "--append", "parameters=quiet"]);
    service.run(&["machine", "change", MACHINE, "--append", "labels=kiosk"]);
    assert_eq!(title(), Some("quay"));
    service.run(&["machine", "change", MACHINE, "--drop", "menu"]);
    assert_eq!(title(), Some("kiosks"));
    let (_, said) = service.fail(&["label", "change", "kiosk", "--set", "menu=nowhere"]);
    assert!(said.contains("nowhere"), "{said}");
    assert_eq!(title(), Some("kiosks"), "what is refused changes nothing");
    service.run(&["label", "remove", "kiosk", "--yes"]);
    assert_eq!(title(), Some("gannet"));
    let (_, said) = service.fail(&["menu", "remove", "gannet", "--yes"]);
    assert!(said.contains("site"), "{said}");
    service.run(&["settings", "change", "--set", "menu="]);
    assert_eq!(title(), None, "the one that is built in");
}

#[test]
fn loaders_of_the_systems_packages_are_found_added_and_served_as_they_are() {
    let service = loopback(25_076);
    let found = service.json(&["loader", "find"]);
    let found = found.as_array().unwrap();
    let of = |architecture: &str| {
        let mut all = found.iter().filter(|one| one["facts"]["architecture"]["value"] == architecture);
        all.next().unwrap_or_else(|| panic!("no loader for {architecture}: {found:?}")).clone()
    };
    let (signed, bios) = (of("uefi-x64"), of("bios"));
    let text = serde_json::to_string(&signed).unwrap();
    assert!(
        text.contains("Microsoft UEFI CA") && text.contains("/usr/lib/shim/shimx64.efi.signed"),
        "{text}"
    );
    for loader in [&signed, &bios] {
        let name = loader["name"].as_str().unwrap();
        service.run(&["loader", "find", "--add", name]);
    }
    let (code, said) = service.fail(&["loader", "find", "--add", "nothing-such"]);
    assert!(code == 3 && said.contains("nothing-such"), "{said}");
    let list = service.run(&["loader", "list"]);
    assert!(list.contains("uefi-x64") && list.contains("bios"), "{list}");
    let name = signed["name"].as_str().unwrap();
    let shown = service.json(&["loader", "show", name]);
    let boot_file = shown["boot_file"].as_str().unwrap();
    let served = Command::new("curl")
        .args(["-s", "-m", "20", &format!("http://127.0.0.1:25078/loader/{name}/{boot_file}")])
        .output()
        .unwrap();
    let packaged = std::fs::read(need("/usr/lib/shim/shimx64.efi.signed", "shim-signed")).unwrap();
    assert!(served.stdout == packaged, "{boot_file} is served as the package has it");
}

//! From a menu as a person arranges it to what each machine sees of it, in each loader's language.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

use std::{
    io::Write,
    net::Ipv4Addr,
    process::{Command, Stdio},
};

use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    decide::{
        boot::{LineAction, Screen, Viewer, menu_shown, plan, render, screen_for},
        image::RevisionDraft,
        machine::{DefaultBootDraft, LabelDraft, MachineDraft},
        menu::{ActionDraft, EntryDraft, MenuDraft},
        subnet::SubnetDraft,
    },
    model::{
        image::{FileEntry, Holding, ImageKind, Sha256},
        loader::{HttpReach, Language, Reader},
        menu::Menu,
        service::Service,
        settings::SiteSettings,
        subnet::Newcomers,
    },
    site::Site,
};
use lastmile_formats::{architecture::Architecture, cpu::Cpu, mac::Mac};
use proptest::prelude::*;

const MAC: &str = "00:00:5e:00:53:01";

fn image(name: &str, cpu: Cpu) -> lastmile_core::model::image::Image {
    let draft = RevisionDraft {
        name: name.into(),
        kind: Some(ImageKind::Live),
        kernel: Some("linux".into()),
        initrds: Some(vec!["initrd one.gz".into()]),
        parameters: Some(vec!["quiet".into(), "ip={{ address }}".into()]),
        cpu: Some(cpu),
        files: ["linux", "initrd one.gz"].map(|path| FileEntry::new(path, 1, Sha256::of(b"k"))).into(),
        ..RevisionDraft::default()
    };
    draft.check(None, 0, Holding::of(&draft.files), Timestamp::UNIX_EPOCH, |_, _| true).unwrap()
}

fn entry(key: &str, title: &str, action: ActionDraft) -> EntryDraft {
    EntryDraft {
        key: key.into(),
        title: title.into(),
        shown_if: None,
        guard: None,
        keep_guard: false,
        parameters: vec![],
        without_parameters: vec![],
        action,
    }
}

fn starts(name: &str) -> ActionDraft {
    ActionDraft::Image { name: name.into(), answers: None }
}

fn site() -> Site {
    let site =
        Site::default().with_image(image("lantern", Cpu::X64)).with_image(image("lantern-arm", Cpu::Arm64));
    let mut machine = MachineDraft::new("auklet-chart", vec![MAC.into()]);
    machine.default_boot = DefaultBootDraft::Menu;
    machine.labels = vec!["kiosk".into(), "chart".into()];
    machine.details = [("product".to_owned(), "Quay 7".to_owned())].into();
    let machine = machine.check(&site, None, Timestamp::UNIX_EPOCH).unwrap();
    site.with_machine(machine)
}

fn save(site: &Site, name: &str, draft: &MenuDraft) -> Menu {
    draft.check(name, site, site.menu(name).map(AsRef::as_ref), || [7; 12]).unwrap()
}

fn screen(site: &Site, architecture: Option<Architecture>) -> Screen {
    let mac: Mac = MAC.parse().unwrap();
    let plan = plan(site, mac, None);
    let viewer = Viewer {
        site,
        machine: site.machine("auklet-chart").map(AsRef::as_ref),
        mac,
        subnet: None,
        address: Some(Ipv4Addr::new(192, 0, 2, 50)),
        architecture,
        service: Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None },
        agent_token: None,
    };
    screen_for(&plan, &viewer)
}

fn draft() -> MenuDraft {
    let tools = vec![
        EntryDraft {
            guard: Some("erase it all".into()),
            ..entry("wipe", "Wipe the disks", starts("lantern"))
        },
        entry("restart", "Restart", ActionDraft::Restart),
    ];
    MenuDraft {
        title: "Gannet Sound Ferries: {{ name }}".into(),
        default: Some("disk".into()),
        timeout_secs: Some(20),
        entries: vec![
            entry("disk", "Local disk", ActionDraft::LocalDisk),
            EntryDraft {
                shown_if: Some("architecture == 'bios'".into()),
                ..entry("old", "Old firmware only", ActionDraft::Restart)
            },
            EntryDraft {
                shown_if: Some("'chart' in labels and details.product == 'Quay 7'".into()),
                parameters: vec!["role={{ details.product|lower|replace(' ', '-') }}".into()],
                ..entry("live", "Lantern on {{ details.product }}", starts("lantern"))
            },
            entry("arm", "Lantern for ARM", starts("lantern-arm")),
            entry("tools", "Tools", ActionDraft::Entries(tools)),
        ],
        ..MenuDraft::default()
    }
}

#[test]
fn a_machine_sees_what_is_meant_for_it() {
    let site = site();
    let site = site.with_menu(save(&site, "quay", &draft()));
    let site = site.with_settings(SiteSettings { menu: Some("quay".into()), ..SiteSettings::default() });
    let seen = screen(&site, Some(Architecture::UefiX64));
    assert_eq!(seen.title, "Gannet Sound Ferries: auklet-chart");
    let titles: Vec<&str> = seen.lines.iter().map(|line| line.title.as_str()).collect();
    assert_eq!(titles, ["Local disk", "Lantern on Quay 7", "Tools"]);
    assert_eq!(seen.why, "auklet-chart is set to show the menu: the site's");
    let LineAction::Kernel(boot) = &seen.line("live").unwrap().action else { panic!() };
    let words: Vec<String> = boot.parameters.iter().map(|p| format!("{} ({})", p.word, p.origin)).collect();
    assert_eq!(words, ["quiet (image)", "ip=192.0.2.50 (image)", "role=quay-7 (menu entry)"]);
    let left: Vec<&str> = seen.left_out.iter().map(|left| left.why.as_str()).collect();
    assert_eq!(
        left,
        [
            "not so on this machine: architecture == 'bios'",
            "lantern-arm is for arm64, and the machine is uefi-x64"
        ]
    );
    // Where nothing is known of the firmware, nothing is left out for it.
    assert!(screen(&site, None).line("arm").is_some());
    assert!(screen(&site, Some(Architecture::UefiArm64)).line("live").is_none());
}

#[test]
fn the_machine_goes_before_its_labels_its_subnet_and_the_site() {
    let empty = site();
    let named = |title: &str| MenuDraft {
        title: title.into(),
        entries: vec![entry("disk", "Local disk", ActionDraft::LocalDisk)],
        ..MenuDraft::default()
    };
    let mut site = empty.clone();
    for name in ["of-site", "of-label", "of-machine"] {
        site = site.with_menu(save(&site, name, &named(name)));
    }
    assert_eq!(screen(&site, None).title, "", "none is named: the built-in one");
    let site = site.with_settings(SiteSettings { menu: Some("of-site".into()), ..SiteSettings::default() });
    assert_eq!(screen(&site, None).title, "of-site");
    let label = LabelDraft { menu: Some("of-label".into()), ..LabelDraft::default() };
    let site = site.with_label(label.check("kiosk", &site).unwrap());
    assert_eq!(screen(&site, None).title, "of-label");
    let mut machine = (**site.machine("auklet-chart").unwrap()).clone();
    machine.menu = Some("of-machine".into());
    assert_eq!(screen(&site.with_machine(machine), None).title, "of-machine");
}

#[test]
fn a_subnets_menu_goes_before_the_sites_and_after_the_labels() {
    let mut site = site();
    for name in ["of-site", "of-subnet", "of-label"] {
        let named = MenuDraft {
            title: name.into(),
            entries: vec![entry("menu", "Local disk", ActionDraft::LocalDisk)],
            ..MenuDraft::default()
        };
        site = site.with_menu(save(&site, name, &named));
    }
    let site = site.with_settings(SiteSettings { menu: Some("of-site".into()), ..SiteSettings::default() });
    let mut subnet = SubnetDraft::new("holm-quay", "192.0.2.0/24");
    subnet.pools = vec!["192.0.2.100-192.0.2.150".into()];
    subnet.relays = vec!["192.0.2.1".into()];
    subnet.menu = Some("of-subnet".into());
    subnet.newcomers = Newcomers::Menu;
    let subnet = subnet.check(Id::generate(), &site, &[]).unwrap();
    let shown =
        |site: &Site, mac: &str| menu_shown(site, mac.parse().unwrap(), Some(&subnet)).unwrap().name.clone();
    assert_eq!(shown(&site, MAC), "of-subnet");
    assert_eq!(shown(&site, "00:00:5e:00:53:77"), "of-subnet", "a newcomer");
    let label = LabelDraft { menu: Some("of-label".into()), ..LabelDraft::default() };
    let site = site.with_label(label.check("kiosk", &site).unwrap());
    assert_eq!(shown(&site, MAC), "of-label");
}

#[test]
fn everything_wrong_with_a_menu_is_named_at_once() {
    let site = site();
    let site = site.with_menu(save(&site, "quay", &draft()));
    let mut bad = draft();
    bad.default = Some("disc".into());
    bad.timeout_secs = Some(0);
    bad.title = "{{ nam }}".into();
    bad.entries[1].shown_if = Some("architecture ==".into());
    bad.entries[2].action = starts("lanten");
    bad.entries[3].key = "Disk!".into();
    let ActionDraft::Entries(tools) = &mut bad.entries[4].action else { panic!() };
    tools[0].guard = Some("short".into());
    tools[1].action = ActionDraft::Menu("quay".into());
    let faults = bad.check("quay", &site, None, || [7; 12]).unwrap_err();
    let places: Vec<&str> = faults.iter().map(|fault| fault.place.as_str()).collect();
    assert_eq!(
        places,
        [
            "title",
            "entries[1].shown_if",
            "entries[2].action",
            "entries[3].key",
            "entries[4].action.entries[0].guard",
            "default",
            "timeout_secs",
            "entries",
        ]
    );
    assert_eq!(faults[7].what, "menu 'quay' would show itself");
    // No key is taken for an option of a loader's command, or for a label of ours.
    for key in ["-id", "", "_menu", "a.b", "Ä"] {
        let mut odd = draft();
        odd.entries[1].key = key.into();
        assert_eq!(
            odd.check("other", &site, None, || [7; 12]).unwrap_err()[0].place,
            "entries[1].key",
            "{key}"
        );
    }
    // Nothing that erases starts by itself.
    let mut erases = draft();
    erases.entries[0].guard = Some("erase it all".into());
    assert_eq!(erases.check("quay", &site, None, || [7; 12]).unwrap_err()[0].place, "default");
}

#[test]
fn a_phrase_survives_a_change_and_a_record_without_being_read() {
    let site = site();
    let menu = save(&site, "quay", &draft());
    let shown = MenuDraft::from(&menu);
    let json = serde_json::to_string(&shown).unwrap();
    assert!(!json.contains("erase") && !json.contains("pbkdf2") && json.contains("keep_guard"), "{json}");
    let again: MenuDraft = serde_json::from_str(&json).unwrap();
    let changed = again.check("quay", &site, Some(&menu), || [9; 12]).unwrap();
    assert_eq!(changed.guards(), menu.guards());
    assert_eq!(Menu::restore(Id::generate(), "quay".into(), &shown, &menu.guards()).entries, menu.entries);
    // Without the former menu there is nothing to keep.
    assert_eq!(
        again.check("other", &site, None, || [9; 12]).unwrap_err()[0].place,
        "entries[4].action.entries[0].guard"
    );
}

/// GRUB's own tool reads the text.
fn check_grub(text: &str) {
    let mut checker = Command::new("grub-script-check")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .expect("grub-script-check is needed: install the package grub-common");
    checker.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let output = checker.wait_with_output().unwrap();
    assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
}

fn reader(language: Language) -> Reader {
    Reader { language, http: HttpReach::Port80, boxed: true }
}

fn service() -> Service {
    Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None }
}

#[test]
fn grub_reads_every_kind_of_entry() {
    let site = site();
    let mut all = draft();
    for (key, action) in [
        ("disk2", ActionDraft::NetworkDisk("iscsi:192.0.2.9::::iqn.2026-11.example.gannet:bay".into())),
        ("setup", ActionDraft::FirmwareSetup),
        ("off", ActionDraft::PowerOff),
    ] {
        all.entries.push(entry(key, key, action));
    }
    all.silent = true;
    all.after = lastmile_core::model::menu::After::LocalDisk;
    let site = site.with_menu(save(&site, "quay", &all));
    let site = site.with_settings(SiteSettings { menu: Some("quay".into()), ..SiteSettings::default() });
    let text = render(&screen(&site, None), service(), reader(Language::Grub));
    check_grub(&text);
    assert!(text.contains("set timeout_style=hidden") && text.contains("set superusers=nobody"), "{text}");
    assert!(text.contains("password_pbkdf2 tools.wipe grub.pbkdf2.sha512.10000."), "{text}");
    assert!(
        text.contains("'Wipe the disks  (name: tools.wipe)' --id tools.wipe --users tools.wipe {"),
        "{text}"
    );
    assert!(text.contains("menuentry 'Local disk' --id disk --unrestricted {"), "{text}");
    assert!(text.contains("initrd%20one.gz") && !text.contains("erase it all"), "{text}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Whatever a person writes into titles and parameters, each language has as many entries as it should.
    #[test]
    fn no_text_makes_or_breaks_an_entry(
        title in "[\\PC\\n\\r\\t'\"\\\\$`{}^;#|&]{1,40}",
        word in "[\\PC\\n'\"\\\\$`{}^;#|&]{1,40}",
    ) {
        let site = site();
        let mut screen = screen(&site, None);
        let template = screen.lines[0].clone();
        screen.title.clone_from(&title);
        screen.lines[0].title.clone_from(&title);
        screen.lines[0].action = LineAction::Kernel(lastmile_core::decide::boot::KernelBoot {
            kernel: format!("boot/x/{}", word.replace('/', "")),
            initrds: vec![word.clone()],
            parameters: vec![lastmile_core::model::parameter::Parameter {
                word: word.clone(),
                origin: lastmile_core::model::parameter::Origin::Machine,
                replaces: vec![],
            }],
        });
        let mut other = template;
        other.action = LineAction::Message(word);
        other.key = "other".into();
        screen.lines.push(other);
        let count = screen.lines.len();
        let text = render(&screen, service(), reader(Language::Grub));
        check_grub(&text);
        prop_assert_eq!(text.lines().filter(|line| line.starts_with("menuentry ")).count(), count + 1, "{}", text);
        let text = render(&screen, service(), reader(Language::Pxelinux));
        prop_assert_eq!(text.lines().filter(|line| line.trim_start().starts_with("LABEL ")).count(), count, "{}", text);
        prop_assert_eq!(text.lines().filter(|line| line.contains("LINUX ")).count(), 1, "{}", text);
        let text = render(&screen, service(), reader(Language::Script));
        prop_assert_eq!(text.lines().filter(|line| line.starts_with("item ")).count(), count, "{}", text);
        prop_assert_eq!(text.lines().filter(|line| line.starts_with(':')).count(), count + 2, "{}", text);
        prop_assert_eq!(text.matches("${").count(), 1, "{}", text);
    }
}

//! The console in headless Chromium, on the demo's data and on 10,000 machines.

use std::path::Path;

use lastmile_api::{ArmRequest, InstallsListQuery, MachineDraft};
use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Booted, Identity, Machine, Pace};

use crate::support::{browser::Browser, demo::Demo};

#[tokio::test]
async fn installs_are_seen_to_happen_without_a_reload() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines", demo.console)).await;
    browser.wait_for_text("skerry-kiosk-1").await;
    browser.wait_for_text("live").await;
    // Every stage of one machine passes before the eyes of whoever looks: nothing is clicked, nothing reloaded. What a row
    // says for a moment only is noted by the page itself.
    let row = "[role=row]:has(a[href='/machines/skerry-kiosk-1'])";
    let watch = "window.said = []; const note = () => { const row = document.querySelector(arguments[0]); \
                 if (row) { window.said.push(row.textContent); } }; note(); \
                 new MutationObserver(note).observe(document.body, { childList: true, characterData: true, subtree: true });";
    browser.client.execute(watch, vec![row.into()]).await.unwrap();
    browser.wait_for_text_in(row, "installing").await;
    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
    browser.picture("console-machines.png").await;
    browser.wait_for_text_in(row, "installed").await;
    browser.wait_for_text_in(row, "tidewrack-12 r1").await;
    let said = browser.client.execute("return window.said", vec![]).await.unwrap();
    let said: Vec<&str> = said.as_array().unwrap().iter().map(|text| text.as_str().unwrap()).collect();
    let first = |stage: &str| {
        said.iter().position(|text| text.contains(stage)).unwrap_or_else(|| panic!("{said:#?}"))
    };
    assert!(first("installing") < first("installed"), "{said:#?}");

    browser.follow("a[href='/machines/skerry-kiosk-1']").await;
    browser.wait_for_text("If it boots now").await;
    browser.wait_for_text("its local disk").await;
    browser.picture("console-machine.png").await;
    browser.click("#tab-trace").await;
    browser.wait_for_text("DHCPDISCOVER from uefi-x64 firmware").await;
    browser.click("#tab-installs").await;
    browser.follow("a[href='/installs/1']").await;
    browser.wait_for_text("What was seen").await;
    browser.wait_for_text("answer file").await;
    browser.picture("console-install.png").await;
    browser.follow("a[href='/installs']").await;
    browser.wait_for_text("6 installs").await;
    browser.follow("a[href='/']").await;
    browser.wait_for_text("Needs attention").await;
    browser.wait_for_text("Ended today").await;
    browser.picture("console-overview.png").await;
    browser.close().await;
}

#[tokio::test]
async fn night_colours_and_a_narrow_screen_show_the_same() {
    let demo = Demo::start();
    for (width, height, dark) in [(1280, 800, true), (390, 844, false)] {
        let browser = Browser::open(width, height, dark).await;
        browser.go(&format!("{}/machines", demo.console)).await;
        browser.wait_for_text("skerry-kiosk-1").await;
        browser.wait_for_text("booting").await;
        let theme =
            browser.client.execute("return document.documentElement.dataset.theme", vec![]).await.unwrap();
        assert_eq!(theme, if dark { "night" } else { "day" });
        let wide = "return document.documentElement.scrollWidth <= window.innerWidth";
        assert_eq!(
            browser.client.execute(wide, vec![]).await.unwrap(),
            true,
            "{width} pixels scroll sideways"
        );
        browser.close().await;
    }
}

#[tokio::test]
async fn who_needs_somebody_comes_first_and_filters_work() {
    let demo = Demo::start();
    let client = demo.client();
    // An install that begins three times and never ends.
    let arm = ArmRequest {
        machine: "kittiwake-chart".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: Default::default(),
    };
    client.installs_arm(&arm).await.unwrap();
    let identity =
        Identity { mac: "00:00:5e:00:53:41".parse().unwrap(), architecture: Architecture::UefiX64 };
    let kittiwake = Machine::new(identity, demo.reached().await, Pace::FULL).unwrap();
    for _ in 0..3 {
        assert!(matches!(kittiwake.boot(&mut |_| {}).await.unwrap(), Booted::Kernel { .. }));
    }
    assert_eq!(kittiwake.boot(&mut |_| {}).await.unwrap(), Booted::LocalDisk);

    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines", demo.console)).await;
    browser.wait_for_text("kittiwake-chart").await;
    browser.wait_for_text("stalled").await;
    let names = browser.texts("a[data-row]").await;
    assert_eq!(names[0], "kittiwake-chart", "who needs somebody comes first: {names:?}");
    let way =
        browser.client.find(fantoccini::Locator::Css("[role=row] svg[aria-label='stalled: kernel']")).await;
    assert!(way.is_ok(), "how far it came is drawn");
    browser.click("input[type=search]").await;
    browser.type_into("input[type=search]", "kittiwake").await;
    let end = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while browser.texts("a[data-row]").await != ["kittiwake-chart"] {
        assert!(std::time::Instant::now() < end, "{:?}", browser.texts("a[data-row]").await);
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(browser.client.current_url().await.unwrap().as_str().ends_with("?text=kittiwake"));
    // A label of one machine leads to all that have it, and only them.
    browser.go(&format!("{}/machines?text=kittiwake", demo.console)).await;
    browser.follow("a[href='/machines?label=chart']").await;
    browser.wait_for_text("auklet-chart").await;
    let mut charts = browser.texts("a[data-row]").await;
    charts.sort();
    assert_eq!(charts, ["auklet-chart", "kittiwake-chart"]);
    browser.click("button[aria-label='No longer only those with label chart']").await;
    browser.wait_for_text("tern-gate-1").await;
    browser.go(&format!("{}/machines?text=nothing-like-it", demo.console)).await;
    browser.wait_for_text("No machine matches").await;
    browser.go(&format!("{}/installs?state=stalled", demo.console)).await;
    browser.wait_for_text("kittiwake-chart").await;
    browser.go(&format!("{}/installs/999", demo.console)).await;
    browser.wait_for_text("no install is named '999'").await;
    browser.close().await;
}

#[tokio::test]
async fn rows_stay_where_they_are_while_somebody_points_at_them() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines", demo.console)).await;
    browser.wait_for_text("booting").await;
    let list = browser.client.find(fantoccini::Locator::Css("[role=table]")).await.unwrap();
    let held = "arguments[0].dispatchEvent(new PointerEvent('pointerenter'))";
    let element = serde_json::to_value(&list).unwrap();
    browser.client.execute(held, vec![element.clone()]).await.unwrap();
    // What had come before the hand is drawn, and nothing that was asked for before it changes anything now.
    let drawn = "const done = arguments[0]; requestAnimationFrame(() => setTimeout(done, 50))";
    browser.client.execute_async(drawn, vec![]).await.unwrap();
    let before = browser.texts("a[data-row]").await;
    // Machines pass from stage to stage meanwhile, and say so in their place.
    browser.wait_for_text("installed").await;
    assert_eq!(browser.texts("a[data-row]").await, before);
    let released = "arguments[0].dispatchEvent(new PointerEvent('pointerleave'))";
    browser.client.execute(released, vec![element]).await.unwrap();
    let end = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while browser.texts("a[data-row]").await == before {
        assert!(std::time::Instant::now() < end, "the order never came up to date");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    browser.close().await;
}

#[tokio::test]
async fn what_other_programs_read_is_looked_at_first() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&demo.console).await;
    browser.follow("a[href='/exports']").await;
    // Live: an address is lent while somebody looks.
    browser.wait_for_text("skerry-kiosk-1.gannet.example skerry-kiosk-1").await;
    browser.choose("select[aria-label=What]", "gannet.example").await;
    browser.wait_for_text("$ORIGIN gannet.example.").await;
    browser.wait_for_text("left out: tern-gate-1, it has no address").await;
    browser.fill("input[placeholder^='ns.']", "ns.gannet.example").await;
    browser.wait_for_text("nothing there says its address").await;
    browser.fill("input[placeholder^='ns.']", "ns.gannet.example=192.0.2.53").await;
    browser.wait_for_text("ns IN A 192.0.2.53").await;
    let link =
        browser.client.find(fantoccini::Locator::Css("a[download='gannet.example.zone']")).await.unwrap();
    let link = link.attr("href").await.unwrap().unwrap();
    let taken = reqwest::Client::builder().no_proxy().build().unwrap();
    let taken = taken.get(format!("{}{link}", demo.console)).send().await.unwrap().text().await.unwrap();
    assert!(taken.contains("@ IN SOA ns.gannet.example."), "{taken}");
    browser.picture("console-exports.png").await;
    browser.close().await;
}

#[tokio::test]
async fn ten_thousand_machines_are_drawn_as_they_are_scrolled_to() {
    let demo = Demo::start();
    let client = demo.client();
    let have = client.machines_list(&lastmile_api::MachinesListQuery::default()).await.unwrap().total;
    let numbers: Vec<usize> = (have..10_000).collect();
    for batch in numbers.chunks(64) {
        let mut adding = tokio::task::JoinSet::new();
        for number in batch {
            let draft = MachineDraft::new(
                format!("locker-{number:05}"),
                vec![format!("02:00:00:00:{:02x}:{:02x}", number / 256, number % 256)],
            );
            let client = client.clone();
            adding.spawn(async move { client.machines_create(&draft).await.unwrap() });
        }
        adding.join_all().await;
    }
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines?sort=name", demo.console)).await;
    browser.wait_for_text("locker-").await;
    let drawn = browser.texts("a[data-row]").await.len();
    assert!(drawn < 80, "{drawn} rows are drawn");
    // Somebody who looks at many at once sees 22 of them without scrolling.
    let seen = "const table = document.querySelector('[role=table]').getBoundingClientRect();
        return [...document.querySelectorAll('a[data-row]')].map((row) => row.getBoundingClientRect())
            .filter((row) => row.top >= table.top && row.bottom <= table.bottom).length";
    let end = std::time::Instant::now() + std::time::Duration::from_secs(10);
    loop {
        let seen = browser.client.execute(seen, vec![]).await.unwrap().as_u64().unwrap();
        if seen >= 22 {
            break;
        }
        assert!(std::time::Instant::now() < end, "{seen} machines are seen");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    browser
        .client
        .execute("const t = document.querySelector('[role=table]'); t.scrollTop = t.scrollHeight", vec![])
        .await
        .unwrap();
    browser.wait_for_text("tern-gate-1").await;
    // The story of the demo goes on beside all of it.
    let end = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while client.installs_list(&InstallsListQuery::default()).await.unwrap().total < 6 {
        assert!(std::time::Instant::now() < end, "the demo stands still");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    browser.close().await;
}

#[tokio::test]
async fn a_trace_explains_itself_and_lies_beside_another() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/newcomers", demo.console)).await;
    browser.wait_for_text("00:00:5e:00:53:51").await;
    browser.go(&format!("{}/machines/guillemot-display-1", demo.console)).await;
    browser.wait_for_text("No loader for uefi-arm64 is there").await;
    browser.go(&format!("{}/traces/skerry-kiosk-1", demo.console)).await;
    // Live: the kernel comes while somebody looks.
    browser.wait_for_text("GET /boot/00-00-5e-00-53-11/tidewrack-12/r1/linux").await;
    browser.wait_for_text("report done").await;
    browser.picture("console-trace.png").await;
    browser.click("button[aria-expanded=false]").await;
    browser.wait_for_text("vendor-class").await;
    browser.go(&format!("{}/traces/guillemot-display-1?against=skerry-kiosk-1", demo.console)).await;
    browser.wait_for_text("first difference").await;
    browser.wait_for_text("no loader is there for uefi-arm64 firmware").await;
    browser.close().await;
}

#[tokio::test]
async fn a_newcomer_is_seen_to_come_without_a_reload_and_is_found_among_many() {
    let demo = Demo::start();
    let reached = demo.reached().await;
    let newcomer = async |last: u8| {
        let mac = format!("02:00:5e:00:53:{last:02x}").parse().unwrap();
        let identity = Identity { mac, architecture: Architecture::UefiX64 };
        Machine::new(identity, reached, Pace::FULL).unwrap().boot(&mut |_| {}).await.unwrap()
    };
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/newcomers", demo.console)).await;
    browser.wait_for_text("00:00:5e:00:53:51").await;
    browser.wait_for_text("live").await;
    // The list is read again by nothing but the event.
    for last in 0xe0..0xf0 {
        newcomer(last).await;
    }
    browser.wait_for_text("02:00:5e:00:53:ef").await;
    browser.fill("input[aria-label='Filter: Newcomers']", "53:e7").await;
    let shown = async || browser.texts("tbody td:nth-child(2)").await;
    assert_eq!(shown().await, ["02:00:5e:00:53:e7"]);
    // A trace that is open grows by the same event, much sooner than it is read again for what is missing.
    browser.follow("tbody a").await;
    browser.wait_for_text("02:00:5e:00:53:e7 on the wire").await;
    let discovers = async || browser.text().await.matches("DHCPDISCOVER").count();
    let before = discovers().await;
    newcomer(0xe7).await;
    let end = std::time::Instant::now() + std::time::Duration::from_secs(5);
    while discovers().await == before {
        assert!(std::time::Instant::now() < end, "the trace does not grow");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    browser.close().await;
}

#[tokio::test]
async fn a_subnet_is_entered_drawn_changed_and_checked() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/new-subnet", demo.console)).await;
    browser.fill("input[aria-label='Name']", "quay lab").await;
    browser.fill("input[aria-label='Network']", "10.9.0.7/24").await;
    browser.fill("input[aria-label='Router']", "quay-router").await;
    browser.click("button[type=submit].btn-primary").await;
    // Everything that is wrong stands beside its field, at once.
    for wrong in [
        "'quay lab' holds ' '",
        "10.9.0.7/24 has host bits set",
        "'quay-router' is no IPv4 address",
        "no pool",
    ] {
        browser.wait_for_text(wrong).await;
    }
    browser.fill("input[aria-label='Name']", "quay-lab").await;
    browser.fill("input[aria-label='Network']", "10.9.0.0/24").await;
    browser.fill("input[aria-label='Router']", "10.9.0.1").await;
    browser.fill("input[aria-label='Pools']", "10.9.0.100-10.9.0.199").await;
    browser.fill("input[aria-label='Relays']", "127.0.0.1").await;
    browser.click("button[type=submit].btn-primary").await;
    browser.wait_for_text("Every address").await;
    browser.wait_for_text("100 free").await;
    browser.fill("input[aria-label='Address to reserve']", "10.9.0.150").await;
    browser.fill("input[aria-label^='Client']", "00:00:5e:00:53:22").await;
    browser.click("form button[type=submit]").await;
    browser.wait_for_text("may be lent to others").await;
    browser.fill("input[aria-label='Address to reserve']", "10.9.0.20").await;
    browser.click("form button[type=submit]").await;
    browser.wait_for_text("1 reserved").await;
    assert_eq!(
        demo.client().subnets_reservations("quay-lab").await.unwrap()[0].machine.as_deref(),
        Some("auklet-chart")
    );

    browser.go(&format!("{}/subnets/tern-bay", demo.console)).await;
    browser.wait_for_text("guillemot-display-1").await;
    browser.picture("console-subnet.png").await;
    browser.go(&format!("{}/subnets", demo.console)).await;
    browser.wait_for_text("4 subnets").await;
    let names = async || browser.texts("tbody td:first-child").await;
    browser.click("thead th:nth-child(1) button").await;
    assert_eq!(names().await, ["holm-quay", "quay-lab", "skerry-point", "tern-bay"]);
    browser.click("thead th:nth-child(1) button").await;
    assert_eq!(names().await, ["tern-bay", "skerry-point", "quay-lab", "holm-quay"]);
    browser.go(&format!("{}/subnets/skua-pier/edit", demo.console)).await;
    browser.wait_for_text("no subnet is named 'skua-pier'").await;
    browser.go(&format!("{}/check", demo.console)).await;
    browser.wait_for_text("no loader is there for it").await;
    browser.wait_for_text("its digest is right").await;
    // Times are shown as their reader has them.
    let text = browser.text().await;
    let stamp = text.split_whitespace().find(|word| {
        word.trim_matches(|mark: char| !mark.is_alphanumeric()).parse::<jiff::Timestamp>().is_ok()
    });
    assert_eq!(stamp, None, "{text}");
    browser.picture("console-check.png").await;
    let narrow = Browser::open(390, 844, false).await;
    for page in ["/subnets/tern-bay", "/check", "/traces/guillemot-display-1", "/new-subnet"] {
        narrow.fits(&format!("{}{page}", demo.console)).await;
    }
    narrow.close().await;
    browser.close().await;
}

#[tokio::test]
async fn an_image_is_brought_in_looked_into_and_its_revisions_are_kept() {
    let demo = Demo::start();
    let folder = tempfile::tempdir().unwrap();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/images", demo.console)).await;
    browser.wait_for_text("5 images").await;
    // What needs somebody stands first, and says what it lacks.
    assert_eq!(browser.texts("tbody td:first-child a").await[0], "bollard-9");
    browser.wait_for_text("the installer's second stage is missing").await;
    browser.picture("console-images.png").await;

    // A large file, in pieces, from the page; what it is, is read in it.
    let mut kernel = vec![0; 40 * 1024 * 1024];
    kernel[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    kernel[0x202..0x206].copy_from_slice(b"HdrS");
    kernel[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    kernel[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    kernel[0x236] = 1;
    kernel[0x1200..0x1210].copy_from_slice(b"7.1.0-quay #1 x\0");
    let path = folder.path().join("vmlinuz");
    std::fs::write(&path, kernel).unwrap();
    browser.go(&format!("{}/import", demo.console)).await;
    browser.type_into("input[aria-label='Files']", path.to_str().unwrap()).await;
    browser.wait_for_text("kernel_version of the boot header").await;
    browser.wait_for_text("what the image is for was not recognised").await;
    browser.fill("input[aria-label='Name']", "plimsoll-new").await;
    browser.choose("select[aria-label='Kind']", "tool").await;
    browser.click("button[type=submit].btn-primary").await;
    browser.wait_for_text("Revision 1, the current one").await;
    let image = demo.client().images_read("plimsoll-new").await.unwrap();
    assert_eq!(image.image.current.kernel_version.as_deref(), Some("7.1.0-quay"));
    // Its title is changed in its place; an empty one is refused, in words.
    browser.fill("input[aria-label=Title]", " ").await;
    browser.click("input[aria-label=Title] + button").await;
    browser.wait_for_text("title: empty, or with control characters").await;
    browser.fill("input[aria-label=Title]", "Plimsoll for the yard").await;
    browser.click("input[aria-label=Title] + button").await;
    browser.wait_for_no_text("title: empty").await;
    assert_eq!(demo.client().images_read("plimsoll-new").await.unwrap().image.title, "Plimsoll for the yard");
    browser.go(&format!("{}/import", demo.console)).await;
    browser.fill("input[aria-label^='Path of the ISO']", "/etc/hostname").await;
    browser.click("button[type=submit]").await;
    browser.wait_for_text("this is no ISO 9660 volume").await;

    // A second revision comes while somebody looks, and the first is taken back.
    browser.go(&format!("{}/images/plimsoll-new", demo.console)).await;
    browser.wait_for_text("live").await;
    let mut draft = lastmile_api::RevisionDraft {
        name: "plimsoll-new".into(),
        kind: Some(lastmile_api::ImageKind::Tool),
        kernel: Some("vmlinuz".into()),
        initrds: Some(vec![]),
        parameters: Some(vec!["quiet".into()]),
        ..lastmile_api::RevisionDraft::default()
    };
    draft.files.clone_from(&image.revision.files);
    demo.client().images_create(&draft).await.unwrap();
    browser.wait_for_text("Revision 2, the current one").await;
    browser.click("button[aria-label='Make it current: r1']").await;
    browser.wait_for_text("Revision 1, the current one").await;
    browser.click("button[aria-label='Retire: r2']").await;
    browser.wait_for_text("retired").await;
    browser.click("button[aria-label='Remove: r2']").await;
    browser.wait_for_no_text("Bring it back").await;
    browser.close().await;
}

#[tokio::test]
async fn a_menu_is_arranged_and_its_screen_changes_with_every_key() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/menus", demo.console)).await;
    browser.wait_for_text("2 menus").await;
    browser.go(&format!("{}/menus/workshop", demo.console)).await;
    browser.wait_for_text("GNU GRUB").await;
    browser.fill("input[aria-label='Machine']", "auklet-chart").await;
    browser.wait_for_text("-- Gannet Sound Ferries: auklet-chart --").await;
    browser.wait_for_text("Bollard 9, by hand").await;
    browser.picture("console-menu.png").await;
    // A deck display has no line that installs.
    browser.fill("input[aria-label='Machine']", "guillemot-display-1").await;
    browser.wait_for_text("not so on this machine: 'display' not in labels").await;
    browser.choose("select[aria-label='Loader']", "pxelinux").await;
    browser.wait_for_text("Automatic boot in 30 seconds").await;

    // Typed, it is seen; wrong, it is told beside its field, and nothing can be saved.
    browser.click("li:nth-child(2) button[aria-expanded=false]").await;
    browser.fill("input[aria-label='Title']", "Lantern for {{ nam }}").await;
    browser.wait_for_text("Values are: name").await;
    assert_eq!(browser.texts("button.btn-primary[disabled]").await, ["Save"]);
    browser.fill("input[aria-label='Title']", "Lantern for {{ name }}").await;
    browser.wait_for_text("Lantern for guillemot-display-1").await;
    browser.fill("input[aria-label='Phrase']", "light the lamp").await;
    browser.click("button[aria-label='Move Lantern for {{ name }} down']").await;
    browser.wait_for_no_text("Values are: name").await;
    browser.click("button.btn-primary").await;
    browser.wait_for_text("saved").await;
    let menu = demo.client().menus_read("workshop").await.unwrap().value.menu;
    let keys: Vec<&str> = menu.entries.iter().map(|entry| entry.key.as_str()).collect();
    assert_eq!(keys, ["disk", "install", "lantern", "bollard", "tools"]);
    assert!(menu.entries[2].keep_guard && menu.entries[2].guard.is_none());
    assert!(!browser.text().await.contains("light the lamp"), "the phrase is still in the page");
    browser.click("main button:nth-of-type(4)").await;
    browser.click("form[aria-label='Remove menu'] button[type=submit]").await;
    browser.wait_for_text("the site, menu kiosk shows menu workshop").await;
    browser.click("form[aria-label='Remove menu'] button[type=button]").await;

    browser.go(&format!("{}/loaders", demo.console)).await;
    browser.wait_for_text("From package files").await;
    let packages = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses/arm64");
    let mut chosen: Vec<String> = std::fs::read_dir(packages)
        .unwrap()
        .map(|file| file.unwrap().path().canonicalize().unwrap().to_str().unwrap().to_owned())
        .collect();
    chosen.sort();
    browser.type_into("input[aria-label='Package files']", &chosen.join("\n")).await;
    browser.wait_for_text("signed-arm64").await;
    browser.picture("console-loaders.png").await;
    browser.click("button[aria-label='Add signed-arm64']").await;
    browser.wait_for_text("a loader named 'signed-arm64' exists already").await;
    browser.wait_for_text("PXELINUX 6.04").await;
    browser.click("button[aria-label='Remove bios-core']").await;
    browser.press("Remove loader", "Remove").await;
    browser.wait_for_no_text("Remove loader").await;
    browser.click("button[aria-label='Add bios-http']").await;
    browser.wait_for_text("bios has loader 'bios-http' already").await;
    let narrow = Browser::open(390, 844, false).await;
    for page in ["/images", "/images/bollard-9", "/import", "/menus", "/menus/workshop", "/loaders"] {
        narrow.fits(&format!("{}{page}", demo.console)).await;
    }
    narrow.close().await;
    browser.close().await;
}

//! Several machines, newcomers or installs at once: selected in a list, and acted on.

use std::time::Duration;

use lastmile_api::{ArmRequest, InstallState, InstallsListQuery, MachinesListQuery};
use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Identity, Machine, Pace};

use crate::support::{browser::Browser, demo::Demo, wait_for};

const BAR: &str = "Actions for the selection";

/// A machine's labels, details, default boot and menu.
async fn machine(demo: &Demo, name: &str) -> lastmile_api::MachineDetail {
    demo.client().machines_read(name).await.unwrap().value
}

#[tokio::test]
async fn machines_that_are_selected_are_changed_together() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines?label=chart&sort=name", demo.console)).await;
    for name in ["auklet-chart", "kittiwake-chart"] {
        browser.click(&format!("input[aria-label='Select {name}']")).await;
    }
    browser.wait_for_text("2 selected").await;
    browser.press(BAR, "Labels").await;
    browser.fill("dialog input[placeholder='kiosk spare']", "spare").await;
    // What would change is shown before it does.
    browser.wait_for_text("2 of 2 machines change.").await;
    browser.wait_for_text("auklet-chart: labels").await;
    assert!(!machine(&demo, "auklet-chart").await.machine.labels.contains(&"spare".into()));
    browser.press("Change labels of 2 machines", "Save").await;
    browser.wait_for_no_text("2 of 2 machines change.").await;
    for name in ["auklet-chart", "kittiwake-chart"] {
        assert!(machine(&demo, name).await.machine.labels.contains(&"spare".into()), "{name}");
    }
    browser.press(BAR, "Detail").await;
    browser.fill("dialog input[placeholder='rack']", "no name").await;
    browser.fill("dialog input[placeholder='r12']", "lower").await;
    browser.wait_for_text("'no name'").await;
    browser.fill("dialog input[placeholder='rack']", "bridge").await;
    browser.fill("dialog input[placeholder='r12']", "upper").await;
    browser.wait_for_text("details.bridge (none) → upper").await;
    browser.press("Set a detail of 2 machines", "Save").await;
    browser.wait_for_no_text("details.bridge").await;
    assert_eq!(machine(&demo, "kittiwake-chart").await.details["bridge"], "upper");

    // Everything that matches the filter, without a click on each.
    browser.go(&format!("{}/machines?label=chart&sort=name", demo.console)).await;
    browser.wait_for_text("auklet-chart").await;
    browser.click("input[aria-label='Select all 2 machines']").await;
    browser.wait_for_text("2 selected").await;
    browser.press(BAR, "Default boot").await;
    browser.choose("dialog select", "menu").await;
    browser.wait_for_text("default_boot local-disk → menu").await;
    browser.press("Set the default boot of 2 machines", "Save").await;
    browser.wait_for_no_text("default_boot").await;
    browser.press(BAR, "Menu").await;
    browser.choose("dialog select", "workshop").await;
    browser.wait_for_text("2 of 2 machines change.").await;
    browser.press("Set the menu of 2 machines", "Save").await;
    browser.wait_for_no_text("2 of 2 machines change.").await;
    let kittiwake = machine(&demo, "kittiwake-chart").await;
    assert_eq!(kittiwake.machine.default_boot, lastmile_api::DefaultBootDraft::Menu);
    assert_eq!(kittiwake.menu.as_deref(), Some("workshop"));
    // A filter that changes takes the selection with it: what is not seen is not acted on.
    browser.fill("input[type=search]", "kittiwake").await;
    browser.wait_for_no_text("2 selected").await;
    browser.close().await;
}

#[tokio::test]
async fn a_selection_is_exported_named_armed_and_removed() {
    let demo = Demo::start();
    let downloads = tempfile::tempdir().unwrap();
    let browser = Browser::open(1280, 800, false).await;
    browser.save_downloads(downloads.path()).await;
    browser.go(&format!("{}/machines?sort=name", demo.console)).await;
    // A range: the first, then the third with the shift key.
    browser.wait_for_text("auklet-chart").await;
    let names = browser.texts("a[data-row]").await;
    browser.click(&format!("input[aria-label='Select {}']", names[0])).await;
    let with_shift = "document.querySelector(arguments[0]).dispatchEvent(new MouseEvent('click', { bubbles: true, \
                      shiftKey: true }))";
    let third = format!("input[aria-label='Select {}']", names[2]);
    browser.client.execute(with_shift, vec![third.into()]).await.unwrap();
    browser.wait_for_text("3 selected").await;
    browser.press(BAR, "Export").await;
    let csv = wait_for("the exported file", Duration::from_secs(20), || {
        std::fs::read_to_string(downloads.path().join("machines.csv"))
            .ok()
            .filter(|text| text.ends_with('\n'))
    });
    assert!(csv.lines().next().unwrap().starts_with("name,mac"), "{csv}");
    assert_eq!(csv.lines().count(), 4, "{csv}");
    assert!(names[..3].iter().all(|name| csv.contains(name.as_str())), "{csv}");

    browser.press(BAR, "Name by pattern").await;
    let meant = "return document.querySelector(\"input[placeholder='their names, or none']\")?.value ?? ''";
    let end = std::time::Instant::now() + Duration::from_secs(20);
    loop {
        let meant = browser.client.execute(meant, vec![]).await.unwrap();
        if meant.as_str().is_some_and(|meant| names[..3].iter().all(|name| meant.contains(name.as_str()))) {
            break;
        }
        assert!(std::time::Instant::now() < end, "{meant} are to be named");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // Arming starts from the selection: who has what and loses what stands in one table.
    browser.go(&format!("{}/machines?label=chart&sort=name", demo.console)).await;
    browser.click("input[aria-label='Select all 2 machines']").await;
    browser.press(BAR, "Arm").await;
    // What their label says; of this one nothing is said yet, and each is told so.
    browser.choose("form label:nth-of-type(1) select", ":label").await;
    browser.choose("form label:nth-of-type(2) select", ":label").await;
    browser.wait_for_text("no label of auklet-chart names any").await;
    let label = lastmile_api::LabelDraft {
        image: Some("tidewrack-12".into()),
        answers: Some("quay-server".into()),
        ..lastmile_api::LabelDraft::default()
    };
    demo.client().labels_save("chart", &label).await.unwrap();
    browser.go(&format!("{}/machines?label=chart&sort=name", demo.console)).await;
    browser.click("input[aria-label='Select all 2 machines']").await;
    browser.press(BAR, "Arm").await;
    browser.choose("form label:nth-of-type(1) select", ":label").await;
    browser.choose("form label:nth-of-type(2) select", ":label").await;
    browser.wait_for_text("quay-server v2").await;
    browser.wait_for_text("tidewrack-12 r1 as kittiwake-chart").await;
    // Whoever something stands in the way of comes first: not the first by name, which the demo is installing.
    let running = demo.client().machines_read("auklet-chart").await.unwrap().value.machine.install.unwrap();
    demo.client().installs_cancel(running).await.unwrap();
    let armed = lastmile_api::ArmRequest {
        machine: "kittiwake-chart".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: std::collections::BTreeMap::new(),
    };
    let armed = demo.client().installs_arm(&armed).await.unwrap().number;
    browser.choose("form label:nth-of-type(1) select", "tidewrack-12").await;
    let table = "table[aria-label='What would happen'] tbody td:first-child";
    browser.wait_for_texts(table, &["kittiwake-chart", "auklet-chart"]).await;
    demo.client().installs_cancel(armed).await.unwrap();
    browser.wait_for_text("bridge-chart v").await;
    browser.choose("form label:nth-of-type(2) select", "bridge-chart").await;
    browser.wait_for_text("auklet-chart").await;
    browser.wait_for_text("kittiwake-chart").await;

    let all = || async { demo.client().machines_list(&MachinesListQuery::default()).await.unwrap().total };
    let before = all().await;
    browser.go(&format!("{}/machines?text=tern-gate-1", demo.console)).await;
    browser.click("input[aria-label='Select tern-gate-1']").await;
    browser.press(BAR, "Remove").await;
    browser.wait_for_text("Remove tern-gate-1?").await;
    browser.press("Remove tern-gate-1?", "Keep them").await;
    browser.wait_for_no_text("Remove tern-gate-1?").await;
    assert_eq!(all().await, before);
    browser.press(BAR, "Remove").await;
    browser.press("Remove tern-gate-1?", "Remove").await;
    browser.wait_for_text("No machine matches").await;
    assert_eq!(all().await, before - 1);
    browser.close().await;
}

#[tokio::test]
async fn newcomers_are_adopted_together() {
    let demo = Demo::start();
    let reached = demo.reached().await;
    for last in [0xe1, 0xe2] {
        let mac = format!("02:00:5e:00:53:{last:02x}").parse().unwrap();
        let identity = Identity { mac, architecture: Architecture::UefiX64 };
        Machine::new(identity, reached, Pace::FULL).unwrap().boot(&mut |_| {}).await.unwrap();
    }
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/newcomers", demo.console)).await;
    for last in ["e1", "e2"] {
        browser.click(&format!("input[aria-label='Select 02:00:5e:00:53:{last}']")).await;
    }
    browser.click("main button.btn-primary").await;
    browser.fill("dialog input[placeholder^='machine-']", "auklet-chart").await;
    browser.press("Adopt 2 machines", "Show the names").await;
    browser.wait_for_text("None was adopted.").await;
    browser.fill("dialog input[placeholder^='machine-']", "berth-{{ counter | pad(2) }}").await;
    browser.fill("dialog input[type=number]", "7").await;
    browser.fill("dialog input[placeholder=kiosk]", "berth").await;
    browser.press("Adopt 2 machines", "Show the names").await;
    browser.wait_for_text("berth-07, berth-08").await;
    browser.press("Adopt 2 machines", "Adopt").await;
    browser.wait_for_no_text("02:00:5e:00:53:e1").await;
    let adopted = machine(&demo, "berth-08").await;
    assert_eq!(adopted.machine.labels, ["berth"]);
    // One by its row's button, under the name that the service proposes.
    browser.click("button[aria-label='Adopt 00:00:5e:00:53:51']").await;
    browser.press("Adopt 00:00:5e:00:53:51", "Adopt").await;
    browser.wait_for_no_text("00:00:5e:00:53:51").await;
    assert!(demo.client().machines_read("machine-00005e005351").await.is_ok());
    browser.close().await;
}

#[tokio::test]
async fn several_installs_are_cancelled_and_armed_again() {
    let demo = Demo::start();
    let client = demo.client();
    // None of the demo's own machines: these boot only if somebody switches them on.
    let mut numbers = Vec::new();
    for (index, name) in ["berth-1", "berth-2"].into_iter().enumerate() {
        let draft = lastmile_api::MachineDraft::new(name, vec![format!("02:00:5e:00:53:d{index}")]);
        client.machines_create(&draft).await.unwrap();
        let arm = ArmRequest {
            machine: name.into(),
            image: "tidewrack-12".into(),
            answers: "quay-server".into(),
            asked: Default::default(),
        };
        numbers.push(client.installs_arm(&arm).await.unwrap().number);
    }
    let state = async |number: i64| {
        let all = client.installs_list(&InstallsListQuery::default()).await.unwrap().installs;
        all.into_iter().find(|install| install.number == number).unwrap().state
    };
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/installs", demo.console)).await;
    for number in &numbers {
        browser.click(&format!("input[aria-label='Select install {number}']")).await;
    }
    browser.wait_for_text("2 installs selected").await;
    browser.press("Selected installs", "Cancel").await;
    browser.press("Cancel: 2 installs", "Cancel").await;
    browser.wait_for_no_text("2 installs selected").await;
    for number in &numbers {
        assert_eq!(state(*number).await, InstallState::Cancelled);
    }
    for number in &numbers {
        browser.click(&format!("input[aria-label='Select install {number}']")).await;
    }
    browser.press("Selected installs", "Arm again").await;
    browser.wait_for_text("Its disk is erased at its next network boot").await;
    browser.press("Arm again: 2 installs", "Arm again").await;
    browser.wait_for_no_text("2 installs selected").await;
    let query = InstallsListQuery { state: Some("armed".into()), ..InstallsListQuery::default() };
    let armed = client.installs_list(&query).await.unwrap().installs;
    let armed: Vec<&str> = armed.iter().map(|install| install.machine.as_str()).collect();
    assert!(armed.contains(&"berth-1") && armed.contains(&"berth-2"), "{armed:?}");
    browser.close().await;
}

//! The console's forms: every error beside its field, nothing saved halfway, nobody else's change overwritten.

use std::process::Command;

use crate::support::{browser::Browser, demo::Demo, service::LASTMILE};

/// A command of somebody else, who works at the same time.
fn somebody_else(demo: &Demo, words: &[&str]) {
    let ended = Command::new(LASTMILE).args(words).args(["--server", &demo.console]).status().unwrap();
    assert!(ended.success(), "{words:?}");
}

/// What is said below the field with that label.
async fn said_below(browser: &Browser, label: &str, text: &str) {
    let path =
        format!("//div[label/span[normalize-space()='{label}']]/p[@role='alert'][contains(., \"{text}\")]");
    let found = browser.client.wait().for_element(fantoccini::Locator::XPath(&path)).await;
    assert!(found.is_ok(), "{label} does not say {text:?}; the page says\n{}", browser.text().await);
}

#[tokio::test]
async fn a_machine_is_added_changed_renamed_and_removed() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/machines", demo.console)).await;
    browser.follow("a[href='/new-machine']").await;
    browser.fill("input[placeholder='auklet-chart']", "quay kiosk").await;
    browser.fill("input[placeholder^='02:00']", "00:00:5e:00:53:zz 00:00:5e:00:53:22").await;
    browser.fill("textarea[placeholder='rack=r12']", "two words=r12").await;
    browser.press("Machine", "Add").await;
    said_below(&browser, "Name", "quay kiosk").await;
    said_below(&browser, "MAC addresses", "00:00:5e:00:53:zz").await;
    said_below(&browser, "Details, one on each line", "two words").await;
    browser.fill("input[placeholder='auklet-chart']", "quay-kiosk-9").await;
    browser.fill("input[placeholder^='02:00']", "02:00:5e:00:53:99").await;
    browser.fill("textarea[placeholder='rack=r12']", "rack=r12").await;
    browser.press("Machine", "Add").await;
    browser.wait_for_text("If it boots now").await;

    // An address that another machine has is refused beside the field; the rest of what was entered stays.
    somebody_else(&demo, &["subnet", "reserve", "skerry-point", "192.0.2.77", "quay-kiosk-9"]);
    browser.wait_for_text("192.0.2.77").await;
    browser.click("#tab-settings").await;
    browser.fill("textarea[placeholder^='02:00']", "02:00:5e:00:53:99\n00:00:5e:00:53:22").await;
    browser.fill("input[placeholder='kiosk spare']", "spare").await;
    browser.press("Machine", "Save").await;
    said_below(&browser, "MAC addresses, one on each line", "auklet-chart").await;
    browser.fill("textarea[placeholder^='02:00']", "02:00:5e:00:53:99").await;
    browser.fill("textarea[placeholder^='interface-mtu']", "interface-mtu=1400").await;
    browser.press("Machine", "Save").await;
    browser.wait_for_text_in("form [role=status]", "saved").await;
    let saved = demo.client().machines_read("quay-kiosk-9").await.unwrap().value;
    assert_eq!(saved.machine.labels, ["spare"]);
    assert_eq!(saved.details["rack"], "r12");
    assert_eq!(saved.options["interface-mtu"], "1400");

    browser.press("Machine", "Rename").await;
    browser.fill("form[aria-label='Rename machine'] input", "auklet-chart").await;
    browser.press("Rename machine", "Rename").await;
    browser.wait_for_text("auklet-chart").await;
    browser.wait_for_text("Nothing was saved").await;
    browser.fill("form[aria-label='Rename machine'] input", "quay-kiosk-10").await;
    browser.press("Rename machine", "Rename").await;
    browser.wait_for_text_in("h1", "quay-kiosk-10").await;
    browser.click("#tab-settings").await;
    browser.press("Machine", "Remove").await;
    browser.wait_for_text("It becomes an unknown machine to its subnet.").await;
    browser.press("Remove machine", "Remove").await;
    browser.wait_for_no_text("quay-kiosk-10").await;
    assert!(demo.client().machines_read("quay-kiosk-10").await.is_err());
    browser.close().await;
}

#[tokio::test]
async fn labels_and_settings_are_entered() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/labels/new", demo.console)).await;
    browser.fill("input[placeholder=kiosk]", "two words").await;
    browser.fill("textarea", "console=ttyS0 {{ nam }}").await;
    browser.press("Label", "Add").await;
    said_below(&browser, "Name", "two words").await;
    said_below(&browser, "Kernel parameters, one on each line", "nam").await;
    browser.fill("input[placeholder=kiosk]", "bridge").await;
    browser.fill("textarea", "console=ttyS0,115200").await;
    browser.fill("input[type=number]", "300").await;
    browser.choose("form[aria-label=Label] div.grid div:nth-of-type(1) select", "tidewrack-12").await;
    browser.choose("form[aria-label=Label] div.grid div:nth-of-type(2) select", "ticket-kiosk").await;
    browser.press("Label", "Add").await;
    browser.wait_for_text_in("h1", "bridge").await;
    let label = demo.client().labels_read("bridge").await.unwrap().value;
    assert_eq!(
        (label.rank, label.parameters.as_slice()),
        (300, ["console=ttyS0,115200".to_owned()].as_slice())
    );
    assert_eq!(
        (label.image.as_deref(), label.answers.as_deref()),
        (Some("tidewrack-12"), Some("ticket-kiosk"))
    );
    // Changed meanwhile by somebody else: told, and nothing overwritten.
    browser.fill("input[placeholder=quiet]", "quiet").await;
    somebody_else(&demo, &["label", "change", "bridge", "--set", "rank=400"]);
    browser.press("Label", "Save").await;
    browser.wait_for_text("It was changed by somebody else while you edited it. Nothing was saved.").await;
    assert!(!browser.text().await.contains("Nothing was saved: see the fields"), "told once");
    browser.press("Label", "Take what is saved").await;
    browser.press("Label", "Rename").await;
    browser.fill("form[aria-label='Rename label'] input", "upper-bridge").await;
    browser.press("Rename label", "Rename").await;
    browser.wait_for_text_in("h1", "upper-bridge").await;
    assert_eq!(demo.client().labels_read("upper-bridge").await.unwrap().value.rank, 400);

    browser.go(&format!("{}/settings", demo.console)).await;
    browser.choose("form[aria-label=Settings] select", "workshop").await;
    browser.fill("form[aria-label=Settings] div:nth-of-type(2) input", "12").await;
    browser.press("Settings", "Save").await;
    browser.wait_for_text_in("form [role=status]", "saved").await;
    let settings = demo.client().settings_read().await.unwrap().value;
    assert_eq!((settings.menu.as_deref(), settings.verify_hours), (Some("workshop"), 12));
    browser.close().await;
}

#[tokio::test]
async fn a_loader_is_added_from_files_and_nobodys_change_is_overwritten() {
    let demo = Demo::start();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("quay.efi");
    std::fs::write(&file, b"no program at all").unwrap();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/loaders", demo.console)).await;
    browser.click("main button.btn-primary").await;
    browser.fill("form[aria-label=Loader] input[placeholder='x64-signed']", "arm quay").await;
    browser.type_into("input[aria-label='Loader files']", file.to_str().unwrap()).await;
    browser.wait_for_text_in("form[aria-label=Loader] select", "quay.efi").await;
    browser.press("Loader", "Add").await;
    said_below(&browser, "Name", "arm quay").await;
    said_below(&browser, "Firmware", "").await;
    browser.fill("form[aria-label=Loader] input[placeholder='x64-signed']", "arm-quay").await;
    browser.choose("form[aria-label=Loader] div:nth-of-type(4) select", "uefi-arm32").await;
    browser.choose("form[aria-label=Loader] div:nth-of-type(5) select", "none").await;
    browser.press("Loader", "Add").await;
    browser.wait_for_text("uefi-arm32").await;

    browser.click("button[aria-label='Change arm-quay']").await;
    browser.fill("form[aria-label=Loader] div:nth-of-type(4) input", "Puffin").await;
    somebody_else(&demo, &["loader", "change", "arm-quay", "--set", "user_class=theirs"]);
    browser.press("Loader", "Save").await;
    browser.wait_for_text("It was changed by somebody else while you edited it. Nothing was saved.").await;
    let class = async || demo.client().loaders_read("arm-quay").await.unwrap().value.class;
    assert_eq!(class().await, None);
    browser.press("Loader", "Save mine over it").await;
    browser.wait_for_text("class Puffin").await;
    // Removed only after a question.
    browser.click("button[aria-label='Remove arm-quay']").await;
    browser.wait_for_text("nothing to boot, until another loader is added").await;
    browser.press("Remove loader", "Remove").await;
    browser.wait_for_no_text("arm-quay").await;
    browser.close().await;
}

#[tokio::test]
async fn machines_come_from_a_csv_file_as_a_whole_or_not_at_all() {
    let demo = Demo::start();
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/import-machines", demo.console)).await;
    let wrong =
        file("wrong.csv", "name,mac,detail.rack\nlocker 1,02:00:5e:00:53:71,r1\nlocker-2,02:00:5e,r1\n");
    browser.type_into("input[aria-label='CSV file']", &wrong).await;
    browser.wait_for_text("Nothing was saved: 2 cells are wrong.").await;
    browser.wait_for_text("line 2, column name").await;
    browser.wait_for_text("line 3, column mac").await;
    let right = file(
        "right.csv",
        "name,mac,detail.rack\nlocker-1,02:00:5e:00:53:71,r1\nauklet-chart,00:00:5e:00:53:22,r9\n",
    );
    browser.type_into("input[aria-label='CSV file']", &right).await;
    browser.wait_for_text("1 new, 1 changed, 0 unchanged").await;
    assert!(demo.client().machines_read("locker-1").await.is_err(), "only shown so far");
    browser.click("main button.btn-primary").await;
    browser.wait_for_text("locker-1").await;
    assert_eq!(demo.client().machines_read("auklet-chart").await.unwrap().value.details["rack"], "r9");

    // Dropped anywhere on the page.
    browser.go(&format!("{}/import-machines", demo.console)).await;
    browser.wait_for_text("Drop a CSV file here").await;
    let drop = "const data = new DataTransfer(); \
                data.items.add(new File([arguments[0]], 'dropped.csv', { type: 'text/csv' })); \
                window.dispatchEvent(new DragEvent('drop', { dataTransfer: data, cancelable: true }))";
    let text = "name,mac\nlocker-3,02:00:5e:00:53:73\n";
    browser.client.execute(drop, vec![text.into()]).await.unwrap();
    browser.wait_for_text("dropped.csv").await;
    browser.wait_for_text("1 new, 0 changed, 0 unchanged").await;
    browser.close().await;
}

#[tokio::test]
async fn a_lease_is_ended_from_the_picture_of_its_subnet() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/subnets/skerry-point", demo.console)).await;
    let button = "button[aria-label^='End the lease']";
    let wait = browser.client.wait().at_most(std::time::Duration::from_secs(20));
    let first = wait.for_element(fantoccini::Locator::Css(button)).await.unwrap();
    let ended = first.attr("aria-label").await.unwrap().unwrap();
    let address = ended.strip_prefix("End the lease ").unwrap();
    browser.click(&format!("button[aria-label='{ended}']")).await;
    browser.press(&format!("{ended}?"), "End the lease").await;
    // Remembered for its machine, and free for others.
    let forget = format!("button[aria-label='Forget {address}']");
    let gone = format!("button[aria-label='{ended}']");
    let end = std::time::Instant::now() + std::time::Duration::from_secs(20);
    loop {
        let still = browser.client.find_all(fantoccini::Locator::Css(&gone)).await.unwrap().len();
        if still == 0 {
            break;
        }
        assert!(std::time::Instant::now() < end, "{address} is still leased");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let _ = forget;
    browser.close().await;
}

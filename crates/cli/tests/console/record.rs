//! The record in the console: arming, how far installs are, history, webhooks, and names by pattern.

use std::time::Duration;

use lastmile_api::{Family, ImageKind, InstallState, InstallsListQuery, MachinesListQuery, RevisionDraft};

use crate::support::{browser::Browser, demo::Demo, wait_for};

#[tokio::test]
async fn an_install_is_armed_watched_and_cancelled_in_the_console() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines/kittiwake-chart", demo.console)).await;
    browser.follow("a[href='/arm?machine=kittiwake-chart']").await;
    browser.wait_for_text("And every machine with all of these labels").await;
    browser.wait_for_text("tidewrack-12 r").await;
    browser.choose("form label:nth-of-type(1) select", "tidewrack-12").await;
    browser.wait_for_text("bridge-chart v").await;
    browser.wait_for_text("choose image and answers").await;
    browser.choose("form label:nth-of-type(2) select", "bridge-chart").await;
    browser.wait_for_text("One machine, on which nothing is installed by the record.").await;
    browser.wait_for_text("its only disk").await;
    // The default is what the field shows, and what is said.
    browser.wait_for_text("as kittiwake-chart-7").await;
    browser.wait_for_text("At which berth does it stand?").await;
    browser.picture("console-arm.png").await;
    browser.fill("fieldset label input", "north").await;
    browser.wait_for_text("'north' is no whole number").await;
    browser.wait_for_text("None can be armed, so none would be.").await;
    browser.click("form button.btn-primary").await;
    browser.wait_for_text("Nothing was armed.").await;
    browser.fill("fieldset label input", "7").await;
    browser.click("form button.btn-primary").await;
    browser.wait_for_text("Asked: berth").await;
    browser.click("details summary.btn").await;
    browser.click("details button.btn-error").await;
    browser.wait_for_text("Arm it again").await;
    let query = InstallsListQuery { machine: Some("kittiwake-chart".into()), ..InstallsListQuery::default() };
    assert_eq!(demo.client().installs_list(&query).await.unwrap().installs[0].state, InstallState::Cancelled);

    // An installer's lines, and once some have ended, how far the others are.
    browser.go(&format!("{}/installs/1", demo.console)).await;
    browser.wait_for_text("grub-installer: the boot loader is set up").await;
    browser.close().await;
}

#[tokio::test]
async fn the_record_is_read_as_a_whole() {
    let demo = Demo::start();
    let client = demo.client();
    let query = InstallsListQuery { state: Some("installed".into()), ..InstallsListQuery::default() };
    let mut ended = 0;
    for _ in 0..600 {
        ended = client.installs_list(&query).await.unwrap().total;
        if ended >= 3 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(ended >= 3, "the demo's machines were not installed");
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/history", demo.console)).await;
    browser.wait_for_text("Hosts and their images").await;
    browser.wait_for_text("tidewrack-12 r1").await;
    browser.wait_for_text("100.0 %").await;
    browser.choose("select[aria-label='Group']", "label").await;
    browser.wait_for_text("kiosk").await;
    // Both charts are drawn: a bar for the day, and one for each group that ended.
    for (figure, bars) in [("Installs that ended, day by day", 1), ("How long installs took", 3)] {
        let css = format!("figure[aria-label='{figure}'] svg .recharts-bar-rectangle");
        let drawn = wait_for_elements(&browser, &css, bars).await;
        assert!(drawn >= bars, "{figure} has {drawn} bars");
    }
    browser.picture("console-history.png").await;
    browser.wait_for_text("none is behind the current revision").await;
    // A newer revision is brought in: who is installed by now is behind.
    let files = vec![client.upload_bytes("linux", b"a newer kernel".to_vec()).await.unwrap()];
    let newer = RevisionDraft {
        name: "tidewrack-12".into(),
        kind: Some(ImageKind::Installer),
        family: Some(Family::Preseed),
        kernel: Some("linux".into()),
        initrds: Some(vec![]),
        files,
        ..RevisionDraft::default()
    };
    client.images_create(&newer).await.unwrap();
    browser.go(&format!("{}/history", demo.console)).await;
    browser.wait_for_text("behind the current revision").await;
    browser.click("input[type='checkbox']").await;
    browser.wait_for_text("r2 is current").await;

    browser.follow("a[href='/webhooks']").await;
    browser.wait_for_text("monitoring").await;
    // One of the demo's two is away for a while, and is told again until it takes what it is told.
    browser.wait_for_text("records").await;
    browser.wait_for_text("delivered").await;
    browser.click("main button.btn-primary").await;
    browser.fill("form[aria-label='Webhook'] input[placeholder='records']", "archive").await;
    browser
        .fill("form[aria-label='Webhook'] input[placeholder^='https']", "ftp://archive.gannet.example")
        .await;
    browser.click("form[aria-label='Webhook'] button[type=submit]").await;
    browser.wait_for_text("is no URL to send to").await;
    // A port that nobody listens on.
    browser
        .fill("form[aria-label='Webhook'] input[placeholder^='https']", "http://127.0.0.1:9/installs")
        .await;
    browser.click("form[aria-label='Webhook'] button[type=submit]").await;
    browser.wait_for_text("it is not shown again").await;
    browser.click("dialog .btn-primary").await;
    browser.click("li button").await;
    browser.wait_for_text("not reached").await;
    browser.wait_for_text("Abandon").await;
    browser.picture("console-webhooks.png").await;
    browser.close().await;

    let narrow = Browser::open(390, 844, false).await;
    for page in ["/history", "/webhooks", "/arm", "/naming", "/installs", "/installs/1"] {
        narrow.fits(&format!("{}{page}", demo.console)).await;
        if std::env::var_os("LASTMILE_LOOK").is_some() {
            narrow.picture(&format!("narrow{}.png", page.replace('/', "-"))).await;
        }
    }
    narrow.close().await;
}

/// Waits until so many elements are there; gives how many are.
async fn wait_for_elements(browser: &Browser, css: &str, least: usize) -> usize {
    let mut found = 0;
    for _ in 0..100 {
        found = browser.client.find_all(fantoccini::Locator::Css(css)).await.unwrap().len();
        if found >= least {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    found
}

/// Machines of the demo that are named anew.
const MEANT: [&str; 3] = ["skerry-kiosk-1", "petrel-display-3", "skerry-gate-2"];

#[tokio::test]
async fn names_are_seen_before_they_are_saved() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, true).await;
    browser.go(&format!("{}/naming?machine={}", demo.console, MEANT.join("%20"))).await;
    browser.wait_for_text("Nothing is asked for yet").await;
    browser.fill("input[placeholder*='counter | pad']", "tern-{{ labels[0] }}").await;
    browser.wait_for_text("tern-display").await;
    browser.fill("input[placeholder*='counter | pad']", "tern").await;
    browser.wait_for_text("would be called so, too").await;
    browser.picture("console-naming.png").await;
    browser.fill("input[placeholder*='counter | pad']", "{{ rack }}").await;
    browser.wait_for_text("at column 4").await;
    browser.fill("input[placeholder*='counter | pad']", "point-{{ counter | pad(3) }}").await;
    browser.wait_for_text("goes on under its present name").await;
    // Installs go on in the demo: a machine is named once its own has ended.
    let all_ended = || {
        let open = std::process::Command::new(crate::support::service::LASTMILE)
            .args([
                "--server",
                &demo.console,
                "--json",
                "install",
                "list",
                "--state",
                "armed,booting,installing",
            ])
            .output()
            .unwrap();
        (String::from_utf8_lossy(&open.stdout).trim() == "[]").then_some(())
    };
    wait_for("the end of the installs", Duration::from_secs(60), all_ended);
    // The page sees it by itself.
    browser.wait_for_text("All 3 can be renamed so").await;
    browser.click("form button.btn-primary").await;
    browser.wait_for_text("machines are saved").await;
    let query = MachinesListQuery { text: Some("point-".into()), ..MachinesListQuery::default() };
    assert_eq!(demo.client().machines_list(&query).await.unwrap().total, MEANT.len());
    browser.close().await;
}

//! What machines are built of, as the console shows it, on the crates of the demo that are surveyed at Tern Bay.

use crate::support::{browser::Browser, demo::Demo};

/// Kiosks of one order; the second came with half the memory.
const KIOSK: &str = "00:00:5e:00:53:a1";
const POOR: &str = "00:00:5e:00:53:a3";

/// The page of a newcomer's facts.
fn facts(demo: &Demo, mac: &str) -> String {
    format!("{}/facts/{}", demo.console, mac.replace(':', "%3A"))
}

#[tokio::test]
async fn newcomers_are_known_by_what_is_in_them_and_compared() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/newcomers", demo.console)).await;
    // They come one after the other before the eyes of whoever looks.
    for mac in [KIOSK, POOR] {
        let link = format!("tr:has([href='/traces/{}'])", mac.replace(':', "%3A"));
        browser.wait_for_text_in(&link, "MK-8 kiosk").await;
        browser.wait_for_text_in(&link, "waits in the survey").await;
    }
    browser.follow("[href='/facts/00%3A00%3A5e%3A00%3A53%3Aa1']").await;
    for said in [
        "Marram Shore 4",
        "1 socket, 4 cores",
        "2 of 2 slots filled",
        "Tideline 240",
        "sw-tern-1 Ethernet1/1",
    ] {
        browser.wait_for_text(said).await;
    }
    let slots = browser.texts("table[aria-label='Memory'] tbody tr").await;
    assert_eq!(slots.len(), 2, "{slots:#?}");
    browser.wait_for_text_in("table[aria-label^='Surveys of'] tbody tr", "nothing").await;

    browser.fill("[aria-label='Compare with']", &format!("{POOR}\u{e007}")).await;
    let differences = format!("table[aria-label='{KIOSK} and {POOR}'] tbody tr");
    browser.wait_for_text_in(&differences, "memory.mib").await;
    let rows = browser.texts(&differences).await;
    let memory = rows.iter().find(|row| row.starts_with("memory.mib")).unwrap();
    assert!(memory.contains("8192") && memory.contains("4096"), "{rows:#?}");
    assert!(rows.iter().all(|row| !row.starts_with("cpu")), "what is alike is not listed: {rows:#?}");
    // One that was never seen is said to be missing where it was asked for; what is shown stays.
    browser.fill("[aria-label='Compare with']", "00:00:5e:00:53:ff\u{e007}").await;
    browser.wait_for_text("00:00:5e:00:53:ff").await;
    browser.wait_for_text_in("[role=alert]", "was never surveyed").await;
    browser.wait_for_text("Marram Shore 4").await;

    browser.go(&facts(&demo, "00:00:5e:00:53:ff")).await;
    browser.wait_for_text("was never surveyed").await;
    browser.close().await;
}

#[tokio::test]
async fn machines_are_found_by_what_was_measured_and_a_wrong_name_is_refused() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&facts(&demo, KIOSK)).await;
    browser.wait_for_text("Marram Shore 4").await;
    browser.go(&format!("{}/newcomers", demo.console)).await;
    browser.click(&format!("button[aria-label='Adopt {KIOSK}']")).await;
    browser.press(&format!("Adopt {KIOSK}"), "Adopt").await;
    browser.wait_for_no_text(KIOSK).await;

    browser.go(&format!("{}/machines", demo.console)).await;
    browser.wait_for_text("skerry-kiosk-1").await;
    browser.click("[aria-label='Filter by what was measured']").await;
    let field = "[aria-label='Where, by what was measured']";
    browser.fill(field, "memory_gb >= 8\u{e007}").await;
    browser.wait_for_text("names memory_gb, which nothing is called").await;
    // The demo's rules have registered two servers, too.
    let so = ["machine-00005e0053a1", "tern-server-1", "tern-server-2"];
    browser.fill(field, "memory_gib >= 8\u{e007}").await;
    browser.wait_for_no_text("skerry-kiosk-1").await;
    browser.wait_for_texts("a[data-row]", &so).await;
    // The condition is part of the address: it is sent to a colleague, and survives a reload.
    browser.client.refresh().await.unwrap();
    browser.wait_for_texts("a[data-row]", &so).await;
    // What was measured is a column, and the list is ordered by it.
    browser.click("details.dropdown > summary").await;
    browser.fill("[aria-label='A column of what was measured']", "memory_gib\u{e007}").await;
    browser.wait_for_texts("[role=cell][title='64']", &["64", "64"]).await;
    browser.press_button("memory_gib").await;
    browser.press_button("memory_gib").await;
    browser.wait_for_texts("a[data-row]", &["tern-server-1", "tern-server-2", "machine-00005e0053a1"]).await;
    browser.fill(field, "memory_gib >= 900\u{e007}").await;
    browser.wait_for_text("No machine matches").await;
    browser.close().await;
}

#[tokio::test]
async fn a_package_that_is_none_makes_no_survey() {
    let demo = Demo::start();
    let folder = tempfile::tempdir().unwrap();
    let wrong = folder.path().join("linux-image-6.1.0-57-amd64.deb");
    std::fs::write(&wrong, "a page that said: not found\n").unwrap();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/import", demo.console)).await;
    browser.click("input[name=kernel]:not(:checked)").await;
    browser.type_into("[aria-label='Packages of the kernel']", wrong.to_str().unwrap()).await;
    let build = "//button[normalize-space()=\"Build the survey's system\"]";
    browser.client.find(fantoccini::Locator::XPath(build)).await.unwrap().click().await.unwrap();
    browser.wait_for_text_in("[role=alert]", "Nothing was made.").await;
    browser.wait_for_text_in("[role=alert]", "linux-image-6.1.0-57-amd64.deb").await;
    let images = demo.client().images_list().await.unwrap();
    let survey = images.iter().find(|image| image.name == "survey").unwrap();
    assert_eq!(survey.revisions, 1, "{images:#?}");
    browser.close().await;
}

//! What is around every page: the palette, the keyboard, the event stream.

use std::time::Duration;

use crate::support::{browser::Browser, demo::Demo};

const ESCAPE: &str = "\u{e00c}";
const ENTER: &str = "\u{e007}";
const DOWN: &str = "\u{e015}";
const CTRL_K: &str = "\u{e009}k\u{e000}";

#[tokio::test]
async fn anything_is_found_by_the_keyboard_alone() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&demo.console).await;
    browser.wait_for_text("live").await;
    browser.keys(CTRL_K).await;
    browser.wait_for_text("Overview").await;
    browser.keys("kittiwake").await;
    browser.wait_for_text_in("#found [aria-selected=true]", "kittiwake-chart").await;
    browser.keys(ENTER).await;
    browser.wait_for_text_in("h1", "kittiwake-chart").await;
    // An image by a part of its name, a page, an action, each by the arrow keys and Enter.
    browser.keys(CTRL_K).await;
    browser.keys("bollard-9").await;
    browser.wait_for_text_in("#found", "bollard-9").await;
    browser.keys(ENTER).await;
    browser.wait_for_text_in("h1", "bollard-9").await;
    browser.keys(CTRL_K).await;
    browser.keys("machine").await;
    browser.wait_for_text_in("#found", "Add a machine").await;
    let found = browser.texts("#found [role=option]").await;
    let steps = found.iter().position(|one| one.starts_with("Add a machine")).unwrap();
    browser.keys(&DOWN.repeat(steps)).await;
    browser.wait_for_text_in("#found [aria-selected=true]", "Add a machine").await;
    browser.keys(ENTER).await;
    browser.wait_for_text_in("h1", "Add a machine").await;
    browser.keys(CTRL_K).await;
    browser.keys("nothing like it").await;
    browser.wait_for_text("Nothing has this in its name.").await;
    browser.keys(ESCAPE).await;
    browser.wait_for_no_text("Nothing has this in its name.").await;
    browser.wait_for_text_in("h1", "Add a machine").await;
    browser.close().await;
}

#[tokio::test]
async fn only_a_page_that_is_seen_holds_the_event_stream() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines", demo.console)).await;
    browser.wait_for_text_in("header [role=status]", "live").await;
    let event = async |name: &str| {
        browser
            .client
            .execute("window.dispatchEvent(new Event(arguments[0]))", vec![name.into()])
            .await
            .unwrap();
    };
    event("pagehide").await;
    browser.wait_for_text_in("header [role=status]", "connecting").await;
    // What was asked for before is answered, and nothing more is asked for.
    let answered = async || {
        let count = "return performance.getEntriesByType('resource').length";
        browser.client.execute(count, Vec::new()).await.unwrap().as_u64().unwrap()
    };
    let mut before = 0;
    while before != answered().await {
        before = answered().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    // What happens meanwhile is there when it is seen again.
    let draft = lastmile_api::MachineDraft::new("berth-1", vec!["02:00:5e:00:53:d1".to_owned()]);
    demo.client().machines_create(&draft).await.unwrap();
    tokio::time::sleep(Duration::from_secs(1)).await;
    assert!(!browser.text().await.contains("berth-1"));
    assert_eq!(before, answered().await, "a page that nobody sees asks for nothing");
    event("pageshow").await;
    browser.wait_for_text_in("header [role=status]", "live").await;
    browser.wait_for_text("berth-1").await;
    browser.close().await;
}

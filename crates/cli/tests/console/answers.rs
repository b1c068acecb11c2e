//! Answers in the console: a form that follows the settings, with the finished file beside it.

use lastmile_api::ArmRequest;

use crate::support::{browser::Browser, demo::Demo};

/// The lines of the file that are lit.
const LIT: &str = "[data-changed]";

#[tokio::test]
async fn answers_are_filled_in_with_the_file_beside_them() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/answers", demo.console)).await;
    browser.wait_for_text("no problem found").await;
    browser.wait_for_text("label:gate").await;
    // What other layers say stands beside them.
    browser.wait_for_text("time zone Europe/London").await;
    browser.wait_for_text("at end power-off").await;
    browser.follow("a[href='/answers/quay-server']").await;
    browser.wait_for_text("d-i time/zone string Europe/London").await;
    browser.wait_for_text("from site").await;
    assert_eq!(browser.texts(LIT).await, Vec::<String>::new(), "nothing differs from what is saved");
    browser.fill("input[name='time_zone']", "Europe/Oslo").await;
    // What the key is for is told while it is typed.
    browser.wait_for_text("Time zone by its IANA name").await;
    browser.wait_for_text("d-i time/zone string Europe/Oslo").await;
    browser.fill("input[aria-label='Machine']", "auklet-chart").await;
    browser.wait_for_text("d-i netcfg/get_hostname string auklet-chart").await;
    let changed = ["# Answers quay-server v3 for auklet-chart", "d-i time/zone string Europe/Oslo"];
    browser.wait_for_texts(LIT, &changed).await;
    browser.picture("console-answers.png").await;

    // Wrong, it is told beside its field, and no file is shown for it.
    browser.fill("input[name='time_zone']", "Europe/Olso").await;
    browser.wait_for_text("'Europe/Olso' is in no time zone database").await;
    browser.fill("input[name='time_zone']", "Europe/Oslo").await;
    browser.wait_for_no_text("Olso").await;
    browser.fill("input[aria-label='Name of a new user']", "deckhand").await;
    browser.click("form:has(input[aria-label='Name of a new user']) button").await;
    browser.choose("select[name='users.deckhand.password']", "plain").await;
    browser.fill("input[type='password']", "over the rail").await;
    browser.wait_for_text("useradd -m").await;
    // A number is saved as one; below tables that were folded away.
    browser.click("details:has(input[aria-label='Name of a new interface']) > summary").await;
    browser.fill("input[aria-label='Name of a new interface']", "lan").await;
    browser.click("form:has(input[aria-label='Name of a new interface']) button").await;
    browser.fill("input[name='network.interfaces.lan.mtu']", "90").await;
    browser.wait_for_text("less than 576 bytes").await;
    browser.fill("input[name='network.interfaces.lan.mtu']", "9000").await;
    browser.wait_for_no_text("less than 576 bytes").await;
    browser.click("button.btn-primary").await;
    browser.wait_for_text("saved as v3").await;
    let saved = demo.client().answers_read("quay-server").await.unwrap();
    assert_eq!(saved.settings.time_zone.as_deref(), Some("Europe/Oslo"));
    assert_eq!(saved.settings.network.as_ref().unwrap().interfaces["lan"].mtu, Some(9000));
    assert!(
        saved.settings.users.contains_key("deckhand") && saved.settings.users["purser"].password.is_some()
    );
    let page = "return document.documentElement.outerHTML";
    let page = browser.client.execute(page, vec![]).await.unwrap().to_string();
    assert!(!page.contains("over the rail"), "the password is still in the page");
    browser.click("button[role='tab']:nth-of-type(3)").await;
    browser.wait_for_text("+ time_zone = \"Europe/Oslo\"").await;
    // The files of two machines, line by line.
    browser.fill("input[aria-label='Machine on the left']", "auklet-chart").await;
    browser.fill("input[aria-label='Machine on the right']", "holm-quay-server").await;
    browser.wait_for_text("+ d-i netcfg/get_hostname string holm-quay-server").await;

    // The raw view is the same settings, and what is no JSON is told.
    browser.click("button[role='tab']:nth-of-type(2)").await;
    browser.fill("textarea[aria-label='Settings as JSON']", "{\"keyboard\": \"no\"").await;
    browser.wait_for_text("This is no JSON yet").await;
    browser.fill("textarea[aria-label='Settings as JSON']", "{\"keyboard\": \"no\"}").await;
    browser.wait_for_text("nobody could log in").await;
    browser.close().await;

    let narrow = Browser::open(390, 844, false).await;
    for page in ["/answers", "/answers/quay-server", "/answers/label%3Agate"] {
        narrow.fits(&format!("{}{page}", demo.console)).await;
    }
    narrow.close().await;
}

#[tokio::test]
async fn what_is_left_open_is_answered_in_the_console() {
    let demo = Demo::start();
    let request = ArmRequest {
        machine: "kittiwake-chart".into(),
        image: "tidewrack-12".into(),
        answers: "bridge-chart".into(),
        asked: Default::default(),
    };
    let armed = demo.client().installs_arm(&request).await.unwrap();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/installs/{}", demo.console, armed.number)).await;
    browser.wait_for_text("At which berth does it stand?").await;
    browser.fill("form[aria-label='Open questions'] input", "north").await;
    browser.click("form[aria-label='Open questions'] button").await;
    browser.wait_for_text("'north' is no whole number").await;
    browser.fill("form[aria-label='Open questions'] input", "12").await;
    browser.click("form[aria-label='Open questions'] button").await;
    browser.wait_for_no_text("waits on its screen").await;
    browser.wait_for_text("Asked: berth").await;
    let parameters = demo.client().machines_read("kittiwake-chart").await.unwrap().value.plan.parameters;
    assert!(
        parameters.iter().any(|parameter| parameter.word == "hostname=kittiwake-chart-12"),
        "{parameters:?}"
    );
    browser.close().await;
}

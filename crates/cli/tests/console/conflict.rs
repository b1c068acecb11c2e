//! Two people change the same thing, one of them in the console.

use std::process::Command;

use crate::support::{browser::Browser, demo::Demo, service::LASTMILE};

const PRIMARY: &str = "button[type=submit].btn-primary";

#[tokio::test]
async fn who_saves_second_sees_what_the_first_saved_and_decides() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    let form = format!("{}/subnets/tern-bay/edit", demo.console);
    // The form is filled in; before it is saved, somebody else saves.
    let somebody_else = |domain: &str| {
        let words =
            ["subnet", "change", "tern-bay", "--set", &format!("domain={domain}"), "--server", &demo.console];
        assert!(Command::new(LASTMILE).args(words).status().unwrap().success());
    };
    browser.go(&form).await;
    browser.fill("input[aria-label='Domain']", "mine.gannet.example").await;
    somebody_else("theirs.gannet.example");
    browser.click(PRIMARY).await;
    browser.wait_for_text("It was changed by somebody else while you edited it. Nothing was saved.").await;
    assert_eq!(
        browser.texts("[role=alert] tbody tr:first-child > *").await,
        ["domain", "theirs.gannet.example", "mine.gannet.example"]
    );
    browser.picture("console-conflict.png").await;
    let domain = async || demo.client().subnets_read("tern-bay").await.unwrap().value.subnet.domain;
    assert_eq!(domain().await.as_deref(), Some("theirs.gannet.example"));
    browser.click("[role=alert] button:nth-of-type(1)").await;
    browser.wait_for_no_text("It was changed by somebody else").await;
    let field = browser.client.find(fantoccini::Locator::Css("input[aria-label='Domain']")).await.unwrap();
    assert_eq!(field.prop("value").await.unwrap().as_deref(), Some("theirs.gannet.example"));
    // Once more; now what was entered here is what counts.
    browser.fill("input[aria-label='Domain']", "mine.gannet.example").await;
    somebody_else("theirs-again.gannet.example");
    browser.click(PRIMARY).await;
    browser.wait_for_text("theirs-again.gannet.example").await;
    browser.click("[role=alert] button:nth-of-type(2)").await;
    browser.wait_for_text("Every address").await;
    assert_eq!(domain().await.as_deref(), Some("mine.gannet.example"));
    browser.close().await;
}

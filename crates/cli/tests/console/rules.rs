//! Rules in the console: what they propose is accepted, a rule is written beside what it would do, racks show who stands where.

use crate::support::{browser::Browser, demo::Demo};

const KIOSK: &str = "00:00:5e:00:53:a1";
const POOR: &str = "00:00:5e:00:53:a3";

#[tokio::test]
async fn what_rules_propose_is_accepted_by_whoever_sees_it() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/rules", demo.console)).await;
    let proposals = "ul[aria-label='Proposals'] li";
    for mac in [KIOSK, POOR] {
        browser.wait_for_text_in(proposals, mac).await;
    }
    // One that no rule names cannot be accepted, and says what to do.
    browser.wait_for_text_in(proposals, "No rule gives it a name").await;
    browser.click(&format!("[aria-label='Select {POOR}']")).await;
    browser.wait_for_text("Accept 0 proposals").await;
    browser.click(&format!("[aria-label='Select {POOR}']")).await;
    browser.click(&format!("[aria-label='Select {KIOSK}']")).await;
    browser.press_button("Accept 1 proposal").await;
    browser.wait_for_no_text(KIOSK).await;

    // It is registered, in its place, and its page says by which rule.
    browser.follow("a[href='/rules/ticket-kiosks']").await;
    browser.wait_for_text_in("table[aria-label='What it did'] tbody tr", "label kiosk").await;
    browser.wait_for_text_in("table[aria-label='What it did'] tbody tr", "console").await;
    browser.follow("table[aria-label='What it did'] a").await;
    browser.wait_for_text_in("table[aria-label='Rules'] tbody tr", "memory_gib >= 64").await;
    browser.wait_for_text_in("table[aria-label='What rules gave it'] tbody tr", "details.unit = 2-3").await;
    // Who was adopted by hand gets what rules of mode apply say.
    browser.go(&format!("{}/newcomers", demo.console)).await;
    browser.click(&format!("button[aria-label='Adopt {POOR}']")).await;
    browser.press(&format!("Adopt {POOR}"), "Adopt").await;
    browser.wait_for_no_text(POOR).await;
    browser.go(&format!("{}/racks", demo.console)).await;
    browser.wait_for_text_in("ol[aria-label^='Units of rack r12'] li", "machine-00005e0053a3").await;
    browser.close().await;
}

#[tokio::test]
async fn a_rule_is_written_beside_what_it_would_do() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines/tern-server-2", demo.console)).await;
    browser.wait_for_text("Registered").await;
    browser.go(&format!("{}/rules/new", demo.console)).await;
    let condition = "form[aria-label='Rule'] textarea";
    browser.fill(condition, "memory_gb > 2").await;
    browser.wait_for_text_in("[role=alert]", "names memory_gb, which nothing is called").await;
    browser.fill(condition, "cores >= 16 and location.unit == '20-21'").await;
    let rows = "table[aria-label='What the rule would do'] tbody tr";
    browser.wait_for_text_in(rows, "nothing to change").await;
    browser.wait_for_text_in(rows, "location.unit == '20-21'").await;
    browser.fill("form[aria-label='Rule'] input[placeholder='kiosk']", "first").await;
    browser.wait_for_text_in(rows, "label first").await;
    browser.picture("console-rule.png").await;
    // Nothing is saved before it is, and without a name it cannot be.
    assert!(demo.client().rules_list().await.unwrap().iter().all(|rule| rule.name != "first-server"));
    browser.fill("form[aria-label='Rule'] input[placeholder='quay-kiosks']", "first-server\u{e007}").await;
    browser.wait_for_text("It has not changed any machine yet.").await;
    let rules = demo.client().rules_list().await.unwrap();
    let saved = rules.iter().find(|rule| rule.name == "first-server").unwrap();
    assert_eq!((saved.holds, saved.rule.labels.as_slice()), (1, ["first".to_owned()].as_slice()));
    // Run, it proposes: that is what new rules do.
    browser.go(&format!("{}/rules", demo.console)).await;
    browser.press_button("Run now").await;
    browser.wait_for_text_in("dialog", "something is proposed").await;
    browser.press("Run all rules", "Run").await;
    browser.wait_for_text_in("ul[aria-label='Proposals'] li", "label first").await;
    browser.close().await;
}

#[tokio::test]
async fn racks_show_who_stands_where_and_ports_are_taken_from_a_file() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/racks", demo.console)).await;
    let units = "ol[aria-label^='Units of rack r12'] li";
    for said in ["tern-server-1", "expected", "newcomer", "empty"] {
        browser.wait_for_text_in(units, said).await;
    }
    browser.picture("console-racks.png").await;
    browser.fill("[aria-label^='Filter racks']", "holm-quay").await;
    browser.wait_for_no_text("tern-server-1").await;
    browser.wait_for_text_in("ol[aria-label^='Units of rack r01'] li", "holm-quay-server").await;

    let folder = tempfile::tempdir().unwrap();
    let (wrong, right) = (folder.path().join("wrong.csv"), folder.path().join("right.csv"));
    std::fs::write(&wrong, "switch,port,rack,unit\nsw-tern-1,Ethernet1/9,r13,tall\n").unwrap();
    std::fs::write(&right, "switch,port,rack,unit\nsw-tern-1,Ethernet1/9,r13,7\n").unwrap();
    browser.press_button("Import switch ports").await;
    browser.type_into("dialog [aria-label='CSV file']", wrong.to_str().unwrap()).await;
    browser.wait_for_text_in("dialog [role=alert]", "'tall' is no unit of a rack").await;
    browser.type_into("dialog [aria-label='CSV file']", right.to_str().unwrap()).await;
    browser.wait_for_text_in("dialog [role=status]", "1 new, 0 changed, 0 removed, 0 unchanged").await;
    browser.press("Import switch ports", "Save").await;
    browser.go(&format!("{}/racks?show=ports", demo.console)).await;
    browser.wait_for_text_in("table[aria-label='Switch ports'] tbody tr", "Ethernet1/9").await;
    browser.click("[aria-label='Remove sw-tern-1 Ethernet1/9']").await;
    browser.press("Remove sw-tern-1 Ethernet1/9?", "Remove").await;
    browser.wait_for_no_text("Ethernet1/9").await;
    browser.close().await;
}

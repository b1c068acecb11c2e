//! Jobs in the console: armed, followed while they run, cancelled; what failed is told first.

use std::time::Duration;

use lastmile_api::{ActionDraft, JobState, JobsListQuery, Task};

use crate::support::{browser::Browser, demo::Demo};

#[tokio::test]
async fn a_burn_in_that_fails_is_told_first_and_its_job_says_why() {
    let demo = Demo::start();
    // The demo's second server has a worn disk, which its rule's burn-in finds.
    let failed = JobsListQuery { state: Some("failed".into()), ..JobsListQuery::default() };
    while demo.client().jobs_list(&failed).await.unwrap().total == 0 {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/", demo.console)).await;
    let attention = "ul[aria-label='Needs attention'] li";
    browser.wait_for_text_in(attention, "Burn-in failed: disk nvme1n1").await;
    browser.wait_for_text_in(attention, "expects to fail").await;
    browser.follow("ul[aria-label='Needs attention'] a[href$='?tab=facts']").await;
    browser.wait_for_text("expects to fail").await;
    browser.go(&format!("{}/", demo.console)).await;
    browser.follow("ul[aria-label='Needs attention'] a[href^='/jobs/']").await;
    browser.wait_for_text_in("[role=alert]", "a piece of 1 MiB cannot be read").await;
    browser.wait_for_text_in("[role=log]", "disk nvme0n1: read").await;
    browser.wait_for_text("armed by rule quay-servers").await;
    browser.picture("console-job.png").await;
    browser.close().await;
}

#[tokio::test]
async fn a_job_is_armed_followed_without_a_reload_and_cancelled() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines/tern-server-1?tab=jobs", demo.console)).await;
    // One or the other of the demo's servers is called so: its burn-in may have found something.
    browser.wait_for_text_in("table[aria-label='Jobs'] tbody tr", "rule quay-servers").await;
    let open = JobsListQuery { state: Some("armed,running".into()), ..JobsListQuery::default() };
    while demo.client().jobs_list(&open).await.unwrap().total > 0 {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    browser.press_button("Arm a job").await;
    // A command is offered only where the site allows it.
    browser.wait_for_text_in("dialog select", "command: not allowed by the site's settings").await;
    browser.fill("dialog div.grid > :nth-child(1) input", "20000").await;
    browser.press("Arm a job on tern-server-1", "Arm").await;
    browser.wait_for_text("a number from 1 to 10080").await;
    browser.fill("dialog div.grid > :nth-child(1) input", "9000").await;
    browser.fill("dialog div.grid > :nth-child(2) input", "10000").await;
    browser.press("Arm a job on tern-server-1", "Arm").await;
    browser.wait_for_text("burn-in of 9000 min").await;
    browser.wait_for_text_in("progress", "").await;
    let jobs = demo.client().jobs_list(&JobsListQuery::default()).await.unwrap().jobs;
    let running = jobs.iter().find(|job| job.summary == "burn-in of 9000 min").unwrap();
    assert_eq!(running.state, JobState::Running);
    let detail = demo.client().jobs_read(running.number).await.unwrap();
    assert!(matches!(detail.task, Task::BurnIn(burn_in) if burn_in.limit_minutes == 10_000));
    browser.press_button("Cancel").await;
    browser.press(&format!("Cancel job {}?", running.number), "Cancel it").await;
    browser.wait_for_text("cancelled by console").await;
    browser.close().await;
}

#[tokio::test]
async fn a_burn_in_is_part_of_a_rule_and_of_a_menu() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 900, false).await;
    browser.go(&format!("{}/rules/quay-servers", demo.console)).await;
    browser.fill("input[aria-label='Minutes of the burn-in']", "45").await;
    browser.press("Rule", "Save").await;
    browser.wait_for_text_in("form [role=status]", "saved").await;
    let rule = demo.client().rules_read("quay-servers").await.unwrap().value.rule;
    assert!(matches!(&rule.jobs[..], [Task::BurnIn(burn_in)] if burn_in.minutes == 45), "{rule:?}");
    browser.go(&format!("{}/menus/kiosk", demo.console)).await;
    browser.press_button("Add an entry").await;
    browser.choose("select[aria-label='Action']", "burn-in").await;
    browser.fill("input[aria-label='Minutes of the burn-in']", "20000").await;
    browser.wait_for_text("a number from 1 to 10080").await;
    browser.fill("input[aria-label='Minutes of the burn-in']", "45").await;
    browser.wait_for_no_text("a number from 1 to 10080").await;
    browser.click("button.btn-primary").await;
    browser.wait_for_text("saved").await;
    let menu = demo.client().menus_read("kiosk").await.unwrap().value.menu;
    let last = menu.entries.last().unwrap();
    assert!(matches!(&last.action, ActionDraft::BurnIn(burn_in) if burn_in.minutes == 45), "{last:?}");
    browser.close().await;
}

#[tokio::test]
async fn commands_are_allowed_by_a_setting_and_armed_from_a_selection() {
    let demo = Demo::start();
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/settings", demo.console)).await;
    browser.click("form[aria-label=Settings] input[type=checkbox]").await;
    browser.press("Settings", "Save").await;
    browser.wait_for_text_in("form [role=status]", "saved").await;
    browser.go(&format!("{}/machines?text=tern-server-1", demo.console)).await;
    browser.click("[aria-label='Select tern-server-1']").await;
    browser.press_button("Job").await;
    browser.choose("dialog select", "command").await;
    browser.fill("dialog input[placeholder='lsblk -f']", "lsblk -f | head").await;
    browser.press("Arm a job on tern-server-1", "Arm").await;
    browser.wait_for_text_in("[role=log]", "invented machine: sh -c lsblk -f | head").await;
    browser.wait_for_text("done: ended with status 0").await;
    browser.close().await;
}

#[tokio::test]
async fn a_shell_is_used_on_the_page_and_its_recording_is_played() {
    let demo = Demo::start();
    let mut settings = demo.client().settings_read().await.unwrap().value;
    settings.allow_commands = true;
    demo.client().settings_save(&settings).await.unwrap();
    let open = JobsListQuery { state: Some("armed,running".into()), ..JobsListQuery::default() };
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{}/machines/tern-server-1?tab=jobs", demo.console)).await;
    browser.wait_for_text_in("table[aria-label='Jobs'] tbody tr", "rule quay-servers").await;
    while demo.client().jobs_list(&open).await.unwrap().total > 0 {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    browser.press_button("Arm a job").await;
    browser.choose("dialog select", "shell").await;
    browser.fill("dialog input[type=number]", "600").await;
    browser.press("Arm a job on tern-server-1", "Arm").await;
    let screen = ".xterm-rows";
    browser.wait_for_text_in(screen, "exit leaves it").await;
    browser.keys("slack water\u{e007}").await;
    browser.wait_for_text_in(screen, "invented machine: slack water").await;
    browser.picture("console-shell.png").await;
    // It is left open, and as it was when somebody comes again.
    browser.press_button("Leave it open").await;
    browser.press_button("Come again").await;
    browser.wait_for_text_in(screen, "invented machine: slack water").await;
    browser.wait_for_text_in("[role=status]", "exit ends it").await;
    browser.keys("exit\u{e007}").await;
    browser.wait_for_text_in("button", "Save the recording").await;
    browser.wait_for_text_in(screen, "invented machine: slack water").await;
    browser.press_button("Play").await;
    browser.wait_for_text_in("button", "Show all of it").await;
    browser.wait_for_text_in(screen, "invented machine: slack water").await;
    browser.wait_for_text("console is at the shell").await;
    browser.close().await;
}

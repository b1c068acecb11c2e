//! Every page as somebody meets it who uses a keyboard, a screen reader, or a small screen: held to the rules of axe, in
//! light and dark, at both widths, with a demo that is busy and in trouble.

use std::path::Path;

use serde_json::Value;

use crate::support::{browser::Browser, demo::Demo};

/// Every page there is, with what the demo shows on it.
const PAGES: [&str; 50] = [
    "/",
    "/machines",
    "/machines?text=nothing-like-it",
    "/machines?where=memory_gb",
    "/machines/skerry-kiosk-1",
    "/machines/skerry-kiosk-1?tab=facts",
    "/machines/skerry-kiosk-1?tab=installs",
    "/machines/skerry-kiosk-1?tab=trace",
    "/machines/skerry-kiosk-1?tab=settings",
    "/machines/tern-server-1?tab=rules",
    "/machines/no-such",
    "/new-machine",
    "/import-machines",
    "/naming?machine=skerry-kiosk-1",
    "/arm?machine=kittiwake-chart",
    "/installs",
    "/installs/1",
    "/jobs",
    "/jobs/1",
    "/jobs/no-such",
    "/machines/tern-server-1?tab=jobs",
    "/images",
    "/images/bollard-9",
    "/import",
    "/answers",
    "/answers/quay-server",
    "/menus",
    "/menus/workshop",
    "/labels",
    "/labels/kiosk",
    "/labels/new",
    "/rules",
    "/rules/ticket-kiosks",
    "/rules/new",
    "/racks",
    "/racks?show=ports",
    "/loaders",
    "/subnets",
    "/subnets/tern-bay",
    "/subnets/tern-bay/edit",
    "/new-subnet",
    "/newcomers",
    "/facts/00%3A00%3A5e%3A00%3A53%3Aa4",
    "/traces/skerry-kiosk-1",
    "/check",
    "/history",
    "/exports",
    "/webhooks",
    "/settings",
    "/no-such-page",
];

/// What axe finds, shortly: the rule and the first element that breaks it.
const FIND: &str = "
    const done = arguments[0];
    axe.run(document, { resultTypes: ['violations'] }).then(
        ({ violations }) => done(violations.map(({ id, help, nodes }) =>
            `${id}: ${help}: ${nodes.length}, first ${nodes[0].target.join(' ')}: ${nodes[0].html.slice(0, 200)}: ${(nodes[0].any[0] ?? nodes[0].all[0] ?? nodes[0].none[0])?.message ?? ''}`)),
        (error) => done([String(error)]),
    );";

#[tokio::test]
async fn no_page_breaks_a_rule_of_accessibility_or_scrolls_sideways() {
    let axe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(axe).expect("`make console` installs axe");
    let demo = Demo::start();
    let mut broken = Vec::new();
    for (width, height, dark) in [(1280, 800, true), (390, 844, false)] {
        let browser = Browser::open(width, height, dark).await;
        for page in PAGES {
            browser.fits(&format!("{}{page}", demo.console)).await;
            browser.client.execute(&axe, vec![]).await.unwrap();
            let found = browser.client.execute_async(FIND, vec![]).await.unwrap();
            let found: Vec<String> = found.as_array().unwrap().iter().map(Value::to_string).collect();
            broken.extend(found.into_iter().map(|one| format!("{page} at {width}, dark {dark}: {one}")));
        }
        browser.close().await;
    }
    assert!(broken.is_empty(), "{} violations:\n{}", broken.len(), broken.join("\n"));
}

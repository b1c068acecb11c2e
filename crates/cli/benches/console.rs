//! The list of 10,000 machines: from the API, and in a browser while somebody types into its filter.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark that cannot go on ends")]
#![allow(missing_docs, reason = "a program, not a library")]

#[path = "../tests/support/mod.rs"]
mod support;

use std::{
    fmt::Write,
    time::{Duration, Instant},
};

use lastmile_api::{MachinesImport, MachinesListQuery};
use lastmile_client::Client;
use support::{browser::Browser, site::loopback};

const MACHINES: usize = 10_000;
/// Calls of which the slowest hundredth is told.
const CALLS: usize = 300;
const FIRST_PORT: u16 = 18_600;
/// What is typed, and how fast.
const TYPED: &str = "locker-0423";
const KEY: Duration = Duration::from_millis(120);

fn main() {
    let service = loopback(FIRST_PORT);
    let client = Client::new(service.server(), "bench").unwrap();
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        import(&client).await;
        let first = MachinesListQuery { limit: Some(100), ..MachinesListQuery::default() };
        call(&client, "first page of the machines", &first, 50).await;
        let filtered = MachinesListQuery { text: Some("locker-04".into()), ..first };
        call(&client, "the machines through a filter", &filtered, 100).await;
        type_into_the_filter(service.server()).await;
    });
}

async fn import(client: &Client) {
    let mut csv = "name,mac,labels,detail.rack\n".to_owned();
    for number in 0..MACHINES {
        let (high, low) = (number / 256, number % 256);
        let _ = writeln!(csv, "locker-{number:05},02:00:00:00:{high:02x}:{low:02x},locker,r{}", number / 40);
    }
    let began = Instant::now();
    let report = client.machines_import(&MachinesImport { csv }).await.unwrap();
    assert_eq!(report.new, MACHINES);
    println!("{MACHINES} machines imported from CSV in {:.2} s", began.elapsed().as_secs_f64());
}

async fn call(client: &Client, what: &str, query: &MachinesListQuery, aim_ms: u32) {
    let mut times = Vec::new();
    for _ in 0..CALLS {
        let began = Instant::now();
        assert_eq!(client.machines_list(query).await.unwrap().machines.len(), 100);
        times.push(began.elapsed().as_secs_f64() * 1e3);
    }
    times.sort_by(f64::total_cmp);
    let (middle, slow) = (times[CALLS / 2], times[CALLS * 99 / 100]);
    println!("{what}: {middle:.1} ms, p99 {slow:.1} ms (aim: at most {aim_ms})");
}

/// Notes how long each frame of the page took, and when the list last changed.
const WATCH: &str = "
    window.frames = []; window.changed = 0;
    let last = performance.now();
    const frame = (now) => { window.frames.push(now - last); last = now; requestAnimationFrame(frame); };
    requestAnimationFrame(frame);
    new MutationObserver(() => { window.changed = performance.now(); })
        .observe(document.querySelector('[role=table]'), { childList: true, subtree: true, characterData: true });
    document.querySelector('input[type=search]').addEventListener('keydown', () => { window.pressed = performance.now(); });";

async fn type_into_the_filter(server: &str) {
    let browser = Browser::open(1280, 800, false).await;
    browser.go(&format!("{server}/machines")).await;
    browser.wait_for_text("locker-").await;
    browser.click("input[type=search]").await;
    browser.client.execute(WATCH, vec![]).await.unwrap();
    for key in TYPED.chars() {
        browser.keys(&key.to_string()).await;
        tokio::time::sleep(KEY).await;
    }
    browser.wait_for_text("locker-04230").await;
    tokio::time::sleep(Duration::from_secs(1)).await;
    let read = "return [Math.max(...frames), frames.filter((one) => one > 50).length, frames.length, changed - pressed]";
    let seen = browser.client.execute(read, vec![]).await.unwrap();
    let number = |at: usize| seen[at].as_f64().unwrap();
    println!(
        "typing into the filter: longest frame {:.0} ms, {} of {} frames above 50 ms; the list stands {:.0} ms after the last key",
        number(0),
        number(1),
        number(2),
        number(3)
    );
    browser.close().await;
}

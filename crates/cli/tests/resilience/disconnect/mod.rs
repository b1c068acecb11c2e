//! Clients that hang up while the service does what they asked for: what is on record and what is shown stay the same, for
//! every call that changes anything.

mod calls;
mod tried;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use calls::{Call, KERNEL, MODULES, PACKAGE, PACKAGED, call, calls};
use futures_util::StreamExt;
use lastmile_api::Event;
use lastmile_client::Client;
use lastmile_core::model::image::Sha256;
use serde_json::{Value, json};

use crate::{
    THIS_MACHINE,
    support::{service::Service, site::loopback},
};

const DOCUMENT: &str = include_str!("../../../../api/openapi.json");

/// Calls that change nothing, though they are no GET: they look at something, or ask somebody.
const LOOKING: [&str; 8] = [
    "/check",
    "/images/inspect",
    "/installs/preview",
    "/packages/loaders",
    "/menus/{name}/preview",
    "/answers/{name}/preview",
    "/naming/preview",
    "/rules/try",
];

/// Numbers that look like chance and are the same each time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % limit
    }
}

/// Every call, again and again, by clients that hang up after up to 3 ms, until `stop`. Gives how many of each were sent, and
/// the names of the machines whose registration was acknowledged to others that waited.
fn load(port: u16, seed: u64, stop: &AtomicBool) -> (BTreeMap<&'static str, usize>, Vec<String>) {
    let (mut chance, mut sent, mut acknowledged) = (Chance(seed), BTreeMap::new(), Vec::new());
    for turn in 0.. {
        for call in calls(turn * 5 + usize::try_from(seed).unwrap()) {
            if stop.load(Ordering::Relaxed) {
                return (sent, acknowledged);
            }
            if let Ok(stream) = call.send(port) {
                std::thread::sleep(Duration::from_micros(chance.below(3000)));
                drop(stream);
                *sent.entry(call.template).or_default() += 1;
            }
        }
        let name = format!("kept-{seed}-{turn}");
        let mac = format!("02:00:00:{seed:02x}:{:02x}:{:02x}", turn / 256 % 256, turn % 256);
        let kept = call("post", "/machines", &[], &json!({ "name": name, "macs": [mac] }));
        if kept.status(port) == Some(201) {
            // Nobody else wants this one: it can be armed, whatever the others do to theirs.
            let arm = json!({ "machine": name, "image": "tidewrack-12", "answers": "quay-server" });
            if let Ok(stream) = call("post", "/installs", &[], &arm).send(port) {
                std::thread::sleep(Duration::from_micros(chance.below(3000)));
                drop(stream);
            }
            acknowledged.push(name);
        }
    }
    unreachable!("turns do not end")
}

/// What the API says of everything that is recorded, with the ETags of single things.
async fn everything(server: &str) -> BTreeMap<String, Value> {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let mut all = BTreeMap::new();
    let mut waiting: Vec<String> = [
        "/subnets",
        "/loaders",
        "/images",
        "/menus",
        "/labels",
        "/rules",
        "/proposals",
        "/locations",
        "/settings",
        "/answers",
        "/machines?sort=name&limit=1000",
        "/installs?limit=1000",
        "/jobs?limit=1000",
        "/webhooks",
        "/deliveries?limit=1000",
        "/history/hosts",
    ]
    .map(str::to_owned)
    .into();
    while let Some(path) = waiting.pop() {
        let response = http.get(format!("{server}/api/v1{path}")).send().await.unwrap();
        assert!(response.status().is_success(), "{path}: {}", response.status());
        let etag = response.headers().get("etag").map(|etag| etag.to_str().unwrap().to_owned());
        let mut value: Value = response.json().await.unwrap();
        let things = if let Some(list) = value.as_array() { list.clone() } else { vec![] };
        let machines = value["machines"].as_array().cloned().unwrap_or_default();
        let numbered = ["installs", "jobs"].map(|list| value[list].as_array().cloned().unwrap_or_default());
        let kind = path.split('?').next().unwrap().to_owned();
        for thing in things.iter().chain(&machines) {
            if let Some(name) = thing["name"].as_str().filter(|_| kind.matches('/').count() == 1) {
                let name = name.replace(':', "%3A");
                waiting.push(format!("{kind}/{name}"));
                match kind.as_str() {
                    "/subnets" => waiting.push(format!("{kind}/{name}/reservations")),
                    "/answers" => waiting.push(format!("{kind}/{name}/versions")),
                    _ => {}
                }
            }
        }
        for thing in numbered.iter().flatten().filter(|_| kind.matches('/').count() == 1) {
            waiting.push(format!("{kind}/{}", thing["number"]));
        }
        forget_what_passes(&mut value);
        all.insert(path, json!({ "etag": etag, "value": value }));
    }
    all
}

/// Takes out what goes on by itself: attempts at deliveries, and what was seen on the wire since the start.
fn forget_what_passes(value: &mut Value) {
    const PASSING: [&str; 9] = [
        "attempts",
        "due",
        "last_attempt",
        "last_answer",
        "trouble",
        "last_seen",
        "trace",
        "diagnoses",
        "progress",
    ];
    match value {
        Value::Object(members) => {
            members.retain(|name, _| !PASSING.contains(&name.as_str()));
            members.values_mut().for_each(forget_what_passes);
        }
        Value::Array(all) => all.iter_mut().for_each(forget_what_passes),
        _ => {}
    }
}

async fn wait_until_nothing_goes_on(server: &str) {
    let client = Client::new(server, "test").unwrap();
    loop {
        let work = client.work_list().await.unwrap();
        let unverified =
            client.images_list().await.unwrap().iter().any(|image| image.current.verified.is_none());
        if work.iter().all(|work| work.ended.is_some()) && !unverified {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn compare(one: &BTreeMap<String, Value>, other: &BTreeMap<String, Value>, when: &str) {
    let paths: BTreeSet<&String> = one.keys().chain(other.keys()).collect();
    for path in paths {
        assert_eq!(one.get(path), other.get(path), "{path} {when}");
    }
}

fn filled(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.add_image();
    service.add_answers();
    for content in [&PACKAGE, &KERNEL, &MODULES] {
        let digest = Sha256::of(content).to_string();
        let content = Call {
            content_type: "application/octet-stream",
            body: content.to_vec(),
            ..call("put", "/content/{sha256}", &[("sha256", digest)], &Value::Null)
        };
        assert_eq!(content.status(first_port + 3), Some(201));
    }
    // What the test sends again and again can succeed.
    for call in calls(0).iter().filter(|call| call.path.ends_with(PACKAGED)) {
        let wanted = if call.method == "post" { 201 } else { 204 };
        assert_eq!(call.status(first_port + 3), Some(wanted), "{} {}", call.method, call.path);
    }
    let builds: Vec<Call> = calls(0).into_iter().filter(|call| call.template == "/survey/system").collect();
    assert_eq!(
        builds[0].status(first_port + 3),
        Some(201),
        "the survey's system: is the agent there? make agent"
    );
    service
}

/// Has four clients at it for a while; gives what was sent, and what was acknowledged.
fn under_load(
    port: u16,
    seeds: std::ops::Range<u64>,
    at_end: impl FnOnce(),
) -> (BTreeMap<&'static str, usize>, Vec<String>) {
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let clients: Vec<_> = seeds
            .map(|seed| {
                scope.spawn({
                    let stop = &stop;
                    move || load(port, seed, stop)
                })
            })
            .collect();
        at_end();
        stop.store(true, Ordering::Relaxed);
        let (mut sent, mut acknowledged) = (BTreeMap::new(), Vec::new());
        for client in clients {
            let (counts, names) = client.join().unwrap();
            for (template, count) in counts {
                *sent.entry(template).or_default() += count;
            }
            acknowledged.extend(names);
        }
        (sent, acknowledged)
    })
}

#[test]
fn every_changing_call_is_tried() {
    let document: Value = serde_json::from_str(DOCUMENT).unwrap();
    let mut changing = BTreeSet::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        let path = path.strip_prefix("/api/v1").unwrap();
        for method in ["post", "put", "patch", "delete"] {
            if item.get(method).is_some() && !LOOKING.contains(&path) {
                changing.insert((method, path));
            }
        }
    }
    let calls = calls(0);
    let tried: BTreeSet<(&str, &str)> = calls.iter().map(|call| (call.method, call.template)).collect();
    assert_eq!(changing, tried);
}

#[tokio::test(flavor = "multi_thread")]
async fn clients_that_hang_up_leave_record_and_snapshot_alike() {
    let _held = THIS_MACHINE.read().await;
    let port = 24_100;
    let mut service = filled(port);
    let server = service.server().to_owned();
    // Whose install each number was, as those who watch are told.
    let owners: Arc<Mutex<HashMap<i64, BTreeSet<String>>>> = Arc::default();
    let events = Client::new(&server, "test").unwrap().events_stream().await.unwrap();
    let (watched, telling) = (owners.clone(), server.clone());
    let watching = tokio::spawn(async move {
        let mut events = Box::pin(events);
        while let Some(event) = events.next().await {
            if let Event::Install { install } = event {
                watched.lock().unwrap().entry(install.number).or_default().insert(install.machine.clone());
            }
        }
        drop(telling);
    });
    let (sent, acknowledged) = tokio::task::spawn_blocking(move || {
        under_load(port + 3, 1..5, || std::thread::sleep(Duration::from_secs(12)))
    })
    .await
    .unwrap();
    assert!(sent.values().all(|count| *count > 10), "too few were sent: {sent:?}");
    wait_until_nothing_goes_on(&server).await;
    let before = everything(&server).await;
    for name in &acknowledged {
        assert!(before.contains_key(&format!("/machines/{name}")), "{name} was acknowledged");
    }
    let armed = before["/installs?limit=1000"]["value"]["installs"].as_array().unwrap().len();
    assert!(armed > 3, "only {armed} installs were armed");
    service.signal("TERM");
    watching.await.unwrap();
    // Under another name a machine is the same: it was renamed.
    let of_several: Vec<_> = owners
        .lock()
        .unwrap()
        .iter()
        .filter(|(_, all)| all.len() > 1)
        .map(|(n, all)| (*n, all.clone()))
        .collect();
    assert!(of_several.is_empty(), "numbers that were used twice: {of_several:?}");
    service.spawn();
    wait_until_nothing_goes_on(&server).await;
    compare(&before, &everything(&server).await, "after a restart");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_killed_meanwhile_loses_nothing_it_acknowledged() {
    let _held = THIS_MACHINE.read().await;
    let port = 24_110;
    let mut service = filled(port);
    let server = service.server().to_owned();
    let mut all = Vec::new();
    for round in 0..3 {
        let service = &mut service;
        let (_, acknowledged) = tokio::task::block_in_place(|| {
            under_load(port + 3, 10 + round * 4..14 + round * 4, || {
                std::thread::sleep(Duration::from_millis(2500));
                service.signal("KILL");
            })
        });
        all.extend(acknowledged);
        service.spawn();
        wait_until_nothing_goes_on(&server).await;
        let killed = everything(&server).await;
        for name in &all {
            assert!(
                killed.contains_key(&format!("/machines/{name}")),
                "{name} was acknowledged, round {round}"
            );
        }
        service.signal("TERM");
        service.spawn();
        wait_until_nothing_goes_on(&server).await;
        compare(&killed, &everything(&server).await, "after a restart");
    }
    assert!(all.len() > 10, "only {} were acknowledged", all.len());
}

//! The API over plain HTTP: what a program that is not ours meets.

use std::time::Duration;

use futures_util::StreamExt;
use lastmile_api::{
    ArmRequest, DefaultBootDraft, Event, InstallState, MachineDraft, MachineSort, MachinesListQuery,
    PROBLEM_JSON,
};
use lastmile_client::{Client, ClientError};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::support::{
    service::Service,
    site::{MACHINE, loopback},
};

/// One call with whatever body and headers.
async fn call(
    service: &Service<'_>,
    method: Method,
    path: &str,
    body: &str,
    headers: &[(&str, &str)],
) -> (StatusCode, String, Value) {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let mut request =
        http.request(method, format!("{}/api/v1{path}", service.server())).body(body.to_owned());
    for (name, value) in [("content-type", "application/json")].iter().chain(headers) {
        request = request.header(*name, *value);
    }
    let response = request.send().await.unwrap();
    let kind = response.headers().get("content-type").map_or("", |kind| kind.to_str().unwrap()).to_owned();
    let status = response.status();
    let body = response.text().await.unwrap();
    (status, kind, serde_json::from_str(&body).unwrap_or(Value::Null))
}

#[tokio::test]
async fn what_is_wrong_is_a_problem_with_every_fault() {
    let service = loopback(23_000);
    let bad = json!({ "name": "x y", "macs": ["02:00"] }).to_string();
    let (status, kind, problem) = call(&service, Method::POST, "/machines", &bad, &[]).await;
    assert_eq!((status.as_u16(), kind.as_str()), (422, PROBLEM_JSON));
    assert_eq!(problem["status"], 422);
    let places: Vec<_> = problem["faults"].as_array().unwrap().iter().map(|fault| &fault["place"]).collect();
    assert_eq!(places, ["name", "macs[0]"]);

    for (body, status, part) in [
        ("{", 400, "not JSON"),
        (r#"{"name":"a","macs":[],"colour":"red"}"#, 422, "field"),
        (r#"{"name":"a"}"#, 422, "field"),
    ] {
        let (found, kind, problem) = call(&service, Method::POST, "/machines", body, &[]).await;
        assert_eq!((found.as_u16(), kind.as_str()), (status, PROBLEM_JSON), "{body}");
        assert!(problem["title"].as_str().unwrap().contains(part), "{problem}");
    }
    for path in ["/machines/nobody", "/images/nothing", "/installs/7", "/subnets/nowhere", "/no-such-call"] {
        let (status, kind, _) = call(&service, Method::GET, path, "", &[]).await;
        assert_eq!((status.as_u16(), kind.as_str()), (404, PROBLEM_JSON), "{path}");
    }
    let (status, ..) = call(&service, Method::GET, "/installs?state=sleeping", "", &[]).await;
    assert_eq!(status, 422);
}

#[tokio::test]
async fn pages_of_other_sites_are_kept_out() {
    let service = loopback(23_010);
    let status = async |headers: &[(&str, &str)]| call(&service, Method::GET, "/status", "", headers).await.0;
    assert_eq!(status(&[]).await, 200);
    assert_eq!(status(&[("host", "localhost:23013")]).await, 200);
    assert_eq!(status(&[("host", "rebound.example")]).await, 403);
    assert_eq!(status(&[("origin", "http://other.example")]).await, 403);
    assert_eq!(status(&[("origin", service.server())]).await, 200);
}

#[tokio::test]
async fn content_is_kept_only_if_it_is_what_it_says() {
    let service = loopback(23_020);
    let digest = lastmile_api::Sha256::of(b"right");
    let path = format!("/content/{digest}");
    let (status, _, problem) = call(&service, Method::PUT, &path, "wrong", &[]).await;
    assert_eq!(status, 422);
    assert!(problem["detail"].as_str().unwrap().contains("as its address says"), "{problem}");
    assert_eq!(call(&service, Method::GET, &path, "", &[]).await.0, 404);
    assert_eq!(call(&service, Method::PUT, &path, "right", &[]).await.0, 201);
    assert_eq!(call(&service, Method::GET, &path, "", &[]).await.2["size"], 5);
    assert_eq!(call(&service, Method::GET, "/content/xyz", "", &[]).await.0, 422);
    // A name without content: nothing is half saved.
    let client = Client::new(service.server(), "test").unwrap();
    let image = json!({
        "name": "ghost", "kind": "tool", "kernel": "linux",
        "files": [{ "path": "linux", "size": 9, "sha256": lastmile_api::Sha256::of(b"absent").to_string() }],
    });
    let (status, _, problem) = call(&service, Method::POST, "/images", &image.to_string(), &[]).await;
    assert_eq!(status, 422);
    assert!(problem["faults"][0]["what"].as_str().unwrap().contains("is not in the library"), "{problem}");
    assert!(client.images_list().await.unwrap().is_empty());
}

#[tokio::test]
async fn whoever_watches_is_told_of_every_change() {
    let service = loopback(23_030);
    service.fill();
    let client = Client::new(service.server(), "watcher").unwrap();
    let mut events = Box::pin(client.events_stream().await.unwrap());
    let mut next =
        async || tokio::time::timeout(Duration::from_secs(10), events.next()).await.unwrap().unwrap();

    client.installs_cancel(1).await.unwrap();
    let Event::Install { install } = next().await else { panic!("an install was expected first") };
    assert_eq!((install.number, install.state), (1, InstallState::Cancelled));
    assert_eq!(install.reason.as_deref(), Some("cancelled by watcher"));
    let Event::Machine { machine } = next().await else { panic!("its machine was expected next") };
    assert_eq!(machine.name, MACHINE);

    let renamed = MachineDraft {
        default_boot: DefaultBootDraft::Ignored,
        ..MachineDraft::new("auklet-bridge", machine.macs)
    };
    client.machines_replace(MACHINE, &renamed).await.unwrap();
    assert!(matches!(next().await, Event::Machine { machine } if machine.name == "auklet-bridge"));
    assert_eq!(next().await, Event::Gone { name: MACHINE.into() });
    let plan = client.machines_read("auklet-bridge").await.unwrap().value.plan;
    assert_eq!((plan.gets.as_str(), plan.loaders.len()), ("no boot information", 0));
    assert_eq!(plan.why, "auklet-bridge is set to be ignored");
    let arm = ArmRequest {
        machine: "auklet-bridge".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: Default::default(),
    };
    let Err(ClientError::Problem(problem)) = client.installs_arm(&arm).await else {
        panic!("armed, though ignored")
    };
    assert_eq!(problem.faults[0].what, "auklet-bridge is set to be ignored");
}

#[tokio::test]
async fn lists_are_filtered_ordered_and_paged() {
    let service = loopback(23_040);
    let client = Client::new(service.server(), "test").unwrap();
    for number in 0..25_u8 {
        let macs = vec![format!("02:00:00:00:00:{number:02x}")];
        let mut draft = MachineDraft::new(format!("locker-{number:02}"), macs);
        draft.labels = [vec!["kiosk".into()], vec!["kiosk".into(), "chart".into()]]
            .get(usize::from(number))
            .cloned()
            .unwrap_or_default();
        client.machines_create(&draft).await.unwrap();
    }
    let names = async |query: MachinesListQuery| {
        let list = client.machines_list(&query).await.unwrap();
        (list.machines.into_iter().map(|machine| machine.name).collect::<Vec<_>>(), list.total)
    };
    let query = MachinesListQuery { limit: Some(3), offset: Some(23), ..Default::default() };
    assert_eq!(names(query).await, (vec!["locker-23".into(), "locker-24".into()], 25));
    let query = MachinesListQuery { text: Some("00:1".into()), limit: Some(1), ..Default::default() };
    assert_eq!(names(query).await, (vec!["locker-16".into()], 9), "by MAC address");
    let query = MachinesListQuery {
        sort: Some(MachineSort::Name),
        reverse: Some(true),
        limit: Some(1),
        ..Default::default()
    };
    assert_eq!(names(query).await.0, ["locker-24"]);
    for (label, fitting) in [("kiosk", 2), ("kiosk,chart", 1), ("kios", 0)] {
        let query = MachinesListQuery { label: Some(label.into()), ..Default::default() };
        assert_eq!(client.machines_list(&query).await.unwrap().total, fitting, "{label}");
    }
    let query = MachinesListQuery { stage: Some("failed,stalled".into()), ..Default::default() };
    assert_eq!(names(query).await, (vec![], 0));
    let list = client.machines_list(&MachinesListQuery::default()).await.unwrap();
    assert_eq!(list.stages["idle"], 25);
}

#[tokio::test]
async fn the_boot_listener_serves_ranges_and_digests() {
    let service = loopback(23_050);
    service.fill();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let url = "http://127.0.0.1:23052/boot/00-00-5e-00-53-01/tidewrack-12/r1/initrd.gz";
    let get = async |range: &str| {
        let response = http.get(url).header("range", range).send().await.unwrap();
        let part = response.headers().get("content-range").map(|range| range.to_str().unwrap().to_owned());
        (response.status().as_u16(), part, response.bytes().await.unwrap())
    };
    let (status, part, body) = get("bytes=600000-").await;
    assert_eq!((status, part.as_deref(), &body[..]), (206, Some("bytes 600000-600000/600001"), &[4][..]));
    let (status, part, body) = get("bytes=0-9").await;
    assert_eq!((status, part.as_deref(), body.len()), (206, Some("bytes 0-9/600001"), 10));
    assert_eq!(get("bytes=600001-").await.0, 416);
    let head = http.head(url).send().await.unwrap();
    assert_eq!(head.headers()["content-length"], "600001");
    let digest = lastmile_api::Sha256::of(&[4; 600_001]).to_string();
    assert_eq!(head.headers()["etag"], format!("\"{digest}\""));
    assert!(head.headers().contains_key("repr-digest"));
    assert_eq!(http.post(url).send().await.unwrap().status(), 405);
    // A part, or only the head, is no fetch: the record shows the whole only.
    assert_eq!(service.steps(), ["armed"]);
    let whole = http.get(url).send().await.unwrap().bytes().await.unwrap();
    assert_eq!(whole.len(), 600_001);
    assert_eq!(service.steps(), ["armed", "initrd"]);
}

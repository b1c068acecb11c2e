//! The API's document against what the API says: every reading call of a site where things have happened, and the events
//! that it sends meanwhile, held against their schemas by a validator of JSON Schema (draft 2020-12, OpenAPI 3.1).

mod generated;

use std::{collections::BTreeSet, time::Duration};

use futures_util::StreamExt;
use jsonschema::Validator;
use lastmile_api::{InstallsListQuery, WebhookDraft};
use reqwest::{Client, Response, StatusCode};
use serde_json::{Value, json};

use crate::support::demo::Demo;

const DOCUMENT: &str = include_str!("../../../../api/openapi.json");

/// The document, with every component closed: what it does not name may not be said.
struct Contract {
    document: Value,
}

impl Contract {
    fn read() -> Self {
        let mut document: Value = serde_json::from_str(DOCUMENT).unwrap();
        let mut parts = BTreeSet::new();
        gather_parts(&document, &mut parts);
        let schemas = document["components"]["schemas"].as_object_mut().unwrap();
        // What is a part of others, or holds whatever it is given, stays open.
        for (name, schema) in schemas {
            let holds = ["properties", "allOf", "oneOf"].iter().any(|key| schema.get(*key).is_some());
            if holds && schema.get("additionalProperties").is_none() && !parts.contains(name) {
                schema["unevaluatedProperties"] = json!(false);
            }
        }
        Self { document }
    }

    /// What validates a schema of the document.
    fn validator(&self, schema: &Value) -> Validator {
        let mut whole = schema.clone();
        whole["components"] = self.document["components"].clone();
        jsonschema::draft202012::new(&whole).unwrap()
    }

    /// Method and path of all calls that change something, and whether they take JSON.
    fn changing(&self) -> Vec<(&str, &str, bool)> {
        let paths = self.document["paths"].as_object().unwrap();
        let mut all = Vec::new();
        for (path, item) in paths {
            for method in ["post", "put", "delete", "patch"] {
                if let Some(call) = item.get(method) {
                    all.push((
                        method,
                        path.as_str(),
                        call["requestBody"]["content"].get("application/json").is_some(),
                    ));
                }
            }
        }
        all
    }

    /// Paths of all calls that read.
    fn reading(&self) -> BTreeSet<&str> {
        let paths = self.document["paths"].as_object().unwrap();
        paths.iter().filter(|(_, item)| item.get("get").is_some()).map(|(path, _)| path.as_str()).collect()
    }

    /// Holds an answer to a call against what the document says of it.
    async fn check(&self, method: &str, path: &str, asked: &str, response: Response) {
        let status = response.status();
        let said = &self.document["paths"][path][method]["responses"][status.as_str()];
        assert!(said.is_object(), "{asked} answers {status}, which the document does not name");
        if status == StatusCode::NO_CONTENT || status == StatusCode::ACCEPTED {
            return;
        }
        let kind = response.headers()["content-type"].to_str().unwrap().to_owned();
        let kind = kind.split(';').next().unwrap();
        let content = &said["content"][kind];
        assert!(content.is_object(), "{asked} answers {kind}, which the document does not name");
        if kind.ends_with("json") {
            let body: Value = response.json().await.unwrap();
            self.hold(&content["schema"], asked, &body);
        }
    }

    fn hold(&self, schema: &Value, asked: &str, body: &Value) {
        let faults: Vec<String> = self
            .validator(schema)
            .iter_errors(body)
            .map(|fault| format!("at {}: {fault}", fault.instance_path()))
            .collect();
        assert!(faults.is_empty(), "{asked}\n{}", faults.join("\n"));
    }
}

/// The names of components that others are put together from.
fn gather_parts(value: &Value, parts: &mut BTreeSet<String>) {
    match value {
        Value::Object(map) => {
            for one in map.get("allOf").and_then(Value::as_array).into_iter().flatten() {
                let name = one["$ref"].as_str().and_then(|reference| reference.rsplit('/').next());
                parts.extend(name.map(str::to_owned));
            }
            map.values().for_each(|inner| gather_parts(inner, parts));
        }
        Value::Array(list) => list.iter().for_each(|inner| gather_parts(inner, parts)),
        _ => {}
    }
}

/// A path with names in it that nothing has.
fn unknown(path: &str) -> String {
    let digest = "0".repeat(64);
    let part = |part: &str| match part {
        "{sha256}" => digest.clone(),
        "{number}" => "999".into(),
        "{address}" => "192.0.2.250".into(),
        _ if part.starts_with('{') => "nothing-like-it".into(),
        _ => part.to_owned(),
    };
    path.split('/').map(part).collect::<Vec<_>>().join("/")
}

/// What each reading call is asked for: its path, and the same with names of the demo's site filled in.
const ASKED: [(&str, &[&str]); 63] = [
    ("/answer-lint", &["/answer-lint"]),
    ("/answers", &["/answers"]),
    ("/answers/{name}", &["/answers/quay-server", "/answers/ticket-kiosk?version=1"]),
    (
        "/answers/{name}/compare",
        &[
            "/answers/quay-server/compare?from=1&to=2",
            "/answers/quay-server/compare?left=auklet-chart&right=holm-quay-server&image=tidewrack-12",
        ],
    ),
    ("/answers/{name}/versions", &["/answers/quay-server/versions"]),
    ("/content/{sha256}", &["/content/0000000000000000000000000000000000000000000000000000000000000000"]),
    ("/deliveries", &["/deliveries"]),
    ("/events", &[]),
    ("/exports/hosts", &["/exports/hosts"]),
    ("/exports/inventory", &["/exports/inventory"]),
    ("/exports/machines", &["/exports/machines", "/exports/machines?machines=petrel-display-3"]),
    ("/overview", &["/overview"]),
    ("/exports/zone", &["/exports/zone?of=gannet.example", "/exports/zone?of=192.0.2.0/24"]),
    ("/webhooks", &["/webhooks"]),
    ("/facts/{who}", &["/facts/00:00:5e:00:53:a1", "/facts/skerry-kiosk-1"]),
    ("/facts/{who}/comparison", &["/facts/00:00:5e:00:53:a1/comparison?with=00:00:5e:00:53:a3"]),
    ("/facts/{who}/surveys", &["/facts/00:00:5e:00:53:a1/surveys", "/facts/skerry-kiosk-1/surveys"]),
    ("/facts/{who}/surveys/{boot}", &[]),
    ("/facts/{who}/rules", &["/facts/00:00:5e:00:53:a1/rules", "/facts/skerry-kiosk-1/rules"]),
    ("/labels/{name}/facts", &["/labels/kiosk/facts", "/labels/server/facts"]),
    ("/rules", &["/rules"]),
    ("/rules/{name}", &["/rules/ticket-kiosks"]),
    ("/rules/{name}/uses", &["/rules/quay-servers/uses"]),
    ("/proposals", &["/proposals"]),
    ("/locations", &["/locations"]),
    ("/racks", &["/racks"]),
    ("/history/hosts", &["/history/hosts", "/history/hosts?format=csv"]),
    (
        "/history/rates",
        &[
            "/history/rates?by=label",
            "/history/rates?by=subnet&format=csv",
            "/history/rates?since=never",
            "/history/rates?by=nonsense",
        ],
    ),
    ("/images", &["/images"]),
    ("/images/{name}", &["/images/tidewrack-12", "/images/bollard-9", "/images/lantern-3"]),
    ("/images/{name}/revisions/{number}", &["/images/tidewrack-12/revisions/1"]),
    (
        "/jobs",
        &["/jobs", "/jobs?kind=burn-in&state=done,failed", "/jobs?state=nonsense", "/jobs?kind=nonsense"],
    ),
    ("/jobs/{number}", &["/jobs/1", "/jobs/nonsense"]),
    ("/jobs/{number}/recording", &["/jobs/1/recording", "/jobs/nonsense/recording"]),
    ("/jobs/{number}/shell", &["/jobs/1/shell", "/jobs/1/shell?look=perhaps"]),
    ("/installs", &["/installs", "/installs?state=nonsense"]),
    ("/installs/{number}", &["/installs/1", "/installs/5", "/installs/nonsense"]),
    ("/interfaces/{interface}/suggestion", &["/interfaces/lo/suggestion"]),
    ("/webhooks/{name}", &["/webhooks/records"]),
    ("/labels", &["/labels"]),
    ("/labels/{name}", &["/labels/kiosk"]),
    ("/loaders", &["/loaders"]),
    ("/loaders/packaged", &["/loaders/packaged"]),
    ("/loaders/{name}", &["/loaders/signed-x64"]),
    ("/machines", &["/machines", "/machines?text=fulmar&sort=seen", "/machines?sort=nonsense"]),
    (
        "/machines/{name}",
        &["/machines/fulmar-engine-log", "/machines/guillemot-display-1", "/machines/tern-gate-1"],
    ),
    ("/menus", &["/menus"]),
    ("/menus/{name}", &["/menus/kiosk"]),
    ("/newcomers", &["/newcomers"]),
    ("/settings", &["/settings"]),
    ("/status", &["/status"]),
    ("/subnets", &["/subnets"]),
    ("/subnets/{name}", &["/subnets/holm-quay"]),
    ("/subnets/{name}/advice", &["/subnets/holm-quay/advice"]),
    ("/subnets/{name}/leases", &["/subnets/holm-quay/leases"]),
    ("/subnets/{name}/picture", &["/subnets/holm-quay/picture"]),
    ("/subnets/{name}/reservations", &["/subnets/holm-quay/reservations"]),
    ("/traces/{who}", &["/traces/skerry-kiosk-1", "/traces/00:00:5e:00:53:51"]),
    ("/traces/{who}/capture", &["/traces/skerry-kiosk-1/capture"]),
    ("/traces/{who}/comparison", &["/traces/skerry-kiosk-1/comparison?with=guillemot-display-1"]),
    ("/traces/{who}/events", &[]),
    ("/uploads/{id}", &["/uploads/0"]),
    ("/work", &["/work"]),
];

#[tokio::test]
async fn what_the_api_says_is_what_its_document_says() {
    let contract = Contract::read();
    let demo = Demo::start();
    let client = demo.client();
    let http = Client::builder().no_proxy().build().unwrap();
    // Somebody who is told of ends and never answers: its deliveries are on record.
    let webhook =
        WebhookDraft { url: "http://127.0.0.1:9/ends".into(), events: WebhookDraft::all_events(), key: None };
    client.webhooks_save("records", &webhook).await.unwrap();

    let mut events = http.get(format!("{}/api/v1/events", demo.console)).send().await.unwrap().bytes_stream();
    let schema = &contract.document["paths"]["/api/v1/events"]["get"]["responses"]["200"]["content"]["text/event-stream"]
        ["schema"];
    let event = contract.validator(schema);
    let mut kinds = BTreeSet::new();
    let mut text = String::new();
    let end = tokio::time::Instant::now() + Duration::from_secs(90);
    let installed = InstallsListQuery { state: Some("installed".into()), ..InstallsListQuery::default() };
    while client.installs_list(&installed).await.unwrap().total < 6 || !kinds.contains("delivery") {
        let more = tokio::time::timeout_at(end, events.next()).await.expect("the demo stands still");
        text.push_str(std::str::from_utf8(&more.unwrap().unwrap()).unwrap());
        while let Some((line, rest)) = text.split_once('\n') {
            if let Some(data) = line.strip_prefix("data:") {
                let said: Value = serde_json::from_str(data).unwrap();
                if let Err(fault) = event.validate(&said) {
                    panic!("at {}: {fault}\n{said:#}", fault.instance_path());
                }
                kinds.insert(said["kind"].as_str().unwrap().to_owned());
            }
            text = rest.to_owned();
        }
    }
    for kind in ["machine", "install", "newcomer", "delivery", "log"] {
        assert!(kinds.contains(kind), "no event of kind {kind} was heard: {kinds:?}");
    }

    let mut known = BTreeSet::new();
    for (path, all) in ASKED {
        let path = format!("/api/v1{path}");
        for asked in all {
            let response = http.get(format!("{}/api/v1{asked}", demo.console)).send().await.unwrap();
            contract.check("get", &path, asked, response).await;
        }
        // Names that nothing has are told so, in the form of every refusal.
        if path.contains('{') {
            let unknown = unknown(&path);
            let response =
                http.get(format!("{}{unknown}?of=x&with=y&from=1&to=2", demo.console)).send().await.unwrap();
            assert_eq!(response.status(), StatusCode::NOT_FOUND, "{unknown}");
            contract.check("get", &path, &unknown, response).await;
        }
        known.insert(path);
    }
    let surveys = client.facts_surveys("00:00:5e:00:53:a1").await.unwrap();
    let one = format!("/facts/00:00:5e:00:53:a1/surveys/{}", surveys[0].boot);
    let response = http.get(format!("{}/api/v1{one}", demo.console)).send().await.unwrap();
    assert_eq!(response.status(), StatusCode::OK, "{one}");
    contract.check("get", "/api/v1/facts/{who}/surveys/{boot}", &one, response).await;
    for path in contract.reading() {
        assert!(known.contains(path), "{path} is not asked here");
    }
}

/// Bodies that no call takes, or that lack what a call needs: each is refused in the form of every refusal, or taken as
/// the document says.
#[tokio::test]
async fn every_call_refuses_nonsense_as_its_document_says() {
    let contract = Contract::read();
    let service = crate::support::site::loopback(27_020);
    service.fill();
    let before = service.run(&["export", "inventory"]);
    let http = Client::builder().no_proxy().build().unwrap();
    let bodies = ["", "{\"", "[]", "null", "\"x\"", "{\"nothing-like-it\":1}", "{\"name\":\"\u{0}\"}"];
    for (method, path, takes_json) in contract.changing() {
        for body in if takes_json { &bodies[..] } else { &bodies[..1] } {
            let asked = unknown(path);
            let call = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let request = http
                .request(call, format!("{}{asked}", service.server()))
                .header("content-type", "application/json")
                .body(*body);
            let response = request.send().await.unwrap();
            let asked = format!("{method} {asked} with {body:?}");
            assert!(!response.status().is_server_error(), "{asked}: {}", response.text().await.unwrap());
            if takes_json {
                assert!(response.status().is_client_error(), "{asked} answers {}", response.status());
            }
            contract.check(method, path, &asked, response).await;
        }
    }
    assert_eq!(service.run(&["export", "inventory"]), before, "something was kept of it");
}

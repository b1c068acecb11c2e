//! Dry runs of every changing call: answered as the change would be, and nothing is changed.

use std::collections::BTreeMap;

use lastmile_sim::{Beat, Booted, Card, Hardware};
use serde_json::{Value, json};
use uuid::Uuid;

use super::{
    calls::{Call, call, calls, file},
    everything, filled, wait_until_nothing_goes_on,
};
use crate::{
    THIS_MACHINE,
    support::{service::Service, simulated},
};

/// Nobody has a lease here; `service/networks.rs` tries this one.
const WANTS_A_LEASE: (&str, &str) = ("delete", "/subnets/{name}/leases/{address}");

/// What the service answers to a call that cannot be tried.
const CANNOT: u16 = 400;

/// A newcomer that was surveyed.
const SURVEYED: &str = "02:00:5e:00:53:b7";

/// Has the newcomer measured, as if it were one.
async fn survey(service: &Service<'_>, port: u16) {
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=survey"]);
    service.add_loader();
    let hardware = Hardware {
        vendor: "Marram Systems".into(),
        product: "MS-20".into(),
        serial: "MS20-4711".into(),
        uuid: Uuid::from_u128(0x4711),
        cpu: "Marram Dune 8".into(),
        cores: 8,
        memory: vec![16_384],
        disks: Vec::new(),
        nics: vec![Card { mac: SURVEYED.parse().unwrap(), neighbour: None }],
    };
    let facts = hardware.facts().unwrap();
    let machine = simulated::machine(port, SURVEYED, std::time::Duration::ZERO);
    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
        panic!("no kernel was started")
    };
    let (say, mut heard) = tokio::sync::mpsc::unbounded_channel();
    let mut watch = |beat: Beat| drop(say.send(beat));
    tokio::select! {
        ended = machine.survey(address, &parameters, &facts, &mut watch) => panic!("{ended:?}"),
        beat = heard.recv() => assert!(matches!(beat, Some(Beat::Surveyed { .. })), "{beat:?}"),
    }
}

/// A rule for the newcomer.
fn rule(label: &str) -> Call {
    let body =
        json!({ "condition": "product == 'MS-20'", "name": "pilot-{{ mac_bare }}", "labels": [label] });
    call("put", "/rules/{name}", &[("name", "pilot-rule".to_owned())], &body)
}

/// Calls that the others' fights leave refused, about things of their own, in an order in which each works. `installs` are on
/// record already; `settings` are some that can be armed.
fn in_order(installs: u64, settings: &Value) -> Vec<Call> {
    let name = |name: &str| [("name", name.to_owned())];
    let number = |number: u64| [("number", (installs + number).to_string())];
    let numbers = |wanted: [u64; 2]| json!({ "numbers": wanted.map(|number| installs + number) });
    let revision = [("name", "pilot-image".to_owned()), ("number", "1".to_owned())];
    let image = |parameter: &str| {
        json!({ "name": "pilot-image", "kind": "installer", "family": "preseed", "kernel": "linux", "parameters": [parameter],
            "files": [file("linux", b"content 0")] })
    };
    let arm = |machines: &[&str], answers: &str| json!({ "machines": machines, "image": "tidewrack-12", "answers": answers });
    let mut asking = settings.clone();
    // A password is never shown, so what is shown of others is none.
    asking["users"] = json!({ "deckhand": { "password": { "plain": "over the rail" } } });
    asking["questions"] = json!({ "berth": { "text": "Which berth?", "kind": "number" } });
    let bytes = call(
        "put",
        "/content/{sha256}",
        &[("sha256", file("", b"content 0")["sha256"].as_str().unwrap().to_owned())],
        &Value::Null,
    );
    vec![
        Call { content_type: "application/octet-stream", body: b"content 0".to_vec(), ..bytes },
        call(
            "post",
            "/machines/adopt",
            &[],
            &json!({ "macs": ["02:00:5e:00:53:a1", "02:00:5e:00:53:a2"], "name": "pilot-{{ counter }}" }),
        ),
        call("post", "/installs/several", &[], &arm(&["pilot-1", "pilot-2"], "quay-server")),
        call("post", "/installs/cancel", &[], &numbers([1, 2])),
        call("post", "/installs/retry", &[], &numbers([1, 2])),
        call("post", "/installs/cancel", &[], &numbers([3, 4])),
        call("put", "/answers/{name}", &name("asking"), &asking),
        call("post", "/installs/several", &[], &arm(&["pilot-1"], "asking")),
        call("post", "/installs/{number}/answer", &number(5), &json!({ "asked": { "berth": "7" } })),
        call("post", "/installs/{number}/cancel", &number(5), &Value::Null),
        call("post", "/installs/{number}/retry", &number(5), &Value::Null),
        call("post", "/installs/{number}/cancel", &number(6), &Value::Null),
        call("post", "/jobs", &[], &json!({ "machines": ["pilot-1"], "task": { "kind": "burn-in" } })),
        call("post", "/jobs/cancel", &[], &json!({ "numbers": [1] })),
        call("post", "/answers/{name}/rename", &name("asking"), &json!({ "to": "asking-more" })),
        call("post", "/machines/remove", &[], &json!({ "machines": ["02:00:5e:00:53:a1"] })),
        call("delete", "/machines/{name}", &name("pilot-2"), &Value::Null),
        call(
            "put",
            "/menus/{name}",
            &name("pilot"),
            &json!({ "title": "Pilot", "entries": [
            { "key": "disk", "title": "Local disk", "action": "local-disk" }] }),
        ),
        call("post", "/menus/{name}/rename", &name("pilot"), &json!({ "to": "pilot-menu" })),
        call("post", "/images", &[], &image("one")),
        call("post", "/images", &[], &image("two")),
        call("post", "/images/{name}/revisions/{number}/retire", &revision, &Value::Null),
        call("delete", "/images/{name}/revisions/{number}", &revision, &Value::Null),
        call("delete", "/images/{name}", &name("pilot-image"), &Value::Null),
        // What a rule proposes for the newcomer that was surveyed.
        rule("kiosk"),
        call("post", "/rules/run", &[], &json!({ "who": [SURVEYED] })),
        call("post", "/proposals/decline", &[], &json!({ "proposals": [{ "who": SURVEYED }] })),
        rule("gate"),
        call("post", "/rules/run", &[], &json!({ "all": true })),
        call("post", "/proposals/accept", &[], &json!({ "proposals": [{ "who": SURVEYED }] })),
        call("post", "/rules/{name}/rename", &name("pilot-rule"), &json!({ "to": "pilot-rules" })),
        call("delete", "/rules/{name}", &name("pilot-rules"), &Value::Null),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_call_that_is_tried_changes_nothing_and_is_answered_as_if_it_did() {
    let _held = THIS_MACHINE.read().await;
    let port = 24_120;
    let service = filled(port);
    survey(&service, port).await;
    let server = service.server().to_owned();
    let mut tried: BTreeMap<(&str, &str), bool> = BTreeMap::new();
    let mut before = everything(&server).await;
    let installs = before["/installs?limit=1000"]["value"]["total"].as_u64().unwrap();
    let settings = before["/answers/quay-server"]["value"]["settings"].clone();
    let turns = [in_order(installs, &settings), calls(0), calls(1)];
    for (turn, calls) in turns.into_iter().enumerate() {
        for call in calls {
            let further = format!("{}lastmile-dry-run: true\r\n", call.further);
            let dry = Call { further, body: call.body.clone(), path: call.path.clone(), ..call };
            let answered = dry.status(port + 3).unwrap();
            let after = everything(&server).await;
            let what = format!("{} {}", call.method, call.path);
            for (path, value) in &after {
                assert_eq!(before.get(path), Some(value), "{path} after a dry run of {what}");
            }
            assert_eq!(before.len(), after.len(), "after a dry run of {what}");
            let done = call.status(port + 3).unwrap();
            assert!(turn > 0 || done < 300, "{what} is refused: {done}");
            if answered != CANNOT {
                assert_eq!(answered, done, "{what} is answered otherwise when it is tried");
                *tried.entry((call.method, call.template)).or_default() |= (200..300).contains(&done);
            }
            wait_until_nothing_goes_on(&server).await;
            before = everything(&server).await;
        }
    }
    let never = tried.iter().filter(|(_, worked)| !**worked).map(|(call, _)| call);
    let never: Vec<_> = never.filter(|call| **call != WANTS_A_LEASE).collect();
    assert!(never.is_empty(), "these were only ever refused, which proves nothing: {never:?}");
    assert!(tried.len() > 40, "few calls can be tried: {tried:?}");
}

//! The survey with simulated machines: the agent's own code on invented hardware, over the real sockets.

use std::{sync::mpsc, time::Duration};

use lastmile_sim::{Beat, Booted, Card, HardDisk, Hardware};
use lastmile_survey::messages::Finish;
use serde_json::Value;
use uuid::Uuid;

use crate::support::{
    service::Service,
    simulated::machine,
    site::{MAC, loopback},
    wait_for,
};

fn hardware(disks: u8) -> Hardware {
    let disk = |number: u8| HardDisk {
        model: "Tideline 480".into(),
        serial: format!("TL-{number}"),
        size: 480_103_981_056,
    };
    Hardware {
        vendor: "Marram Systems".into(),
        product: "MS-20".into(),
        serial: "MS20-4711".into(),
        uuid: Uuid::from_u128(0x4711),
        cpu: "Marram Dune 8".into(),
        cores: 8,
        memory: vec![16_384, 16_384],
        disks: (1..=disks).map(disk).collect(),
        nics: vec![Card { mac: MAC.parse().unwrap(), neighbour: None }],
    }
}

/// A site where unknown machines are surveyed.
fn surveying(first_port: u16) -> Service<'static> {
    let service = loopback(first_port);
    service.add_subnet();
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=survey"]);
    service.add_loader();
    let (kernel, archive) =
        (service.write("vmlinuz", vec![3; 300_000]), service.write("survey.cpio", vec![4; 500_000]));
    let paths = ["image", "add", &kernel, &archive, "--name", "survey", "--kind", "survey", "--cpu", "x64"];
    service.run(&[&paths[..], &["--kernel", "vmlinuz", "--initrd", "survey.cpio"]].concat());
    service
}

/// A simulated machine that runs the survey in the background until it is told how to end.
struct Surveyed {
    heard: mpsc::Receiver<Beat>,
    ended: tokio::task::JoinHandle<Finish>,
}

impl Surveyed {
    fn start(first_port: u16, disks: u8) -> Self {
        let (say, heard) = mpsc::channel();
        let ended = tokio::spawn(async move {
            let machine = machine(first_port, MAC, Duration::ZERO);
            let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
                panic!("no kernel was started")
            };
            let facts = hardware(disks).facts().unwrap();
            machine.survey(address, &parameters, &facts, &mut |beat| drop(say.send(beat))).await.unwrap()
        });
        Self { heard, ended }
    }

    /// Waits until it shows this name, and that it waits.
    fn waits_as(&self, name: Option<&str>) {
        let is_it =
            |beat: &Beat| matches!(beat, Beat::Surveyed { machine, .. } if machine.as_deref() == name);
        let heard = std::iter::from_fn(|| self.heard.recv_timeout(Duration::from_secs(20)).ok());
        assert!(heard.into_iter().any(|beat| is_it(&beat)), "it never waited as {name:?}");
    }
}

fn facts(service: &Service<'_>) -> Value {
    service.json(&["machine", "facts", MAC])
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_newcomer_is_measured_named_and_installed_without_a_hand_on_it() {
    let service = surveying(28_000);
    let surveyed = Surveyed::start(28_000, 2);
    surveyed.waits_as(None);
    let found = facts(&service);
    assert_eq!(found["facts"]["system"]["serial"], "MS20-4711");
    assert_eq!(found["facts"]["disks"].as_array().unwrap().len(), 2);
    assert!(found["agent"]["from"].is_string(), "{found}");
    let newcomers = service.json(&["machine", "newcomers"]);
    assert_eq!(newcomers[0]["is_waiting"], true, "{newcomers}");
    assert_eq!(newcomers[0]["product"], "Marram Systems MS-20, serial MS20-4711");
    assert_eq!(newcomers[0]["hardware"], "8 cores, 32 GiB, 2 disks of 894.26 GiB, 1 network card");
    // The one to whom it was shown gives it a name, and it shows that.
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    surveyed.waits_as(Some("auklet-gate"));
    assert_eq!(service.json(&["machine", "facts", "auklet-gate"])["who"], "auklet-gate");
    // Once something is armed it restarts by itself, and is installed.
    service.add_image();
    service.add_answers();
    service.run(&["install", "arm", "auklet-gate", "--image", "tidewrack-12", "--answers", "quay-server"]);
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
    crate::support::simulated::install(28_000, MAC, Duration::ZERO).await;
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");
    let trace = service.run(&["trace", "auklet-gate", "--all"]);
    for line in ["survey's agent connects", "report of a survey", "restart: install 1 of tidewrack-12"] {
        assert!(trace.contains(line), "the trace lacks {line:?}\n{trace}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_survey_is_kept_with_what_was_different() {
    let service = surveying(28_010);
    for disks in [2, 1] {
        let surveyed = Surveyed::start(28_010, disks);
        surveyed.waits_as(None);
        surveyed.ended.abort();
    }
    let all = service.json(&["machine", "facts", MAC, "--surveys"]);
    assert_eq!(all.as_array().unwrap().len(), 2);
    assert_eq!(all[1]["changes"], serde_json::json!([]));
    let changes = all[0]["changes"].as_array().unwrap();
    let serial = changes.iter().find(|change| change["place"] == "disks[TL-2].serial").unwrap();
    assert_eq!((&serial["before"], &serial["now"]), (&"TL-2".into(), &Value::Null));
    assert!(
        changes.iter().all(|change| change["place"].as_str().unwrap().starts_with("disks[TL-2]")),
        "{changes:?}"
    );
    // The check tells of it, and a condition finds who is so.
    let report = service.try_run(&["check", "--json"]);
    let report: Value = serde_json::from_slice(&report.stdout).unwrap();
    let found = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|found| found["topic"] == "survey" && found["severity"] == "warning");
    assert!(
        found.unwrap()["what"].as_str().unwrap().contains("disks[TL-2].model: Tideline 480 is gone"),
        "{found:?}"
    );
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    service.run(&["machine", "add", "fulmar-log", "--mac", "00:00:5e:00:53:02"]);
    let so = |condition: &str| {
        let machines = service.json(&["machine", "list", "--where", condition]);
        machines
            .as_array()
            .unwrap()
            .iter()
            .map(|machine| machine["name"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(so("memory_gib >= 32 and disks | length == 1"), ["auklet-gate"]);
    assert!(so("cores > 8").is_empty());
    assert_eq!(so("not surveyed"), ["fulmar-log"]);
    let (code, said) = service.fail(&["machine", "list", "--where", "memory_gb > 2"]);
    assert!(code == 1 && said.contains("names memory_gb, which nothing is called"), "{code} {said}");
    let earlier = service.json(&["machine", "facts", MAC, "--survey", all[1]["boot"].as_str().unwrap()]);
    assert_eq!(earlier["facts"]["disks"].as_array().unwrap().len(), 2);
    // Whoever asks for a survey that is none is told so.
    let (code, said) = service.fail(&["machine", "facts", MAC, "--survey", "no-such"]);
    assert_eq!(code, 3, "{said}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_survey_goes_on_over_a_restart_of_the_service() {
    let mut service = surveying(28_020);
    let surveyed = Surveyed::start(28_020, 1);
    surveyed.waits_as(None);
    service.signal("KILL");
    service.spawn();
    // It connects again by itself, and what is said of it is shown.
    wait_for("the agent's return", Duration::from_secs(30), || {
        facts(&service)["agent"]["from"].is_string().then_some(())
    });
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    surveyed.waits_as(Some("auklet-gate"));
    assert_eq!(service.json(&["machine", "facts", MAC, "--surveys"]).as_array().unwrap().len(), 1);
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_a_token_of_this_service_nobody_reports() {
    let service = surveying(28_030);
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    for token in ["", "Bearer abc", "Bearer AABeAFMBAAAAAGnrKkAAAAAAAAAAAAAAAAAAAAAA"] {
        let asked = http
            .get("http://127.0.0.1:28032/agent")
            .header("authorization", token)
            .header("connection", "upgrade")
            .header("upgrade", "websocket")
            .header("sec-websocket-version", "13")
            .header("sec-websocket-key", "dGhlIHNhbXBsZSBub25jZQ==");
        let refused = asked.send().await.unwrap();
        assert_eq!(refused.status(), 403, "{token}");
        let text = refused.text().await.unwrap();
        assert!(text.contains("not one that this service gave"), "{text}");
    }
    assert_eq!(service.try_run(&["machine", "facts", MAC]).status.code(), Some(3));
}

//! Rules: what follows for machines of what surveys measured, seen through the client and simulated machines.

use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

use lastmile_formats::{
    lldp::{Known, Neighbour},
    mac::Mac,
};
use lastmile_sim::{Card, Hardware};
use lastmile_survey::messages::Finish;
use serde_json::{Value, json};

use super::survey::{Surveyed, hardware, surveying};
use crate::support::{service::Service, site::loopback, wait_for};

const TABLE: &str = "switch,port,hall,row,rack,unit\n\
                     sw-quay-1,Ethernet1/1,Holm Quay,A,r01,4\n\
                     sw-quay-1,Ethernet1/2,Holm Quay,A,r01,5-6\n\
                     sw-quay-1,Ethernet1/9,Holm Quay,A,r01,9\n";

/// A computer that is plugged into that port of the switch, and boots from a card whose address ends in the same number.
fn plugged(port: u8) -> Hardware {
    let neighbour = Neighbour {
        system_name: Some("SW-Quay-1".into()),
        ..Neighbour::new(Known::Name("chassis 7".into()), Known::Name(format!("Ethernet1/{port}")))
    };
    Hardware {
        nics: vec![Card { mac: Mac::documentation(port), neighbour: Some(neighbour) }],
        serial: format!("MS20-{port:04}"),
        ..hardware(1)
    }
}

fn mac(port: u8) -> String {
    Mac::documentation(port).to_string()
}

/// A site where unknown machines are surveyed, and a table says where ports are.
fn ruled(first_port: u16) -> Service<'static> {
    let service = surveying(first_port);
    let table = service.write("ports.csv", TABLE);
    service.run(&["location", "import", &table]);
    service
}

/// Adds a rule for every computer of the invented kind, with more words of `rule add`.
fn add_rule(service: &Service<'_>, name: &str, mode: &str, more: &[&str]) {
    let mode = format!("mode={mode}");
    let words = ["rule", "add", name, "--set", "condition=product == 'MS-20' and memory_gib >= 32"];
    service.run(&[&words[..], &["--set", &mode], more].concat());
}

const NAME: [&str; 2] = ["--set", "name=quay-{{ counter | pad(2) }}"];

fn names(all: &Value) -> Vec<&str> {
    all.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_newcomer_gets_its_name_place_and_install_by_rule_and_never_twice() {
    let service = ruled(29_000);
    service.add_image();
    service.add_answers();
    service.run(&["label", "add", "quay", "--set", "image=tidewrack-12", "--set", "answers=quay-server"]);
    add_rule(
        &service,
        "quay-machines",
        "apply",
        &[
            &NAME[..],
            &["--set", "address=198.51.100.{{ 20 + counter }}", "--append", "labels=quay"],
            &["--set", "location=true", "--set", "arm=true"],
        ]
        .concat(),
    );
    // Switched on is all that is done: it is measured, named, placed, armed, and told to restart.
    let surveyed = Surveyed::of(29_000, plugged(1));
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
    let machine = service.json(&["machine", "show", "quay-01"]);
    assert_eq!(machine["details"], json!({ "hall": "Holm Quay", "row": "A", "rack": "r01", "unit": "4" }));
    assert_eq!((&machine["labels"], &machine["reserved"]), (&json!(["quay"]), &json!(["198.51.100.21"])));
    let install = service.json(&["install", "show", "1"]);
    assert_eq!(
        (&install["machine"], &install["armed_by"]),
        (&"quay-01".into(), &"rule quay-machines".into())
    );
    let trace = service.run(&["trace", "quay-01", "--all"]);
    assert!(trace.contains("by rule quay-machines: name = quay-01"), "{trace}");
    crate::support::simulated::install(29_000, &mac(1), Duration::ZERO).await;
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");

    // Surveyed again, on another port, it follows its cable; what holds an installed system is not armed again.
    service.run(&["menu", "add", "again", "--from", &service.write("menu.toml", MENU)]);
    service.run(&["machine", "change", "quay-01", "--set", "default_boot=menu", "--set", "menu=again"]);
    let moved = Hardware {
        nics: vec![Card { mac: Mac::documentation(1), ..plugged(2).nics.remove(0) }],
        ..plugged(1)
    };
    let surveyed = Surveyed::of(29_000, moved);
    surveyed.waits_as(Some("quay-01"));
    let machine = service.json(&["machine", "show", "quay-01"]);
    assert_eq!(machine["details"]["unit"], "5-6");
    assert_eq!(machine["stage"], "installed");
    let said = service.json(&["machine", "rules", "quay-01"]);
    let why = said["kept"][0]["why"].as_str().unwrap();
    assert_eq!(why, "it had install 1 (installed): only a person arms it again");
    assert_eq!(said["uses"].as_array().unwrap().len(), 2, "{said:#}");
    // A person who asks for exactly that gets it, and sees it before.
    let tried = service.run(&["rule", "run", "quay-01", "--arm-again", "--dry-run"]);
    assert!(tried.contains("install = tidewrack-12 with quay-server"), "{tried}");
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 1);
    let (code, said) = service.fail(&["rule", "run", "quay-01", "--arm-again"]);
    assert!(code == 2 && said.contains("What is on their disks is lost"), "{code} {said}");
    service.run(&["rule", "run", "quay-01", "--arm-again", "--yes"]);
    assert_eq!(service.json(&["install", "show", "2"])["state"], "armed");
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
}

const MENU: &str = "title = \"Again\"\ntimeout_secs = 1\ndefault = \"survey\"\n\
                    [[entries]]\nkey = \"survey\"\ntitle = \"Survey\"\naction = { image = { name = \"survey\" } }\n";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_proposed_waits_for_a_person_and_what_was_declined_is_not_proposed_again() {
    let service = ruled(29_010);
    let survey = async |port: u8| {
        let surveyed = Surveyed::of(29_010, plugged(port));
        surveyed.waits_as(None);
        surveyed.ended.abort();
    };
    add_rule(&service, "kiosks", "propose", &[&NAME[..], &["--append", "labels=kiosk"]].concat());
    for port in [1, 2] {
        survey(port).await;
    }
    // Each shows the number that it would get if all of them were accepted.
    let proposed = service.json(&["proposal", "list"]);
    let shown: Vec<_> = proposed.as_array().unwrap().iter().map(|one| &one["effects"][0]["after"]).collect();
    assert_eq!(shown, [&json!("quay-01"), &json!("quay-02")]);
    let ran = service.json(&["rule", "run", "--all"]);
    let shown: Vec<_> = ran.as_array().unwrap().iter().map(|one| &one["proposed"][0]["after"]).collect();
    assert_eq!(shown, [&json!("quay-01"), &json!("quay-02")], "{ran:#}");
    assert!(service.json(&["machine", "list"]).as_array().unwrap().is_empty());
    let overview = service.json(&["overview"]);
    let kinds: Vec<_> = overview["attention"].as_array().unwrap().iter().map(|one| &one["kind"]).collect();
    assert!(kinds.contains(&&json!("proposals")), "{kinds:?}");

    service.run(&["proposal", "decline", &mac(1)]);
    survey(1).await;
    assert_eq!(service.json(&["proposal", "list"]).as_array().unwrap().len(), 1);
    // Of something else it is asked again.
    service.run(&["rule", "change", "kiosks", "--append", "labels=ticket"]);
    assert_eq!(service.json(&["proposal", "list"]).as_array().unwrap().len(), 2);
    // A person who has seen the former proposal does not accept this one by accident.
    let seen = json!({ "proposals": [{ "who": mac(2), "digest": proposed[1]["digest"] }] });
    let call =
        reqwest::Client::new().post(format!("{}/api/v1/proposals/accept", service.server())).json(&seen);
    let refused = call.send().await.unwrap();
    assert_eq!(refused.status(), 409);
    assert!(refused.text().await.unwrap().contains("something else is proposed"));
    let ran = service.json(&["proposal", "accept", "--all"]);
    assert_eq!(ran.as_array().unwrap().len(), 2, "{ran:#}");
    let mut machines =
        names(&service.json(&["machine", "list"])).iter().map(ToString::to_string).collect::<Vec<_>>();
    machines.sort();
    assert_eq!(machines, ["quay-01", "quay-02"]);
    assert_eq!(service.json(&["machine", "show", "quay-02"])["labels"], json!(["kiosk", "ticket"]));
    assert!(service.json(&["proposal", "list"]).as_array().unwrap().is_empty());
    let user = std::env::var("USER").unwrap_or_else(|_| "unnamed".into());
    assert_eq!(service.json(&["rule", "uses", "kiosks"])[0]["by"], json!(user));
    // What a person takes away is not given again.
    service.run(&["machine", "change", "quay-01", "--drop", "labels=kiosk"]);
    service.run(&["rule", "run", "--all"]);
    assert_eq!(service.json(&["machine", "show", "quay-01"])["labels"], json!(["ticket"]));
    let said = service.run(&["machine", "rules", "quay-01"]);
    assert!(said.contains("labels.kiosk stays (rule kiosks): a person removed the label"), "{said}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_hourly_limit_stops_a_wrong_rule() {
    let service = ruled(29_020);
    add_rule(&service, "kiosks", "apply", &[&NAME[..], &["--set", "hourly_limit=1"]].concat());
    let first = Surveyed::of(29_020, plugged(1));
    first.waits_as(Some("quay-01"));
    let second = Surveyed::of(29_020, plugged(2));
    second.waits_as(None);
    assert_eq!(names(&service.json(&["machine", "list"])), ["quay-01"]);
    assert_eq!(service.json(&["proposal", "list"])[0]["effects"][0]["after"], "quay-02");
    let report: Value = serde_json::from_slice(&service.try_run(&["check", "--json"]).stdout).unwrap();
    let findings = report["findings"].as_array().unwrap();
    let found = findings.iter().find(|one| one["topic"] == "rules" && one["severity"] == "warning").unwrap();
    assert!(found["what"].as_str().unwrap().starts_with("it changed 1 machines within an hour"), "{found}");
    // A person is not held up by it; the machine is told its name while it waits.
    service.run(&["proposal", "accept", &mac(2)]);
    second.waits_as(Some("quay-02"));
    assert_eq!(service.json(&["rule", "list"])[0]["last_hour"], 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rule_is_tried_on_every_machine_before_it_is_saved() {
    let service = ruled(29_030);
    let fixed = ["--set", "name=quay-server", "--append", "labels=server"];
    for port in [1, 2] {
        Surveyed::of(29_030, plugged(port)).waits_as(None);
    }
    let condition = "condition=product == 'MS-20' and location.unit == '4' and cores >= 8";
    let said = service.run(&[&["rule", "try", "servers", "--set", condition, "--all"], &fixed[..]].concat());
    assert!(said.contains("name = quay-server") && said.contains("fails: location.unit == '4'"), "{said}");
    assert!(said.contains("2 surveyed: it holds of 1, would change 1, and is blocked on 0"), "{said}");
    let trial =
        service.json(&[&["rule", "try", "servers", "--set", "condition=surveyed"], &fixed[..]].concat());
    assert_eq!((&trial["holds"], &trial["obstacles"]), (&json!(2), &json!(1)));
    assert_eq!(trial["rows"][0]["effects"][0]["obstacle"], "another machine is called quay-server");
    assert!(service.json(&["rule", "list"]).as_array().unwrap().is_empty());
    let (code, said) = service.fail(&["rule", "try", "servers"]);
    assert!(code == 3 && said.contains("no rule is named 'servers'"), "{code} {said}");
}

#[test]
fn rules_and_tables_that_are_wrong_are_refused_whole() {
    let service = loopback(29_040);
    let (code, said) = service.fail(&[
        "rule",
        "add",
        "kiosks",
        "--set",
        "condition=memory_gb > 2",
        "--set",
        "name={{ bogus }}",
        "--set",
        "image=none",
    ]);
    assert_eq!(code, 1);
    for part in
        ["names memory_gb, which nothing is called", "names bogus", "no image is named 'none'", "arm = true"]
    {
        assert!(said.contains(part), "{part}: {said}");
    }
    let (code, said) = service.fail(&["rule", "add", "kiosks", "--set", "condition=surveyed"]);
    assert!(code == 1 && said.contains("nothing follows of it"), "{code} {said}");
    assert!(service.json(&["rule", "list"]).as_array().unwrap().is_empty());

    service.run(&[
        "rule",
        "add",
        "kiosks",
        "--set",
        "condition=surveyed and 'kiosk' in labels",
        "--append",
        "labels=kiosk",
    ]);
    let (code, _) =
        service.fail(&["rule", "add", "kiosks", "--set", "condition=surveyed", "--append", "labels=x"]);
    assert_eq!(code, 1);
    assert_eq!(service.json(&["rule", "show", "kiosks"])["rule"]["mode"], "propose");
    // The file that is shown is the one that is read.
    let file = service.write("rule.toml", service.run(&["rule", "show", "kiosks"]));
    service.run(&["rule", "copy", "kiosks", "gates", "--set", "rank=7"]);
    service.run(&["rule", "change", "kiosks", "--from", &file, "--dry-run"]);
    let renamed = service.run(&["rule", "rename", "gates", "quay-gates"]);
    assert!(renamed.contains("rule gates is named quay-gates now"), "{renamed}");
    // A label that is renamed is another in what rules give; where a condition names it, that is said.
    let renamed = service.run(&["label", "add", "kiosk", "--set", "rank=5"])
        + &service.run(&["label", "rename", "kiosk", "ticket"]);
    assert!(renamed.contains("rule kiosks") && renamed.contains("rule quay-gates"), "{renamed}");
    assert_eq!(service.json(&["rule", "show", "kiosks"])["rule"]["labels"], json!(["ticket"]));
    service.run(&["rule", "remove", "kiosks", "--yes"]);
    assert_eq!(names(&service.json(&["rule", "list"])), ["quay-gates"]);

    let wrong = service.write("wrong.csv", "switch,port,rack,unit\nsw,1,r01,0\nsw,1,r01,2\n,3,r01,3\n");
    let (code, said) = service.fail(&["location", "import", &wrong]);
    assert_eq!(code, 1);
    for part in ["line 2, unit", "line 3, port", "line 4, switch"] {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert!(service.json(&["location", "list"]).as_array().unwrap().is_empty());
}

#[test]
fn locations_are_written_as_they_are_read_and_racks_show_what_is_expected() {
    let service = loopback(29_050);
    let table = service.write("ports.csv", TABLE);
    let said = service.run(&["location", "import", &table, "--dry-run"]);
    assert!(said.contains("3 new, 0 changed, 0 removed, 0 unchanged") && said.contains("Dry run"), "{said}");
    assert!(service.json(&["location", "list"]).as_array().unwrap().is_empty());
    service.run(&["location", "import", &table]);
    let written = service.run(&["location", "list", "--output", "csv"]);
    let less: String =
        written.lines().map(|line| line.rsplit_once(',').unwrap().0.to_owned() + "\n").collect();
    let again = service.write("again.csv", less);
    let said = service.run(&["location", "import", &again, "--replace"]);
    assert!(said.contains("0 new, 0 changed, 0 removed, 3 unchanged"), "{said}");
    service.run(&["location", "remove", "sw-quay-1", "Ethernet1/9", "--yes"]);
    let (code, said) = service.fail(&["location", "remove", "sw-quay-1", "Ethernet1/9", "--yes"]);
    assert!(code == 3 && said.contains("sw-quay-1 Ethernet1/9"), "{code} {said}");

    // A machine that somebody registered with its place, and that never came, is expected there.
    let words = [
        "machine",
        "add",
        "quay-09",
        "--mac",
        "00:00:5e:00:53:09",
        "--detail",
        "rack=r01",
        "--detail",
        "unit=5-6",
    ];
    service.run(&[&words[..], &["--detail", "hall=Holm Quay", "--detail", "row=A"]].concat());
    let rack = &service.json(&["rack", "show", "r01"])[0];
    assert_eq!(rack["units"][0]["occupants"][0]["who"], "quay-09");
    assert_eq!(rack["units"][0]["occupants"][0]["is_expected"], true);
    assert_eq!((&rack["units"][1]["to"], &rack["units"][1]["occupants"]), (&json!(4), &json!([])));
    let (code, said) = service.fail(&["rack", "show", "r99"]);
    assert!(code == 3 && said.contains("no rack is named 'r99'"), "{code} {said}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_measured_is_a_column_an_order_and_a_comparison() {
    let service = ruled(29_060);
    service.run(&["machine", "add", "quay-never", "--mac", "00:00:5e:00:53:0f", "--label", "quay"]);
    for (port, modules) in [(1, 2), (2, 4), (3, 2)] {
        let hardware = Hardware { memory: vec![16_384; modules], ..plugged(port) };
        let surveyed = Surveyed::of(29_060, hardware);
        surveyed.waits_as(None);
        let name = format!("quay-{port}");
        service.run(&["machine", "adopt", &mac(port), "--name", &name, "--label", "quay"]);
        surveyed.ended.abort();
    }
    let words = ["machine", "list", "--column", "memory_gib", "--column", "disks | map(attribute='serial')"];
    let listed = service.json(&[&words[..], &["--sort", "memory_gib", "--reverse"]].concat());
    // Numbers are ordered as numbers, and of whom nothing is known comes last, also the other way round.
    assert_eq!((&listed[0]["name"], &listed[0]["columns"]), (&"quay-2".into(), &json!(["64", "TL-1"])));
    assert_eq!((&listed[3]["name"], &listed[3]["columns"]), (&"quay-never".into(), &json!([null, null])));
    assert_eq!(service.json(&[&words[..], &["--sort", "memory_gib"]].concat())[3]["name"], "quay-never");
    let csv = service.run(&[&words[..], &["--sort", "name", "--output", "csv"]].concat());
    assert!(
        csv.starts_with("name,stage,memory_gib,disks_|_map(attribute='serial')\nquay-1,idle,32,TL-1\n"),
        "{csv}"
    );
    let (code, said) = service.fail(&["machine", "list", "--column", "memory_gb"]);
    assert!(code == 1 && said.contains("names memory_gb, which nothing is called"), "{code} {said}");
    let csv = service.run(&["machine", "list", "--column", "product;cores", "--output", "csv"]);
    assert!(csv.starts_with("name,stage,product,cores\n"), "{csv}");
    // None is left out without a word.
    let (code, said) = service.fail(&["machine", "list", "--column", &["cores"; 21].join(";")]);
    assert!(code == 1 && said.contains("21 columns are asked for"), "{code} {said}");

    let compared = service.json(&["label", "compare", "quay"]);
    assert_eq!((&compared["surveyed"], &compared["different"]), (&json!(3), &json!(["quay-2"])));
    assert_eq!(compared["unsurveyed"], json!(["quay-never"]));
    let said = service.run(&["label", "compare", "quay"]);
    assert!(said.starts_with("The 3 surveyed machines of quay are alike except 1: quay-2\n"), "{said}");
    assert!(said.contains("memory.mib") && said.contains("65536: 1 (quay-2)"), "{said}");
    // Modules that only one has are a line each, not one for each of their values.
    assert_eq!(compared["facts"].as_array().unwrap().len(), 3, "{compared:#}");

    let inventory = service.json(&["export", "inventory", "--facts"]);
    assert_eq!(inventory["machines"][1]["facts"]["memory"]["mib"], 65_536);
    assert!(service.json(&["export", "inventory"])["machines"][1].get("facts").is_none());
}

/// Sends a call, and waits for its answer or hangs up after a while.
fn post(service: &Service<'_>, path: &str, body: &Value, patience: Option<Duration>) -> Option<String> {
    let server = service.server().strip_prefix("http://").unwrap();
    let mut stream = TcpStream::connect(server).unwrap();
    let body = body.to_string();
    let head = format!(
        "POST /api/v1{path} HTTP/1.1\r\nHost: {server}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\
         Connection: close\r\n\r\n{body}",
        body.len()
    );
    stream.write_all(head.as_bytes()).unwrap();
    if let Some(patience) = patience {
        std::thread::sleep(patience);
        return None;
    }
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    Some(answer)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_two_people_accept_at_once_is_done_once() {
    let service = ruled(29_070);
    add_rule(&service, "kiosks", "propose", &[&NAME[..], &["--append", "labels=kiosk"]].concat());
    let surveyed = Surveyed::of(29_070, plugged(1));
    surveyed.waits_as(None);
    let digest = &service.json(&["proposal", "list"])[0]["digest"];
    let chosen = json!({ "proposals": [{ "who": mac(1), "digest": digest }] });
    let answers: Vec<String> = std::thread::scope(|scope| {
        let ask = || post(&service, "/proposals/accept", &chosen, None).unwrap();
        let people: Vec<_> = (0..4).map(|_| scope.spawn(ask)).collect();
        people.into_iter().map(|person| person.join().unwrap()).collect()
    });
    let did = answers.iter().filter(|answer| answer.contains("\"after\":\"quay-01\"")).count();
    assert_eq!(did, 1, "{answers:#?}");
    let told =
        |answer: &&String| answer.contains("accepted already") || answer.contains("nothing is proposed");
    assert_eq!(answers.iter().filter(told).count(), 3, "{answers:#?}");
    assert_eq!(service.json(&["rule", "uses", "kiosks"]).as_array().unwrap().len(), 1);
    assert_eq!(names(&service.json(&["machine", "list"])), ["quay-01"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_hangs_up_leaves_no_machine_named_and_not_armed() {
    let service = ruled(29_080);
    service.add_image();
    service.add_answers();
    let arm = ["--set", "arm=true", "--set", "image=tidewrack-12", "--set", "answers=quay-server"];
    add_rule(&service, "kiosks", "propose", &[&NAME[..], &arm].concat());
    for port in 1..=9 {
        let surveyed = Surveyed::of(29_080, plugged(port));
        surveyed.waits_as(None);
        surveyed.ended.abort();
    }
    // Some hang up before anything is done, some in the midst of it.
    for port in 1..=9_u8 {
        let chosen = json!({ "proposals": [{ "who": mac(port) }] });
        post(&service, "/proposals/accept", &chosen, Some(Duration::from_millis(4 * u64::from(port))));
    }
    wait_for("an install on every machine that has a name", Duration::from_secs(20), || {
        let machines = service.json(&["machine", "list"]);
        let machines = machines.as_array().unwrap();
        let is_armed = |machine: &Value| machine["stage"] == "armed";
        (!machines.is_empty() && machines.iter().all(is_armed)).then_some(())
    });
    let (uses, machines) = (service.json(&["rule", "uses", "kiosks"]), service.json(&["machine", "list"]));
    assert_eq!(uses.as_array().unwrap().len(), machines.as_array().unwrap().len());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_install_that_cannot_be_armed_is_said_and_waits() {
    let service = ruled(29_090);
    service.add_image();
    service.add_answers();
    let arm = ["--set", "arm=true", "--set", "image=tidewrack-12", "--set", "answers=quay-server"];
    // Who is to be ignored boots nothing, an install neither.
    add_rule(&service, "kiosks", "apply", &[&NAME[..], &arm, &["--set", "default_boot=ignored"]].concat());
    let surveyed = Surveyed::of(29_090, plugged(1));
    surveyed.waits_as(Some("quay-01"));
    let refused = "is set to be ignored";
    let used = service.json(&["rule", "uses", "kiosks"]);
    let changes: Vec<&str> =
        used[0]["changes"].as_array().unwrap().iter().map(|one| one.as_str().unwrap()).collect();
    assert_eq!(changes[..2], ["name = quay-01", "default_boot = ignored"], "{changes:?}");
    assert!(changes[2].starts_with("install refused: ") && changes[2].contains(refused), "{changes:?}");
    assert!(service.run(&["trace", "quay-01", "--all"]).contains(refused));
    assert!(service.json(&["install", "list"]).as_array().unwrap().is_empty());
    // It waits for a person: who is asked before disks are lost, and told the same until the cause is gone.
    assert_eq!(service.json(&["proposal", "list"])[0]["effects"][0]["what"], "install");
    let (code, said) = service.fail(&["proposal", "accept", "quay-01"]);
    assert!(code == 2 && said.contains("An install is armed on quay-01"), "{code} {said}");
    assert!(service.run(&["proposal", "accept", "quay-01", "--yes"]).contains(refused));
    service.run(&["machine", "change", "quay-01", "--set", "default_boot=local-disk"]);
    service.run(&["proposal", "accept", "quay-01", "--yes"]);
    assert_eq!(service.json(&["install", "show", "1"])["state"], "armed");
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_card_that_answers_name_and_no_survey_found_is_said_before_anything_is_armed() {
    let service = ruled(29_100);
    service.add_image();
    let interface = |device: &str| {
        let network = format!("[network.interfaces.lan]\ndevice = '{device}'\naddresses = ['dhcp']\n");
        format!("images = ['tidewrack-12']\n{}\n{network}", service.answers())
    };
    let answers = service.write("answers.toml", interface("eno1"));
    service.put("answers", "quay-server", &answers);
    let surveyed = Surveyed::of(29_100, plugged(1));
    surveyed.waits_as(None);
    service.run(&["machine", "adopt", &mac(1), "--name", "quay-1"]);
    service.run(&["machine", "add", "quay-never", "--mac", "00:00:5e:00:53:0f"]);
    let there = service.json(&["machine", "facts", "quay-1"])["facts"]["nics"][0]["names"][0].clone();
    let report: Value =
        serde_json::from_slice(&service.try_run(&["answers", "lint", "--json"]).stdout).unwrap();
    let findings = report["findings"].as_array().unwrap();
    let found = findings.iter().find(|one| one["place"] == "network.interfaces.lan.device").unwrap();
    assert_eq!(
        (&found["machines"], &found["what"]),
        (&json!(["quay-1"]), &json!("the survey found no network card named eno1"))
    );
    let fix = found["fix"].as_str().unwrap();
    assert!(fix.contains(there.as_str().unwrap()) && fix.contains(&mac(1)), "{fix}");
    let arm = ["install", "arm", "quay-1", "--image", "tidewrack-12", "--answers", "quay-server"];
    let preview = service.run(&[&arm[..], &["--dry-run"]].concat());
    assert!(preview.contains("no network card named eno1"), "{preview}");
    // The name that there will be is no fault, and where nobody has looked nothing is said.
    let answers = service.write("answers.toml", interface(there.as_str().unwrap()));
    service.run(&["answers", "change", "quay-server", "--from", &answers]);
    let linted = service.try_run(&["answers", "lint"]);
    assert!(!String::from_utf8_lossy(&linted.stdout).contains("network card"), "{linted:?}");
}

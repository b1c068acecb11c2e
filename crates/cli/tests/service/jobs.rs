//! Jobs: armed through the client, done by the agent's own code on invented hardware, on which a minute is a second.

use std::time::Duration;

use lastmile_formats::mac::Mac;
use lastmile_sim::{Booted, HardDisk, Hardware, WORN};
use lastmile_survey::messages::Finish;
use serde_json::{Value, json};

use super::survey::{Surveyed, hardware, surveying};
use crate::support::{service::Service, simulated::machine, site::MAC, wait_for};

const WITHOUT_NETWORK: [&str; 4] = ["--kind", "burn-in", "--without", "network"];

/// A machine that is registered and waits in the survey.
pub(crate) fn waiting(service: &Service<'_>, first_port: u16, hardware: Hardware) -> Surveyed {
    let mac = hardware.nics[0].mac.to_string();
    let surveyed = Surveyed::of(first_port, hardware);
    surveyed.waits_as(None);
    service.run(&["machine", "adopt", &mac, "--name", "auklet-gate"]);
    surveyed.waits_as(Some("auklet-gate"));
    surveyed
}

pub(crate) fn job(service: &Service<'_>, number: i64) -> Value {
    service.json(&["job", "show", &number.to_string()])
}

/// Waits until a job is in a state.
pub(crate) fn until(service: &Service<'_>, number: i64, state: &str) -> Value {
    // It may not be armed yet.
    let read = || service.try_run(&["--json", "job", "show", &number.to_string()]).stdout;
    let is_it = || serde_json::from_slice::<Value>(&read()).ok().filter(|job| job["state"] == state);
    wait_for(&format!("job {number} is {state}"), Duration::from_secs(30), is_it)
}

fn lines(job: &Value) -> Vec<&str> {
    job["log"].as_array().unwrap().iter().map(|line| line["line"].as_str().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_that_waits_does_its_jobs_at_once_and_waits_on() {
    let service = surveying(30_000);
    let surveyed = waiting(&service, 30_000, hardware(2));
    let said = service
        .run(&[&["job", "arm", "auklet-gate", "--wait", "--minutes", "1"], &WITHOUT_NETWORK[..]].concat());
    assert!(said.contains("1 of 1 done"), "{said}");
    let done = job(&service, 1);
    assert_eq!((&done["state"], &done["machine"]), (&json!("done"), &json!("auklet-gate")));
    let found = &done["result"]["burn_in"];
    assert!(
        found["memory"]["passes"].as_u64().unwrap() > 0 && found["cpu"]["rounds"].as_u64().unwrap() > 0,
        "{found}"
    );
    for disk in found["disks"].as_array().unwrap() {
        assert_eq!((&disk["read"], &disk["errors"]), (&disk["size"], &json!(0)), "{disk}");
    }
    assert!(found["network"].is_null(), "it was left out");
    assert!(lines(&done).iter().any(|line| line.starts_with("disk nvme0n1: read")), "{done:#}");
    let steps: Vec<&str> =
        done["steps"].as_array().unwrap().iter().map(|step| step["text"].as_str().unwrap()).collect();
    assert_eq!(&steps[1..2], ["begun by the agent"]);
    assert!(steps[0].starts_with("armed by ") && steps[2].starts_with("done: memory: "), "{steps:?}");
    // What is measured anew is one survey more of the same boot: none.
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey", "--wait"]);
    assert_eq!(service.json(&["machine", "surveys", "auklet-gate"]).as_array().unwrap().len(), 1);
    assert_eq!(
        service
            .json(&["job", "list", "--machine", "auklet-gate", "--state", "done"])
            .as_array()
            .unwrap()
            .len(),
        2
    );
    assert_eq!(service.json(&["machine", "list", "--where", "burn_in == 'done'"])[0]["name"], "auklet-gate");
    let trace = service.run(&["trace", "auklet-gate", "--all"]);
    assert!(trace.contains("job 1, burn-in of 1 min, without network has begun"), "{trace}");
    assert!(!surveyed.ended.is_finished(), "it waited in the survey before, and does now");
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_has_the_machine_boot_the_survey_once() {
    let service = surveying(30_010);
    service.run(&["machine", "add", "auklet-gate", "--mac", MAC]);
    let (_, said) = service.fail(&["job", "arm", "auklet-gate", "nobody", "--kind", "survey"]);
    assert!(said.contains("no machine is named 'nobody'"), "{said}");
    assert_eq!(service.json(&["job", "list"]), json!([]), "all of it, or nothing");
    let tried = service.run(&["job", "arm", "auklet-gate", "--kind", "survey", "--dry-run"]);
    assert!(tried.contains("would be armed") && service.json(&["job", "list"]) == json!([]), "{tried}");
    let armed = service.run(&["job", "arm", "auklet-gate", "--kind", "survey"]);
    assert!(armed.contains("job 1 is armed: survey on auklet-gate, at its next network boot"), "{armed}");
    let plan = service.run(&["plan", "auklet-gate"]);
    assert!(plan.contains("job 1, survey of auklet-gate is armed since"), "{plan}");
    let surveyed = Surveyed::of(30_010, hardware(1));
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart);
    let done = until(&service, 1, "done");
    let fetched = json!("the survey's kernel was fetched");
    assert!(done["steps"].as_array().unwrap().iter().any(|step| step["text"] == fetched), "{done:#}");
    assert_eq!(service.json(&["machine", "facts", "auklet-gate"])["facts"]["system"]["serial"], "MS20-4711");
    let plan = service.run(&["plan", "auklet-gate"]);
    assert!(plan.contains("its local disk"), "once: {plan}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn commands_run_only_where_the_site_allows_them() {
    let service = surveying(30_020);
    let surveyed = waiting(&service, 30_020, hardware(1));
    let (code, said) = service.fail(&["machine", "run", "auklet-gate", "--", "lsblk", "-f"]);
    assert_eq!(code, 1);
    assert!(said.contains("does not allow commands") && said.contains("allow_commands=true"), "{said}");
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let said = service.run(&["machine", "run", "auklet-gate", "--", "lsblk", "-f"]);
    assert_eq!(said, "invented machine: lsblk -f\n");
    let (code, said) = service.fail(&["machine", "run", "auklet-gate", "--", "false"]);
    assert_eq!(code, 1);
    assert!(said.contains("job 2 of auklet-gate: failed: it ended with exit status: 1"), "{said}");
    assert_eq!(job(&service, 2)["result"]["exit_status"], 1);
    // What has not ended is cancelled once the site does not allow it any more.
    service.run(&[
        "job",
        "arm",
        "auklet-gate",
        "--kind",
        "burn-in",
        "--minutes",
        "1000",
        "--without",
        "network",
    ]);
    until(&service, 3, "running");
    service.run(&["machine", "run", "auklet-gate", "--detach", "--", "reboot"]);
    service.run(&["settings", "change", "--set", "allow_commands=false"]);
    assert_eq!(
        job(&service, 4)["outcome"],
        "this site does not allow commands and shells on machines any more"
    );
    assert_eq!(job(&service, 3)["state"], "running", "other jobs go on");
    service.run(&["job", "cancel", "3", "--yes"]);
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let json = service.run(&["machine", "run", "auklet-gate", "--json", "--", "uptime"]);
    let all: Vec<Value> = json.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(all[0]["line"], "invented machine: uptime");
    assert_eq!(all[1]["state"], "done");
    assert_eq!(service.run(&["job", "log", "5"]).lines().count(), 1);
    surveyed.ended.abort();
}

/// The survey's system starts and its agent never comes: a person need not stand there to end that.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_survey_whose_agent_never_comes_is_started_three_times() {
    let service = surveying(30_090);
    service.run(&["machine", "add", "auklet-gate", "--mac", MAC]);
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey"]);
    let machine = machine(30_090, MAC, Duration::ZERO);
    for _ in 0..3 {
        let booted = machine.boot(&mut |_| {}).await.unwrap();
        assert!(matches!(booted, Booted::Kernel { .. }), "{booted:?}");
        // Its agent may still be on its way.
        assert_eq!(job(&service, 1)["state"], "armed");
    }
    let booted = machine.boot(&mut |_| {}).await.unwrap();
    assert!(matches!(booted, Booted::LocalDisk), "{booted:?}");
    let stalled = until(&service, 1, "stalled");
    assert!(stalled["outcome"].as_str().unwrap().contains("fetched 3 times"), "{stalled:#}");
}

/// The service is killed in the middle of a job, is away while the job ends, and hears of it later.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_goes_on_while_the_service_is_away_and_its_result_arrives() {
    let mut service = surveying(30_030);
    let surveyed = waiting(&service, 30_030, hardware(2));
    service.run(&[&["job", "arm", "auklet-gate", "--minutes", "3"], &WITHOUT_NETWORK[..]].concat());
    until(&service, 1, "running");
    service.signal("KILL");
    // A minute is a second: by now it has ended, and nobody was there to hear it.
    std::thread::sleep(Duration::from_secs(5));
    service.spawn();
    let done = until(&service, 1, "done");
    assert!(done["result"]["burn_in"]["memory"]["passes"].as_u64().unwrap() > 0, "{done:#}");
    assert!(
        lines(&done).last().unwrap().starts_with("memory: "),
        "what it wrote meanwhile is here: {done:#}"
    );
    assert_eq!(done["steps"].as_array().unwrap().len(), 3, "each step once: {done:#}");
    // What ends while it is connected again is done once, too.
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey", "--wait"]);
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_that_a_restart_of_the_machine_cut_off_has_failed() {
    let service = surveying(30_040);
    let surveyed = waiting(&service, 30_040, hardware(1));
    service.run(&[&["job", "arm", "auklet-gate", "--minutes", "1000"], &WITHOUT_NETWORK[..]].concat());
    let running = until(&service, 1, "running");
    assert_eq!(running["is_connected"], true);
    let has_progress = || Some(job(&service, 1)).filter(|job| job["progress"]["share"].is_number());
    wait_for("how far it is", Duration::from_secs(10), has_progress);
    let listed = service.run(&["job", "list"]);
    assert!(listed.contains("running") && listed.contains("left"), "{listed}");
    // The power fails.
    surveyed.ended.abort();
    let again = Surveyed::of(30_040, hardware(1));
    let failed = until(&service, 1, "failed");
    assert_eq!(failed["outcome"], "the machine restarted while it was at it");
    assert_eq!(again.ended.await.unwrap(), Finish::Restart, "it was started for the job");
    let overview = service.json(&["overview"]);
    let about =
        overview["attention"].as_array().unwrap().iter().find(|one| one["kind"] == "burn-in").unwrap();
    assert_eq!((&about["subject"], &about["job"]), (&json!("auklet-gate"), &json!(1)));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_cancelled_job_is_stopped_on_the_machine_and_the_next_begins() {
    let service = surveying(30_050);
    let surveyed = waiting(&service, 30_050, hardware(1));
    service.run(&[&["job", "arm", "auklet-gate", "--minutes", "1000"], &WITHOUT_NETWORK[..]].concat());
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey"]);
    until(&service, 1, "running");
    assert_eq!(job(&service, 2)["state"], "armed", "one at a time");
    service.run(&["job", "cancel", "1", "--yes"]);
    until(&service, 2, "done");
    let cancelled = wait_for("its end", Duration::from_secs(10), || {
        Some(job(&service, 1)).filter(|job| !job["result"].is_null())
    });
    assert_eq!(cancelled["state"], "cancelled");
    assert!(cancelled["outcome"].as_str().unwrap().starts_with("cancelled by "), "{cancelled:#}");
    let (code, said) = service.fail(&["job", "cancel", "1", "--yes"]);
    assert!(code == 1 && said.contains("has ended already"), "{said}");
    // A machine that is removed takes its jobs with it.
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey", "--then", "power-off"]);
    until(&service, 3, "done");
    assert_eq!(surveyed.ended.await.unwrap(), Finish::PowerOff);
    service.run(&["job", "arm", "auklet-gate", "--kind", "survey"]);
    service.run(&["machine", "remove", "auklet-gate", "--yes"]);
    assert_eq!(job(&service, 4)["outcome"], "the machine was removed");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_network_is_measured_in_both_directions() {
    let service = surveying(30_060);
    let surveyed = waiting(&service, 30_060, hardware(1));
    let without = ["--without", "memory", "--without", "cpu", "--without", "disks"];
    service.run(&[&["job", "arm", "auklet-gate", "--kind", "burn-in", "--wait"], &without[..]].concat());
    let network = job(&service, 1)["result"]["burn_in"]["network"].clone();
    for direction in ["in_mbit_s", "out_mbit_s"] {
        assert!(network[direction].as_f64().unwrap() > 1.0, "{network}");
    }
    surveyed.ended.abort();
}

/// What is to be done first is done first, and nothing is installed on a machine that failed it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rule_arms_an_install_only_once_its_burn_in_is_done() {
    let service = surveying(30_070);
    service.add_image();
    service.add_answers();
    let jobs = r#"jobs={"kind": "burn-in", "minutes": 1, "without": ["network"]}"#;
    let rule = ["rule", "add", "new", "--set", "condition=product == 'MS-20'", "--set", "mode=apply"];
    let then = ["--set", "name=quay-{{ counter }}", "--append", jobs, "--set", "arm=true"];
    let with = ["--set", "image=tidewrack-12", "--set", "answers=quay-server"];
    service.run(&[&rule[..], &then, &with].concat());
    let good = Surveyed::of(30_070, hardware(1));
    assert_eq!(good.ended.await.unwrap(), Finish::Restart, "its install is armed");
    let done = until(&service, 1, "done");
    assert_eq!(done["armed_by"], "rule new");
    let install = service.json(&["install", "show", "1"]);
    assert_eq!((&install["machine"], &install["state"]), (&json!("quay-1"), &json!("armed")));
    // Another one has a worn disk.
    let worn =
        HardDisk { model: "Tideline 480".into(), serial: format!("TL-9{WORN}"), size: 480_103_981_056 };
    let bad = Hardware {
        nics: vec![lastmile_sim::Card { mac: Mac::documentation(9), neighbour: None }],
        serial: "MS20-0009".into(),
        disks: vec![worn],
        ..hardware(1)
    };
    let bad = Surveyed::of(30_070, bad);
    let failed = until(&service, 2, "failed");
    assert!(
        failed["outcome"].as_str().unwrap().contains("serial TL-9-WORN: a piece of 1 MiB cannot be read"),
        "{failed:#}"
    );
    bad.waits_as(Some("quay-2"));
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 1, "nothing is armed on it");
    let rules = service.run(&["machine", "rules", "quay-2"]);
    assert!(
        rules.contains("nothing is armed before its jobs are done") && rules.contains("failed"),
        "{rules}"
    );
    assert_eq!(service.json(&["machine", "list", "--where", "burn_in == 'failed'"])[0]["name"], "quay-2");
    let told = |what: &str| {
        let overview = service.json(&["overview"]);
        let all = overview["attention"].as_array().unwrap();
        all.iter().find(|one| one["kind"] == "disk").map(|one| one[what].as_str().unwrap().to_owned())
    };
    assert_eq!(told("subject").unwrap(), "quay-2");
    let what = told("what").unwrap();
    assert!(
        what.starts_with("Its disk nvme0n1 (Tideline 480, serial TL-9-WORN) expects to fail, "),
        "{what}"
    );
    // The disk was replaced; a person asks for it once more, and what follows follows.
    bad.ended.abort();
    let repaired = Hardware {
        nics: vec![lastmile_sim::Card { mac: Mac::documentation(9), neighbour: None }],
        serial: "MS20-0009".into(),
        ..hardware(1)
    };
    service.run(&[&["job", "arm", "quay-2", "--minutes", "1"], &WITHOUT_NETWORK[..]].concat());
    let repaired = Surveyed::of(30_070, repaired);
    assert_eq!(repaired.ended.await.unwrap(), Finish::Restart);
    until(&service, 3, "done");
    assert_eq!(service.json(&["install", "list", "--machine", "quay-2"])[0]["state"], "armed");
    assert_eq!(told("what"), None, "the other disk is well");
}

/// A person at an unknown machine picks the burn-in of its menu.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_burn_in_is_picked_from_a_menu() {
    let service = surveying(30_080);
    let menu = "title = \"Workshop\"\ndefault = \"burn-in\"\ntimeout_secs = 5\n\
                [[entries]]\nkey = \"hardware\"\ntitle = \"Show what is in this machine\"\naction = \"survey\"\n\
                [[entries]]\nkey = \"burn-in\"\ntitle = \"Burn-in\"\n\
                action = { burn-in = { minutes = 1, without = [\"network\"] } }\n";
    let file = service.write("workshop.toml", menu);
    service.put("menu", "workshop", &file);
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=menu", "--set", "menu=workshop"]);
    let surveyed = Surveyed::of(30_080, hardware(1));
    let done = until(&service, 1, "done");
    assert_eq!((&done["armed_by"], &done["machine"]), (&json!("somebody at the machine"), &json!(MAC)));
    assert_eq!(surveyed.ended.await.unwrap(), Finish::Restart, "back to its menu");
    // Once it is registered, what it did is its own.
    service.run(&["machine", "adopt", MAC, "--name", "auklet-gate"]);
    assert_eq!(service.json(&["machine", "list", "--where", "burn_in == 'done'"])[0]["name"], "auklet-gate");
    assert_eq!(service.json(&["job", "list", "--machine", "auklet-gate"])[0]["number"], 1);
    let wrong = menu.replace("minutes = 1", "minutes = 0");
    let (_, said) =
        service.fail(&["menu", "change", "workshop", "--from", &service.write("wrong.toml", wrong)]);
    assert!(said.contains("from 1 to 10080"), "{said}");
}

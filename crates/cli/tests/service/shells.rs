//! Shells on machines, through the client on a real terminal: used, left, joined, recorded, ended. The machine is invented: its shell says
//! again what is typed.

use std::{process::Command, time::Duration};

use lastmile_api::{ScreenSize, ShellWord};
use lastmile_client::{Client, Heard};
use lastmile_sim::WORN;
use pty_process::{OwnedReadPty, OwnedWritePty, Size};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    time::timeout,
};

use super::{
    jobs::{job, until, waiting},
    survey::{hardware, surveying},
};
use crate::support::{service::Service, wait_for};

const PATIENCE: Duration = Duration::from_secs(30);

/// A person at a terminal, on which the client runs.
struct Terminal {
    written: OwnedReadPty,
    typed: OwnedWritePty,
    client: tokio::process::Child,
    seen: String,
}

impl Terminal {
    fn run(service: &Service<'_>, arguments: &[&str]) -> Self {
        let (terminal, inside) = pty_process::open().unwrap();
        terminal.resize(Size::new(40, 110)).unwrap();
        let command = pty_process::Command::new(env!("CARGO_BIN_EXE_lastmile"));
        let command = command.args(["--server", service.server()]).args(arguments).kill_on_drop(true);
        let client = command.spawn(inside).unwrap();
        let (written, typed) = terminal.into_split();
        Self { written, typed, client, seen: String::new() }
    }

    async fn type_in(&mut self, keys: &str) {
        self.typed.write_all(keys.as_bytes()).await.unwrap();
    }

    /// Reads until something is on the screen that was not there before.
    async fn until(&mut self, wanted: &str) -> String {
        let mut piece = [0; 4096];
        loop {
            if let Some(at) = self.seen.find(wanted) {
                let rest = self.seen.split_off(at + wanted.len());
                return std::mem::replace(&mut self.seen, rest);
            }
            match timeout(PATIENCE, self.written.read(&mut piece)).await {
                Ok(Ok(length)) if length > 0 => {
                    self.seen.push_str(&String::from_utf8_lossy(&piece[..length]));
                }
                other => panic!("no {wanted:?} on the screen, {other:?}: {:?}", self.seen),
            }
        }
    }

    async fn ends_with(mut self) -> i32 {
        timeout(PATIENCE, self.client.wait()).await.unwrap().unwrap().code().unwrap()
    }
}

/// What a recording has: its head, and its events.
fn recording(service: &Service<'_>, number: &str) -> (Value, Vec<Value>) {
    let text = service.run(&["job", "recording", number]);
    let mut lines = text.lines().map(|line| serde_json::from_str(line).unwrap());
    (lines.next().unwrap(), lines.collect())
}

fn written(events: &[Value]) -> String {
    events.iter().filter(|event| event[1] == "o").map(|event| event[2].as_str().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_shell_is_used_on_a_terminal_left_joined_and_recorded() {
    let service = surveying(30_100);
    let surveyed = waiting(&service, 30_100, hardware(1));
    let (_, said) = service.fail(&["machine", "shell", "auklet-gate"]);
    assert!(said.contains("does not allow commands and shells"), "{said}");
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let mut one = Terminal::run(&service, &["machine", "shell", "auklet-gate", "--limit-minutes", "600"]);
    one.until("Ctrl-] leaves it open").await;
    one.until("exit leaves it").await;
    one.until("auklet-gate # ").await;
    one.type_in("tide table\r").await;
    one.until("invented machine: tide table").await;
    // Somebody else looks at the same, from what was shown before on; what they type is not taken.
    let mut other = Terminal::run(&service, &["job", "attach", "1", "--look"]);
    other.until("invented machine: tide table").await;
    other.type_in("not taken\r").await;
    one.type_in("second\r").await;
    let seen = other.until("invented machine: second").await;
    assert!(!seen.contains("invented machine: not taken"), "{seen}");
    // It is left open, and joined again as the machine's own.
    one.type_in("\u{1d}").await;
    one.until("job 1 is still open").await;
    assert_eq!(one.ends_with().await, 0);
    let mut again = Terminal::run(&service, &["machine", "shell", "auklet-gate"]);
    again.until("has a shell already: job 1").await;
    again.until("invented machine: second").await;
    again.type_in("exit\r").await;
    again.until("job 1 has ended: ended with status 0").await;
    assert_eq!(again.ends_with().await, 0);
    other.until("job 1 has ended").await;
    let done = until(&service, 1, "done");
    let steps: Vec<&str> =
        done["steps"].as_array().unwrap().iter().map(|step| step["text"].as_str().unwrap()).collect();
    for wanted in ["is at the shell", "looks at the shell", "has left the shell"] {
        assert!(steps.iter().any(|step| step.ends_with(wanted)), "{wanted}: {steps:?}");
    }
    let (head, events) = recording(&service, "1");
    assert_eq!(head["version"], 2);
    assert_eq!(head["title"], "shell on auklet-gate");
    let sizes: Vec<&str> =
        events.iter().filter(|event| event[1] == "r").map(|event| event[2].as_str().unwrap()).collect();
    assert!(sizes.contains(&"110x40"), "{sizes:?}");
    let written = written(&events);
    assert!(written.contains("auklet-gate # tide table\r\ninvented machine: tide table\r\n"), "{written:?}");
    let times: Vec<f64> = events.iter().map(|event| event[0].as_f64().unwrap()).collect();
    assert!(times.is_sorted(), "{times:?}");
    // What has ended is not attached to.
    let (_, said) = service.fail(&["job", "attach", "1"]);
    assert!(said.contains("job 1 has ended already: done"), "{said}");
    let (_, said) = service.fail(&["job", "attach", "99"]);
    assert!(said.contains("99"), "{said}");
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_piped_into_a_shell_is_typed_and_its_end_ends_it() {
    let service = surveying(30_110);
    let surveyed = waiting(&service, 30_110, hardware(1));
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let said = service.piped(&["machine", "shell", "auklet-gate"], "ebb\nflood\nexit\n");
    assert!(
        said.contains("invented machine: ebb\r\n") && said.contains("invented machine: flood\r\n"),
        "{said:?}"
    );
    assert_eq!(job(&service, 1)["state"], "done");
    // It is opened for later, and ended when the site does not allow shells any more.
    let armed = service.run(&["machine", "shell", "auklet-gate", "--detach"]);
    assert!(armed.contains("job 2 is armed: shell on auklet-gate, at once"), "{armed}");
    until(&service, 2, "running");
    let client = Client::new(service.server(), "orla").unwrap();
    let mut shell = client.jobs_shell(2, false).await.unwrap();
    shell.resize(ScreenSize { columns: 90, rows: 0 }).await.unwrap();
    let refused = loop {
        if let Some(Heard::Word(word)) = timeout(PATIENCE, shell.hear()).await.unwrap().unwrap() {
            break word;
        }
    };
    assert!(
        matches!(&refused, ShellWord::Notice { text } if text.contains("numbers from 1 to 1000")),
        "{refused:?}"
    );
    shell.resize(ScreenSize { columns: 90, rows: 30 }).await.unwrap();
    service.run(&["settings", "change", "--set", "allow_commands=false"]);
    let ended = loop {
        match timeout(PATIENCE, shell.hear()).await.unwrap().unwrap() {
            Some(Heard::Word(ShellWord::Ended { text })) => break text,
            Some(_) => {}
            None => panic!("it was closed without a word"),
        }
    };
    assert_eq!(ended, "this site does not allow commands and shells on machines any more");
    let steps = job(&service, 2)["steps"].to_string();
    assert!(steps.contains("orla is at the shell"), "{steps}");
    surveyed.ended.abort();
}

/// The service is killed while somebody is at a shell: the shell goes on, what it shows is on record, and who comes again is at the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_shell_outlives_the_service() {
    let mut service = surveying(30_120);
    let surveyed = waiting(&service, 30_120, hardware(1));
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let mut one = Terminal::run(&service, &["machine", "shell", "auklet-gate", "--limit-minutes", "600"]);
    one.until("auklet-gate # ").await;
    one.type_in("before\r").await;
    one.until("invented machine: before").await;
    service.signal("KILL");
    one.until("connection to").await;
    assert_ne!(one.ends_with().await, 0);
    service.spawn();
    let mut again = Terminal::run(&service, &["job", "attach", "1"]);
    // Keys that are typed before the machine is connected again are lost, and it says so.
    let answers = async {
        loop {
            again.type_in("after\r").await;
            let seen = timeout(Duration::from_secs(2), again.until("invented machine: after")).await;
            if seen.is_ok() {
                break;
            }
        }
    };
    timeout(PATIENCE, answers).await.expect("the machine connects again");
    again.type_in("exit\r").await;
    assert_eq!(again.ends_with().await, 0);
    let written = written(&recording(&service, "1").1);
    assert_eq!(written.matches("invented machine: before").count(), 1, "once: {written:?}");
    assert!(
        written.contains("invented machine: before") && written.contains("invented machine: after"),
        "{written:?}"
    );
    surveyed.ended.abort();
}

/// A page of another site can open WebSockets to anywhere: the browser says where it is from.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_of_another_site_comes_to_no_shell() {
    let service = surveying(30_130);
    let surveyed = waiting(&service, 30_130, hardware(1));
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    service.run(&["machine", "shell", "auklet-gate", "--detach"]);
    until(&service, 1, "running");
    let place = format!("{}/api/v1/jobs/1/shell", service.server());
    let status = |origin: &str| {
        let mut asks = Command::new("curl");
        asks.args(["-s", "-o", "/dev/null", "-w", "%{http_code}", "--max-time", "1", "--http1.1"]);
        for header in ["Connection: Upgrade", "Upgrade: websocket", "Sec-WebSocket-Version: 13"] {
            asks.args(["-H", header]);
        }
        asks.args([
            "-H",
            "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==",
            "-H",
            &format!("Origin: {origin}"),
            &place,
        ]);
        String::from_utf8(asks.output().unwrap().stdout).unwrap()
    };
    assert_eq!(status("http://elsewhere.example"), "403");
    assert_eq!(status(service.server()), "101");
    service.run(&["job", "cancel", "1", "--yes"]);
    surveyed.ended.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_shows_where_it_is_and_which_disk() {
    let service = surveying(30_140);
    let mut of_it = hardware(2);
    of_it.disks[1].serial = format!("TL-7{WORN}");
    let surveyed = waiting(&service, 30_140, of_it);
    service.run(&["job", "arm", "auklet-gate", "--kind", "locate", "--minutes", "1", "--wait"]);
    assert_eq!(job(&service, 1)["result"]["shown"], json!(["invented front light", "its screens"]));
    let disk = format!("TL-7{WORN}");
    service.run(&["job", "arm", "auklet-gate", "--kind", "locate", "--disk", &disk]);
    let running =
        wait_for("it shows", PATIENCE, || Some(job(&service, 2)).filter(|job| !job["progress"].is_null()));
    assert_eq!(running["summary"], format!("locate disk {disk}"));
    assert_eq!(running["progress"]["text"], "showing where it is");
    service.run(&["job", "cancel", "2", "--yes"]);
    let cancelled = wait_for("it is told what came of it", PATIENCE, || {
        Some(job(&service, 2)).filter(|job| !job["result"].is_null())
    });
    assert_eq!(cancelled["result"]["shown"][0], "invented light of nvme1n1", "{cancelled:#}");
    let (_, said) = service.fail(&["job", "arm", "auklet-gate", "--kind", "survey", "--disk", "x"]);
    assert!(said.contains("--kind"), "{said}");
    surveyed.ended.abort();
}

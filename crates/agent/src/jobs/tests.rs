use std::{
    io,
    sync::atomic::{AtomicBool, Ordering::Relaxed},
    time::Duration,
};

use futures_util::{SinkExt, StreamExt};
use lastmile_survey::{
    facts::{Disk, Facts},
    job::{BurnIn, BurnInPart, Locate, OpenShell, RunCommand, Temperature},
    messages::{ScreenSize, ToShell},
};
use tokio::{
    net::{TcpListener, TcpStream},
    process::Command,
    time::timeout,
};
use tokio_tungstenite::{WebSocketStream, accept_async, tungstenite::Message};
use uuid::Uuid;

use super::*;

/// A small machine on which a minute is short.
#[derive(Default)]
struct Small {
    bad_disk: bool,
    is_hot: AtomicBool,
    /// Where its service is, if it has one.
    service: Option<String>,
    /// What its light was told.
    light: Arc<Mutex<Vec<&'static str>>>,
}

struct Lamp(Arc<Mutex<Vec<&'static str>>>);

impl Light for Lamp {
    fn name(&self) -> String {
        "front".into()
    }

    fn shine(&self, _: Duration) -> io::Result<()> {
        self.0.lock().unwrap().push("on");
        Ok(())
    }

    fn end(&self) {
        self.0.lock().unwrap().push("off");
    }
}

/// A light that the kernel does not switch.
struct Broken;

impl Light for Broken {
    fn name(&self) -> String {
        "network card eth0".into()
    }

    fn shine(&self, _: Duration) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn end(&self) {
        unreachable!("it never shone");
    }
}

struct Zeros {
    bad: bool,
}

impl ReadAt for Zeros {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        if self.bad && (offset..offset + buffer.len() as u64).contains(&(1 << 20)) {
            Err(io::Error::other("Input/output error"))
        } else {
            Ok(buffer.len())
        }
    }
}

impl Hardware for Small {
    fn facts(&self) -> Facts {
        let serial = Some("TL-4711".into());
        let disk = Disk { name: "sda".into(), serial, size: 4 << 20, ..Disk::default() };
        Facts { disks: vec![disk], ..Facts::default() }
    }

    fn free_memory(&self) -> u64 {
        1 << 20
    }

    fn threads(&self) -> usize {
        2
    }

    fn open_disk(&self, _: &Disk) -> io::Result<Box<dyn ReadAt>> {
        Ok(Box::new(Zeros { bad: self.bad_disk }))
    }

    fn temperatures(&self) -> Vec<Temperature> {
        let highest = if self.is_hot.load(Relaxed) { 99.0 } else { 40.0 };
        vec![Temperature { sensor: "chip temp1".into(), highest, critical: Some(95.0) }]
    }

    fn memory_errors(&self) -> Option<(u64, u64)> {
        Some((3, 0))
    }

    fn command(&self, words: &[String]) -> Command {
        let mut command = Command::new(&words[0]);
        command.args(&words[1..]);
        command
    }

    fn shell(&self) -> Option<Command> {
        self.service.is_some().then(|| Command::new("sh"))
    }

    fn lights(&self, whose: &Whose) -> Vec<Box<dyn Light>> {
        match whose {
            Whose::Machine => vec![Box::new(Lamp(self.light.clone())), Box::new(Broken)],
            Whose::Disk(_) => Vec::new(),
        }
    }

    fn minute(&self) -> Duration {
        Duration::from_millis(200)
    }
}

/// Does what is ordered until so many jobs have ended; gives what was said of them.
async fn done(
    hardware: Small,
    programs: PathBuf,
    orders: Vec<(i64, Task)>,
    cancel: Option<i64>,
) -> Vec<(i64, News)> {
    let count = orders.len();
    let outbox = Arc::new(Outbox::default());
    let (surveys, mut asks) = mpsc::channel::<oneshot::Sender<()>>(1);
    let about = About {
        machine: Some("auklet-kiosk-1".into()),
        labels: vec!["kiosk".into(), "quay".into()],
        details: [("rack unit".to_owned(), "12".to_owned())].into(),
    };
    let session = hardware.service.clone().map(|service| Session {
        service,
        token: "token".into(),
        boot: Uuid::now_v7(),
        since: tokio::time::Instant::now(),
        from: None,
    });
    let bench = Bench {
        hardware: Arc::new(hardware),
        outbox: Arc::clone(&outbox),
        status: Status::default(),
        session,
        programs,
        surveys,
        about: watch::channel(about).1,
    };
    let jobs = Jobs::default();
    orders.into_iter().for_each(|(number, task)| jobs.order(number, task));
    let mut said = Vec::new();
    let listens = async {
        let mut ended = 0;
        while ended < count {
            let Said::Job { number, news } = outbox.next().await.said else { continue };
            if matches!(news, News::Began) && cancel == Some(number) {
                jobs.cancel(number);
            }
            ended += usize::from(matches!(news, News::Ended(_)));
            said.push((number, news));
        }
    };
    let measures = async {
        while let Some(ask) = asks.recv().await {
            let _ = ask.send(());
        }
    };
    tokio::select! {
        () = jobs.run(&bench) => {}
        () = measures => {}
        ended = timeout(Duration::from_secs(60), listens) => ended.unwrap(),
    }
    said
}

fn result(said: &[(i64, News)], wanted: i64) -> JobResult {
    let ended = said.iter().find_map(|(number, news)| match news {
        News::Ended(result) if *number == wanted => Some((**result).clone()),
        _ => None,
    });
    ended.unwrap_or_else(|| panic!("{wanted} has not ended: {said:#?}"))
}

fn lines(said: &[(i64, News)], wanted: i64) -> Vec<String> {
    let mut all = Vec::new();
    for (number, news) in said {
        if let News::Log { first, lines } = news
            && *number == wanted
        {
            assert_eq!(*first, all.len() as u64 + 1, "no line is missing, none is twice");
            all.extend(lines.clone());
        }
    }
    all
}

fn command(words: &[&str], limit_minutes: u32) -> Task {
    Task::Command(RunCommand { words: words.iter().map(|word| (*word).to_owned()).collect(), limit_minutes })
}

fn burn_in(without: &[BurnInPart]) -> Task {
    let without = without.iter().copied().collect();
    Task::BurnIn(BurnIn { minutes: 1, limit_minutes: 200, without })
}

fn nowhere() -> PathBuf {
    "/nowhere".into()
}

#[tokio::test]
async fn jobs_are_done_one_after_another_and_none_twice() {
    let orders = vec![(1, Task::Survey), (2, command(&["echo", "two"], 1))];
    let said = done(Small::default(), nowhere(), orders, None).await;
    let order: Vec<i64> = said.iter().map(|(number, _)| *number).collect();
    assert!(order.is_sorted(), "{said:#?}");
    assert_eq!((result(&said, 1).faults, lines(&said, 2)), (vec![], vec!["two".to_owned()]));
    let jobs = Jobs::default();
    jobs.order(1, Task::Survey);
    jobs.change(|state| state.waiting.pop_front());
    jobs.order(1, Task::Survey);
    assert!(jobs.change(|state| state.waiting.is_empty()), "it was begun in this boot");
}

#[tokio::test]
async fn a_burn_in_tests_everything_and_says_what_it_found() {
    let said = done(Small::default(), nowhere(), vec![(1, burn_in(&[BurnInPart::Network]))], None).await;
    let result = result(&said, 1);
    assert_eq!(result.faults, Vec::<String>::new());
    let found = result.burn_in.unwrap();
    let memory = found.memory.as_ref().unwrap();
    assert!(memory.mib == 1 && memory.passes > 0 && memory.errors == 0, "{memory:?}");
    let cpu = found.cpu.as_ref().unwrap();
    assert!(cpu.threads == 2 && cpu.rounds > 0 && cpu.errors == 0, "{cpu:?}");
    assert!(found.disks.iter().all(|disk| disk.is_whole()) && found.disks.len() == 1);
    assert_eq!((found.corrected_errors, found.uncorrected_errors), (Some(0), Some(0)));
    assert!((found.temperatures[0].highest - 40.0).abs() < 0.1);
    assert!(said.iter().any(|(_, news)| matches!(news, News::Progress(_))));
}

#[tokio::test]
async fn a_burn_in_fails_on_a_bad_disk_and_on_heat() {
    let bad = Small { bad_disk: true, is_hot: true.into(), ..Small::default() };
    let without = [BurnInPart::Memory, BurnInPart::Network];
    let said = done(bad, nowhere(), vec![(1, burn_in(&without))], None).await;
    let result = result(&said, 1);
    assert_eq!(
        result.faults,
        [
            "disk sda, serial TL-4711: a piece of 1 MiB cannot be read, at byte 1048576: Input/output error",
            "chip temp1: 99 °C, of at most 95 °C"
        ]
    );
    assert!(result.burn_in.unwrap().memory.is_none(), "it was left out");
    assert_eq!(lines(&said, 1).len(), 4, "the disk, both faults, and all in a line");
}

#[tokio::test]
async fn a_command_is_told_of_its_machine_and_its_end_is_what_it_was() {
    let script =
        "echo out; echo err >&2; echo $LASTMILE_MACHINE $LASTMILE_LABELS $LASTMILE_DETAIL_RACK_UNIT; exit 3";
    let orders = vec![(1, command(&["sh", "-c", script], 5)), (2, command(&["/no/such/program"], 5))];
    let said = done(Small::default(), nowhere(), orders, None).await;
    let one = result(&said, 1);
    assert_eq!((one.exit_status, one.faults), (Some(3), vec!["it ended with exit status: 3".to_owned()]));
    let mut written = lines(&said, 1);
    written.sort();
    assert_eq!(written, ["auklet-kiosk-1 kiosk quay 12", "err", "out"]);
    assert!(result(&said, 2).faults[0].contains("/no/such/program cannot be run"));
}

#[tokio::test]
async fn what_takes_too_long_or_is_cancelled_ends_with_all_that_it_started() {
    let folder = tempfile::tempdir().unwrap();
    let sign = folder.path().join("still-here");
    let script = format!("(sleep 3; touch {}) & echo begun; wait", sign.display());
    let said = done(Small::default(), nowhere(), vec![(1, command(&["sh", "-c", &script], 1))], None).await;
    assert_eq!(result(&said, 1).faults, ["it took longer than 1 min and was ended"]);
    let orders = [(1, command(&["sleep", "60"], 1000)), (2, burn_in(&[BurnInPart::Network]))];
    for cancel in [1, 2] {
        let orders = orders.iter().filter(|(number, _)| *number == cancel).cloned().collect();
        let said = done(Small::default(), nowhere(), orders, Some(cancel)).await;
        assert_eq!(result(&said, cancel).faults, ["it was cancelled"]);
    }
    tokio::time::sleep(Duration::from_secs(3)).await;
    assert!(!sign.exists(), "what the command had started went on");
}

#[tokio::test]
async fn the_sites_programs_run_before_and_after_and_may_refuse() {
    use std::{fs, os::unix::fs::PermissionsExt};
    let folder = tempfile::tempdir().unwrap();
    let put = |point: &str, script: &str| {
        let path = folder.path().join(point);
        fs::create_dir_all(&path).unwrap();
        fs::write(path.join("raid"), format!("#!/bin/sh\n{script}\n")).unwrap();
        fs::set_permissions(path.join("raid"), fs::Permissions::from_mode(0o755)).unwrap();
    };
    put("after-job", "echo \"\\\"$LASTMILE_POINT $LASTMILE_JOB $LASTMILE_JOB_KIND $LASTMILE_JOB_STATE\\\"\"");
    let orders = vec![(7, command(&["echo", "done"], 1))];
    let said = done(Small::default(), folder.path().into(), orders.clone(), None).await;
    assert_eq!(result(&said, 7).found["raid"], serde_json::json!("after-job 7 command done"));
    put("before-job", "echo 'the controller rebuilds' >&2; exit 1");
    let said = done(Small::default(), folder.path().into(), orders, None).await;
    let refused = result(&said, 7);
    assert_eq!(refused.faults, ["raid: it ended with exit status: 1: the controller rebuilds"]);
    assert_eq!(refused.found["raid"], serde_json::json!("after-job 7 command failed"));
    assert!(lines(&said, 7).is_empty(), "it was not done");
}

/// A person at the other end of a shell.
struct Person(WebSocketStream<TcpStream>);

impl Person {
    /// The agent's next connection; so many bytes are on record.
    async fn come(listener: &TcpListener, recorded: u64) -> Self {
        let mut person = Self(accept_async(listener.accept().await.unwrap().0).await.unwrap());
        person.say(ToShell::Recorded { bytes: recorded }).await;
        person
    }

    async fn say(&mut self, word: ToShell) {
        self.0.send(Message::text(serde_json::to_string(&word).unwrap())).await.unwrap();
    }

    async fn type_in(&mut self, keys: &str) {
        self.0.send(Message::binary(keys.as_bytes().to_vec())).await.unwrap();
    }

    /// Reads until something was written.
    async fn until(&mut self, wanted: &str) -> String {
        let mut written = String::new();
        while !written.contains(wanted) {
            let next = timeout(Duration::from_secs(20), self.0.next()).await;
            match next.unwrap_or_else(|_| panic!("no {wanted:?} in {written:?}")).unwrap().unwrap() {
                Message::Binary(bytes) => written.push_str(&String::from_utf8_lossy(&bytes)),
                Message::Close(_) => panic!("it was closed before {wanted:?}: {written:?}"),
                _ => {}
            }
        }
        written
    }
}

fn shell() -> Task {
    Task::Shell(OpenShell { limit_minutes: 600 })
}

#[tokio::test]
async fn a_shell_is_on_a_terminal_and_outlives_its_connection() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let service = Some(format!("http://{}", listener.local_addr().unwrap()));
    let uses = async {
        let mut person = Person::come(&listener, 0).await;
        person.say(ToShell::Size(ScreenSize { columns: 132, rows: 50 })).await;
        person.type_in("stty size; echo at $LASTMILE_MACHINE; kept=here\n").await;
        let written = person.until("at auklet-kiosk-1").await;
        assert!(written.contains("50 132"), "{written}");
        // The connection breaks; the shell does not. What is not on record is said again, and nothing else.
        drop(person);
        let recorded = written.find("50 132").unwrap();
        let mut person = Person::come(&listener, recorded as u64).await;
        let again = person.until("at auklet-kiosk-1").await;
        assert!(
            written.starts_with(&format!("{}{again}", &written[..recorded])),
            "{again:?} after {written:?}"
        );
        person.type_in("echo still $kept\n").await;
        person.until("still here").await;
        // A program is interrupted as on any terminal.
        person.type_in("sleep 1000\n").await;
        tokio::time::sleep(Duration::from_millis(300)).await;
        person.type_in("\u{3}").await;
        person.type_in("echo after $((40 + 2))\n").await;
        person.until("after 42").await;
        person.type_in("exit 3\n").await;
        // It has not ended before its last words are on record.
        person.until("exit 3").await;
        drop(person);
        let mut person = Person::come(&listener, recorded as u64).await;
        person.until("exit 3").await;
        person.say(ToShell::Recorded { bytes: u64::MAX }).await;
        while let Some(Ok(message)) = person.0.next().await {
            if matches!(message, Message::Close(_)) {
                break;
            }
        }
    };
    let hardware = Small { service, ..Small::default() };
    let (said, ()) = tokio::join!(done(hardware, PathBuf::new(), vec![(1, shell())], None), uses);
    let result = result(&said, 1);
    assert_eq!(result.exit_status, Some(3));
    assert_eq!(result.faults, ["it ended with exit status: 3"]);
}

#[tokio::test]
async fn a_shell_ends_when_it_is_cancelled_and_is_not_begun_where_there_is_none() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let service = Some(format!("http://{}", listener.local_addr().unwrap()));
    let hardware = Small { service, ..Small::default() };
    let said = done(hardware, PathBuf::new(), vec![(1, shell())], Some(1)).await;
    assert_eq!(result(&said, 1).faults, [CANCELLED]);
    let said = done(Small::default(), PathBuf::new(), vec![(1, shell())], None).await;
    assert!(result(&said, 1).summary().contains("no service"));
}

#[tokio::test]
async fn a_machine_shows_where_it_is_for_its_time_and_says_by_what() {
    let hardware = Small::default();
    let light = hardware.light.clone();
    let locate = |disk: Option<&str>| Task::Locate(Locate { minutes: 1, disk: disk.map(str::to_owned) });
    let said = done(
        hardware,
        PathBuf::new(),
        vec![(1, locate(None)), (2, locate(Some("TL-4711"))), (3, locate(Some("TL-1")))],
        None,
    )
    .await;
    assert_eq!(result(&said, 1).shown, ["front", "its screens"]);
    assert_eq!(lines(&said, 1), ["network card eth0 does not shine: unsupported"]);
    assert_eq!(*light.lock().unwrap(), ["on", "off"]);
    // A disk without a light is still named on the screens.
    let of_disk = result(&said, 2);
    assert_eq!((of_disk.shown.len(), of_disk.faults.len()), (1, 1), "{of_disk:?}");
    assert!(result(&said, 3).summary().contains("no disk has the serial number or the name TL-1"));
}

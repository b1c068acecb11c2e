//! The agent as the first processes of a machine (`/init` of an initramfs): everything that a system has to be before anything
//! can be measured.

mod consoles;
mod drivers;
mod mounts;

use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, Read},
    path::Path,
    process::Command,
    sync::Arc,
    time::Duration,
};

use jiff::Timestamp;
use lastmile_survey::{
    facts::Facts,
    messages::{Finish, Said, Survey, ToAgent},
};
use nix::{
    errno::Errno,
    sys::{
        reboot::{RebootMode, reboot},
        time::TimeSpec,
        wait::{WaitStatus, wait},
    },
    time::{ClockId, clock_settime},
};
use tokio::{
    sync::{mpsc, oneshot, watch},
    time::{Instant, interval, sleep, timeout},
};
use uuid::Uuid;

use crate::{
    collect::{self, Tree},
    devices, hooks,
    jobs::{About, Bench, Jobs, OwnHardware},
    network::{self, Links, Neighbours},
    orders::Orders,
    session::{Outbox, Session},
    status::{Shown, Status},
};
use drivers::Drivers;

/// How long a machine shows why it cannot go on before it starts anew: long enough to be read and photographed.
const FAREWELL: Duration = Duration::from_secs(60);
/// Between two tries to bring the network up.
const NETWORK_PAUSE: Duration = Duration::from_secs(2);
/// Between two looks for what has changed: disks that appear late, cables that are moved.
const LOOK: Duration = Duration::from_secs(5);
/// How long devices are waited for at a look, and how long what they said is good.
const DEVICES: Duration = Duration::from_secs(2);
const ASKED_ANEW: Duration = Duration::from_secs(60);
const GOOD: Duration = Duration::from_secs(600);
/// How long what has to be recorded is waited for before the machine starts anew.
const LAST_WORDS: Duration = Duration::from_secs(30);
/// How often the site's programs run after rules in one boot.
const MOST_AFTER_RULES: u32 = 20;
/// The shell and the small tools in one program.
const TOOLS: &str = "/bin/busybox";
/// Words from the service that may wait.
const MOST_WORDS: usize = 64;

/// The word by which the first process starts the one that runs the machine.
pub const RUN: &str = "run";

/// The first process's work: it starts the one that runs the machine, and takes the exit status of every process whose parent ended
/// before it, as those of a shell that was left. Ends with why the machine is not run any more.
#[must_use]
pub fn look_after() -> String {
    let runs = match Command::new("/init").arg(RUN).spawn() {
        Ok(child) => child.id().cast_signed(),
        Err(error) => return format!("it cannot be started: {error}"),
    };
    loop {
        match wait() {
            Ok(WaitStatus::Exited(pid, status)) if pid.as_raw() == runs => {
                return format!("it has ended with status {status}");
            }
            Ok(WaitStatus::Signaled(pid, signal, _)) if pid.as_raw() == runs => {
                return format!("it was ended by {signal}");
            }
            Ok(_) | Err(Errno::EINTR) => {}
            Err(error) => return format!("it cannot be waited for: {error}"),
        }
    }
}

/// Runs the machine. Never returns while the machine runs.
///
/// # Errors
/// What it cannot do without.
pub fn run() -> io::Result<()> {
    let faults = mounts::all();
    // A kernel that was given no random bytes at its start makes some once it is asked for them, and not before: whoever only
    // waits until there are some, as static programs do, would wait for ever (random(4)).
    std::thread::spawn(|| File::open("/dev/random").and_then(|mut random| random.read_exact(&mut [0])));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let status = Status::default();
    faults.into_iter().for_each(|fault| status.fault(fault));
    runtime.block_on(live(status))
}

async fn live(status: Status) -> io::Result<()> {
    tokio::spawn(consoles::follow(status.follow()));
    let (orders, errors) = Orders::read(&std::fs::read_to_string("/proc/cmdline").unwrap_or_default());
    errors.iter().for_each(|error| status.fault(error.to_string()));
    let tree = Tree::machine();
    show_hardware(&status, &collect::facts(&tree));
    status.doing("loading drivers");
    let drivers = Drivers::new(&status);
    drivers.load_wanted();
    let links = Links::open()?;
    tokio::spawn(keep_network(links.clone(), orders.clone(), status.clone()));
    let neighbours: Arc<Neighbours> = network::neighbours();
    if let Err(error) = neighbours.listen() {
        status.fault(format!("neighbours on the cables are not heard: {error}"));
    }
    drivers.settle().await;
    link_tools(&status).await;
    let outbox = Arc::new(Outbox::default());
    status.doing("measuring");
    // Connected before it measures: programs of the site may take minutes, and people see what it is at.
    let (say, said) = mpsc::channel(MOST_WORDS);
    let session = session(&orders, &status);
    if let Some(session) = session.clone() {
        let (outbox, status) = (Arc::clone(&outbox), status.clone());
        tokio::spawn(tell_doing(status.follow(), Arc::clone(&outbox)));
        tokio::spawn(async move { session.run(&outbox, &say, &status).await });
    }
    let (ask, asks) = mpsc::channel(1);
    let (know, about) = watch::channel(About::default());
    let bench = Bench {
        hardware: Arc::new(OwnHardware(tree.clone())),
        outbox: Arc::clone(&outbox),
        status: status.clone(),
        session,
        programs: hooks::FOLDER.into(),
        surveys: ask,
        about: about.clone(),
    };
    let jobs = Arc::new(Jobs::default());
    let doing = Arc::clone(&jobs);
    tokio::spawn(async move { doing.run(&bench).await });
    let surveys = Surveys {
        tree,
        links,
        neighbours,
        drivers,
        outbox: Arc::clone(&outbox),
        said: BTreeMap::new(),
        about,
        asked: None,
        is_asked_anew: false,
        asking: None,
        asks,
    };
    tokio::spawn(surveys.run(status.clone()));
    Obeying { outbox: &outbox, status: &status, jobs: &jobs, know }.run(said).await;
    std::future::pending().await
}

/// Gives each of the small tools its own name, where the system has them.
async fn link_tools(status: &Status) {
    if !Path::new(TOOLS).exists() {
        return;
    }
    let made = tokio::process::Command::new(TOOLS).args(["--install", "-s", "/bin"]).output().await;
    match made {
        Ok(made) if made.status.success() => {}
        Ok(made) => status.fault(format!("{TOOLS}: {}", String::from_utf8_lossy(&made.stderr).trim())),
        Err(error) => status.fault(format!("{TOOLS}: {error}")),
    }
}

/// Tells the service what is going on, each time that it is something else.
async fn tell_doing(mut shown: watch::Receiver<Shown>, outbox: Arc<Outbox>) {
    let mut told = String::new();
    loop {
        let doing = shown.borrow_and_update().doing.clone();
        if doing != told {
            outbox.tell(Said::Doing { text: doing.clone() });
            told = doing;
        }
        if shown.changed().await.is_err() {
            return;
        }
    }
}

fn session(orders: &Orders, status: &Status) -> Option<Session> {
    let (Some(service), Some(token)) = (&orders.service, &orders.token) else {
        status.fault(
            "the kernel's command line has no lastmile.service and lastmile.token: nobody is told".into(),
        );
        return None;
    };
    status.service(service.clone());
    let up = nix::time::clock_gettime(ClockId::CLOCK_BOOTTIME).map(Duration::from).unwrap_or_default();
    let since = Instant::now().checked_sub(up).unwrap_or_else(Instant::now);
    Some(Session { service: service.clone(), token: token.clone(), boot: Uuid::now_v7(), since, from: None })
}

fn show_hardware(status: &Status, facts: &Facts) {
    status.hardware(facts.hardware().unwrap_or_else(|| "of no name that its firmware says".into()));
}

/// The network is brought up again whenever it fails: a card may go away and come back.
async fn keep_network(links: Links, orders: Orders, status: Status) {
    loop {
        if let Err(error) = network::keep_up(&links, &orders, &status).await {
            status.fault(format!("the network: {error}"));
        }
        sleep(NETWORK_PAUSE).await;
    }
}

/// Measures, again and again.
struct Surveys {
    tree: Tree,
    links: Links,
    neighbours: Arc<Neighbours>,
    drivers: Drivers,
    outbox: Arc<Outbox>,
    /// What the site's own programs said last, by the points at which they run.
    said: BTreeMap<hooks::Point, hooks::Said>,
    /// What the service says of the machine.
    about: watch::Receiver<About>,
    /// What its devices said when they were asked last.
    asked: Option<(Instant, Facts)>,
    /// Whether they are to be asked again, however long ago that was.
    is_asked_anew: bool,
    /// Who asks them at present.
    asking: Option<tokio::task::JoinHandle<Facts>>,
    /// Who wants it measured now.
    asks: mpsc::Receiver<oneshot::Sender<()>>,
}

impl Surveys {
    /// Measures and reports, and again whenever something is different. Every card is switched on, so that its neighbour can be
    /// heard.
    async fn run(mut self, status: Status) {
        self.ask_the_site(hooks::Point::BeforeReport, &status).await;
        status.doing("measuring");
        let mut last = None;
        let mut asked: Option<oneshot::Sender<()>> = None;
        let mut after_rules = AfterRules::default();
        let mut look = interval(LOOK);
        loop {
            let now = self.measure().await;
            status.listing(listing(&now.facts));
            if last.is_none() {
                show_hardware(&status, &now.facts);
                status.doing("reporting");
            }
            // How hot a disk is is told with the rest; it is no reason to tell it.
            let lasting = Survey { facts: now.facts.lasting(), ..now.clone() };
            if last.as_ref() != Some(&lasting) || asked.is_some() {
                self.outbox.put(Said::Survey(Box::new(now)));
                if let Some(asked) = asked.take() {
                    // Whoever asked may have been told to stop.
                    let _ = asked.send(());
                }
                if last.replace(lasting).is_none() {
                    let (outbox, status) = (Arc::clone(&self.outbox), status.clone());
                    tokio::spawn(async move {
                        outbox.delivered().await;
                        status.doing("waiting");
                    });
                }
            }
            for link in self.links.all().await.unwrap_or_default() {
                // What cannot be switched on now is tried again at the next look.
                let _ = self.links.up(link.index).await;
            }
            tokio::select! {
                _ = look.tick() => {}
                () = self.neighbours.changed() => {}
                Some(ask) = self.asks.recv() => {
                    (asked, self.is_asked_anew) = (Some(ask), true);
                }
                () = after_rules.is_time(&self.outbox, &mut self.about) => {
                    self.ask_the_site(hooks::Point::AfterRules, &status).await;
                    status.doing("waiting");
                }
            }
            self.drivers.load_wanted();
        }
    }

    /// Runs the site's own programs of a point, once: they may take a while.
    async fn ask_the_site(&mut self, point: hooks::Point, status: &Status) {
        status.doing("running the site's programs");
        let facts = self.facts().await;
        let told = self.about.borrow().told();
        let said = hooks::run(Path::new(hooks::FOLDER), point, &facts, &told).await;
        said.faults.iter().for_each(|fault| status.fault(fault.clone()));
        self.said.insert(point, said);
    }

    /// Devices are not asked at each look: they have other work. Slow ones are not waited for: what they say is told at a later look.
    async fn facts(&mut self) -> Facts {
        let mut facts = collect::facts(&self.tree);
        let is_good = |asked: &(Instant, Facts)| {
            asked.0.elapsed() < GOOD && collect::ask_again(&mut facts.clone(), &asked.1)
        };
        if self.is_asked_anew || !self.asked.as_ref().is_some_and(is_good) {
            // Whoever wants it measured anew waits for slow ones, too. What was said before holds meanwhile.
            let patience = if self.is_asked_anew { ASKED_ANEW } else { DEVICES };
            let mut asked = facts.clone();
            let ask = || {
                tokio::task::spawn_blocking(move || {
                    collect::ask(&mut asked, &devices::Own);
                    asked
                })
            };
            let asking = self.asking.get_or_insert_with(ask);
            if let Ok(said) = timeout(patience, asking).await {
                self.asking = None;
                self.asked = said.ok().map(|said| (Instant::now(), said)).or_else(|| self.asked.take());
            }
            self.is_asked_anew = false;
        }
        if let Some((_, before)) = &self.asked {
            // What belongs to a disk that is not there any more is asked again at the next look.
            collect::ask_again(&mut facts, before);
        }
        facts
    }

    async fn measure(&mut self) -> Survey {
        let mut facts = self.facts().await;
        let links = self.links.all().await.unwrap_or_default();
        for nic in &mut facts.nics {
            let link = links.iter().find(|link| link.name == nic.name);
            nic.neighbour = link.and_then(|link| self.neighbours.on(link.index));
            nic.permanent_mac = link.and_then(|link| link.permanent_mac);
        }
        let mut survey = Survey { facts, faults: self.drivers.faults(), ..Survey::default() };
        for said in self.said.values() {
            survey.found.extend(said.found.clone());
            survey.faults.extend(said.faults.clone());
        }
        survey
    }
}

/// When the service has run its rules: on the first report of this boot, and whenever they made something else of the machine.
#[derive(Debug, Default)]
struct AfterRules {
    /// What the service said of the machine when programs ran last.
    ran_for: Option<About>,
    times: u32,
}

impl AfterRules {
    /// Waits for it. What programs find may have rules change the machine, which has programs run: that has an end.
    async fn is_time(&mut self, outbox: &Outbox, about: &mut watch::Receiver<About>) {
        if self.times >= MOST_AFTER_RULES {
            std::future::pending::<()>().await;
        }
        loop {
            // Rules run before a report is said to be on record.
            outbox.delivered().await;
            let now = about.borrow_and_update().clone();
            if self.ran_for.as_ref() != Some(&now) {
                self.ran_for = Some(now);
                self.times += 1;
                return;
            }
            if about.changed().await.is_err() {
                std::future::pending::<()>().await;
            }
        }
    }
}

/// What is in the machine, a line each.
fn listing(facts: &Facts) -> Vec<String> {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let mut lines = vec![
        format!("processor {}, {} cores", text(&facts.cpu.model), facts.cpu.cores),
        format!("memory    {} MiB", facts.memory.mib),
    ];
    lines.extend(facts.disks.iter().map(|disk| {
        let gb = disk.size / 1_000_000_000;
        format!("disk      {} {gb} GB {} {}", disk.name, text(&disk.model), text(&disk.serial))
    }));
    lines.extend(facts.nics.iter().map(|nic| {
        let link = if nic.link { "link" } else { "no link" };
        format!("network   {} {} {} {link}", nic.name, nic.mac, text(&nic.driver))
    }));
    lines.into_iter().map(|line| line.trim_end().to_owned()).collect()
}

/// Does what the service says.
struct Obeying<'a> {
    outbox: &'a Outbox,
    status: &'a Status,
    jobs: &'a Jobs,
    /// Where what the service says of the machine is kept.
    know: watch::Sender<About>,
}

impl Obeying<'_> {
    /// Until the end.
    async fn run(&self, mut said: mpsc::Receiver<ToAgent>) {
        while let Some(word) = said.recv().await {
            match word {
                ToAgent::Welcome { now, machine } => {
                    self.status.machine(machine);
                    if let Err(error) = set_clock(now) {
                        self.status.fault(format!("the clock cannot be set: {error}"));
                    }
                }
                ToAgent::Waits { machine, labels, details, text } => {
                    self.status.machine(machine.clone());
                    self.status.waits_for(&text);
                    self.know.send_replace(About { machine, labels, details });
                }
                ToAgent::Job { number, task } => self.jobs.order(number, task),
                ToAgent::CancelJob { number } => self.jobs.cancel(number),
                // The connection takes it.
                ToAgent::Recorded { .. } => {}
                ToAgent::Finish(finish) => end(finish, self.outbox, self.status).await,
            }
        }
    }
}

async fn end(finish: Finish, outbox: &Outbox, status: &Status) {
    status.doing(match finish {
        Finish::Restart => "restarting",
        Finish::PowerOff => "switching off",
    });
    // What is not on record by then is lost: a machine that cannot report must not keep from restarting.
    let _ = timeout(LAST_WORDS, outbox.delivered()).await;
    // Long enough for the screens.
    sleep(Duration::from_millis(300)).await;
    nix::unistd::sync();
    let mode = match finish {
        Finish::Restart => RebootMode::RB_AUTOBOOT,
        Finish::PowerOff => RebootMode::RB_POWER_OFF,
    };
    let Err(error) = reboot(mode);
    status.fault(format!("the kernel refuses: {error}"));
}

fn set_clock(now: Timestamp) -> nix::Result<()> {
    let seconds = now.as_second();
    clock_settime(ClockId::CLOCK_REALTIME, TimeSpec::new(seconds, now.subsec_nanosecond().into()))
}

/// What stays on the screen when the first process cannot go on: it must not end, or the kernel panics.
pub fn farewell(why: &str) {
    consoles::print(&format!("Last Mile survey\n  fault     {why}\n  now       restarting in a minute\n"));
    std::thread::sleep(FAREWELL);
    let Err(_) = reboot(RebootMode::RB_AUTOBOOT);
}

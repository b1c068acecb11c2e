//! The agent as the first process of a machine (`/init` of an initramfs): everything that a system has to be before anything
//! can be measured.

mod consoles;
mod drivers;
mod mounts;

use std::{io, path::Path, sync::Arc, time::Duration};

use jiff::Timestamp;
use lastmile_survey::{
    facts::Facts,
    messages::{Finish, Said, Survey, ToAgent},
};
use nix::{
    sys::{
        reboot::{RebootMode, reboot},
        time::TimeSpec,
    },
    time::{ClockId, clock_settime},
};
use tokio::{
    sync::{mpsc, watch},
    time::{Instant, interval, sleep, timeout},
};
use uuid::Uuid;

use crate::{
    collect::{self, Tree},
    hooks,
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
/// How long what has to be recorded is waited for before the machine starts anew.
const LAST_WORDS: Duration = Duration::from_secs(30);
/// Words from the service that may wait.
const MOST_WORDS: usize = 64;

/// Runs the machine. Never returns while the machine runs.
pub fn run() -> io::Result<()> {
    let faults = mounts::all();
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
    let outbox = Arc::new(Outbox::default());
    status.doing("measuring");
    // Connected before it measures: programs of the site may take minutes, and people see what it is at.
    let (say, said) = mpsc::channel(MOST_WORDS);
    if let Some(session) = session(&orders, &status) {
        let (outbox, status) = (Arc::clone(&outbox), status.clone());
        tokio::spawn(tell_doing(status.follow(), Arc::clone(&outbox)));
        tokio::spawn(async move { session.run(&outbox, &say, &status).await });
    }
    let surveys = Surveys {
        tree,
        links,
        neighbours,
        drivers,
        outbox: Arc::clone(&outbox),
        said: hooks::Said::default(),
    };
    tokio::spawn(surveys.run(status.clone()));
    obey(said, &outbox, &status).await;
    std::future::pending().await
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
    /// What the site's own programs said.
    said: hooks::Said,
}

impl Surveys {
    /// Measures and reports, and again whenever something is different. Every card is switched on, so that its neighbour can be
    /// heard.
    async fn run(mut self, status: Status) {
        self.ask_the_site(&status).await;
        status.doing("measuring");
        let mut last = None;
        let mut look = interval(LOOK);
        loop {
            let now = self.measure().await;
            if last.is_none() {
                show_hardware(&status, &now.facts);
                status.doing("reporting");
            }
            if last.as_ref() != Some(&now) {
                self.outbox.put(Said::Survey(Box::new(now.clone())));
                if last.replace(now).is_none() {
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
            }
            self.drivers.load_wanted();
        }
    }

    /// Runs the site's own programs, once: they may take a while.
    async fn ask_the_site(&mut self, status: &Status) {
        status.doing("running the site's programs");
        let facts = collect::facts(&self.tree);
        self.said = hooks::run(Path::new(hooks::FOLDER), hooks::Point::BeforeReport, &facts).await;
        self.said.faults.iter().for_each(|fault| status.fault(fault.clone()));
    }

    async fn measure(&self) -> Survey {
        let mut facts = collect::facts(&self.tree);
        let links = self.links.all().await.unwrap_or_default();
        for nic in &mut facts.nics {
            let link = links.iter().find(|link| link.name == nic.name);
            nic.neighbour = link.and_then(|link| self.neighbours.on(link.index));
            nic.permanent_mac = link.and_then(|link| link.permanent_mac);
        }
        let faults = [self.drivers.faults(), self.said.faults.clone()].concat();
        Survey { facts, found: self.said.found.clone(), faults }
    }
}

/// Does what the service says, until the end.
async fn obey(mut said: mpsc::Receiver<ToAgent>, outbox: &Outbox, status: &Status) {
    while let Some(word) = said.recv().await {
        match word {
            ToAgent::Welcome { now, machine } => {
                status.machine(machine);
                if let Err(error) = set_clock(now) {
                    status.fault(format!("the clock cannot be set: {error}"));
                }
            }
            ToAgent::Waits { machine, text } => {
                status.machine(machine);
                status.waits_for(&text);
            }
            // The connection takes it.
            ToAgent::Recorded { .. } => {}
            ToAgent::Finish(finish) => end(finish, outbox, status).await,
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
pub fn farewell(error: &io::Error) {
    consoles::print(&format!(
        "Last Mile survey\n  fault     it cannot run: {error}\n  now       restarting in a minute\n"
    ));
    std::thread::sleep(FAREWELL);
    let Err(_) = reboot(RebootMode::RB_AUTOBOOT);
}

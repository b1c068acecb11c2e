//! `lastmile install wait`: for scripts, which must not take an armed install for one that succeeded.

use std::{collections::BTreeMap, process::ExitCode, time::Duration};

use clap::Args;
use futures_util::StreamExt;
use jiff::SignedDuration;
use lastmile_api::{Event, InstallRow, InstallState, InstallsListQuery, MachineSort, MachinesListQuery};
use lastmile_client::{Client, ClientError};
use tokio::time::{Instant, sleep, timeout_at};

use super::took;
use crate::{
    complete,
    output::{Bar, Failure, Output, time},
};

/// How long nothing may be heard before everything is read again: a connection can die without a word.
const REREAD: Duration = Duration::from_secs(30);
/// Before all is read again: a service that is away, or that loses events for their number, is not pressed.
const RETRY: Duration = Duration::from_secs(1);
/// Installs on a page, which is the most that the service gives.
const PAGE: u32 = 1000;
/// Installs that are told of by name when time is up.
const TOLD: usize = 10;

/// `lastmile install wait …`
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Installs by number, or machines by name or MAC address, whose last install is meant. If left out, every install in
    /// progress.
    #[arg(value_name = "INSTALL|MACHINE", add = complete::machines())]
    what: Vec<String>,
    /// The last installs of the machines with this label; if repeated, with all of them.
    #[arg(long, conflicts_with = "what", add = complete::labels())]
    label: Vec<String>,
    /// Wait no longer than this, as in 90m or 2h30m.
    #[arg(long, value_name = "TIME")]
    timeout: Option<SignedDuration>,
}

/// Exits with success once every install that was named is installed, and with failure once all have ended and one
/// of them otherwise, or when time is up.
pub(crate) async fn run(arguments: &Arguments, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let end = arguments.timeout.map(|span| Instant::now() + span.unsigned_abs());
    let mut wait = Wait { open: named(arguments, client).await?, ended: Vec::new(), out, bar: None };
    wait.bar = Some(out.count("installs", wait.open.len()));
    wait.follow(client, end).await?;
    if let Some(bar) = &wait.bar {
        bar.done();
    }
    if !wait.open.is_empty() {
        return Err(wait.out_of_time(arguments));
    }
    let installed = wait.ended.iter().filter(|state| **state == InstallState::Installed).count();
    out.say(&format!("{installed} of {} installed", wait.ended.len()));
    Ok(if installed == wait.ended.len() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// The installs that are meant, by their numbers.
async fn named(arguments: &Arguments, client: &Client) -> Result<BTreeMap<i64, InstallRow>, Failure> {
    let mut installs = BTreeMap::new();
    if arguments.what.is_empty() && arguments.label.is_empty() {
        return Ok(all_open(client).await?);
    }
    for what in &arguments.what {
        let install = match what.parse() {
            Ok(number) => client.installs_read(number).await?.install,
            Err(_) => last_of(what, client).await?,
        };
        installs.insert(install.number, install);
    }
    if !arguments.label.is_empty() {
        let label = arguments.label.join(",");
        for number in last_of_label(&label, client).await? {
            installs.insert(number, client.installs_read(number).await?.install);
        }
        if installs.is_empty() {
            let what = format!("no machine with {label} ever had an install armed");
            let fix = "`lastmile machine list --label` shows them; `lastmile install arm` arms one.";
            return Err(Failure::Input { place: "--label".into(), what, fix });
        }
    }
    Ok(installs)
}

async fn last_of(machine: &str, client: &Client) -> Result<InstallRow, Failure> {
    let name = client.machines_read(machine).await?.value.machine.name;
    let query = InstallsListQuery { machine: Some(name), limit: Some(1), ..InstallsListQuery::default() };
    client.installs_list(&query).await?.installs.into_iter().next().ok_or_else(|| Failure::Input {
        place: machine.into(),
        what: "no install was ever armed for it".into(),
        fix: "`lastmile install arm` arms one.",
    })
}

/// The numbers of the last installs of all machines with a label.
async fn last_of_label(label: &str, client: &Client) -> Result<Vec<i64>, ClientError> {
    let (mut numbers, mut offset) = (Vec::new(), 0);
    loop {
        let query = MachinesListQuery {
            label: Some(label.into()),
            sort: Some(MachineSort::Name),
            limit: Some(PAGE),
            offset: Some(offset),
            ..MachinesListQuery::default()
        };
        let page = client.machines_list(&query).await?.machines;
        numbers.extend(page.iter().filter_map(|machine| machine.install));
        offset += PAGE;
        if page.len() < PAGE as usize {
            return Ok(numbers);
        }
    }
}

async fn all_open(client: &Client) -> Result<BTreeMap<i64, InstallRow>, ClientError> {
    let states = InstallState::ALL.iter().filter(|state| state.is_open()).map(|state| state.as_str());
    let state = states.collect::<Vec<_>>().join(",");
    let (mut all, mut offset) = (BTreeMap::new(), 0);
    loop {
        let query = InstallsListQuery {
            state: Some(state.clone()),
            limit: Some(PAGE),
            offset: Some(offset),
            ..InstallsListQuery::default()
        };
        let page = client.installs_list(&query).await?;
        offset += PAGE;
        let is_last = page.installs.len() < PAGE as usize;
        all.extend(page.installs.into_iter().map(|install| (install.number, install)));
        if is_last {
            // One that ended between two pages moved all later ones up, and one of them out of sight.
            if all.len() as i64 >= page.total {
                return Ok(all);
            }
            offset = 0;
        }
    }
}

/// What is waited for, and what came of the rest.
struct Wait<'a> {
    open: BTreeMap<i64, InstallRow>,
    ended: Vec<InstallState>,
    out: &'a Output,
    bar: Option<Bar>,
}

impl Wait<'_> {
    /// Returns when all have ended, or at `end`. A service that is away for a while is waited for.
    async fn follow(&mut self, client: &Client, end: Option<Instant>) -> Result<(), Failure> {
        let is_over = |open: &BTreeMap<i64, InstallRow>| {
            open.is_empty() || end.is_some_and(|end| Instant::now() >= end)
        };
        let mut is_away = false;
        loop {
            match self.listen(client, end).await {
                Ok(()) => is_away = false,
                Err(ClientError::Unreachable { .. }) => {
                    if !std::mem::replace(&mut is_away, true) {
                        self.beside(|| {
                            eprintln!("lastmile: the service does not answer; waiting for it to come back");
                        });
                    }
                }
                Err(error) => return Err(error.into()),
            }
            if is_over(&self.open) {
                return Ok(());
            }
            sleep(RETRY).await;
        }
    }

    /// Reads how all stand and follows the events for a while.
    async fn listen(&mut self, client: &Client, end: Option<Instant>) -> Result<(), ClientError> {
        // Listened to before what is was read, so that nothing falls between.
        let mut events = Box::pin(client.events_stream().await?);
        let open = all_open(client).await?;
        for number in self.open.keys().copied().collect::<Vec<_>>() {
            let now = match open.get(&number) {
                Some(install) => install.clone(),
                None => client.installs_read(number).await?.install,
            };
            self.take(now);
        }
        while !self.open.is_empty() {
            let until = Instant::now() + REREAD;
            let until = end.map_or(until, |end| end.min(until));
            match timeout_at(until, events.next()).await {
                Ok(Some(Event::Install { install })) if self.open.contains_key(&install.number) => {
                    self.take(*install);
                }
                Ok(Some(Event::Lagged) | None) | Err(_) => return Ok(()),
                Ok(Some(_)) => {}
            }
        }
        Ok(())
    }

    /// Tells of an install that passed to another state, or that has ended.
    fn take(&mut self, now: InstallRow) {
        let has_ended = !now.state.is_open();
        let before = self.open.insert(now.number, now.clone()).map(|before| before.state);
        if has_ended {
            self.open.remove(&now.number);
            self.ended.push(now.state);
            if let Some(bar) = &self.bar {
                bar.step();
            }
        }
        if self.out.is_json() {
            if has_ended {
                self.out.json_line(&now);
            }
        } else if has_ended || before != Some(now.state) {
            self.beside(|| self.out.line(&line(&now)));
        }
    }

    /// Writes without breaking the bar's line.
    fn beside(&self, write: impl FnOnce()) {
        match &self.bar {
            Some(bar) => bar.beside(write),
            None => write(),
        }
    }

    fn out_of_time(&self, arguments: &Arguments) -> Failure {
        let told = self.open.values().take(TOLD).map(|install| {
            let step = install.last_step.map_or("nothing was seen yet", |step| step.as_str());
            format!("install {} of {} is {} ({step})", install.number, install.machine, install.state)
        });
        let mut told = told.collect::<Vec<_>>().join("; ");
        if self.open.len() > TOLD {
            told.push_str(&format!("; and {} more", self.open.len() - TOLD));
        }
        let span = arguments.timeout.unwrap_or_default();
        Failure::TimedOut {
            what: format!("after {span:#}: {told}"),
            fix: "They are still in progress: nothing was cancelled. `lastmile trace MACHINE` shows how far one is.",
        }
    }
}

fn line(install: &InstallRow) -> String {
    let mut line = format!(
        "{}  install {:<4} {:<24} {:<10} {} r{}",
        time(install.last_step_at),
        install.number,
        install.machine,
        install.state,
        install.image,
        install.revision
    );
    match (&install.reason, install.state) {
        (Some(reason), _) => line.push_str(&format!(": {reason}")),
        (None, InstallState::Installed) => line.push_str(&format!(" in {}", took(install).shown())),
        _ => {}
    }
    line
}

//! Jobs: what is to be done on the machine, one after another.

mod burn_in;
mod command;
mod hardware;
mod locate;
mod log;
mod shell;

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

pub use hardware::{Hardware, OwnHardware, ReadAt};
use lastmile_survey::{
    facts::Facts,
    job::{JobProgress, JobResult, Task},
    messages::{News, Said},
};
pub use locate::{Light, Whose};
use log::Log;
use tokio::{
    sync::{Notify, mpsc, oneshot, watch},
    time::sleep,
};

use crate::{
    hooks::{self, Point},
    session::{Outbox, Session},
    status::Status,
};

/// What is said of a job that was stopped.
const CANCELLED: &str = "it was cancelled";

/// What the service says of the machine, for the site's own programs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// What it is called.
    pub machine: Option<String>,
    /// Its labels.
    pub labels: Vec<String>,
    /// Its details.
    pub details: BTreeMap<String, String>,
}

/// What doing jobs takes.
pub struct Bench {
    /// The machine.
    pub hardware: Arc<dyn Hardware>,
    /// Where the service hears of it.
    pub outbox: Arc<Outbox>,
    /// Where people at the machine see it.
    pub status: Status,
    /// How the service is reached.
    pub session: Option<Session>,
    /// The folder of the site's own programs.
    pub programs: PathBuf,
    /// Has the machine measured anew; what is sent back says that it was.
    pub surveys: mpsc::Sender<oneshot::Sender<()>>,
    /// What the service says of the machine.
    pub about: watch::Receiver<About>,
}

impl std::fmt::Debug for Bench {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Bench").field("programs", &self.programs).finish_non_exhaustive()
    }
}

/// The jobs of this boot.
#[derive(Debug, Default)]
pub struct Jobs {
    state: Mutex<State>,
    wake: Notify,
}

#[derive(Debug, Default)]
struct State {
    /// Those that were ever ordered: none is begun twice.
    known: BTreeSet<i64>,
    /// Those that wait.
    waiting: VecDeque<(i64, Task)>,
    /// The one that is done, and how it is told to stop.
    current: Option<(i64, watch::Sender<bool>)>,
}

impl Jobs {
    /// Takes an order of the service.
    pub fn order(&self, number: i64, task: Task) {
        self.change(|state| {
            if state.known.insert(number) {
                state.waiting.push_back((number, task));
            }
        });
        self.wake.notify_one();
    }

    /// A job is not to be done any more.
    pub fn cancel(&self, number: i64) {
        self.change(|state| {
            state.waiting.retain(|(waiting, _)| *waiting != number);
            if let Some((_, stop)) = state.current.as_ref().filter(|(current, _)| *current == number) {
                stop.send_replace(true);
            }
        });
    }

    /// Does what is ordered, for ever.
    pub async fn run(&self, bench: &Bench) {
        loop {
            let Some((number, task)) = self.change(|state| state.waiting.pop_front()) else {
                self.wake.notified().await;
                continue;
            };
            let (stop, stopped) = watch::channel(false);
            self.change(|state| state.current = Some((number, stop)));
            bench.outbox.set_job(Some(number));
            bench.do_one(number, &task, stopped).await;
            bench.outbox.set_job(None);
            self.change(|state| state.current = None);
        }
    }

    fn change<T>(&self, change: impl FnOnce(&mut State) -> T) -> T {
        change(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// One job under way.
struct Doing<'a> {
    bench: &'a Bench,
    number: i64,
    log: Log,
    /// Whether it is to stop.
    stopped: watch::Receiver<bool>,
    /// After how long it is ended.
    limit: Duration,
}

impl Bench {
    async fn do_one(&self, number: i64, task: &Task, stopped: watch::Receiver<bool>) {
        self.say(number, News::Began);
        self.status.doing(&format!("job {number}: {}", task.summary()));
        let limit = self.hardware.minute() * task.limit_minutes();
        let log = Log::new(number, Arc::clone(&self.outbox));
        let doing = Doing { bench: self, number, log, stopped, limit };
        let before = self.ask_the_site(Point::BeforeJob, number, task, None).await;
        let mut result = if before.faults.is_empty() {
            doing.task(task).await
        } else {
            JobResult { faults: before.faults, ..JobResult::default() }
        };
        let after = self.ask_the_site(Point::AfterJob, number, task, Some(&result)).await;
        result.faults.extend(after.faults);
        result.found.extend(before.found.into_iter().chain(after.found));
        doing.log.flush();
        self.status.doing(&format!("job {number} has ended: {}", result.summary()));
        self.say(number, News::Ended(Box::new(result)));
    }

    /// Runs the site's own programs of a point. They are told what it is about beside the facts.
    async fn ask_the_site(
        &self,
        point: Point,
        number: i64,
        task: &Task,
        result: Option<&JobResult>,
    ) -> hooks::Said {
        let state = result.map(|result| if result.faults.is_empty() { "done" } else { "failed" });
        let mut told = self.about.borrow().told();
        told.extend([
            ("LASTMILE_JOB".to_owned(), number.to_string()),
            ("LASTMILE_JOB_KIND".to_owned(), task.kind().to_string()),
        ]);
        told.extend(state.map(|state| ("LASTMILE_JOB_STATE".to_owned(), state.to_owned())));
        hooks::run(&self.programs, point, &self.facts().await, &told).await
    }

    /// What the machine is: devices may take their time to say it.
    async fn facts(&self) -> Facts {
        let hardware = Arc::clone(&self.hardware);
        tokio::task::spawn_blocking(move || hardware.facts()).await.unwrap_or_default()
    }

    fn say(&self, number: i64, news: News) {
        self.outbox.put(Said::Job { number, news });
    }
}

impl About {
    /// As programs are told: in their environment.
    #[must_use]
    pub fn told(&self) -> Vec<(String, String)> {
        let machine = self.machine.clone().unwrap_or_default();
        let detail = |(key, value): (&String, &String)| {
            let key: String = key
                .chars()
                .map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' })
                .collect();
            (format!("LASTMILE_DETAIL_{key}"), value.clone())
        };
        let own = [("LASTMILE_MACHINE".into(), machine), ("LASTMILE_LABELS".into(), self.labels.join(" "))];
        own.into_iter().chain(self.details.iter().map(detail)).collect()
    }
}

impl Doing<'_> {
    async fn task(&self, task: &Task) -> JobResult {
        match task {
            Task::Survey => self.survey().await,
            Task::BurnIn(asked) => burn_in::run(self, asked).await,
            Task::Command(command) => command::run(self, command).await,
            Task::Shell(asked) => shell::run(self, asked).await,
            Task::Locate(asked) => locate::run(self, asked).await,
        }
    }

    async fn survey(&self) -> JobResult {
        let measured = async {
            let (say, measured) = oneshot::channel();
            self.bench.surveys.send(say).await.is_ok() && measured.await.is_ok()
        };
        tokio::select! {
            measured = measured => match measured {
                true => JobResult::default(),
                false => JobResult::failed("the machine cannot be measured any more"),
            },
            () = self.stop() => JobResult::failed(CANCELLED),
            () = sleep(self.limit) => JobResult::failed("the machine was not measured in time"),
        }
    }

    /// Tells how far it is: of that only the last word counts.
    fn progress(&self, progress: JobProgress) {
        let news = News::Progress(progress);
        self.bench.outbox.tell(Said::Job { number: self.number, news });
    }

    /// Waits until it is to stop.
    async fn stop(&self) {
        let mut stopped = self.stopped.clone();
        if stopped.wait_for(|stopped| *stopped).await.is_err() {
            // Nobody can stop it any more.
            std::future::pending::<()>().await;
        }
    }
}

#[cfg(test)]
mod tests;

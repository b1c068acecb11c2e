//! The connection of a survey's agent (RFC 6455).

use std::{net::SocketAddr, sync::Arc, time::Duration};

use axum::{
    Router,
    extract::{
        ConnectInfo, Query, State,
        ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade, close_code},
    },
    http::{HeaderMap, StatusCode, header::AUTHORIZATION},
    response::{IntoResponse, Response},
    routing::get,
};
use jiff::Timestamp;
use lastmile_core::{
    decide::{
        boot::{Action, plan},
        job::next_for_agent,
    },
    model::{
        agent::{
            AgentToken, Finish, FromAgent, Hello, LOAD_MESSAGE, LOAD_PATH, MOST_MESSAGE, MOST_SHELL, News,
            PATH, SHELL_PATH, Said, Survey, ToAgent, VERSION,
        },
        job::{JobKind, JobState},
        survey::SurveyRecord,
    },
    report::trace::{AgentEvent, AgentSeen, Seen},
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, StoreError};
use serde::Deserialize;
use tokio::{
    sync::Semaphore,
    time::{Instant, sleep_until, timeout},
};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use uuid::Uuid;

use super::{load, shell};
use crate::{
    boot::Ends,
    clock,
    jobs::Told,
    limits::PerSource,
    link::v4,
    records::Records,
    rules::Running,
    wire::{Agent, Wire},
};

/// How long an agent may be silent, and how long it may take to read: it sends a sign of life every 15 seconds.
const SILENCE: Duration = Duration::from_secs(60);
/// How long it may take to say who it is.
const HELLO: Duration = Duration::from_secs(10);
/// Between two surveys of one machine that are recorded: whoever reports more often waits.
const REPORT_PAUSE: Duration = Duration::from_secs(1);
/// Connections of one source at once: machines behind an address translation share one.
const CONNECTIONS_OF_ONE: usize = 256;

/// What serving agents uses of the service.
#[derive(Clone)]
pub(crate) struct Parts {
    pub(crate) records: Arc<Records>,
    pub(crate) wire: Arc<Wire>,
    pub(crate) tasks: TaskTracker,
    pub(crate) stop: CancellationToken,
    of_one: Arc<PerSource>,
    /// Whose turn it is to measure the network.
    measuring: Arc<Semaphore>,
}

impl Parts {
    /// Those of a service. What `tasks` has is waited for at its end, which `stop` says.
    pub(crate) fn new(
        records: Arc<Records>,
        wire: Arc<Wire>,
        tasks: TaskTracker,
        stop: CancellationToken,
    ) -> Self {
        Self {
            records,
            wire,
            tasks,
            stop,
            of_one: PerSource::new(CONNECTIONS_OF_ONE),
            measuring: Arc::new(Semaphore::new(1)),
        }
    }
}

/// The route of agents on the boot listener.
pub(crate) fn router(parts: Parts) -> Router {
    Router::new()
        .route(PATH, get(connect))
        .route(LOAD_PATH, get(load))
        .route(SHELL_PATH, get(shell))
        .with_state(parts)
}

/// Who asks with a token, if it is the machine that it was given to.
fn known(parts: &Parts, ends: Ends, headers: &HeaderMap) -> Result<Who, Box<Response>> {
    let refused = |text: String| Box::new((StatusCode::FORBIDDEN, format!("{text}\n")).into_response());
    let bearer = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    let token = AgentToken::read(bearer.unwrap_or_default(), &parts.records.agent_key, clock::now())
        .map_err(|error| refused(error.to_string()))?;
    let who = Who { mac: token.mac, given: token.given, peer: ends.peer, local: ends.local };
    // A token is of one machine: another one that has it from somewhere is told no more than that.
    if !parts.wire.identify(&parts.records.site(), who.mac, ends.peer.ip()).is_own() {
        let text = format!("refused: {} is not known to be the address of this machine", ends.peer.ip());
        who.note(&parts.records, AgentEvent::Refused, text);
        return Err(refused("the token is for another machine".into()));
    }
    Ok(who)
}

/// The connection that the network is measured on.
async fn load(
    State(parts): State<Parts>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response {
    if let Err(refused) = known(&parts, ends, &headers) {
        return *refused;
    }
    // One after another: several at once would measure each other.
    let Ok(turn) = parts.measuring.clone().acquire_owned().await else {
        return StatusCode::SERVICE_UNAVAILABLE.into_response();
    };
    let (tasks, stop) = (parts.tasks.clone(), parts.stop.clone());
    upgrade.max_message_size(LOAD_MESSAGE).on_upgrade(move |socket| async move {
        let measured = async move {
            stop.run_until_cancelled(load::carry(socket)).await;
            drop(turn);
        };
        let _ = tasks.spawn(measured).await;
    })
}

/// Which shell is connected.
#[derive(Deserialize)]
struct ShellOf {
    job: i64,
}

/// The connection that a shell is carried over.
async fn shell(
    State(parts): State<Parts>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    Query(ShellOf { job }): Query<ShellOf>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response {
    let who = match known(&parts, ends, &headers) {
        Ok(who) => who,
        Err(refused) => return *refused,
    };
    let site = parts.records.site();
    let mut open = site.open_jobs(who.mac).into_iter();
    if !open.any(|open| open.number == job && open.task.kind() == JobKind::Shell) {
        return (StatusCode::GONE, "This job is no shell that is open.\n").into_response();
    }
    let Some(taken) = parts.of_one.take(ends.peer.ip()) else {
        return (StatusCode::TOO_MANY_REQUESTS, "This address has too many connections.\n").into_response();
    };
    let upgrade = upgrade.max_message_size(MOST_SHELL).max_frame_size(MOST_SHELL);
    upgrade.on_upgrade(move |socket| async move {
        let Parts { records, wire, tasks, stop, .. } = parts;
        let carried = shell::carry(records.clone(), wire.shells.of(job), job, socket, stop);
        let _ = tasks.spawn(carried).await;
        drop(taken);
        if records.site().all_open_jobs().all(|open| open.number != job) {
            wire.shells.forget(job);
        }
    })
}

async fn connect(
    State(parts): State<Parts>,
    ConnectInfo(ends): ConnectInfo<Ends>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response {
    let who = match known(&parts, ends, &headers) {
        Ok(who) => who,
        Err(refused) => return *refused,
    };
    let Some(taken) = parts.of_one.take(ends.peer.ip()) else {
        return (StatusCode::TOO_MANY_REQUESTS, "This address has too many connections.\n").into_response();
    };
    let upgrade = upgrade.max_message_size(MOST_MESSAGE).max_frame_size(MOST_MESSAGE);
    let tasks = parts.tasks.clone();
    upgrade.on_upgrade(move |socket| async move {
        // Tracked, so that the service ends only after it.
        let _ = tasks.spawn(serve(parts, who, socket)).await;
        drop(taken);
    })
}

/// Whose connection it is.
#[derive(Clone, Copy)]
struct Who {
    mac: Mac,
    /// When its boot was started.
    given: Timestamp,
    peer: SocketAddr,
    local: SocketAddr,
}

impl Who {
    fn note(self, records: &Records, what: AgentEvent, text: String) {
        let seen = AgentSeen { from: v4(self.peer), to: v4(self.local), what, text };
        records.trace(self.mac, clock::now(), Seen::Agent(Box::new(seen)));
    }
}

/// Why a connection ends.
enum End {
    /// It broke, or the agent fell silent.
    Broke(String),
    /// Another one of the same machine has taken its place.
    Replaced,
    /// The agent was refused, which it is told.
    Refused(String),
    /// The service ends.
    Stopped,
}

impl From<StoreError> for End {
    fn from(error: StoreError) -> Self {
        Self::Broke(error.to_string())
    }
}

impl From<axum::Error> for End {
    fn from(error: axum::Error) -> Self {
        Self::Broke(error.to_string())
    }
}

async fn serve(parts: Parts, who: Who, mut socket: WebSocket) {
    let Parts { records, wire, stop, .. } = &parts;
    let hello = match first_word(&mut socket).await {
        Ok(hello) => hello,
        Err(text) => {
            who.note(records, AgentEvent::Refused, format!("refused: {text}"));
            close(&mut socket, close_code::POLICY, &text).await;
            return;
        }
    };
    let agent = wire.agents.connect(who.mac, hello.boot, v4(who.peer), clock::now());
    who.note(
        records,
        AgentEvent::Connected,
        format!("welcome, {:.1} s after its kernel started", hello.up_secs),
    );
    let end = Conversation {
        records,
        wire,
        who,
        agent: &agent,
        socket: &mut socket,
        waits: None,
        job: hello.job,
        cancelled: None,
        reports: Instant::now(),
    }
    .run(stop)
    .await;
    let Err(end) = end;
    let is_gone = wire.agents.disconnect(who.mac, &agent);
    match end {
        End::Broke(text) if is_gone => {
            who.note(records, AgentEvent::Gone, format!("the connection ended: {text}"));
        }
        End::Broke(_) | End::Replaced => {}
        End::Refused(text) => {
            who.note(records, AgentEvent::Refused, format!("refused: {text}"));
            close(&mut socket, close_code::POLICY, &text).await;
        }
        End::Stopped => close(&mut socket, close_code::RESTART, "the service ends").await,
    }
}

/// What the agent says first.
async fn first_word(socket: &mut WebSocket) -> Result<Hello, String> {
    let message = timeout(HELLO, socket.recv()).await.map_err(|_| "it did not say who it is".to_owned())?;
    let Some(Ok(Message::Text(text))) = message else { return Err("it did not say who it is".into()) };
    let hello = match serde_json::from_str(&text) {
        Ok(FromAgent { said: Said::Hello(hello), .. }) => hello,
        Ok(_) => return Err("it did not say who it is".into()),
        Err(error) => return Err(format!("its first word cannot be read: {error}")),
    };
    if hello.version != VERSION {
        return Err(format!(
            "the survey's system speaks version {}, this service version {VERSION}: build it anew with lastmile survey build",
            hello.version
        ));
    }
    Ok(hello)
}

async fn close(socket: &mut WebSocket, code: u16, reason: &str) {
    let frame = CloseFrame { code, reason: reason.into() };
    // Who is gone need not be told.
    let _ = timeout(SILENCE, socket.send(Message::Close(Some(frame)))).await;
}

/// A connection whose agent said who it is.
struct Conversation<'a> {
    records: &'a Arc<Records>,
    wire: &'a Wire,
    who: Who,
    agent: &'a Agent,
    socket: &'a mut WebSocket,
    /// What it was told last that it waits for.
    waits: Option<ToAgent>,
    /// The job that it is at, by its own word.
    job: Option<i64>,
    /// The job that it was told last not to do any more.
    cancelled: Option<i64>,
    /// From when on its next survey is recorded.
    reports: Instant,
}

impl Conversation<'_> {
    async fn run(mut self, stop: &CancellationToken) -> Result<std::convert::Infallible, End> {
        let machine = self.records.site().machine_by_mac(self.who.mac).map(|machine| machine.name.clone());
        self.say(&ToAgent::Welcome { now: clock::now(), machine }).await?;
        self.records.interrupt_jobs(self.who.mac, self.agent.boot).await?;
        self.tell_what_next().await?;
        let mut heard = Instant::now();
        loop {
            tokio::select! {
                message = self.socket.recv() => {
                    heard = Instant::now();
                    match message.ok_or_else(|| End::Broke("the machine closed it".into()))?? {
                        Message::Text(text) => self.hear(&text).await?,
                        Message::Close(_) => return Err(End::Broke("the machine closed it".into())),
                        _ => {}
                    }
                }
                () = self.agent.wake.notified() => self.tell_what_next().await?,
                () = self.agent.replaced.notified() => return Err(End::Replaced),
                () = sleep_until(heard + SILENCE) => {
                    return Err(End::Broke(format!("nothing was heard for {} s", SILENCE.as_secs())));
                }
                () = stop.cancelled() => return Err(End::Stopped),
            }
        }
    }

    async fn hear(&mut self, text: &str) -> Result<(), End> {
        let message: FromAgent = serde_json::from_str(text)
            .map_err(|error| End::Refused(format!("a message cannot be read: {error}")))?;
        match message.said {
            Said::Hello(_) => {}
            Said::Doing { text } => {
                *crate::sync::lock(&self.agent.doing) = text;
            }
            Said::Job { number, news } => self.hear_of_job(number, news).await?,
            Said::Survey(survey) => {
                sleep_until(self.reports).await;
                self.reports = Instant::now() + REPORT_PAUSE;
                let took = self.record(*survey);
                let took = took.await?;
                self.who.note(self.records, AgentEvent::Surveyed, took);
            }
        }
        // First what followed of it: an agent whose report is on record knows what its machine is called.
        self.tell_what_next().await?;
        match message.sequence {
            Some(sequence) => self.say(&ToAgent::Recorded { sequence }).await,
            None => Ok(()),
        }
    }

    async fn hear_of_job(&mut self, number: i64, news: News) -> Result<(), End> {
        match news {
            News::Began => self.job = Some(number),
            News::Ended(_) => self.job = None,
            News::Progress(_) | News::Log { .. } => {}
        }
        let (mac, boot) = (self.who.mac, self.agent.boot);
        match self.records.take_news(mac, boot, number, news).await? {
            Told::Noted(text) => self.who.note(self.records, AgentEvent::Job, text),
            Told::Quiet | Told::NotIts => {}
        }
        Ok(())
    }

    /// Puts what was measured on record; gives in words what it is.
    fn record(&self, survey: Survey) -> impl Future<Output = Result<String, End>> + Send + 'static + use<> {
        let (mac, boot) = (self.who.mac, self.agent.boot);
        let (records, ruling) = (self.records.clone(), self.records.clone());
        let record = move |change: &mut Change<'_>| {
            // A boot is told by a number that the agent made: it must not be that of another machine's.
            if change.tx().survey(boot)?.is_some_and(|other| other.mac != mac) {
                return Err(End::Refused("its boot is that of another machine".into()));
            }
            let site = change.site();
            let machine = site.machine_by_mac(mac).map(|machine| machine.id);
            let earlier = site.survey_at(mac).map(AsRef::as_ref);
            let record = SurveyRecord::of_report(boot, mac, machine, survey, earlier, clock::now());
            let changes = record.changes.len();
            change.put_survey(record)?;
            let ran = ruling.run_rules(change, mac, &Running::default())?;
            let differs = match changes {
                0 => None,
                1 => Some("one thing is different since the survey before".to_owned()),
                changes => Some(format!("{changes} things are different since the survey before")),
            };
            let taken = ["taken".to_owned()].into_iter().chain(differs).chain(ran.summary());
            Ok((taken.collect::<Vec<_>>().join("; "), ran))
        };
        async move {
            let (mut taken, mut ran) = records.store.change_for_machine(record).await?;
            records.arm_by_rule(&mut ran).await;
            for refused in ran.refused {
                taken = format!("{taken}; a rule could not do its work: {refused}");
            }
            Ok(taken)
        }
    }

    /// Tells the agent what its machine is called and what it waits for, where that is new; what it is to do, or not any more; or to
    /// end, where there is something to boot.
    async fn tell_what_next(&mut self) -> Result<(), End> {
        let site = self.records.site();
        let open = site.open_jobs(self.who.mac);
        if let Some(job) = self.job.filter(|number| open.iter().all(|job| job.number != *number))
            && self.cancelled != Some(job)
        {
            self.cancelled = Some(job);
            self.say(&ToAgent::CancelJob { number: job }).await?;
        }
        let (next, why) = what_next(&site, self.wire, self.who, self.agent.boot, self.job);
        if self.waits.as_ref() == Some(&next) {
            return Ok(());
        }
        if let ToAgent::Finish(finish) = next {
            self.who.note(self.records, AgentEvent::Finished, format!("{finish}: {why}"));
        }
        self.say(&next).await?;
        self.waits = Some(next);
        Ok(())
    }

    async fn say(&mut self, word: &ToAgent) -> Result<(), End> {
        // These messages have no form that JSON cannot write.
        let text = serde_json::to_string(word).map_err(|error| End::Broke(error.to_string()))?;
        match timeout(SILENCE, self.socket.send(Message::Text(text.into()))).await {
            Ok(sent) => Ok(sent?),
            Err(_) => Err(End::Broke("it does not read".into())),
        }
    }
}

/// What a machine that runs the survey does next, as far as its records say, and why. `job` is what it is at, by its own word.
fn what_next(site: &Site, wire: &Wire, who: Who, boot: Uuid, job: Option<i64>) -> (ToAgent, String) {
    let machine = site.machine_by_mac(who.mac);
    let macs = machine.map_or_else(|| vec![who.mac], |machine| machine.macs.clone());
    let subnet = wire.subnet_of(site, &macs, None);
    let plan = plan(site, who.mac, subnet.as_deref());
    let why = plan.why.to_string();
    let waits = |text: String| ToAgent::Waits {
        machine: machine.map(|machine| machine.name.clone()),
        labels: machine.map(|machine| machine.labels.clone()).unwrap_or_default(),
        details: machine.map(|machine| machine.details.clone()).unwrap_or_default(),
        text,
    };
    // Nothing takes a machine away from what it is at; what it is told to stop ends soon.
    let running = site.open_jobs(who.mac).into_iter().find(|job| job.state == JobState::Running);
    if let Some(job) = running {
        return (waits(format!("the end of {}", job.title())), why);
    }
    if let Some(job) = job {
        return (waits(format!("the end of job {job}")), why);
    }
    let text = match (&plan.action, machine) {
        (Action::Install { .. } | Action::Live(_), _) => return (ToAgent::Finish(Finish::Restart), why),
        (Action::Wait { .. }, _) => why.clone(),
        (_, Some(_)) => "an install, a job, or to be switched off".into(),
        (_, None) => "somebody who gives it a name".into(),
    };
    match next_for_agent(site, who.mac, boot, who.given) {
        Some(next @ ToAgent::Finish(_)) => (next, "its job has ended".into()),
        Some(next) => (next, why),
        None => (waits(text), why),
    }
}

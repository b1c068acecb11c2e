//! Telling others when installs end: what is to be told is on disk with the end itself, and stays there until it was
//! taken on the other side.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use jiff::Timestamp;
use lastmile_api::{Event, HandoverBody};
use lastmile_core::{
    handover::{HandoverEvent, next_attempt, sign},
    install::{Install, Step, StepKind},
};
use lastmile_store::{Delivery, Handover, NewDelivery, StoreError};
use tokio_rustls::rustls;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::state::App;

/// How long the other side may take.
const PATIENCE: Duration = Duration::from_secs(15);
/// How often it is looked what is due, beside being told.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Deliveries that are under way at once.
const AT_ONCE: usize = 16;
/// Characters of the other side's answer that are kept.
const ANSWER_KEPT: usize = 200;

impl App {
    /// What is to be told of a step of an install.
    pub(crate) fn deliveries_of(&self, install: &Install, step: &Step) -> Vec<NewDelivery> {
        let handovers = self.handovers.load();
        if handovers.is_empty() {
            return Vec::new();
        }
        let event = match step.kind {
            StepKind::Booted => Some(HandoverEvent::Booted),
            StepKind::Done
            | StepKind::Failed
            | StepKind::Stalled
            | StepKind::Overdue
            | StepKind::Cancelled => HandoverEvent::of_end(install.state),
            _ => None,
        };
        let Some(event) = event else { return Vec::new() };
        let mut body = None;
        handovers
            .values()
            .filter(|handover| handover.draft.events.contains(&event))
            .map(|handover| NewDelivery {
                handover: handover.name.clone(),
                install: install.number,
                event,
                body: body.get_or_insert_with(|| self.body(install, event, step.at)).clone(),
                created: step.at,
            })
            .collect()
    }

    /// What is sent: no secret is in it.
    fn body(&self, install: &Install, event: HandoverEvent, at: Timestamp) -> String {
        let site = self.site();
        let machine = site.machine_by_id(install.machine);
        let body = HandoverBody {
            event,
            at,
            machine: machine.map_or_else(|| install.machine_name.clone(), |machine| machine.name.clone()),
            macs: machine.iter().flat_map(|machine| &machine.macs).map(ToString::to_string).collect(),
            address: machine.and_then(|machine| self.address_of(&site, machine)),
            install: Some(self.install_row(install)),
            manifest_hash: install.manifest_hash.map(|hash| hash.to_string()),
            answer_hash: install.answer_hash.map(|hash| hash.to_string()),
            outcome: install.outcome.clone(),
            differences: install.outcome.as_ref().map(|outcome| outcome.differences()).unwrap_or_default(),
        };
        serde_json::to_string(&body).unwrap_or_default()
    }

    /// A delivery that tells of nothing, to try whether deliveries arrive.
    ///
    /// # Errors
    /// What the store refused.
    pub(crate) async fn try_handover(&self, handover: &str) -> Result<(), StoreError> {
        let now = Timestamp::now();
        let body = HandoverBody::trial(now);
        let trial = NewDelivery {
            handover: handover.into(),
            install: 0,
            event: HandoverEvent::Trial,
            body: serde_json::to_string(&body).unwrap_or_default(),
            created: now,
        };
        self.store.write(move |tx| tx.add_deliveries(&[trial])).await?;
        self.deliver_soon.notify_one();
        Ok(())
    }
}

/// Delivers what is due, until the service stops. What is under way then is tried again after the next start: the other
/// side knows it by its number.
pub(crate) async fn deliver(app: Arc<App>, tasks: TaskTracker, stop: CancellationToken) {
    let client = reqwest::Client::builder().timeout(PATIENCE).redirect(reqwest::redirect::Policy::none());
    let client = match client.build() {
        Ok(client) => client,
        Err(error) => return tracing::error!("nothing can be handed over: {error}"),
    };
    let (told, mut ended) = tokio::sync::mpsc::channel::<i32>(AT_ONCE);
    let mut under_way: BTreeSet<i32> = BTreeSet::new();
    loop {
        let limit = i64::try_from(AT_ONCE).unwrap_or(i64::MAX);
        let due = app.store.read(move |tx| tx.due_deliveries(Timestamp::now(), limit)).await;
        for delivery in due.unwrap_or_default() {
            if under_way.len() >= AT_ONCE || !under_way.insert(delivery.number) {
                continue;
            }
            let (app, client, told, number) = (app.clone(), client.clone(), told.clone(), delivery.number);
            tasks.spawn(async move {
                attempt(&app, &client, delivery).await;
                // Nobody may be left to be told.
                let _ = told.send(number).await;
            });
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = app.deliver_soon.notified() => {}
            Some(number) = ended.recv() => drop(under_way.remove(&number)),
        }
        while let Ok(number) = ended.try_recv() {
            under_way.remove(&number);
        }
    }
}

async fn attempt(app: &App, client: &reqwest::Client, mut delivery: Delivery) {
    let handover = app.handovers.load().get(&delivery.handover).cloned();
    let outcome = match &handover {
        Some(handover) => send(app, client, handover, &delivery).await,
        None => Err("the handover is gone".into()),
    };
    let now = Timestamp::now();
    delivery.attempts += 1;
    delivery.last_attempt = Some(now);
    match outcome {
        Ok(answer) => {
            tracing::info!(delivery = delivery.number, handover = delivery.handover, "handed over: {answer}");
            (delivery.delivered, delivery.due, delivery.last_answer) = (Some(now), None, Some(answer));
        }
        Err(why) => {
            let (number, handover_name) = (delivery.number, &delivery.handover);
            tracing::warn!(delivery = number, handover = handover_name, "not handed over: {why}");
            delivery.due = handover.map(|_| next_attempt(delivery.attempts, now));
            delivery.last_answer = Some(why);
        }
    }
    let name = delivery.handover.clone();
    if let Err(error) = app.store.write(move |tx| tx.put_delivery(&delivery)).await {
        tracing::error!("how a delivery went was not recorded: {error}");
    }
    // Nobody may be watching.
    let _ = app.events.send(Event::Delivery { handover: name });
}

/// Gives what the other side answered, or why it did not take it.
async fn send(
    app: &App,
    client: &reqwest::Client,
    handover: &Handover,
    delivery: &Delivery,
) -> Result<String, String> {
    let key = app.seal_key.open(&handover.key).map_err(|error| error.to_string())?;
    // As it goes out: the signature covers the URL in the form that the receiver sees.
    let url = reqwest::Url::parse(&handover.draft.url).map_err(|error| error.to_string())?;
    let signed = sign(
        &key,
        &handover.name,
        url.as_str(),
        delivery.number.into(),
        delivery.body.as_bytes(),
        Timestamp::now(),
    );
    let request = client
        .post(url)
        .header("content-type", "application/json")
        .header("lastmile-delivery", delivery.number)
        .header("content-digest", signed.content_digest)
        .header("signature-input", signed.signature_input)
        .header("signature", signed.signature)
        .body(delivery.body.clone());
    let response = request.send().await.map_err(|error| reasons(&error))?;
    let status = response.status();
    if status.is_success() {
        return Ok(status.to_string());
    }
    let text = response.text().await.unwrap_or_default();
    let said: String = text.chars().filter(|c| !c.is_control()).take(ANSWER_KEPT).collect();
    Err(if said.is_empty() { status.to_string() } else { format!("{status}: {said}") })
}

/// What is at the bottom of an error, without the URL, which may hold a secret of the receiver's.
fn reasons(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return format!("no answer within {} s", PATIENCE.as_secs());
    }
    let mut bottom: &dyn std::error::Error = error;
    while let Some(inner) = bottom.source() {
        bottom = inner;
    }
    match tls_error(bottom) {
        Some(rustls::Error::InvalidCertificate(rustls::CertificateError::UnknownIssuer)) => {
            "not trusted: its certificate is from no authority that this host knows. Put the authority's \
             certificate among the host's (`update-ca-certificates`) and restart the service"
                .into()
        }
        _ => format!("not reached: {bottom}"),
    }
}

/// What TLS found wrong: errors of the connection's are around it, which do not name it as their source.
fn tls_error<'a>(error: &'a (dyn std::error::Error + 'static)) -> Option<&'a rustls::Error> {
    match error.downcast_ref::<std::io::Error>() {
        Some(around) => tls_error(around.get_ref()?),
        None => error.downcast_ref(),
    }
}

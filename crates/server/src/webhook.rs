//! Telling others when installs end: what is to be told is on disk with the end itself, and stays there until it was
//! taken on the other side.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use jiff::Timestamp;
use lastmile_api::WebhookBody;
use lastmile_core::{
    model::{
        install::{Install, Step, StepKind},
        webhook::{Webhook, WebhookEvent, next_attempt, sign},
    },
    site::Site,
};
use lastmile_store::{Change, Delivery, NewDelivery, StoreError};
use tokio_rustls::rustls;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{clock, records::Records};

/// How long the other side may take.
const PATIENCE: Duration = Duration::from_secs(15);
/// How often it is looked what is due, beside being told.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Deliveries that are under way at once.
const AT_ONCE: usize = 16;
/// Bytes of the other side's answer that are read.
const ANSWER_READ: usize = 4096;
/// Characters of the other side's answer that are kept.
const ANSWER_KEPT: usize = 200;

impl Records {
    /// What is to be told of a step of an install.
    pub(crate) fn deliveries_of(&self, site: &Site, install: &Install, step: &Step) -> Vec<NewDelivery> {
        let event = match step.kind {
            StepKind::Booted => Some(WebhookEvent::Booted),
            StepKind::Done
            | StepKind::Failed
            | StepKind::Stalled
            | StepKind::Overdue
            | StepKind::Cancelled => WebhookEvent::of_end(install.state),
            _ => None,
        };
        let Some(event) = event else { return Vec::new() };
        let mut body = None;
        site.webhooks()
            .filter(|webhook| webhook.draft.events.contains(&event))
            .map(|webhook| NewDelivery {
                webhook: webhook.name.clone(),
                install: install.number,
                event,
                body: body.get_or_insert_with(|| self.body(site, install, event, step.at)).clone(),
                created: step.at,
            })
            .collect()
    }

    /// What is sent: no secret is in it.
    fn body(&self, site: &Site, install: &Install, event: WebhookEvent, at: Timestamp) -> String {
        let machine = site.machine_by_id(install.machine);
        let body = WebhookBody {
            event,
            at,
            machine: machine.map_or_else(|| install.machine_name.clone(), |machine| machine.name.clone()),
            macs: machine.iter().flat_map(|machine| &machine.macs).map(ToString::to_string).collect(),
            address: machine.and_then(|machine| self.address_of(site, machine)),
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
    pub(crate) async fn try_webhook(&self, webhook: &str) -> Result<(), StoreError> {
        let now = clock::now();
        let body = WebhookBody::trial(now);
        let trial = NewDelivery {
            webhook: webhook.into(),
            install: 0,
            event: WebhookEvent::Trial,
            body: serde_json::to_string(&body).unwrap_or_default(),
            created: now,
        };
        self.store.change(move |change| change.add_deliveries(&[trial])).await
    }
}

/// Delivers what is due, until the service stops. What is under way then is tried again after the next start: the other
/// side knows it by its number.
pub(crate) async fn deliver(records: Arc<Records>, tasks: TaskTracker, stop: CancellationToken) {
    let client = reqwest::Client::builder().timeout(PATIENCE).redirect(reqwest::redirect::Policy::none());
    let client = match client.build() {
        Ok(client) => client,
        Err(error) => return tracing::error!("webhooks cannot be delivered: {error}"),
    };
    let (told, mut ended) = tokio::sync::mpsc::channel::<i32>(AT_ONCE);
    let mut under_way: BTreeSet<i32> = BTreeSet::new();
    loop {
        let limit = i64::try_from(AT_ONCE).unwrap_or(i64::MAX);
        let due = records.store.read(move |tx| tx.due_deliveries(clock::now(), limit)).await;
        for delivery in due.unwrap_or_default() {
            if under_way.len() >= AT_ONCE || !under_way.insert(delivery.number) {
                continue;
            }
            let (records, client, told, number) =
                (records.clone(), client.clone(), told.clone(), delivery.number);
            tasks.spawn(async move {
                attempt(&records, &client, delivery).await;
                // Nobody may be left to be told.
                let _ = told.send(number).await;
            });
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = records.deliver_soon.notified() => {}
            Some(number) = ended.recv() => drop(under_way.remove(&number)),
        }
        while let Ok(number) = ended.try_recv() {
            under_way.remove(&number);
        }
    }
}

async fn attempt(records: &Records, client: &reqwest::Client, delivery: Delivery) {
    let webhook = records.site().webhook(&delivery.webhook).cloned();
    let outcome = match &webhook {
        Some(webhook) => send(records, client, webhook, &delivery).await,
        None => Err("the webhook is gone".into()),
    };
    match &outcome {
        Ok(answer) => {
            tracing::info!(delivery = delivery.number, webhook = delivery.webhook, "delivered: {answer}");
        }
        Err(why) => {
            tracing::warn!(delivery = delivery.number, webhook = delivery.webhook, "not delivered: {why}");
        }
    }
    let note = move |change: &mut Change<'_>| {
        // As it is by now: somebody may have given it up, or want it sent at once, while this attempt was under way.
        let Some(now) = change.tx().delivery(delivery.number)? else { return Ok(()) };
        let is_known = change.site().webhook(&now.webhook).is_some();
        change.put_delivery(&after_attempt(&delivery, now, outcome, is_known, clock::now()))
    };
    let noted: Result<(), StoreError> = records.store.change(note).await;
    if let Err(error) = noted {
        tracing::error!("how a delivery went was not recorded: {error}");
    }
}

/// How a delivery is after an attempt that began when it was as `before` and that ended at `at`; `now` is how it is on
/// record. What somebody wanted of it meanwhile stays.
fn after_attempt(
    before: &Delivery,
    now: Delivery,
    outcome: Result<String, String>,
    is_known: bool,
    at: Timestamp,
) -> Delivery {
    let attempts = now.attempts + 1;
    let is_untouched = now.due == before.due && now.delivered == before.delivered;
    let next = Delivery { attempts, last_attempt: Some(at), ..now };
    match outcome {
        Ok(answer) => Delivery { delivered: Some(at), due: None, last_answer: Some(answer), ..next },
        Err(why) if is_untouched => {
            Delivery { due: is_known.then(|| next_attempt(attempts, at)), last_answer: Some(why), ..next }
        }
        Err(why) => Delivery { last_answer: Some(why), ..next },
    }
}

/// Gives what the other side answered, or why it did not take it.
async fn send(
    records: &Records,
    client: &reqwest::Client,
    webhook: &Webhook,
    delivery: &Delivery,
) -> Result<String, String> {
    let key = records.seal_key.open(&webhook.key).map_err(|error| error.to_string())?;
    // As it goes out: the signature covers the URL in the form that the receiver sees.
    let url = reqwest::Url::parse(&webhook.draft.url).map_err(|error| error.to_string())?;
    let signed = sign(
        &key,
        &webhook.name,
        url.as_str(),
        delivery.number.into(),
        delivery.body.as_bytes(),
        clock::now(),
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
    let text = beginning(response).await;
    let said: String = text.chars().filter(|c| !c.is_control()).take(ANSWER_KEPT).collect();
    Err(if said.is_empty() { status.to_string() } else { format!("{status}: {said}") })
}

/// The beginning of an answer: a receiver that answers without end is not listened to for long.
async fn beginning(mut response: reqwest::Response) -> String {
    let mut bytes = Vec::new();
    while bytes.len() < ANSWER_READ
        && let Ok(Some(piece)) = response.chunk().await
    {
        bytes.extend_from_slice(&piece[..piece.len().min(ANSWER_READ - bytes.len())]);
    }
    String::from_utf8_lossy(&bytes).into_owned()
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

#[cfg(test)]
mod tests {
    use super::*;

    fn delivery(due: Option<i64>) -> Delivery {
        let at = |seconds| Timestamp::from_second(seconds).unwrap();
        Delivery {
            number: 1,
            webhook: "records".into(),
            install: 1,
            event: WebhookEvent::Installed,
            body: "{}".into(),
            created: at(0),
            attempts: 2,
            due: due.map(at),
            delivered: None,
            last_attempt: None,
            last_answer: None,
        }
    }

    #[test]
    fn what_somebody_wanted_during_an_attempt_stays() {
        let at = Timestamp::from_second(100).unwrap();
        let failed = || Err("500".to_owned());
        let before = delivery(Some(10));
        let again = after_attempt(&before, before.clone(), failed(), true, at);
        assert_eq!((again.attempts, again.due), (3, Some(next_attempt(3, at))));
        // Given up meanwhile: it is not tried again.
        assert_eq!(after_attempt(&before, delivery(None), failed(), true, at).due, None);
        // Sent once more meanwhile: that time stays.
        let wanted = delivery(Some(50));
        assert_eq!(after_attempt(&before, wanted.clone(), failed(), true, at).due, wanted.due);
        assert_eq!(after_attempt(&before, before.clone(), failed(), false, at).due, None);
        let done = after_attempt(&before, before.clone(), Ok("200".into()), true, at);
        assert_eq!((done.delivered, done.due), (Some(at), None));
    }
}

use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use lastmile_api::{DeliveriesListQuery, DeliveryView, Problem, WebhookView};
use lastmile_core::{
    model::webhook::{Webhook, WebhookDraft},
    site::{Entity, Site},
};
use lastmile_store::{Change, Delivery, DeliveryFilter, StoreError, Tx};

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Query, Reject},
};
use crate::{app::App, clock, random::random};

impl Named for Webhook {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.webhook(name).ok_or_else(|| Reject::not_found("webhook", name))
    }

    fn entity(&self) -> Entity {
        Entity::Webhook(self.name.clone())
    }
}

/// Bytes of randomness in a key that is made here.
const KEY_BYTES: usize = 32;
/// Deliveries on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;

/// Where ends of installs are told, ordered by name.
#[utoipa::path(
    get, operation_id = "webhooks_list", path = "/webhooks", tag = "webhooks",
    responses((status = 200, body = [WebhookView]))
)]
pub(super) async fn list(State(admin): State<Admin>) -> Result<Json<Vec<WebhookView>>, Reject> {
    let site = admin.app.records.site();
    let views =
        admin.app.records.store.read(move |tx| site.webhooks().map(|webhook| view(tx, webhook)).collect());
    Ok(Json(views.await?))
}

/// One webhook. Its key is never read back.
#[utoipa::path(
    get, operation_id = "webhooks_read", path = "/webhooks/{name}", tag = "webhooks", params(("name" = String, Path)),
    responses((status = 200, body = WebhookView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<WebhookView>, Reject> {
    let site = admin.app.records.site();
    let webhook = site.webhook(&name).cloned().ok_or_else(|| Reject::not_found("webhook", &name))?;
    let view = admin.app.records.store.read(move |tx| view(tx, &webhook)).await?;
    Ok(Edited::new(&site, &Entity::Webhook(name), view))
}

/// Adds a webhook, or changes the one of its name. A key that is made here is in the answer to this request, and never
/// shown again.
#[utoipa::path(
    put, operation_id = "webhooks_save", path = "/webhooks/{name}", tag = "webhooks", params(("name" = String, Path)),
    request_body = WebhookDraft,
    responses((status = 200, body = WebhookView), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<WebhookDraft>,
) -> Result<Edited<WebhookView>, Reject> {
    draft.check(&name)?;
    let app = admin.app.clone();
    let save = move |change: &mut Change<'_>| {
        let (site, entity) = (change.site(), Entity::Webhook(name.clone()));
        let former = site.webhook(&name).cloned();
        base.check_new(former.is_some(), "webhook", &name)?;
        base.check(site, &entity, || former.as_ref().map(|former| former.draft.clone()), Some(&draft))?;
        let seal = |key: &str| app.records.seal_key.seal(key, random());
        let (key, made) = match (&draft.key, former) {
            (Some(said), _) => (seal(said), None),
            (None, Some(former)) => (former.key.clone(), None),
            (None, None) => {
                let made = URL_SAFE_NO_PAD.encode(random::<KEY_BYTES>());
                (seal(&made), Some(made))
            }
        };
        let draft = WebhookDraft { key: None, ..draft };
        let webhook = Webhook { name, draft, key };
        change.put_webhook(webhook.clone())?;
        let view = view(change.tx(), &webhook)?;
        Ok::<_, Reject>(Edited::new(change.site(), &entity, WebhookView { key: made, ..view }))
    };
    admin.app.records.change(save).await
}

/// Removes a webhook. What was to be told by it is abandoned.
#[utoipa::path(
    delete, operation_id = "webhooks_remove", path = "/webhooks/{name}", tag = "webhooks", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, webhook: Arc<Webhook>| Ok(change.remove_webhook(&webhook.name)?);
    named::remove(&admin, name, base, remove).await
}

/// Sends a delivery that tells of nothing, to try whether deliveries arrive.
#[utoipa::path(
    post, operation_id = "webhooks_try", path = "/webhooks/{name}/trial", tag = "webhooks", params(("name" = String, Path)),
    responses((status = 202), (status = 404, body = Problem))
)]
pub(super) async fn trial(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    known(&admin.app.records.site(), &name)?;
    admin.app.records.try_webhook(&name).await?;
    Ok(StatusCode::ACCEPTED)
}

/// Deliveries, latest first.
#[utoipa::path(
    get, operation_id = "deliveries_list", path = "/deliveries", tag = "webhooks", params(DeliveriesListQuery),
    responses((status = 200, body = [DeliveryView]))
)]
pub(super) async fn deliveries(
    State(admin): State<Admin>,
    Query(query): Query<DeliveriesListQuery>,
) -> Result<Json<Vec<DeliveryView>>, Reject> {
    let filter = DeliveryFilter {
        webhook: query.webhook,
        install: query.install,
        is_waiting: query.waiting.unwrap_or(false),
        limit: query.limit.unwrap_or(PAGE).min(LARGEST_PAGE).into(),
    };
    let found = admin.app.records.store.read(move |tx| tx.deliveries(&filter)).await?;
    Ok(Json(found.into_iter().map(delivery_view).collect()))
}

/// Has a delivery made at once: one that waits, or, once more, one that was made or abandoned.
#[utoipa::path(
    post, operation_id = "deliveries_send", path = "/deliveries/{number}/send", tag = "webhooks", params(("number" = i32, Path)),
    responses((status = 200, body = DeliveryView), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn send(
    State(admin): State<Admin>,
    Path(number): Path<i32>,
) -> Result<Json<DeliveryView>, Reject> {
    change(&admin.app, number, |delivery| {
        delivery.due = Some(clock::now());
        delivery.delivered = None;
    })
    .await
}

/// Gives a delivery up: it is not tried again.
#[utoipa::path(
    post, operation_id = "deliveries_abandon", path = "/deliveries/{number}/abandon", tag = "webhooks",
    params(("number" = i32, Path)),
    responses((status = 200, body = DeliveryView), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn abandon(
    State(admin): State<Admin>,
    Path(number): Path<i32>,
) -> Result<Json<DeliveryView>, Reject> {
    change(&admin.app, number, |delivery| delivery.due = None).await
}

async fn change(
    app: &App,
    number: i32,
    edit: impl FnOnce(&mut Delivery) + Send + 'static,
) -> Result<Json<DeliveryView>, Reject> {
    let change = move |change: &mut Change<'_>| {
        let found = change.tx().delivery(number)?;
        let mut delivery = found.ok_or_else(|| Reject::not_found("delivery", number))?;
        if change.site().webhook(&delivery.webhook).is_none() {
            return Err(Reject::conflict(format!(
                "webhook '{}' is gone, and with it the key. Save it again first",
                delivery.webhook
            )));
        }
        edit(&mut delivery);
        change.put_delivery(&delivery)?;
        Ok(Json(delivery_view(delivery)))
    };
    app.records.change(change).await
}

fn known(site: &Site, name: &str) -> Result<(), Reject> {
    site.webhook(name).map(drop).ok_or_else(|| Reject::not_found("webhook", name))
}

fn view(tx: &mut Tx<'_>, webhook: &Webhook) -> Result<WebhookView, StoreError> {
    let of = |is_waiting| DeliveryFilter {
        webhook: Some(webhook.name.clone()),
        is_waiting,
        limit: LARGEST_PAGE.into(),
        install: None,
    };
    let (waiting, all) = (tx.deliveries(&of(true))?, tx.deliveries(&of(false))?);
    Ok(WebhookView {
        name: webhook.name.clone(),
        url: webhook.draft.url.clone(),
        events: webhook.draft.events.clone(),
        waiting: waiting.len(),
        last_delivered: all.iter().filter_map(|delivery| delivery.delivered).max(),
        trouble: waiting.into_iter().find_map(|delivery| delivery.last_answer),
        key: None,
    })
}

fn delivery_view(delivery: Delivery) -> DeliveryView {
    DeliveryView {
        number: delivery.number,
        webhook: delivery.webhook,
        install: Some(delivery.install).filter(|number| *number > 0),
        event: delivery.event,
        created: delivery.created,
        attempts: delivery.attempts,
        due: delivery.due,
        delivered: delivery.delivered,
        last_attempt: delivery.last_attempt,
        last_answer: delivery.last_answer,
        body: delivery.body,
    }
}

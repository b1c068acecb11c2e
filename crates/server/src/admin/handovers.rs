use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use lastmile_api::{DeliveriesListQuery, DeliveryView, HandoverView, Problem};
use lastmile_core::{
    model::handover::{Handover, HandoverDraft},
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

impl Named for Handover {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.handover(name).ok_or_else(|| Reject::not_found("handover", name))
    }

    fn entity(&self) -> Entity {
        Entity::Handover(self.name.clone())
    }
}

/// Bytes of randomness in a key that is made here.
const KEY_BYTES: usize = 32;
/// Deliveries on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;

/// Where ends of installs are told, ordered by name.
#[utoipa::path(
    get, operation_id = "handovers_list", path = "/handovers", tag = "handovers",
    responses((status = 200, body = [HandoverView]))
)]
pub(super) async fn list(State(admin): State<Admin>) -> Result<Json<Vec<HandoverView>>, Reject> {
    let site = admin.app.records.site();
    let views =
        admin.app.records.store.read(move |tx| site.handovers().map(|handover| view(tx, handover)).collect());
    Ok(Json(views.await?))
}

/// One handover. Its key is never read back.
#[utoipa::path(
    get, operation_id = "handovers_read", path = "/handovers/{name}", tag = "handovers", params(("name" = String, Path)),
    responses((status = 200, body = HandoverView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<HandoverView>, Reject> {
    let site = admin.app.records.site();
    let handover = site.handover(&name).cloned().ok_or_else(|| Reject::not_found("handover", &name))?;
    let view = admin.app.records.store.read(move |tx| view(tx, &handover)).await?;
    Ok(Edited::new(&site, &Entity::Handover(name), view))
}

/// Adds a handover, or changes the one of its name. A key that is made here is in the answer to this request, and never
/// shown again.
#[utoipa::path(
    put, operation_id = "handovers_save", path = "/handovers/{name}", tag = "handovers", params(("name" = String, Path)),
    request_body = HandoverDraft,
    responses((status = 200, body = HandoverView), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<HandoverDraft>,
) -> Result<Edited<HandoverView>, Reject> {
    draft.check(&name)?;
    let app = admin.app.clone();
    let save = move |change: &mut Change<'_>| {
        let (site, entity) = (change.site(), Entity::Handover(name.clone()));
        let former = site.handover(&name).cloned();
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
        let draft = HandoverDraft { key: None, ..draft };
        let handover = Handover { name, draft, key };
        change.put_handover(handover.clone())?;
        let view = view(change.tx(), &handover)?;
        Ok::<_, Reject>(Edited::new(change.site(), &entity, HandoverView { key: made, ..view }))
    };
    admin.app.records.store.change(save).await
}

/// Removes a handover. What was to be told by it is given up.
#[utoipa::path(
    delete, operation_id = "handovers_remove", path = "/handovers/{name}", tag = "handovers", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove =
        |change: &mut Change<'_>, handover: Arc<Handover>| Ok(change.remove_handover(&handover.name)?);
    named::remove(&admin, name, base, remove).await
}

/// Sends a delivery that tells of nothing, to try whether deliveries arrive.
#[utoipa::path(
    post, operation_id = "handovers_try", path = "/handovers/{name}/trial", tag = "handovers", params(("name" = String, Path)),
    responses((status = 202), (status = 404, body = Problem))
)]
pub(super) async fn trial(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    known(&admin.app.records.site(), &name)?;
    admin.app.records.try_handover(&name).await?;
    Ok(StatusCode::ACCEPTED)
}

/// Deliveries, latest first.
#[utoipa::path(
    get, operation_id = "deliveries_list", path = "/deliveries", tag = "handovers", params(DeliveriesListQuery),
    responses((status = 200, body = [DeliveryView]))
)]
pub(super) async fn deliveries(
    State(admin): State<Admin>,
    Query(query): Query<DeliveriesListQuery>,
) -> Result<Json<Vec<DeliveryView>>, Reject> {
    let filter = DeliveryFilter {
        handover: query.handover,
        install: query.install,
        is_waiting: query.waiting.unwrap_or(false),
        limit: query.limit.unwrap_or(PAGE).min(LARGEST_PAGE).into(),
    };
    let found = admin.app.records.store.read(move |tx| tx.deliveries(&filter)).await?;
    Ok(Json(found.into_iter().map(delivery_view).collect()))
}

/// Has a delivery made at once: one that waits, or, once more, one that was made or given up.
#[utoipa::path(
    post, operation_id = "deliveries_send", path = "/deliveries/{number}/send", tag = "handovers", params(("number" = i32, Path)),
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
    post, operation_id = "deliveries_give_up", path = "/deliveries/{number}/give-up", tag = "handovers",
    params(("number" = i32, Path)),
    responses((status = 200, body = DeliveryView), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn give_up(
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
        if change.site().handover(&delivery.handover).is_none() {
            return Err(Reject::conflict(format!(
                "handover '{}' is gone, and with it the key. Save it again first",
                delivery.handover
            )));
        }
        edit(&mut delivery);
        change.put_delivery(&delivery)?;
        Ok(Json(delivery_view(delivery)))
    };
    app.records.store.change(change).await
}

fn known(site: &Site, name: &str) -> Result<(), Reject> {
    site.handover(name).map(drop).ok_or_else(|| Reject::not_found("handover", name))
}

fn view(tx: &mut Tx<'_>, handover: &Handover) -> Result<HandoverView, StoreError> {
    let of = |is_waiting| DeliveryFilter {
        handover: Some(handover.name.clone()),
        is_waiting,
        limit: LARGEST_PAGE.into(),
        install: None,
    };
    let (waiting, all) = (tx.deliveries(&of(true))?, tx.deliveries(&of(false))?);
    Ok(HandoverView {
        name: handover.name.clone(),
        url: handover.draft.url.clone(),
        events: handover.draft.events.clone(),
        waiting: waiting.len(),
        last_delivered: all.iter().filter_map(|delivery| delivery.delivered).max(),
        trouble: waiting.into_iter().find_map(|delivery| delivery.last_answer),
        key: None,
    })
}

fn delivery_view(delivery: Delivery) -> DeliveryView {
    DeliveryView {
        number: delivery.number,
        handover: delivery.handover,
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

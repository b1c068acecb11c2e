use axum::{extract::State, http::StatusCode};
use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use jiff::Timestamp;
use lastmile_api::{DeliveryQuery, DeliveryView, Event, HandoverView, Problem};
use lastmile_core::handover::HandoverDraft;
use lastmile_store::{Delivery, DeliveryFilter, Handover};

use super::{
    Admin,
    reject::{Json, Path, Query, Reject},
};
use crate::{random::random, state::App};

/// Octets of randomness in a key that is made here.
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
    let mut views = Vec::new();
    for handover in admin.app.handovers.load().values() {
        views.push(view(&admin.app, handover).await?);
    }
    Ok(Json(views))
}

/// Adds a handover, or changes the one of its name. A key that is made here is in the answer to this request, and never
/// shown again.
#[utoipa::path(
    put, operation_id = "handovers_save", path = "/handovers/{name}", tag = "handovers", params(("name" = String, Path)),
    request_body = HandoverDraft,
    responses((status = 200, body = HandoverView), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(mut draft): Json<HandoverDraft>,
) -> Result<Json<HandoverView>, Reject> {
    draft.check(&name)?;
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let former = app.handovers.load().get(&name).map(|former| former.key.clone());
    let (said, kept) = (draft.key.take(), former.filter(|_| draft.key.is_none()));
    let seal = |key: &str| app.seal_key.seal(key, random());
    let (key, made) = match (said, kept) {
        (Some(said), _) => (seal(&said), None),
        (None, Some(kept)) => (kept, None),
        (None, None) => {
            let made = URL_SAFE_NO_PAD.encode(random::<KEY_BYTES>());
            (seal(&made), Some(made))
        }
    };
    let handover = Handover { name: name.clone(), draft, key };
    let put = handover.clone();
    app.store.write(move |tx| tx.put_handover(&put)).await?;
    let view = view(app, &handover).await?;
    app.handovers.rcu(|handovers| {
        let mut next = (**handovers).clone();
        next.insert(name.clone(), handover.clone());
        next
    });
    let _ = app.events.send(Event::Delivery { handover: name });
    Ok(Json(HandoverView { key: made, ..view }))
}

/// Removes a handover. What was to be told by it is given up.
#[utoipa::path(
    delete, operation_id = "handovers_remove", path = "/handovers/{name}", tag = "handovers", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    known(app, &name)?;
    let gone = name.clone();
    app.store.write(move |tx| tx.remove_handover(&gone)).await?;
    app.handovers.rcu(|handovers| {
        let mut next = (**handovers).clone();
        next.remove(&name);
        next
    });
    let _ = app.events.send(Event::Delivery { handover: name });
    Ok(StatusCode::NO_CONTENT)
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
    known(&admin.app, &name)?;
    admin.app.try_handover(&name).await?;
    let _ = admin.app.events.send(Event::Delivery { handover: name });
    Ok(StatusCode::ACCEPTED)
}

/// Deliveries, latest first.
#[utoipa::path(
    get, operation_id = "deliveries_list", path = "/deliveries", tag = "handovers", params(DeliveryQuery),
    responses((status = 200, body = [DeliveryView]))
)]
pub(super) async fn deliveries(
    State(admin): State<Admin>,
    Query(query): Query<DeliveryQuery>,
) -> Result<Json<Vec<DeliveryView>>, Reject> {
    let filter = DeliveryFilter {
        handover: query.handover,
        install: query.install,
        is_waiting: query.waiting.unwrap_or(false),
        limit: query.limit.unwrap_or(PAGE).min(LARGEST_PAGE).into(),
    };
    let found = admin.app.store.read(move |tx| tx.deliveries(&filter)).await?;
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
        delivery.due = Some(Timestamp::now());
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
    change: impl FnOnce(&mut Delivery),
) -> Result<Json<DeliveryView>, Reject> {
    let found = app.store.read(move |tx| tx.delivery(number)).await?;
    let mut delivery = found.ok_or_else(|| Reject::not_found("delivery", number))?;
    if !app.handovers.load().contains_key(&delivery.handover) {
        let gone =
            format!("handover '{}' is gone, and with it the key. Save it again first", delivery.handover);
        return Err(Reject::conflict(gone));
    }
    change(&mut delivery);
    let put = delivery.clone();
    app.store.write(move |tx| tx.put_delivery(&put)).await?;
    app.deliver_soon.notify_one();
    let _ = app.events.send(Event::Delivery { handover: delivery.handover.clone() });
    Ok(Json(delivery_view(delivery)))
}

fn known(app: &App, name: &str) -> Result<(), Reject> {
    let is_known = app.handovers.load().contains_key(name);
    is_known.then_some(()).ok_or_else(|| Reject::not_found("handover", name))
}

async fn view(app: &App, handover: &Handover) -> Result<HandoverView, Reject> {
    let of = |is_waiting| DeliveryFilter {
        handover: Some(handover.name.clone()),
        is_waiting,
        limit: LARGEST_PAGE.into(),
        install: None,
    };
    let (waiting, all) = (of(true), of(false));
    let (waiting, all) =
        app.store.read(move |tx| Ok((tx.deliveries(&waiting)?, tx.deliveries(&all)?))).await?;
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

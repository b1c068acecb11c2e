use axum::{
    extract::{Path, State},
    http::StatusCode,
};
use jiff::Timestamp;
use lastmile_api::{LeaseState, LeaseView, Problem, SubnetDraft, SubnetView};
use lastmile_core::{Id, net::Subnet};

use super::{
    Admin,
    reject::{Json, Reject},
};
use crate::{link::own_addresses, state::App};

/// All subnets.
#[utoipa::path(get, operation_id = "subnets_list", path = "/subnets", tag = "subnets", responses((status = 200, body = [SubnetView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<SubnetView>> {
    let site = admin.app.site();
    let mut subnets: Vec<_> = site.subnets().map(|subnet| view(&admin.app, subnet)).collect();
    subnets.sort_by(|a, b| a.subnet.name.cmp(&b.subnet.name));
    Json(subnets)
}

/// Adds a subnet.
#[utoipa::path(
    post, operation_id = "subnets_create", path = "/subnets", tag = "subnets", request_body = SubnetDraft,
    responses((status = 201, body = SubnetView), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<SubnetDraft>,
) -> Result<(StatusCode, Json<SubnetView>), Reject> {
    let _alone = admin.app.admin_write.lock().await;
    Ok((StatusCode::CREATED, Json(put(&admin.app, &draft, Id::generate()).await?)))
}

/// One subnet.
#[utoipa::path(
    get, operation_id = "subnets_read", path = "/subnets/{name}", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = SubnetView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<SubnetView>, Reject> {
    let site = admin.app.site();
    let subnet = site.subnet(&name).ok_or_else(|| Reject::not_found("subnet", &name))?;
    Ok(Json(view(&admin.app, subnet)))
}

/// Changes a subnet: the whole of it is replaced. Leases stay.
#[utoipa::path(
    put, operation_id = "subnets_replace", path = "/subnets/{name}", tag = "subnets", params(("name" = String, Path)), request_body = SubnetDraft,
    responses((status = 200, body = SubnetView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn replace(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<SubnetDraft>,
) -> Result<Json<SubnetView>, Reject> {
    let _alone = admin.app.admin_write.lock().await;
    let id = admin.app.site().subnet(&name).ok_or_else(|| Reject::not_found("subnet", &name))?.id;
    Ok(Json(put(&admin.app, &draft, id).await?))
}

/// Removes a subnet. Machines on it are no longer answered; running leases are honoured by nobody.
#[utoipa::path(
    delete, operation_id = "subnets_remove", path = "/subnets/{name}", tag = "subnets", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let _alone = admin.app.admin_write.lock().await;
    let id = admin.app.site().subnet(&name).ok_or_else(|| Reject::not_found("subnet", &name))?.id;
    admin.app.store.write(move |tx| tx.remove_subnet(id)).await?;
    admin.app.change_site(|site| site.without_subnet(id));
    Ok(StatusCode::NO_CONTENT)
}

/// The leases of a subnet, in order of address: who holds or held what, until when.
#[utoipa::path(
    get, operation_id = "subnets_leases", path = "/subnets/{name}/leases", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = [LeaseView]), (status = 404, body = Problem))
)]
pub(super) async fn leases(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Vec<LeaseView>>, Reject> {
    let site = admin.app.site();
    let subnet = site.subnet(&name).ok_or_else(|| Reject::not_found("subnet", &name))?;
    let book = admin.app.book();
    let mut leases: Vec<_> = book
        .iter()
        .filter(|record| record.subnet == subnet.id)
        .map(|record| {
            let machine = record.client.mac().and_then(|mac| site.machine_by_mac(mac));
            LeaseView::new(record, machine.map(|machine| machine.name.clone()))
        })
        .collect();
    leases.sort_by_key(|lease| lease.address);
    Ok(Json(leases))
}

async fn put(app: &App, draft: &SubnetDraft, id: Id<Subnet>) -> Result<SubnetView, Reject> {
    let site = app.site();
    let others: Vec<_> = site.subnets().filter(|other| other.id != id).cloned().collect();
    let mut own = own_addresses();
    if !own.contains(&app.service.address) {
        own.push(app.service.address);
    }
    let subnet = draft.check(id, &others, &own)?;
    let kept = subnet.clone();
    app.store.write(move |tx| tx.put_subnet(&kept)).await?;
    app.change_site(|site| site.with_subnet(subnet.clone()));
    Ok(view(app, &subnet))
}

fn view(app: &App, subnet: &Subnet) -> SubnetView {
    let now = Timestamp::now();
    let runs = |record: &&lastmile_core::dhcp::LeaseRecord| {
        record.subnet == subnet.id && record.state == LeaseState::Bound && record.until > now
    };
    SubnetView::new(subnet, app.book().iter().filter(runs).count())
}

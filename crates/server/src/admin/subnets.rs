use std::{net::Ipv4Addr, sync::Arc};

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    Advice, LeaseState, LeaseView, Picture, Problem, Proposal, ReservationDraft, ReservationView,
    SubnetDraft, SubnetView, SubnetsRemoveQuery,
};
use lastmile_core::{
    base::Id,
    decide::{
        advice::{Ports, advise},
        subnet::{Held, Holding, suggest},
    },
    model::{reservation::ReservedFor, subnet::Subnet},
    site::{Entity, Site},
};
use lastmile_formats::mac::Mac;
use lastmile_store::Change;

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Query, Reject},
};
use crate::{
    app::App,
    clock,
    link::{Interface, own_addresses},
    surroundings::Kernel,
};

impl Named for Subnet {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.subnet(name).ok_or_else(|| Reject::not_found("subnet", name))
    }

    fn entity(&self) -> Entity {
        Entity::Subnet(self.id)
    }
}

/// All subnets.
#[utoipa::path(get, operation_id = "subnets_list", path = "/subnets", tag = "subnets", responses((status = 200, body = [SubnetView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<SubnetView>> {
    let site = admin.app.records.site();
    let mut subnets: Vec<_> = site.subnets().map(|subnet| view(&admin.app, &site, subnet)).collect();
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
) -> Result<Edited<SubnetView>, Reject> {
    let app = admin.app.clone();
    let create = move |change: &mut Change<'_>| save(&app, change, &draft, Id::generate());
    Ok(admin.app.records.change(create).await?.created())
}

/// One subnet.
#[utoipa::path(
    get, operation_id = "subnets_read", path = "/subnets/{name}", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = SubnetView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<SubnetView>, Reject> {
    named::read(&admin, &name, |site, subnet: &Arc<Subnet>| view(&admin.app, site, subnet))
}

/// Changes a subnet: the whole of it is replaced. Leases stay.
#[utoipa::path(
    put, operation_id = "subnets_replace", path = "/subnets/{name}", tag = "subnets", params(("name" = String, Path)), request_body = SubnetDraft,
    responses((status = 200, body = SubnetView), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn replace(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<SubnetDraft>,
) -> Result<Edited<SubnetView>, Reject> {
    let app = admin.app.clone();
    let replace = move |change: &mut Change<'_>, former: Arc<Subnet>, draft: SubnetDraft| {
        save(&app, change, &draft, former.id)
    };
    named::change(&admin, name, base, draft, |_, former| SubnetDraft::from(former), replace).await
}

/// Removes a subnet, unless addresses of it are reserved. Machines on it are no longer answered; running leases are honoured by nobody.
#[utoipa::path(
    delete, operation_id = "subnets_remove", path = "/subnets/{name}", tag = "subnets",
    params(("name" = String, Path), SubnetsRemoveQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Query(removal): Query<SubnetsRemoveQuery>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = move |change: &mut Change<'_>, subnet: Arc<Subnet>| {
        let (reserved, name) = (change.site().reservations_of(subnet.id).count(), &subnet.name);
        if reserved > 0 && !removal.with_reservations.unwrap_or(false) {
            return Err(Reject::conflict(format!(
                "{reserved} addresses of {name} are reserved. Remove the reservations first, or have them removed with it \
                 (`--with-reservations`)"
            )));
        }
        Ok(change.remove_subnet(&subnet)?)
    };
    named::remove(&admin, name, base, remove).await
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
    let site = admin.app.records.site();
    let subnet = Subnet::find(&site, &name)?;
    let book = admin.app.wire.book();
    let mut leases: Vec<_> = book
        .iter()
        .filter(|record| record.subnet == subnet.id)
        .map(|record| LeaseView::new(record, record.client.mac().and_then(|mac| machine_name(&site, mac))))
        .collect();
    leases.sort_by_key(|lease| lease.address);
    Ok(Json(leases))
}

/// Forgets who holds an address of a subnet, so that it may be lent again: one that was left alone because somebody
/// answered there, or one whose machine is gone.
#[utoipa::path(
    delete, operation_id = "subnets_free", path = "/subnets/{name}/leases/{address}", tag = "subnets",
    params(("name" = String, Path), ("address" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn free(
    State(admin): State<Admin>,
    Path((name, address)): Path<(String, String)>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let site = app.records.site();
    let subnet = Subnet::find(&site, &name)?;
    let unknown = || Reject::not_found("lease", &address);
    let address: Ipv4Addr = address.parse().map_err(|_| unknown())?;
    let record = app
        .wire
        .book()
        .at(address)
        .filter(|record| record.subnet == subnet.id)
        .cloned()
        .ok_or_else(unknown)?;
    let machine = record.client.mac().and_then(|mac| site.machine_by_mac(mac));
    let busy = machine.and_then(|machine| site.open_install(machine.id));
    if let Some(install) = busy.filter(|_| record.state == LeaseState::Bound && record.is_held(clock::now()))
    {
        return Err(Reject::conflict(format!(
            "install {} goes on at {address}. Wait for its end, or cancel it",
            install.number
        )));
    }
    app.records.free_lease(address).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What every address of a subnet is, in runs, and how many there are of each kind.
#[utoipa::path(
    get, operation_id = "subnets_picture", path = "/subnets/{name}/picture", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = Picture), (status = 404, body = Problem))
)]
pub(super) async fn picture(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Picture>, Reject> {
    let app = &admin.app;
    let site = app.records.site();
    let subnet = Subnet::find(&site, &name)?;
    let now = clock::now();
    let mut held: Vec<Held> = own_addresses()
        .into_iter()
        .chain([app.wire.service_for(Some(subnet)).address])
        .map(|address| Held { address, holding: Holding::Own, who: Some("this service".into()), until: None })
        .collect();
    held.extend(site.reservations_of(subnet.id).map(|reservation| Held {
        address: reservation.address,
        holding: Holding::Reserved,
        who: Some(whose(&site, &reservation.client)),
        until: None,
    }));
    held.extend(app.wire.book().iter().filter(|record| record.subnet == subnet.id).map(|record| {
        let holding = match record.state {
            _ if !record.is_held(now) => Holding::Remembered,
            LeaseState::Offered => Holding::Offered,
            LeaseState::Bound => Holding::Leased,
            LeaseState::Quarantined => Holding::Quarantined,
            LeaseState::Released => Holding::Remembered,
        };
        let machine = record.client.mac().and_then(|mac| machine_name(&site, mac));
        Held {
            address: record.address,
            holding,
            who: Some(machine.unwrap_or_else(|| record.client.to_string())),
            until: Some(record.until),
        }
    }));
    Ok(Json(Picture::of(subnet, held)))
}

/// The exact values for a DHCP server that somebody else owns, for each kind of client, and the firewall's ports.
#[utoipa::path(
    get, operation_id = "subnets_advice", path = "/subnets/{name}/advice", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = Advice), (status = 404, body = Problem))
)]
pub(super) async fn advice(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Advice>, Reject> {
    let site = admin.app.records.site();
    let subnet = Subnet::find(&site, &name)?;
    let service = admin.app.wire.service_for(Some(subnet));
    let listening = &admin.listening;
    let dhcp = listening.dhcp.first().map(|(_, address)| address.port());
    let ports = Ports {
        dhcp: dhcp.or(listening.relays.map(|relays| relays.port())).unwrap_or(67),
        tftp: listening.tftp.first().map_or(69, std::net::SocketAddr::port),
        transfers: local_ports(),
    };
    Ok(Json(advise(subnet, site.loaders().map(AsRef::as_ref), service, ports)))
}

/// From which ports the kernel lets transfers begin (ip(7), ip_local_port_range).
fn local_ports() -> (u16, u16) {
    let text = std::fs::read_to_string("/proc/sys/net/ipv4/ip_local_port_range").unwrap_or_default();
    let mut words = text.split_whitespace().filter_map(|word| word.parse().ok());
    (words.next().unwrap_or(32_768), words.next().unwrap_or(60_999))
}

/// A subnet proposed from an interface, with the reason for each field. Nothing is saved.
#[utoipa::path(
    get, operation_id = "subnets_suggest", path = "/interfaces/{interface}/suggestion", tag = "subnets",
    params(("interface" = String, Path)),
    responses((status = 200, body = Proposal), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn propose(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Proposal>, Reject> {
    let interface = Interface::find(&name).ok().flatten().ok_or_else(|| {
        let there = Interface::names().join(", ");
        Reject::new(
            StatusCode::NOT_FOUND,
            "Not found",
            format!("there is no interface '{name}'. There are: {there}"),
        )
    })?;
    let others = crate::check::other_servers(&admin.app, &interface).await;
    let kernel_failed = |error: &dyn std::fmt::Display| {
        Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "The kernel does not answer", error.to_string())
    };
    let kernel = Kernel::open().map_err(|error| kernel_failed(&error))?;
    let seen = kernel.surroundings(&interface, others).await.map_err(|error| kernel_failed(&error))?;
    let seen = seen.ok_or_else(|| {
        Reject::conflict(format!("interface '{name}' has no IPv4 address. Give it a fixed one first"))
    })?;
    let called = admin.app.records.site().subnet(&name).map_or_else(|| name.clone(), |_| format!("{name}-2"));
    Ok(Json(suggest(&called, &seen)))
}

/// The reservations of a subnet, in order of address.
#[utoipa::path(
    get, operation_id = "subnets_reservations", path = "/subnets/{name}/reservations", tag = "subnets", params(("name" = String, Path)),
    responses((status = 200, body = [ReservationView]), (status = 404, body = Problem))
)]
pub(super) async fn reservations(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Vec<ReservationView>>, Reject> {
    let site = admin.app.records.site();
    let subnet = Subnet::find(&site, &name)?;
    Ok(Json(
        site.reservations_of(subnet.id).map(|reservation| reservation_view(&site, reservation)).collect(),
    ))
}

/// Reserves an address for one client, in the place of the one it had.
#[utoipa::path(
    post, operation_id = "subnets_reserve", path = "/subnets/{name}/reservations", tag = "subnets", params(("name" = String, Path)),
    request_body = ReservationDraft,
    responses((status = 201, body = ReservationView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn reserve(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<ReservationDraft>,
) -> Result<(StatusCode, Json<ReservationView>), Reject> {
    let own = own(&admin.app);
    let reserve = move |change: &mut Change<'_>| {
        let site = change.site();
        let subnet = Subnet::find(site, &name)?;
        let reservation = draft.check(subnet, site, &own)?;
        let view = reservation_view(site, &reservation);
        change.put_reservation(reservation)?;
        Ok::<_, Reject>(view)
    };
    Ok((StatusCode::CREATED, Json(admin.app.records.change(reserve).await?)))
}

/// Ends a reservation. Who holds the address keeps it until the lease ends.
#[utoipa::path(
    delete, operation_id = "subnets_unreserve", path = "/subnets/{name}/reservations/{address}", tag = "subnets",
    params(("name" = String, Path), ("address" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn unreserve(
    State(admin): State<Admin>,
    Path((name, address)): Path<(String, String)>,
) -> Result<StatusCode, Reject> {
    let unreserve = move |change: &mut Change<'_>| {
        let site = change.site();
        let subnet = Subnet::find(site, &name)?;
        let unknown = || Reject::not_found("reservation", &address);
        let at: Ipv4Addr = address.parse().map_err(|_| unknown())?;
        let reservation = site.reservation_at(at).filter(|known| known.subnet == subnet.id);
        let reservation = reservation.cloned().ok_or_else(unknown)?;
        Ok::<_, Reject>(change.remove_reservation(&reservation)?)
    };
    admin.app.records.change(unreserve).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn save(
    app: &App,
    change: &mut Change<'_>,
    draft: &SubnetDraft,
    id: Id<Subnet>,
) -> Result<Edited<SubnetView>, Reject> {
    let subnet = draft.check(id, change.site(), &own(app))?;
    change.put_subnet(subnet.clone())?;
    Ok(Edited::new(change.site(), &Entity::Subnet(id), view(app, change.site(), &subnet)))
}

/// Every address that is this service's.
fn own(app: &App) -> Vec<Ipv4Addr> {
    let mut own = own_addresses();
    own.extend(app.wire.services.addresses());
    own.sort_unstable();
    own.dedup();
    own
}

fn view(app: &App, site: &Site, subnet: &Subnet) -> SubnetView {
    let now = clock::now();
    let (mut leased, mut quarantined) = (0, 0);
    for record in app.wire.book().iter().filter(|record| record.subnet == subnet.id && record.is_held(now)) {
        match record.state {
            LeaseState::Bound => leased += 1,
            LeaseState::Quarantined => quarantined += 1,
            LeaseState::Offered | LeaseState::Released => {}
        }
    }
    SubnetView {
        subnet: subnet.into(),
        pool_size: subnet.capacity(),
        leased,
        quarantined,
        reserved: site.reservations_of(subnet.id).count(),
        service: app.wire.service_for(Some(subnet)).address,
    }
}

fn machine_name(site: &Site, mac: Mac) -> Option<String> {
    site.machine_by_mac(mac).map(|machine| machine.name.clone())
}

fn reservation_view(
    site: &Site,
    reservation: &lastmile_core::model::reservation::Reservation,
) -> ReservationView {
    let machine = match &reservation.client {
        ReservedFor::Mac(mac) => machine_name(site, *mac),
        ReservedFor::Uuid(_) | ReservedFor::ClientId(_) => None,
    };
    ReservationView { address: reservation.address, client: reservation.client.to_string(), machine }
}

fn whose(site: &Site, client: &ReservedFor) -> String {
    match client {
        ReservedFor::Mac(mac) => machine_name(site, *mac).unwrap_or_else(|| mac.to_string()),
        other => other.to_string(),
    }
}

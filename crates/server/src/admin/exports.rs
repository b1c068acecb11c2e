//! What other programs read of the machines.

use std::sync::Arc;

use axum::{
    extract::State,
    http::header,
    response::{IntoResponse, Response},
};
use lastmile_api::{
    ExportsHostsQuery, ExportsInventoryQuery, ExportsMachinesQuery, ExportsZoneQuery, Inventory,
    InventoryMachine, Problem,
};
use lastmile_core::{
    decide::machine::import,
    model::machine::Machine,
    report::export::{Host, ZoneDraft, hosts_file},
    site::Site,
};

use super::{
    Admin,
    reject::{Json, Query, Reject},
};
use crate::clock;

/// All machines as lines of a hosts file.
#[utoipa::path(
    get, operation_id = "exports_hosts", path = "/exports/hosts", tag = "exports", params(ExportsHostsQuery),
    responses((status = 200, body = String, content_type = "text/plain"))
)]
pub(super) async fn hosts(State(admin): State<Admin>, Query(query): Query<ExportsHostsQuery>) -> Response {
    text(hosts_file(&chosen(&admin, &admin.app.records.site(), query.label.as_deref())))
}

/// A zone file (RFC 1035) of a domain, or of a network.
#[utoipa::path(
    get, operation_id = "exports_zone", path = "/exports/zone", tag = "exports", params(ExportsZoneQuery),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 422, body = Problem))
)]
pub(super) async fn zone(
    State(admin): State<Admin>,
    Query(query): Query<ExportsZoneQuery>,
) -> Result<Response, Reject> {
    let draft = ZoneDraft { of: &query.of, name_server: query.name_server.as_deref() };
    let hosts = chosen(&admin, &admin.app.records.site(), query.label.as_deref());
    Ok(text(draft.write(&hosts, clock::now()).map_err(|faults| Reject::from(faults).of_question())?))
}

/// All machines as CSV, with the columns that an import reads.
#[utoipa::path(
    get, operation_id = "exports_machines", path = "/exports/machines", tag = "exports", params(ExportsMachinesQuery),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 422, body = Problem))
)]
pub(super) async fn machines(
    State(admin): State<Admin>,
    Query(query): Query<ExportsMachinesQuery>,
) -> Result<Response, Reject> {
    let site = admin.app.records.site();
    let list = |joined: Option<&str>| -> Vec<String> {
        super::machines::labels(joined).into_iter().map(str::to_owned).collect()
    };
    let (names, labels) = (list(query.machines.as_deref()), list(query.label.as_deref()));
    let machines: Vec<Arc<Machine>> = if names.is_empty() && labels.is_empty() {
        site.machines().cloned().collect()
    } else {
        lastmile_core::decide::machine::chosen(&site, &names, &labels)
            .map_err(|faults| Reject::from(faults).of_question())?
    };
    let kind = [(header::CONTENT_TYPE, "text/csv; charset=utf-8; header=present")];
    Ok((kind, import::export(&site, &machines)).into_response())
}

/// All machines and what they hold.
#[utoipa::path(
    get, operation_id = "exports_inventory", path = "/exports/inventory", tag = "exports", params(ExportsInventoryQuery),
    responses((status = 200, body = Inventory))
)]
pub(super) async fn inventory(
    State(admin): State<Admin>,
    Query(query): Query<ExportsInventoryQuery>,
) -> Json<Inventory> {
    let site = admin.app.records.site();
    let hosts = chosen(&admin, &site, query.label.as_deref());
    let with_facts = query.facts.unwrap_or(false);
    let machine = |host: Host| {
        let machine = site.machine(&host.name)?;
        let row = admin.app.records.machine_row(&site, machine);
        Some(InventoryMachine {
            full_name: host.full_name(),
            address: host.address,
            macs: row.macs,
            labels: row.labels,
            details: machine.details.clone(),
            default_boot: row.default_boot,
            stage: row.stage,
            holds: site.last_installed(machine.id).map(|install| install.as_ref().into()),
            facts: site.survey_of(machine).filter(|_| with_facts).map(|survey| survey.survey.facts.clone()),
            name: host.name,
        })
    };
    Json(Inventory { made: clock::now(), machines: hosts.into_iter().filter_map(machine).collect() })
}

/// The machines with all of these labels.
fn chosen(admin: &Admin, site: &Site, labels: Option<&str>) -> Vec<Host> {
    let labels: Vec<&str> = super::machines::labels(labels);
    let has_all =
        |machine: &Machine| labels.iter().all(|label| machine.labels.iter().any(|own| own == label));
    let mut hosts =
        lastmile_core::report::export::hosts(site, |machine| admin.app.wire.address_of(site, machine));
    hosts.retain(|host| site.machine(&host.name).is_some_and(|machine| has_all(machine)));
    hosts
}

fn text(text: String) -> Response {
    ([(header::CONTENT_TYPE, "text/plain; charset=utf-8")], text).into_response()
}

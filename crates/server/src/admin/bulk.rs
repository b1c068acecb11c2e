//! What is done to several machines at once: to all of them, or, if anything stands in the way of one, to none.

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    AdoptRequest, Changed, FieldChange, ImportReport, ImportedRow, MachineDraft, MachineRow, MachinesChange,
    MachinesImport, MachinesRemove, Problem, RowKind, apply, field_changes,
};
use lastmile_core::{
    base::Fault,
    decide::machine::{Adoption, chosen, import},
    model::{machine::Machine, values::Values},
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::Change;

use super::{
    Admin,
    machines::refuse_while_installing,
    reject::{Json, Reject},
};
use crate::{app::App, clock, jobs::cancel_of_removed, records::to_the_end, rules::Running};

/// Bytes of a CSV text and what JSON adds to it.
pub(super) const MOST_IMPORT: usize = 64 * 1024 * 1024;

/// A fault that says of which machine it is.
fn of(machine: &Machine, fault: Fault) -> Fault {
    Fault { place: format!("{}: {}", machine.name, fault.place), ..fault }
}

/// Changes values of several machines: of all of them, or of none.
#[utoipa::path(
    post, operation_id = "machines_change", path = "/machines/change", tag = "machines", request_body = MachinesChange,
    responses((status = 200, body = [Changed]), (status = 422, body = Problem))
)]
pub(super) async fn change(
    State(admin): State<Admin>,
    Json(wanted): Json<MachinesChange>,
) -> Result<Json<Vec<Changed>>, Reject> {
    let prepare = move |site: &Site| {
        let (mut faults, mut changed, mut machines) = (Vec::new(), Vec::new(), Vec::new());
        let mut then = site.clone();
        for former in chosen(site, &wanted.machines, &wanted.labels)? {
            let before = MachineDraft::of(site, &former);
            let drafted = apply(&before, &wanted.edits);
            let checked = drafted.and_then(|draft| {
                let machine = draft.check(&then, Some(&former), clock::now())?;
                Ok((field_changes(&before, &draft), machine))
            });
            match checked {
                Ok((changes, machine)) => {
                    if *former != machine {
                        then = then.with_machine(machine.clone());
                        machines.push(machine);
                    }
                    changed.push(Changed { name: former.name.clone(), changes });
                }
                Err(more) => faults.extend(more.into_iter().map(|fault| of(&former, fault))),
            }
        }
        if !faults.is_empty() {
            return Err(Reject::from(faults));
        }
        Ok((machines, changed))
    };
    // Checking thousands takes time that machines do not have.
    let changed = admin.app.records.change_prepared(prepare, |change, (machines, changed)| {
        // Looked at here: machines are armed and booted meanwhile.
        for machine in &machines {
            let former = change.site().machine_by_id(machine.id).filter(|former| former.name != machine.name);
            former.map_or(Ok(()), |former| refuse_while_installing(change.site(), former))?;
        }
        change.put_machines(machines)?;
        Ok(changed)
    });
    Ok(Json(changed.await?))
}

/// Removes several machines: all of them, or none. Their installs stay on record.
#[utoipa::path(
    post, operation_id = "machines_remove_several", path = "/machines/remove", tag = "machines",
    request_body = MachinesRemove,
    responses((status = 200, body = MachinesRemove), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Json(wanted): Json<MachinesRemove>,
) -> Result<Json<MachinesRemove>, Reject> {
    let remove = move |change: &mut Change<'_>| {
        let machines = chosen(change.site(), &wanted.machines, &[])?;
        for machine in &machines {
            refuse_while_installing(change.site(), machine)?;
            cancel_of_removed(change, machine)?;
            change.remove_machine(machine, clock::now())?;
        }
        Ok::<_, Reject>(machines.iter().map(|machine| machine.name.clone()).collect())
    };
    let machines = admin.app.records.change(remove).await?;
    Ok(Json(MachinesRemove { machines }))
}

/// Registers and changes machines by CSV: all rows, or, if anything is wrong with one, none.
#[utoipa::path(
    post, operation_id = "machines_import", path = "/machines/import", tag = "machines", request_body = MachinesImport,
    responses((status = 200, body = ImportReport), (status = 422, body = Problem))
)]
pub(super) async fn import(
    State(admin): State<Admin>,
    Json(wanted): Json<MachinesImport>,
) -> Result<Json<ImportReport>, Reject> {
    let own: Vec<_> = admin.app.wire.services.addresses().collect();
    let report = admin
        .app
        .records
        .change_prepared(
            move |site| {
                let rows = import::import(&wanted.csv, site, &own, clock::now())?;
                let report = report(site, &rows);
                Ok::<_, Reject>((rows, report))
            },
            |change, (rows, report)| {
                let changed = rows.iter().filter(|row| row.former.as_deref() != Some(&row.machine));
                change.put_machines(changed.map(|row| row.machine.clone()).collect())?;
                for reservation in rows.into_iter().filter_map(|row| row.reservation) {
                    change.put_reservation(reservation)?;
                }
                Ok(report)
            },
        )
        .await?;
    Ok(Json(report))
}

fn report(site: &Site, rows: &[import::Row]) -> ImportReport {
    let mut report = ImportReport::default();
    for row in rows {
        let after = MachineDraft::of(site, &row.machine);
        let before = row.former.as_ref().map(|former| MachineDraft::of(site, former));
        let mut changes = match &before {
            Some(before) => field_changes(before, &after),
            None => field_changes(&MachineDraft::new(String::new(), Vec::new()), &after),
        };
        if let Some(reservation) = &row.reservation {
            changes.push(FieldChange {
                place: "address".into(),
                before: row.former_address.map(|address| format!("\"{address}\"")),
                after: Some(format!("\"{}\"", reservation.address)),
            });
        }
        let kind = match (&row.former, row.is_changed()) {
            (None, _) => RowKind::New,
            (Some(_), true) => RowKind::Changed,
            (Some(_), false) => RowKind::Unchanged,
        };
        match kind {
            RowKind::New => report.new += 1,
            RowKind::Changed => report.changed += 1,
            RowKind::Unchanged => report.unchanged += 1,
        }
        report.rows.push(ImportedRow { line: row.line, machine: row.machine.name.clone(), kind, changes });
    }
    report
}

/// Registers newcomers: all of them, or, if anything stands in the way of one, none.
#[utoipa::path(
    post, operation_id = "machines_adopt", path = "/machines/adopt", tag = "machines", request_body = AdoptRequest,
    responses((status = 201, body = [MachineRow]), (status = 422, body = Problem))
)]
pub(super) async fn adopt(
    State(admin): State<Admin>,
    Json(wanted): Json<AdoptRequest>,
) -> Result<(StatusCode, Json<Vec<MachineRow>>), Reject> {
    let app = admin.app.clone();
    let adopt = move |change: &mut Change<'_>| {
        let site = change.site();
        let adoption = Adoption {
            macs: wanted.macs,
            name: wanted.name,
            first: wanted.first,
            labels: wanted.labels,
            details: wanted.details,
            default_boot: wanted.default_boot,
        };
        let machines = adoption.machines(site, |mac| values(&app, site, mac), clock::now())?;
        change.put_machines(machines.clone())?;
        // Who was surveyed gets what rules say of it, now that it has a name.
        let mut ruled = Vec::new();
        for mac in machines.iter().filter_map(|machine| machine.macs.first()) {
            ruled.push(app.records.run_rules(change, *mac, &Running::default())?);
        }
        let site = change.site();
        let now = machines.iter().filter_map(|machine| site.machine_by_id(machine.id));
        let rows: Vec<MachineRow> = now.map(|machine| app.records.machine_row(site, machine)).collect();
        Ok::<_, Reject>((rows, ruled))
    };
    let work = async move {
        let (rows, ruled) = admin.app.records.change(adopt).await?;
        for mut ran in ruled {
            admin.app.records.arm_by_rule(&mut ran).await;
        }
        Ok::<_, Reject>(rows)
    };
    Ok((StatusCode::CREATED, Json(to_the_end(work).await??)))
}

/// What a pattern may name of a newcomer.
fn values(app: &App, site: &Site, mac: Mac) -> Values {
    let draft = MachineDraft::new(mac.dashed(), vec![mac.to_string()]);
    match draft.check(site, None, clock::now()) {
        Ok(machine) => app.records.subject(site, &machine, None).values,
        // Somebody has registered it meanwhile, which is said when its own draft is checked.
        Err(_) => Values { name: mac.dashed(), mac: Some(mac), ..Values::default() },
    }
}

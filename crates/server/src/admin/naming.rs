//! Names and addresses by pattern.

use std::sync::Arc;

use axum::extract::State;
use lastmile_api::{Event, NamedMachine, NamingDraft, NamingView, Problem};
use lastmile_core::{
    Fault,
    machine::{Machine, Naming},
    site::Site,
};

use super::{
    Admin,
    reject::{Json, Reject},
};
use crate::state::App;

/// What names and addresses by pattern would be: of every machine that is meant, with what stands in the way. Nothing is
/// changed.
#[utoipa::path(
    post, operation_id = "naming_preview", path = "/naming/preview", tag = "machines", request_body = NamingDraft,
    responses((status = 200, body = NamingView), (status = 422, body = Problem))
)]
pub(super) async fn preview(
    State(admin): State<Admin>,
    Json(draft): Json<NamingDraft>,
) -> Result<Json<NamingView>, Reject> {
    let naming = admin.app.naming(&admin.app.site(), &draft)?;
    Ok(Json(view(naming.rows)))
}

/// Gives machines names and addresses by pattern: all that are meant, or, if anything stands in the way of one of them,
/// none.
#[utoipa::path(
    post, operation_id = "naming_apply", path = "/naming", tag = "machines", request_body = NamingDraft,
    responses((status = 200, body = NamingView), (status = 422, body = Problem))
)]
pub(super) async fn apply(
    State(admin): State<Admin>,
    Json(draft): Json<NamingDraft>,
) -> Result<Json<NamingView>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let naming = app.naming(&app.site(), &draft)?;
    if !naming.is_fit() {
        let fault = |row: &NamedMachine| Fault {
            place: row.machine.clone(),
            what: format!("{}: {}", row.name, row.problems.join("; ")),
            mend: "Change the pattern, or leave the machine out.".into(),
        };
        let unfit = naming.rows.iter().filter(|row| !row.problems.is_empty());
        return Err(unfit.map(fault).collect::<Vec<_>>().into());
    }
    let Naming { rows, machines, reservations, replaced } = naming;
    let (kept, new) = (machines.clone(), reservations.clone());
    let old: Vec<_> = replaced.iter().map(|reservation| reservation.address).collect();
    app.store
        .write(move |tx| {
            tx.rename_machines(&kept)?;
            old.iter().try_for_each(|address| tx.remove_reservation(*address))?;
            new.iter().try_for_each(|reservation| tx.put_reservation(reservation))
        })
        .await?;
    app.change_site(|site| {
        let site = replaced.iter().fold(site.clone(), |site, old| site.without_reservation(old));
        let site = reservations.iter().fold(site, |site, new| site.with_reservation(new.clone()));
        site.with_machines(machines.clone())
    });
    for row in rows.iter().filter(|row| row.machine != row.name) {
        let _ = app.events.send(Event::Gone { name: row.machine.clone() });
    }
    machines.iter().for_each(|machine| app.tell_machine(machine));
    Ok(Json(view(rows)))
}

fn view(rows: Vec<NamedMachine>) -> NamingView {
    let unfit = rows.iter().filter(|row| !row.problems.is_empty()).count();
    NamingView { machines: rows, unfit }
}

impl App {
    fn naming(&self, site: &Arc<Site>, draft: &NamingDraft) -> Result<Naming, Vec<Fault>> {
        let own: Vec<_> = self.services.addresses().collect();
        let values = |machine: &Machine| self.subject(site, machine, None).values;
        draft.apply(site, values, &own)
    }
}

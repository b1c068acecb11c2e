//! Names and addresses by pattern.

use axum::extract::State;
use lastmile_api::{NamedMachine, NamingDraft, NamingView, Problem};
use lastmile_core::{base::Fault, decide::machine::Naming, model::machine::Machine, site::Site};
use lastmile_store::Change;

use super::{
    Admin,
    reject::{Json, Reject},
};
use crate::app::App;

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
    let naming = naming(&admin.app, &admin.app.records.site(), &draft);
    let naming = naming.map_err(|faults| Reject::from(faults).of_question())?;
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
    let app = admin.app.clone();
    let apply = move |change: &mut Change<'_>| {
        let naming = naming(&app, change.site(), &draft)?;
        if !naming.is_fit() {
            let fault = |row: &NamedMachine| Fault {
                place: row.machine.clone(),
                what: format!("{}: {}", row.name, row.problems.join("; ")),
                fix: "Change the pattern, or leave the machine out.".into(),
            };
            let unfit = naming.rows.iter().filter(|row| !row.problems.is_empty());
            return Err(Reject::from(unfit.map(fault).collect::<Vec<_>>()));
        }
        change.rename_machines(naming.machines)?;
        for reservation in &naming.replaced {
            change.remove_reservation(reservation)?;
        }
        for reservation in naming.reservations {
            change.put_reservation(reservation)?;
        }
        Ok(naming.rows)
    };
    Ok(Json(view(admin.app.records.change(apply).await?)))
}

fn view(rows: Vec<NamedMachine>) -> NamingView {
    let unfit = rows.iter().filter(|row| !row.problems.is_empty()).count();
    NamingView { machines: rows, unfit }
}

fn naming(app: &App, site: &Site, draft: &NamingDraft) -> Result<Naming, Vec<Fault>> {
    let own: Vec<_> = app.wire.services.addresses().collect();
    let values = |machine: &Machine| app.records.subject(site, machine, None).values;
    draft.apply(site, values, &own)
}

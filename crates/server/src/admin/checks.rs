use axum::extract::State;
use lastmile_api::CheckReport;

use super::{Admin, reject::Json};

/// Looks at everything that could stand in the way of a boot, asks for other DHCP servers, and boots a machine of the
/// service's own. Takes a few seconds; nothing is recorded.
#[utoipa::path(
    post, operation_id = "check_run", path = "/check", tag = "check", responses((status = 200, body = CheckReport))
)]
pub(super) async fn run(State(admin): State<Admin>) -> Json<CheckReport> {
    Json(crate::check::run(&admin.app, &admin.listening).await)
}

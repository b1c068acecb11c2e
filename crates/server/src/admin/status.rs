use axum::extract::State;
use lastmile_api::Status;

use super::{Admin, reject::Json};

/// The state of the service.
#[utoipa::path(get, operation_id = "status_read", path = "/status", tag = "status", responses((status = 200, body = Status)))]
pub(super) async fn read(State(admin): State<Admin>) -> Json<Status> {
    Json(of(&admin))
}

/// The state of the service now.
pub(super) fn of(admin: &Admin) -> Status {
    Status {
        version: env!("CARGO_PKG_VERSION").into(),
        since: admin.app.records.since,
        listens: admin.listening.lines(),
        machines: admin.app.records.site().machine_count(),
        trouble: admin.app.records.store.trouble(),
        counters: admin.app.wire.counts.read(),
    }
}

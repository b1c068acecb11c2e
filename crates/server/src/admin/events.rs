use std::{convert::Infallible, time::Duration};

use axum::{
    extract::State,
    response::sse::{Event as SseEvent, KeepAlive, Sse},
};
use futures_util::Stream;
use lastmile_api::Event;
use tokio::sync::broadcast::error::RecvError;

use super::Admin;

/// A sign of life, so that a reader notices a connection that is gone.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// Everything that changes, as it changes, as server-sent events whose data is an `Event`.
#[utoipa::path(
    get, operation_id = "events_stream", path = "/events", tag = "status",
    responses((status = 200, body = Event, content_type = "text/event-stream"))
)]
pub(super) async fn stream(
    State(admin): State<Admin>,
) -> Sse<impl Stream<Item = Result<SseEvent, Infallible>>> {
    let mut events = admin.app.records.events.subscribe();
    let stop = admin.stop;
    let stream = async_stream::stream! {
        loop {
            let event = tokio::select! {
                () = stop.cancelled() => break,
                event = events.recv() => event,
            };
            let event = match event {
                Ok(event) => event,
                Err(RecvError::Lagged(_)) => Event::Lagged,
                Err(RecvError::Closed) => break,
            };
            if let Ok(event) = SseEvent::default().json_data(&event) {
                yield Ok(event);
            }
        }
    };
    Sse::new(stream).keep_alive(KeepAlive::new().interval(KEEP_ALIVE))
}

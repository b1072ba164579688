//! The event stream.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event as SseEvent, KeepAlive, Sse};
use futures::Stream;
use tokio_stream::StreamExt;
use tokio_stream::wrappers::BroadcastStream;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::events::{Change, Event};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(events))
}

/// What changes, in order, as server-sent events whose data is an Event. A page that was away says
/// with Last-Event-ID what it has seen, and gets what it missed, or a change of the kind `gap`.
#[utoipa::path(get, path = "/api/events", responses((status = 200, content_type = "text/event-stream", body = String)))]
async fn events(State(app): State<Arc<App>>, headers: HeaderMap) -> Sse<impl Stream<Item = Result<SseEvent, Infallible>>> {
    let seen = headers.get("last-event-id").and_then(|id| id.to_str().ok()).and_then(|id| id.parse().ok());
    let (missed, live) = app.hub.follow(seen);
    // A page that falls behind is told that it missed something.
    let live = BroadcastStream::new(live).map(|event| event.unwrap_or(Event { seq: 0, change: Change::Gap }));
    let all = futures::StreamExt::chain(tokio_stream::iter(missed), live);
    let stream = all.map(|event| {
        let data = serde_json::to_string(&event).unwrap_or_default();
        Ok(SseEvent::default().id(event.seq.to_string()).data(data))
    });
    Sse::new(stream).keep_alive(KeepAlive::default())
}

//! The event stream.

use std::sync::Arc;
use std::time::Duration;

use axum::body::Bytes;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::extract::{Query, State};
use axum::response::Response;
use serde::Deserialize;
use tokio::sync::broadcast;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::events::{Change, Event};

/// How often a page is asked whether it is still there.
const ASK_EVERY: Duration = Duration::from_secs(20);

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(events))
}

#[derive(Debug, Deserialize, IntoParams)]
struct Seen {
    /// The `seq` of the last event that the page has seen; left out, only what is to come is told.
    after: Option<u64>,
}

/// What changes, in order: a WebSocket (RFC 6455) whose text messages are each an Event. A page that
/// was away gets what it missed, or a change of the kind `gap`. Streams of server-sent events would
/// use up the few connections that browsers open to one host.
#[utoipa::path(get, path = "/api/events", params(Seen), responses((status = 101)))]
async fn events(State(app): State<Arc<App>>, Query(seen): Query<Seen>, upgrade: WebSocketUpgrade) -> Response {
    upgrade.on_upgrade(async move |socket| {
        let (missed, live) = app.hub.follow(seen.after);
        drop(app);
        // An error means that the page is gone.
        drop(tell(socket, missed, live).await);
    })
}

async fn tell(mut socket: WebSocket, missed: Vec<Event>, mut live: broadcast::Receiver<Event>) -> Result<(), axum::Error> {
    for event in missed {
        send(&mut socket, &event).await?;
    }
    let mut ask = tokio::time::interval(ASK_EVERY);
    loop {
        tokio::select! {
            event = live.recv() => match event {
                Ok(event) => send(&mut socket, &event).await?,
                Err(broadcast::error::RecvError::Lagged(_)) => send(&mut socket, &Event { seq: 0, change: Change::Gap }).await?,
                Err(broadcast::error::RecvError::Closed) => return Ok(()),
            },
            _ = ask.tick() => socket.send(Message::Ping(Bytes::new())).await?,
            // Pages have nothing to say; this notices when they go.
            said = socket.recv() => match said {
                Some(Ok(_)) => {}
                Some(Err(error)) => return Err(error),
                None => return Ok(()),
            },
        }
    }
}

async fn send(socket: &mut WebSocket, event: &Event) -> Result<(), axum::Error> {
    let text = serde_json::to_string(event).map_err(axum::Error::new)?;
    socket.send(Message::Text(text.into())).await
}

//! The queue.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::run::RunEvent;
use beryl_store::StoreError;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::views::RunView;
use crate::app::App;
use crate::scheduler::{act, tell_run};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(queue)).routes(routes!(act_on_runs)).routes(routes!(set_priority))
}

/// How many ended runs the queue shows.
const ENDED: u32 = 50;

/// A run in the queue, with the names of what it is made of.
#[derive(Debug, Serialize, ToSchema)]
struct QueueItem {
    run: RunView,
    source_name: String,
    preset_name: String,
    /// The sheet or the watch folder it comes from.
    origin_name: Option<String>,
    /// Seconds of the source.
    seconds: Option<f64>,
}

/// Everything under way, and what ended last.
#[utoipa::path(get, path = "/api/queue", responses((status = 200, body = Vec<QueueItem>)))]
async fn queue(State(app): State<Arc<App>>) -> Result<Json<Vec<QueueItem>>, ApiError> {
    let runs = app.database.queue(ENDED).await?;
    let names = app.database.run_names(&runs.iter().map(|run| run.id).collect::<Vec<_>>()).await?;
    let items = runs.iter().map(|run| {
        let names = names.get(&run.id);
        QueueItem {
            run: RunView::of(run),
            source_name: names.map_or_else(String::new, |names| names.source.clone()),
            preset_name: names.map_or_else(String::new, |names| names.preset.clone()),
            origin_name: names.and_then(|names| names.origin.clone()),
            seconds: names.and_then(|names| names.seconds),
        }
    });
    Ok(Json(items.collect()))
}

/// What can be asked of runs.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum Action {
    /// Stand still; runs that share a decode stand still together.
    Pause,
    /// Go on.
    Resume,
    /// End without a file.
    Cancel,
    /// Begin again after an end without a file.
    Retry,
}

/// An action on some runs.
#[derive(Debug, Deserialize, ToSchema)]
struct Request {
    action: Action,
    runs: Vec<Uuid>,
}

/// How many runs the action could be done on; the others were in another state.
#[derive(Debug, Serialize, ToSchema)]
struct Acted {
    done: usize,
}

/// Pauses, resumes, cancels or retries runs.
#[utoipa::path(post, path = "/api/runs", request_body = Request, responses((status = 200, body = Acted)))]
async fn act_on_runs(State(app): State<Arc<App>>, Json(request): Json<Request>) -> Result<Json<Acted>, ApiError> {
    let event = match request.action {
        Action::Pause => RunEvent::Pause,
        Action::Resume => RunEvent::Resume,
        Action::Cancel => RunEvent::Cancel,
        Action::Retry => RunEvent::Retry,
    };
    let mut done = 0;
    for run in request.runs {
        match act(&app, run, event).await {
            Ok(()) => done += 1,
            Err(StoreError::Changed) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(Json(Acted { done }))
}

/// A place in the order.
#[derive(Debug, Deserialize, ToSchema)]
struct Priority {
    /// Higher comes first; 0 is usual.
    priority: i32,
}

/// Moves a run before or behind others.
#[utoipa::path(put, path = "/api/runs/{id}/priority", params(("id" = Uuid, Path)), request_body = Priority, responses((status = 200)))]
async fn set_priority(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(request): Json<Priority>) -> Result<(), ApiError> {
    app.database.set_priority(id, request.priority).await?;
    tell_run(&app, id).await;
    Ok(())
}

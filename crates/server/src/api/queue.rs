//! The queue.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::flow::night::{Block, JobAtWork, WaitingRun, lay_out};
use beryl_core::flow::run::{RunEvent, RunState};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::StoreError;
use beryl_store::runs::{MOST_TOGETHER, Run, RunNames};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::settings::withheld_days;
use crate::app::App;
use crate::publish::PublishError;
use crate::scheduler::{act, discard, release};
use crate::views::RunView;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(queue))
        .routes(routes!(act_on_runs))
        .routes(routes!(move_runs))
        .routes(routes!(release_run))
        .routes(routes!(discard_run))
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
}

/// The queue and its forecast.
#[derive(Debug, Serialize, ToSchema)]
struct QueueView {
    /// Everything under way in the order in which it is worked on, and then what ended last.
    items: Vec<QueueItem>,
    /// How many engine slots there are.
    lanes: usize,
    /// The jobs of the night in their places along the clock.
    blocks: Vec<Block<Uuid>>,
    /// Seconds until everything that is not held is done; nothing where nothing is under way.
    all_done_in: Option<f64>,
    /// Files that wait for a decision, those that have waited longest first.
    withheld: Vec<QueueItem>,
    /// Days after which such a file has waited long. None is ever removed by itself.
    withheld_days: u32,
}

/// Everything under way, what ended last, and when it will be done.
#[utoipa::path(get, path = "/api/queue", responses((status = 200, body = QueueView)))]
async fn queue(State(app): State<Arc<App>>) -> Result<Json<QueueView>, ApiError> {
    let (runs, withheld) = tokio::try_join!(app.database.queue(ENDED), app.database.withheld())?;
    let ids: Vec<Uuid> = runs.iter().chain(&withheld).map(|run| run.id).collect();
    let names = app.database.run_names(&ids).await?;
    let blocks = blocks(&app, &runs, &names).await?;
    let item = |run: &Run| {
        let names = names.get(&run.id);
        QueueItem {
            run: RunView::of(run),
            source_name: names.map_or_else(String::new, |names| names.source.clone()),
            preset_name: names.map_or_else(String::new, |names| names.preset.clone()),
            origin_name: names.and_then(|names| names.origin.clone()),
        }
    };
    Ok(Json(QueueView {
        items: runs.iter().map(item).collect(),
        withheld: withheld.iter().map(item).collect(),
        withheld_days: withheld_days(&app.database).await?,
        lanes: app.slots.count(),
        all_done_in: blocks.iter().map(|block| block.end).max_by(f64::total_cmp),
        blocks,
    }))
}

/// Lays out what is at work and what waits, with what runs of the same presets really took.
async fn blocks(app: &App, runs: &[Run], names: &HashMap<Uuid, RunNames>) -> Result<Vec<Block<Uuid>>, ApiError> {
    let factors = app.database.cost_factors().await?;
    let cpu = |run: &Run| names.get(&run.id).map_or(0.0, |names| names.expected_cpu.unwrap_or(0.0) * factors.of(&names.preset));
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let by_id: HashMap<Uuid, &Run> = runs.iter().map(|run| (run.id, run)).collect();
    let at_work: Vec<JobAtWork<Uuid>> = app
        .slots
        .at_work()
        .into_iter()
        .filter_map(|group| {
            let members: Vec<&Run> = group.iter().filter_map(|run| by_id.get(run).copied()).collect();
            let moving: Vec<&&Run> =
                members.iter().filter(|run| matches!(run.state, RunState::Running | RunState::Checking)).collect();
            // What has only begun says nothing yet: it counts with what it is expected to take.
            let told = |run: &&&Run| run.progress.and_then(|progress| progress.remaining);
            let expected = || moving.iter().map(|run| cpu(run)).sum::<f64>() / cores as f64;
            let remaining = moving.iter().filter_map(told).max_by(f64::total_cmp).unwrap_or_else(expected);
            (!moving.is_empty()).then(|| JobAtWork { runs: moving.iter().map(|run| run.id).collect(), remaining })
        })
        .collect();
    let waiting: Vec<WaitingRun<Uuid, Uuid>> = runs
        .iter()
        .filter(|run| run.state == RunState::Waiting)
        .map(|run| WaitingRun { run: run.id, source: run.source, cpu: cpu(run) })
        .collect();
    let together = usize::try_from(MOST_TOGETHER).unwrap_or(usize::MAX);
    Ok(lay_out(&at_work, &waiting, app.slots.count(), cores, together))
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

/// Why a withheld file is good enough.
#[derive(Debug, Deserialize, ToSchema)]
struct Release {
    /// The editor's reason, which is kept with the run.
    because: String,
}

/// The longest reason, in characters.
const LONGEST_REASON: usize = 2000;

/// Takes a withheld file for good: it gets its name.
#[utoipa::path(post, path = "/api/runs/{id}/release", params(("id" = Uuid, Path)), request_body = Release, responses((status = 200)))]
async fn release_run(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(wish): Json<Release>) -> Result<(), ApiError> {
    let because = wish.because.trim();
    if because.is_empty() || because.chars().count() > LONGEST_REASON {
        let why = format!("a reason of 1 to {LONGEST_REASON} characters is needed");
        return Err(ApiError::invalid("the file was not released", why));
    }
    let because = because.to_owned();
    to_its_end(async move { release(&app, id, &because).await }).await
}

/// Removes a withheld file.
#[utoipa::path(post, path = "/api/runs/{id}/discard", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn discard_run(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    to_its_end(async move { discard(&app, id).await }).await
}

/// Does what must not stay half done, although nobody may wait for it any more.
async fn to_its_end(work: impl Future<Output = Result<(), PublishError>> + Send + 'static) -> Result<(), ApiError> {
    match tokio::spawn(work).await {
        Ok(done) => Ok(done?),
        Err(error) => Err(Problem::new(ProblemKind::Internal, "it could not be done", error.to_string()).into()),
    }
}

/// A new place in the order.
#[derive(Debug, Deserialize, ToSchema)]
struct Move {
    /// The runs to move, in their order.
    runs: Vec<Uuid>,
    /// The waiting run before which they go; left out, the end.
    before: Option<Uuid>,
}

/// Moves waiting runs before another one, or to the end.
#[utoipa::path(post, path = "/api/queue/order", request_body = Move, responses((status = 200, body = Acted)))]
async fn move_runs(State(app): State<Arc<App>>, Json(request): Json<Move>) -> Result<Json<Acted>, ApiError> {
    let done = app.database.move_runs(&request.runs, request.before).await?;
    app.tell_runs(&request.runs).await;
    Ok(Json(Acted { done }))
}

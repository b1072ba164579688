//! The queue.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use beryl_core::flow::run::{RunEvent, RunState};
use beryl_core::flow::schedule::{Block, JobAtWork, WaitingRun, lay_out};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::runs::{MOST_TOGETHER, Run, RunNames, Window};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::settings::withheld_days;
use crate::app::App;
use crate::publish::PublishError;
use crate::views::RunView;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(queue))
        .routes(routes!(night))
        .routes(routes!(act_on_runs))
        .routes(routes!(move_runs))
        .routes(routes!(release_run))
        .routes(routes!(discard_run))
}

/// How many ended runs the queue goes back to.
const ENDED: u32 = 200;
/// Rows of a page of the queue where none are asked for, and at most.
const ROWS: u32 = 100;
const MOST_ROWS: u32 = 1000;
/// Jobs of the night that are told one by one; more in a picture tell nothing more.
const BLOCKS: usize = 300;

/// A run in the queue, with the names of what it is made of.
#[derive(Debug, Serialize, ToSchema)]
struct QueueItem {
    run: RunView,
    source_name: String,
    preset_name: String,
    /// The sheet or the watch folder it comes from.
    origin_name: Option<String>,
}

impl QueueItem {
    fn of(run: &Run, names: &HashMap<Uuid, RunNames>) -> Self {
        let names = names.get(&run.id);
        Self {
            run: RunView::of(run),
            source_name: names.map_or_else(String::new, |names| names.source.clone()),
            preset_name: names.map_or_else(String::new, |names| names.preset.clone()),
            origin_name: names.and_then(|names| names.origin.clone()),
        }
    }
}

/// Which part of the queue.
#[derive(Debug, Deserialize, IntoParams)]
struct Part {
    /// Rows before it.
    #[serde(default)]
    from: u32,
    /// Rows in it, 100 where nothing is said and 1000 at most.
    count: Option<u32>,
    /// The one sheet whose runs are meant.
    sheet: Option<Uuid>,
}

/// A part of the queue.
#[derive(Debug, Serialize, ToSchema)]
struct QueueView {
    /// What is under way in the order in which it is worked on, and then what ended last.
    items: Vec<QueueItem>,
    /// How many rows there are in all.
    rows: u32,
    /// Runs in the hands of an engine, or being checked.
    at_work: u32,
    /// Runs that are held.
    held: u32,
    /// Runs that wait.
    waiting: u32,
}

/// A part of what is under way and what ended last.
#[utoipa::path(get, path = "/api/queue", params(Part), responses((status = 200, body = QueueView)))]
async fn queue(State(app): State<Arc<App>>, Query(part): Query<Part>) -> Result<Json<QueueView>, ApiError> {
    let count = part.count.unwrap_or(ROWS).clamp(1, MOST_ROWS);
    let window = Window { from: part.from, count, sheet: part.sheet };
    let (runs, counts, ended) = tokio::try_join!(
        app.database.queue(&window),
        app.database.queue_counts(part.sheet),
        app.database.ended_count(part.sheet, ENDED)
    )?;
    let rows = counts.open() + ended;
    let shown = usize::try_from(rows.saturating_sub(part.from)).unwrap_or(usize::MAX).min(runs.len());
    let runs = &runs[..shown];
    let names = app.database.run_names(&runs.iter().map(|run| run.id).collect::<Vec<_>>()).await?;
    let items = runs.iter().map(|run| QueueItem::of(run, &names)).collect();
    Ok(Json(QueueView { items, rows, at_work: counts.at_work, held: counts.held, waiting: counts.waiting }))
}

/// A job of the night in its place along the clock.
#[derive(Debug, Serialize, ToSchema)]
struct NightJob {
    #[serde(flatten)]
    block: Block<Uuid>,
    /// Whether an engine works on it now.
    at_work: bool,
    source_name: String,
    /// The names of the presets of its runs.
    presets: Vec<String>,
}

/// The forecast of the night.
#[derive(Debug, Serialize, ToSchema)]
struct NightView {
    /// How many engine slots there are.
    lanes: usize,
    /// The first jobs of the night.
    jobs: Vec<NightJob>,
    /// How many more jobs come after them.
    further_jobs: usize,
    /// Seconds until everything that is not held is done; nothing where nothing is under way.
    all_done_in: Option<f64>,
    /// Files that wait for a decision, those that have waited longest first.
    withheld: Vec<QueueItem>,
    /// Days after which such a file has waited long. None is ever removed by itself.
    withheld_days: u32,
}

/// When the night will be over, and what waits for a decision.
#[utoipa::path(get, path = "/api/night", responses((status = 200, body = NightView)))]
async fn night(State(app): State<Arc<App>>) -> Result<Json<NightView>, ApiError> {
    let groups = app.slots.at_work();
    let at_work: Vec<Uuid> = groups.iter().flatten().copied().collect();
    let (withheld, runs, waiting, factors) = tokio::try_join!(
        app.database.withheld(),
        app.database.runs(&at_work),
        app.database.waiting(),
        app.database.cost_factors()
    )?;
    let mut named: Vec<Uuid> = at_work.iter().copied().chain(withheld.iter().map(|run| run.id)).collect();
    let mut names = app.database.run_names(&named).await?;
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let jobs_at_work = jobs_at_work(&groups, &runs, cores, |run| {
        names.get(&run).map_or(0.0, |names| names.expected_cpu.unwrap_or(0.0) * factors.of(&names.preset))
    });
    let waiting: Vec<WaitingRun<Uuid, Uuid>> = waiting
        .into_iter()
        .map(|run| WaitingRun { run: run.run, source: run.source, cpu: run.expected_cpu * factors.of(&run.preset) })
        .collect();
    let together = usize::try_from(MOST_TOGETHER).unwrap_or(usize::MAX);
    let mut blocks = lay_out(&jobs_at_work, &waiting, app.slots.count(), cores, together);
    let all_done_in = blocks.iter().map(|block| block.end).max_by(f64::total_cmp);
    let further_jobs = blocks.len().saturating_sub(BLOCKS);
    blocks.truncate(BLOCKS);
    named = blocks.iter().flat_map(|block| &block.runs).copied().filter(|run| !names.contains_key(run)).collect();
    names.extend(app.database.run_names(&named).await?);
    let at_work: HashSet<Uuid> = at_work.into_iter().collect();
    let job = |block: Block<Uuid>| {
        let of_runs: Vec<&RunNames> = block.runs.iter().filter_map(|run| names.get(run)).collect();
        NightJob {
            at_work: block.runs.iter().any(|run| at_work.contains(run)),
            source_name: of_runs.first().map_or_else(String::new, |names| names.source.clone()),
            presets: of_runs.iter().map(|names| names.preset.clone()).collect(),
            block,
        }
    };
    Ok(Json(NightView {
        lanes: app.slots.count(),
        further_jobs,
        all_done_in,
        withheld: withheld.iter().map(|run| QueueItem::of(run, &names)).collect(),
        withheld_days: withheld_days(&app.database).await?,
        jobs: blocks.into_iter().map(job).collect(),
    }))
}

/// What engines work on now, and how long each of their jobs still takes; `cpu` tells the processor seconds that a run is
/// expected to take.
fn jobs_at_work(groups: &[Vec<Uuid>], runs: &[Run], cores: usize, cpu: impl Fn(Uuid) -> f64) -> Vec<JobAtWork<Uuid>> {
    let by_id: HashMap<Uuid, &Run> = runs.iter().map(|run| (run.id, run)).collect();
    let job = |group: &Vec<Uuid>| {
        let is_moving = |run: &&Run| matches!(run.state, RunState::Running | RunState::Checking);
        let moving: Vec<&Run> = group.iter().filter_map(|run| by_id.get(run).copied()).filter(is_moving).collect();
        // What has only begun says nothing yet: it counts with what it is expected to take.
        let told = |run: &&Run| run.progress.and_then(|progress| progress.remaining);
        let expected = || moving.iter().map(|run| cpu(run.id)).sum::<f64>() / cores as f64;
        let remaining = moving.iter().filter_map(told).max_by(f64::total_cmp).unwrap_or_else(expected);
        (!moving.is_empty()).then(|| JobAtWork { runs: moving.iter().map(|run| run.id).collect(), remaining })
    };
    groups.iter().filter_map(job).collect()
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
    /// Left out, all runs that are open.
    runs: Option<Vec<Uuid>>,
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
    let runs = match (request.runs, request.action) {
        (Some(runs), _) => runs,
        (None, Action::Pause | Action::Resume | Action::Cancel) => app.database.open_runs().await?,
        (None, Action::Retry) => {
            return Err(ApiError::invalid("nothing was begun again", "the runs that are to be begun again must be named"));
        }
    };
    Ok(Json(Acted { done: app.scheduler.act(&runs, event).await? }))
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
    to_its_end(async move { app.scheduler.release(id, &because).await }).await
}

/// Removes a withheld file.
#[utoipa::path(post, path = "/api/runs/{id}/discard", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn discard_run(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    to_its_end(async move { app.scheduler.discard(id).await }).await
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
    app.runs.tell_runs(&request.runs).await;
    Ok(Json(Acted { done }))
}

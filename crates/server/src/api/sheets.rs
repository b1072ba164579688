//! Sheets: rows, columns, cells, and running them.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::check::{CheckItem, CheckReport, compare};
use beryl_core::naming::{NameFields, check_pattern, name_for};
use beryl_core::path::StoragePath;
use beryl_core::plan::{Plan, PlanError, plan};
use beryl_core::preset::Preset;
use beryl_core::reading::Reading;
use beryl_core::run::{ClashRule, RunState};
use beryl_core::units::rate_text;
use beryl_store::runs::{NewRun, Run};
use beryl_store::sheets::{Deliverable, OutputSetting, SheetSource};
use beryl_store::sources::Knowledge;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::storages::blocking;
use super::views::{Cell, DeliverableColumn, RunView, SourceRow};
use crate::app::App;
use crate::events::Change;
use crate::files::find_sources;
use crate::reader::unreadable_yet;
use crate::scheduler::tell_run;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(sheets, add_sheet))
        .routes(routes!(sheet, rename_sheet, remove_sheet))
        .routes(routes!(add_sources, remove_sources))
        .routes(routes!(add_deliverable))
        .routes(routes!(change_deliverable, remove_deliverable))
        .routes(routes!(set_cells))
        .routes(routes!(run_cells))
        .routes(routes!(output))
}

/// A sheet in the list of all.
#[derive(Debug, Serialize, ToSchema)]
struct SheetItem {
    id: Uuid,
    name: String,
    sources: i64,
    deliverables: i64,
    /// Finished runs.
    done: i64,
    created: chrono::DateTime<chrono::Utc>,
}

/// A whole sheet.
#[derive(Debug, Serialize, ToSchema)]
struct SheetView {
    id: Uuid,
    name: String,
    sources: Vec<SourceRow>,
    deliverables: Vec<DeliverableColumn>,
    /// Row by row, all columns of each.
    cells: Vec<Cell>,
}

/// A name.
#[derive(Debug, Deserialize, ToSchema)]
struct Name {
    name: String,
}

impl Name {
    fn checked(&self) -> Result<&str, ApiError> {
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > 200 {
            return Err(ApiError::invalid("the sheet could not be named", "a name must have 1 to 200 characters"));
        }
        Ok(name)
    }
}

/// All sheets, the newest first.
#[utoipa::path(get, path = "/api/sheets", responses((status = 200, body = Vec<SheetItem>)))]
async fn sheets(State(app): State<Arc<App>>) -> Result<Json<Vec<SheetItem>>, ApiError> {
    let item = |summary: beryl_store::sheets::SheetSummary| SheetItem {
        id: summary.sheet.id,
        name: summary.sheet.name,
        sources: summary.sources,
        deliverables: summary.deliverables,
        done: summary.done,
        created: summary.created,
    };
    Ok(Json(app.database.sheets().await?.into_iter().map(item).collect()))
}

/// Adds an empty sheet.
#[utoipa::path(post, path = "/api/sheets", request_body = Name, responses((status = 200, body = SheetView)))]
async fn add_sheet(State(app): State<Arc<App>>, Json(name): Json<Name>) -> Result<Json<SheetView>, ApiError> {
    let sheet = app.database.add_sheet(name.checked()?).await?;
    Ok(Json(view(&app, sheet.id).await?))
}

/// A sheet with everything in it.
#[utoipa::path(get, path = "/api/sheets/{id}", params(("id" = Uuid, Path)), responses((status = 200, body = SheetView)))]
async fn sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<SheetView>, ApiError> {
    Ok(Json(view(&app, id).await?))
}

/// Gives a sheet another name.
#[utoipa::path(patch, path = "/api/sheets/{id}", params(("id" = Uuid, Path)), request_body = Name, responses((status = 200)))]
async fn rename_sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(name): Json<Name>) -> Result<(), ApiError> {
    app.database.rename_sheet(id, name.checked()?).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// Removes a sheet; what was made stays.
#[utoipa::path(delete, path = "/api/sheets/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.remove_sheet(id).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

async fn view(app: &App, id: Uuid) -> Result<SheetView, ApiError> {
    let sheet = app.database.sheet(id).await?;
    let sources = app.database.sheet_sources(id).await?;
    let deliverables = app.database.deliverables(id).await?;
    let settings: HashMap<(Uuid, Uuid), OutputSetting> = app
        .database
        .output_settings(id)
        .await?
        .into_iter()
        .map(|setting| ((setting.source, setting.deliverable), setting))
        .collect();
    let runs: HashMap<(Uuid, Option<Uuid>), Run> =
        app.database.latest_runs(id).await?.into_iter().map(|run| ((run.source, run.deliverable), run)).collect();
    let cells = sources.iter().flat_map(|row| deliverables.iter().map(move |column| (row, column)));
    let cells = cells.map(|(row, column)| {
        let key = (row.source.id, column.id);
        cell(row, column, settings.get(&key), runs.get(&(key.0, Some(key.1))))
    });
    Ok(SheetView {
        id,
        name: sheet.name,
        cells: cells.collect(),
        sources: sources.iter().map(|row| SourceRow::of(&row.source, &row.folder)).collect(),
        deliverables: deliverables.iter().map(DeliverableColumn::of).collect(),
    })
}

fn cell(row: &SheetSource, column: &Deliverable, setting: Option<&OutputSetting>, run: Option<&Run>) -> Cell {
    let overrides = setting.and_then(|setting| setting.overrides.as_ref());
    let planned = match &row.source.knowledge {
        Knowledge::Read(reading) => Some(plan(reading, &column.preset, overrides.unwrap_or(&Value::Null))),
        Knowledge::Unread | Knowledge::Unreadable(_) => None,
    };
    let forecast = planned.as_ref().and_then(|planned| planned.as_ref().ok()).map(|plan| plan.forecast);
    Cell {
        source: row.source.id,
        deliverable: column.id,
        enabled: setting.is_none_or(|setting| setting.enabled),
        own_settings: overrides.is_some_and(|overrides| overrides.as_object().is_some_and(|overrides| !overrides.is_empty())),
        forecast: forecast.map(|forecast| forecast.size.0),
        certainty: forecast.map(|forecast| forecast.certainty),
        refusal: planned.and_then(Result::err).map(|error| error.to_string()),
        run: run.map(RunView::of),
    }
}

/// Files or folders to add as sources.
#[derive(Debug, Deserialize, ToSchema)]
struct NewSources {
    storage: Uuid,
    /// Folders are gone through with all folders in them.
    paths: Vec<StoragePath>,
}

/// What was added.
#[derive(Debug, Serialize, ToSchema)]
struct Added {
    /// How many sources are new in the sheet.
    added: u64,
    /// How many were found, those that stood there already among them.
    found: usize,
}

/// Adds sources to a sheet; they are read in the background.
#[utoipa::path(post, path = "/api/sheets/{id}/sources", params(("id" = Uuid, Path)), request_body = NewSources, responses((status = 200, body = Added)))]
async fn add_sources(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(new): Json<NewSources>,
) -> Result<Json<Added>, ApiError> {
    app.database.sheet(id).await?;
    let storage = app.database.storage(new.storage).await?;
    let found = blocking(move || {
        let lists = new.paths.iter().map(|path| find_sources(&storage, path));
        Ok(lists.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect::<Vec<_>>())
    });
    let found = found.await?;
    let mut rows = Vec::with_capacity(found.len());
    for one in &found {
        rows.push((app.database.ensure_source(new.storage, &one.path, one.sequence).await?, one.folder.clone()));
    }
    let added = app.database.add_sheet_sources(id, &rows).await?;
    app.unread.notify_one();
    app.hub.tell(Change::Sheet { id });
    Ok(Json(Added { added, found: found.len() }))
}

/// Some sources.
#[derive(Debug, Deserialize, ToSchema)]
struct Sources {
    sources: Vec<Uuid>,
}

/// Takes sources out of a sheet; their files stay.
#[utoipa::path(delete, path = "/api/sheets/{id}/sources", params(("id" = Uuid, Path)), request_body = Sources, responses((status = 200)))]
async fn remove_sources(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(which): Json<Sources>) -> Result<(), ApiError> {
    app.database.remove_sheet_sources(id, &which.sources).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// A column to add or to change.
#[derive(Debug, Deserialize, ToSchema)]
struct NewDeliverable {
    /// The preset's document, whole.
    #[schema(value_type = Preset)]
    preset: Value,
    /// The storage outputs go to; left out, each goes beside its source.
    storage: Option<Uuid>,
    /// The folder there.
    #[serde(default)]
    folder: StoragePath,
    /// Left out, the preset's own.
    name_pattern: Option<String>,
    #[serde(default)]
    clash: ClashRule,
}

impl NewDeliverable {
    async fn checked(self, app: &App, id: Uuid, sheet: Uuid) -> Result<Deliverable, ApiError> {
        let preset = Preset::from_value(self.preset)?;
        let name_pattern = self.name_pattern.unwrap_or_else(|| preset.name_pattern.clone());
        check_pattern(&name_pattern).map_err(|error| ApiError::invalid("the name pattern cannot be used", error.to_string()))?;
        if let Some(storage) = self.storage {
            app.database.storage(storage).await?;
        }
        Ok(Deliverable {
            id,
            sheet,
            preset,
            storage: self.storage,
            folder: self.folder.to_string(),
            name_pattern,
            clash: self.clash,
        })
    }
}

/// Adds a column to a sheet.
#[utoipa::path(post, path = "/api/sheets/{id}/deliverables", params(("id" = Uuid, Path)), request_body = NewDeliverable, responses((status = 200, body = DeliverableColumn)))]
async fn add_deliverable(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(new): Json<NewDeliverable>,
) -> Result<Json<DeliverableColumn>, ApiError> {
    app.database.sheet(id).await?;
    let column = new.checked(&app, Uuid::now_v7(), id).await?;
    app.database.save_deliverable(&column).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(Json(DeliverableColumn::of(&column)))
}

/// Changes a column; what was made before stays as it is.
#[utoipa::path(put, path = "/api/deliverables/{id}", params(("id" = Uuid, Path)), request_body = NewDeliverable, responses((status = 200, body = DeliverableColumn)))]
async fn change_deliverable(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(new): Json<NewDeliverable>,
) -> Result<Json<DeliverableColumn>, ApiError> {
    let sheet = app.database.deliverable(id).await?.sheet;
    let column = new.checked(&app, id, sheet).await?;
    app.database.save_deliverable(&column).await?;
    app.hub.tell(Change::Sheet { id: sheet });
    Ok(Json(DeliverableColumn::of(&column)))
}

/// Removes a column; what was made stays.
#[utoipa::path(delete, path = "/api/deliverables/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_deliverable(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    let sheet = app.database.deliverable(id).await?.sheet;
    app.database.remove_deliverable(id).await?;
    app.hub.tell(Change::Sheet { id: sheet });
    Ok(())
}

/// A cell by its row and column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Deserialize, ToSchema)]
struct CellKey {
    source: Uuid,
    deliverable: Uuid,
}

/// What to set for some cells.
#[derive(Debug, Deserialize, ToSchema)]
struct CellChange {
    cells: Vec<CellKey>,
    /// Whether they are wanted; left out, as it is.
    enabled: Option<bool>,
    /// Their own settings, a JSON merge patch (RFC 7386) on the preset; `{}` for none; left out, as they are.
    #[schema(value_type = Option<Object>)]
    overrides: Option<Value>,
}

/// Switches cells on or off, or gives them their own settings; all or none.
#[utoipa::path(post, path = "/api/sheets/{id}/cells", params(("id" = Uuid, Path)), request_body = CellChange, responses((status = 200)))]
async fn set_cells(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(change): Json<CellChange>) -> Result<(), ApiError> {
    let present: HashMap<(Uuid, Uuid), OutputSetting> = app
        .database
        .output_settings(id)
        .await?
        .into_iter()
        .map(|setting| ((setting.source, setting.deliverable), setting))
        .collect();
    if let Some(overrides) = &change.overrides {
        for column in app.database.deliverables(id).await? {
            if change.cells.iter().any(|cell| cell.deliverable == column.id) {
                beryl_core::preset::with_overrides(&column.preset, overrides)?;
            }
        }
    }
    let settings: Vec<OutputSetting> = change
        .cells
        .iter()
        .map(|cell| {
            let before = present.get(&(cell.source, cell.deliverable));
            OutputSetting {
                source: cell.source,
                deliverable: cell.deliverable,
                enabled: change.enabled.unwrap_or_else(|| before.is_none_or(|before| before.enabled)),
                overrides: change.overrides.clone().or_else(|| before.and_then(|before| before.overrides.clone())),
            }
        })
        .collect();
    app.database.save_output_settings(&settings).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// Which cells to run.
#[derive(Debug, Default, Deserialize, ToSchema)]
struct RunRequest {
    /// These cells, whatever became of them before; left out, all that are wanted and not made, waiting or at work.
    cells: Option<Vec<CellKey>>,
}

/// What was queued.
#[derive(Debug, Serialize, ToSchema)]
struct Queued {
    runs: Vec<Uuid>,
}

/// Queues outputs of a sheet.
#[utoipa::path(post, path = "/api/sheets/{id}/run", params(("id" = Uuid, Path)), request_body = RunRequest, responses((status = 200, body = Queued)))]
async fn run_cells(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(request): Json<RunRequest>,
) -> Result<Json<Queued>, ApiError> {
    let sources = app.database.sheet_sources(id).await?;
    let deliverables = app.database.deliverables(id).await?;
    let settings: HashMap<(Uuid, Uuid), OutputSetting> = app
        .database
        .output_settings(id)
        .await?
        .into_iter()
        .map(|setting| ((setting.source, setting.deliverable), setting))
        .collect();
    let latest: HashMap<(Uuid, Option<Uuid>), RunState> =
        app.database.latest_runs(id).await?.into_iter().map(|run| ((run.source, run.deliverable), run.state)).collect();
    let mut runs = Vec::new();
    for (position, row) in sources.iter().enumerate() {
        for column in &deliverables {
            let key = CellKey { source: row.source.id, deliverable: column.id };
            let setting = settings.get(&(key.source, key.deliverable));
            let state = latest.get(&(key.source, Some(key.deliverable)));
            let under_way = state.is_some_and(|state| !state.is_final());
            let asked = match &request.cells {
                Some(cells) => cells.contains(&key),
                None => setting.is_none_or(|setting| setting.enabled) && state != Some(&RunState::Done),
            };
            if !asked || under_way {
                continue;
            }
            let by_name = request.cells.is_some();
            match new_run(&app, id, position, row, column, setting).await {
                Ok(run) => runs.push(run),
                // Run for the whole sheet passes over what cannot be made; asked for by name, it is told.
                Err(error) if by_name => return Err(error),
                Err(_) => {}
            }
        }
    }
    let ids = app.database.queue_runs(&runs).await?;
    for run in &ids {
        tell_run(&app, *run).await;
    }
    app.scheduler.wake();
    Ok(Json(Queued { runs: ids }))
}

async fn new_run(
    app: &App,
    sheet: Uuid,
    position: usize,
    row: &SheetSource,
    column: &Deliverable,
    setting: Option<&OutputSetting>,
) -> Result<NewRun, ApiError> {
    let source = &row.source;
    let name = source.path.name();
    let reading = match &source.knowledge {
        Knowledge::Read(reading) => reading,
        Knowledge::Unreadable(problem) => return Err(problem.clone().into()),
        Knowledge::Unread => return Err(unreadable_yet(&name).into()),
    };
    let overrides = setting.and_then(|setting| setting.overrides.clone()).unwrap_or_else(|| json!({}));
    let plan = plan(reading, &column.preset, &overrides).map_err(|error| plan_error(&column.preset.name, &name, &error))?;
    let fields = name_fields(row, column, &plan, position);
    let file = name_for(&column.name_pattern, &fields)
        .map_err(|error| ApiError::invalid("the output could not be named", error.to_string()))?;
    let folder = match column.storage {
        Some(_) => column.folder.parse::<StoragePath>()?,
        None => source.path.parent(),
    };
    let storage = column.storage.unwrap_or(source.storage);
    app.database.storage(storage).await?;
    Ok(NewRun {
        source: source.id,
        output: Some((sheet, column.id)),
        plan,
        storage,
        stem: folder.join(file.as_bytes())?,
        clash: column.clash,
        priority: 0,
    })
}

fn plan_error(preset: &str, name: &str, error: &PlanError) -> ApiError {
    ApiError::invalid(format!("{preset} cannot be made of {name}"), error.to_string())
}

fn name_fields(row: &SheetSource, column: &Deliverable, plan: &Plan, position: usize) -> NameFields {
    NameFields {
        source: row.source.path.stem(),
        folder: row.folder.clone(),
        preset: column.preset.id.clone(),
        width: plan.picture.as_ref().map(|picture| picture.width),
        height: plan.picture.as_ref().map(|picture| picture.height),
        codec: plan.codec_word(),
        rate: plan.picture.as_ref().map(|picture| rate_text(picture.frame_rate.rate())),
        date: chrono::Local::now().date_naive(),
        counter: u32::try_from(position + 1).unwrap_or(u32::MAX),
    }
}

/// Everything about one cell.
#[derive(Debug, Serialize, ToSchema)]
struct OutputView {
    /// What would be made now; nothing where that is impossible or the source is not read.
    plan: Option<Plan>,
    /// Why nothing can be made.
    refusal: Option<String>,
    /// The name it would get, without number.
    name: Option<String>,
    /// The cell's own settings.
    #[schema(value_type = Option<Object>)]
    overrides: Option<Value>,
    source: Option<Reading>,
    run: Option<RunView>,
    /// The verdict on the last finished file.
    report: Option<CheckReport>,
    /// Both facts side by side, once a file is made.
    comparison: Vec<CheckItem>,
}

/// Everything about one cell: plan with reasons, and what came out.
#[utoipa::path(get, path = "/api/outputs/{source}/{deliverable}", params(("source" = Uuid, Path), ("deliverable" = Uuid, Path)), responses((status = 200, body = OutputView)))]
async fn output(
    State(app): State<Arc<App>>,
    Path((source, deliverable)): Path<(Uuid, Uuid)>,
) -> Result<Json<OutputView>, ApiError> {
    let column = app.database.deliverable(deliverable).await?;
    let rows = app.database.sheet_sources(column.sheet).await?;
    let position = rows.iter().position(|row| row.source.id == source);
    let row = position
        .and_then(|position| rows.get(position))
        .ok_or_else(|| ApiError::missing("the cell could not be shown", "its source is not in the sheet"))?;
    let settings = app.database.output_settings(column.sheet).await?;
    let overrides = settings
        .into_iter()
        .find(|setting| setting.source == source && setting.deliverable == deliverable)
        .and_then(|setting| setting.overrides);
    let reading = match &row.source.knowledge {
        Knowledge::Read(reading) => Some(reading.as_ref().clone()),
        Knowledge::Unread | Knowledge::Unreadable(_) => None,
    };
    let planned = reading.as_ref().map(|reading| plan(reading, &column.preset, overrides.as_ref().unwrap_or(&Value::Null)));
    let (made, refusal) = match planned {
        Some(Ok(plan)) => (Some(plan), None),
        Some(Err(error)) => (None, Some(error.to_string())),
        None => (None, Some("the source is not read".to_owned())),
    };
    let name = made.as_ref().and_then(|plan| {
        let fields = name_fields(row, &column, plan, position.unwrap_or(0));
        let name = name_for(&column.name_pattern, &fields).ok()?;
        Some(format!("{name}.{}", plan.container.extension()))
    });
    let run = app
        .database
        .latest_runs(column.sheet)
        .await?
        .into_iter()
        .find(|run| run.source == source && run.deliverable == Some(deliverable));
    let details = match &run {
        Some(run) => Some(app.database.run_details(run.id).await?),
        None => None,
    };
    let made_reading = details
        .as_ref()
        .and_then(|details| details.reading.as_ref())
        .filter(|_| run.as_ref().is_some_and(|run| run.state == RunState::Done));
    let comparison = reading.as_ref().zip(made_reading).map_or_else(Vec::new, |(before, after)| compare(before, after));
    Ok(Json(OutputView {
        plan: made,
        refusal,
        name,
        overrides,
        comparison,
        source: reading,
        run: run.as_ref().map(RunView::of),
        report: details.and_then(|details| details.report),
    }))
}

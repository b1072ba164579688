//! Sheets: their names, rows and columns.

use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::naming::{check_pattern, in_tokens};
use beryl_core::path::StoragePath;
use beryl_core::preset::Preset;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::sheets::{Deliverable, SheetSummary};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::cells::SheetState;
use crate::app::App;
use crate::events::Change;
use crate::files::{Found, find_sources};
use crate::views::{Cell, DeliverableColumn, SourceRow};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(sheets, add_sheet))
        .routes(routes!(sheet, rename_sheet, remove_sheet))
        .routes(routes!(duplicate_sheet))
        .routes(routes!(restore))
        .routes(routes!(add_sources, remove_sources))
        .routes(routes!(add_deliverable))
        .routes(routes!(change_deliverable, remove_deliverable))
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
    /// Cells that are running, being checked, held or waiting.
    open: i64,
    /// Cells whose last run failed.
    failed: i64,
    /// Cells whose file waits for a decision.
    withheld: i64,
    created: chrono::DateTime<chrono::Utc>,
}

/// A whole sheet.
#[derive(Debug, Serialize, ToSchema)]
struct SheetView {
    id: Uuid,
    /// The last event that is in it for certain; what later events tell may be missing.
    seq: u64,
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
    let count = |summary: &SheetSummary, wanted: fn(RunState) -> bool| {
        summary.states.iter().filter(|(state, _)| wanted(**state)).map(|(_, cells)| cells).sum()
    };
    let item = |summary: SheetSummary| SheetItem {
        open: count(&summary, |state| !state.is_final()),
        failed: count(&summary, |state| state == RunState::Failed),
        withheld: count(&summary, |state| state == RunState::Withheld),
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
async fn sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Response, ApiError> {
    let view = view(&app, id).await?;
    let about = BYTES_OF_CELL * view.cells.len() + BYTES_OF_ROW * view.sources.len();
    Ok(json_of_about(about, &view)?)
}

/// A cell with a finished run, and a row, as they are sent.
const BYTES_OF_CELL: usize = 450;
const BYTES_OF_ROW: usize = 600;

/// A body of about so many bytes: one that grew from nothing would be copied again and again.
fn json_of_about(bytes: usize, value: &impl Serialize) -> Result<Response, Problem> {
    let mut body = Vec::with_capacity(bytes);
    serde_json::to_writer(&mut body, value)
        .map_err(|error| Problem::new(ProblemKind::Internal, "the sheet could not be sent", error.to_string()))?;
    Ok(([(CONTENT_TYPE, "application/json")], body).into_response())
}

/// Adds a sheet with the sources, deliverables and settings of one.
#[utoipa::path(post, path = "/api/sheets/{id}/duplicate", params(("id" = Uuid, Path)), request_body = Name, responses((status = 200, body = SheetView)))]
async fn duplicate_sheet(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(name): Json<Name>,
) -> Result<Json<SheetView>, ApiError> {
    let sheet = app.database.duplicate_sheet(id, name.checked()?).await?;
    app.hub.tell(Change::Sheet { id: sheet.id });
    Ok(Json(view(&app, sheet.id).await?))
}

/// Gives a sheet another name.
#[utoipa::path(patch, path = "/api/sheets/{id}", params(("id" = Uuid, Path)), request_body = Name, responses((status = 200)))]
async fn rename_sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(name): Json<Name>) -> Result<(), ApiError> {
    app.database.rename_sheet(id, name.checked()?).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// Removes a sheet; what was made stays, and it can be restored.
#[utoipa::path(delete, path = "/api/sheets/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_sheet(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.set_sheet_removed(id, true).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

async fn view(app: &App, id: Uuid) -> Result<SheetView, ApiError> {
    let seq = app.hub.last();
    let state = SheetState::load(app, id).await?;
    Ok(SheetView {
        id,
        seq,
        cells: state.cells(&app.forecasts),
        sources: state.sources.iter().map(SourceRow::of_row).collect(),
        deliverables: state.columns.iter().map(DeliverableColumn::of).collect(),
        name: state.name,
    })
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
    let root = PathBuf::from(&storage.root);
    let found = app.door.walk(&root, move |walk| {
        let lists = new.paths.iter().map(|path| Ok(below_its_own_name(find_sources(&storage, path, walk)?, path)));
        Ok(lists.collect::<Result<Vec<_>, Problem>>()?.into_iter().flatten().collect::<Vec<_>>())
    });
    let found = found.await?;
    let mut rows = Vec::with_capacity(found.len());
    for one in &found {
        rows.push((app.database.ensure_source(new.storage, &one.path, one.sequence).await?, one.folder.clone()));
    }
    let added = app.database.add_sheet_sources(id, &rows).await?;
    app.reader.unread.notify_one();
    app.hub.tell(Change::Sheet { id });
    Ok(Json(Added { added, found: found.len() }))
}

/// What was found in a folder that was chosen stands below the folder's own name: two cards have the same names in them.
fn below_its_own_name(found: Vec<Found>, chosen: &StoragePath) -> Vec<Found> {
    let named = |one: Found| {
        let is_itself = one.path == *chosen && one.sequence.is_none();
        let own = chosen.name();
        let folder = match (is_itself || chosen.is_root(), one.folder.as_str()) {
            (true, folder) => folder.to_owned(),
            (false, "") => own,
            (false, folder) => format!("{own}/{folder}"),
        };
        Found { folder, ..one }
    };
    found.into_iter().map(named).collect()
}

/// Some sources.
#[derive(Debug, Deserialize, ToSchema)]
struct Sources {
    sources: Vec<Uuid>,
}

/// Takes sources out of a sheet; their files stay.
#[utoipa::path(delete, path = "/api/sheets/{id}/sources", params(("id" = Uuid, Path)), request_body = Sources, responses((status = 200)))]
async fn remove_sources(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(which): Json<Sources>) -> Result<(), ApiError> {
    app.database.set_sheet_sources_removed(id, &which.sources, true).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// What was removed and is to come back.
#[derive(Debug, Default, Deserialize, ToSchema)]
struct Removed {
    #[serde(default)]
    sources: Vec<Uuid>,
    #[serde(default)]
    deliverables: Vec<Uuid>,
}

/// Takes a removal back: of the sheet, of rows, of columns, each to where it stood.
#[utoipa::path(post, path = "/api/sheets/{id}/restore", params(("id" = Uuid, Path)), request_body = Removed, responses((status = 200)))]
async fn restore(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(removed): Json<Removed>) -> Result<(), ApiError> {
    app.database.set_sheet_removed(id, false).await?;
    app.database.set_sheet_sources_removed(id, &removed.sources, false).await?;
    for column in removed.deliverables {
        app.database.set_deliverable_removed(id, column, false).await?;
    }
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
        let name_pattern = self.name_pattern.map_or_else(|| preset.name_pattern.clone(), |pattern| in_tokens(&pattern));
        check_pattern(&name_pattern).map_err(|error| ApiError::invalid("the name pattern cannot be used", error.to_string()))?;
        if let Some(storage) = self.storage {
            app.database.storage(storage).await?;
        }
        Ok(Deliverable { id, sheet, preset, storage: self.storage, folder: self.folder, name_pattern, clash: self.clash })
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

/// A column as it is now, with its cells.
#[derive(Debug, Serialize, ToSchema)]
struct ChangedColumn {
    column: DeliverableColumn,
    /// Row by row.
    cells: Vec<Cell>,
}

/// Changes a column; what was made before stays as it is.
#[utoipa::path(put, path = "/api/deliverables/{id}", params(("id" = Uuid, Path)), request_body = NewDeliverable, responses((status = 200, body = ChangedColumn)))]
async fn change_deliverable(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(new): Json<NewDeliverable>,
) -> Result<Json<ChangedColumn>, ApiError> {
    let sheet = app.database.deliverable(id).await?.sheet;
    let column = new.checked(&app, id, sheet).await?;
    app.database.save_deliverable(&column).await?;
    let cells = SheetState::load(&app, sheet).await?.cells_of_column(id, &app.forecasts);
    app.hub.tell(Change::Sheet { id: sheet });
    Ok(Json(ChangedColumn { column: DeliverableColumn::of(&column), cells }))
}

/// Removes a column; what was made stays, and it can be restored.
#[utoipa::path(delete, path = "/api/deliverables/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_deliverable(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    let sheet = app.database.deliverable(id).await?.sheet;
    app.database.set_deliverable_removed(sheet, id, true).await?;
    app.hub.tell(Change::Sheet { id: sheet });
    Ok(())
}

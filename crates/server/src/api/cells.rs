//! The cells of a sheet: what is set for them, running them, and what came out.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::collections::hash_map::Entry;
use std::sync::{Arc, LazyLock};

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::after::check::{CheckItem, CheckReport, compare};
use beryl_core::after::cost::{SubjectCost, shares};
use beryl_core::after::forecast::Outlook;
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::patch::Patch;
use beryl_core::path::StoragePath;
use beryl_core::preset::catalogue::idle_settings;
use beryl_core::preset::{Preset, PresetPatch, with_overrides};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::reading::Reading;
use beryl_store::StoreError;
use beryl_store::runs::{Origin, Run, SettingsId};
use beryl_store::sheets::{Deliverable, OutputSetting, SheetSource};
use beryl_store::sources::{Knowledge, Source};
use beryl_worker::NameParts;
use chrono::NaiveDate;
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::events::Change;
use crate::forecasts::{Asked, CellOutlook, Forecasts};
use crate::outputs::{Wish, reading_of};
use crate::views::{Cell, RunView};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(set_cells)).routes(routes!(run_cells)).routes(routes!(output))
}

/// A sheet with all that its cells are made of.
pub(super) struct SheetState {
    pub(super) name: String,
    pub(super) sources: Vec<SheetSource>,
    pub(super) columns: Vec<Deliverable>,
    settings: HashMap<CellKey, OutputSetting>,
    latest: HashMap<CellKey, Arc<Run>>,
    /// The settings that these runs had.
    made_with: HashMap<SettingsId, Arc<Preset>>,
    /// The day, which names may have in them.
    today: NaiveDate,
}

impl SheetState {
    pub(super) async fn load(app: &App, sheet: Uuid) -> Result<Self, StoreError> {
        let (sheet, sources, columns, settings, latest) = tokio::try_join!(
            app.database.sheet(sheet),
            app.database.sheet_sources(sheet),
            app.database.deliverables(sheet),
            settings(app, sheet),
            app.database.latest_runs(sheet)
        )?;
        let made_with = app.forecasts.settings_of(&app.database, latest.iter().map(Arc::as_ref)).await?;
        let latest = latest.into_iter();
        let latest =
            latest.filter_map(|run| Some((CellKey { source: run.source, deliverable: run.deliverable? }, run))).collect();
        Ok(Self { name: sheet.name, sources, columns, settings, latest, made_with, today: app.clock.today() })
    }

    /// Row by row, all columns of each.
    pub(super) fn cells(&self, forecasts: &Forecasts) -> Vec<Cell> {
        let outlooks = self.outlooks(forecasts);
        let sharing = self.sharing_names(&outlooks);
        outlooks.into_iter().map(|(key, outlook)| self.cell(key, outlook, &sharing, forecasts)).collect()
    }

    /// The cells of one column, row by row.
    pub(super) fn cells_of_column(&self, column: Uuid, forecasts: &Forecasts) -> Vec<Cell> {
        let outlooks = self.outlooks(forecasts);
        // Names clash across columns.
        let sharing = self.sharing_names(&outlooks);
        let of_column = outlooks.into_iter().filter(|(key, _)| key.deliverable == column);
        of_column.map(|(key, outlook)| self.cell(key, outlook, &sharing, forecasts)).collect()
    }

    /// What is expected of every cell, row by row; nothing of sources that have not been read.
    fn outlooks(&self, forecasts: &Forecasts) -> Vec<(CellKey, Option<Arc<CellOutlook>>)> {
        let presets: Vec<Arc<Preset>> = self.columns.iter().map(|column| forecasts.shared(&column.preset)).collect();
        (1..).zip(&self.sources).flat_map(|(place, row)| self.row(place, row, self.today, &presets, forecasts)).collect()
    }

    /// Wanted cells whose outputs would get the same name in the same place.
    fn sharing_names(&self, outlooks: &[(CellKey, Option<Arc<CellOutlook>>)]) -> HashSet<CellKey> {
        let mut first: HashMap<(Uuid, &StoragePath, &str), CellKey> = HashMap::new();
        let mut sharing = HashSet::new();
        for (key, outlook) in outlooks {
            let place = outlook.as_ref().and_then(|outlook| outlook.place.as_deref());
            let Some(place) = place.filter(|_| self.is_enabled(*key)) else { continue };
            for file in place.files() {
                match first.entry(file) {
                    Entry::Occupied(taken) => sharing.extend([*taken.get(), *key]),
                    Entry::Vacant(free) => {
                        free.insert(*key);
                    }
                }
            }
        }
        sharing
    }

    fn row(
        &self,
        place: u32,
        row: &SheetSource,
        date: NaiveDate,
        presets: &[Arc<Preset>],
        forecasts: &Forecasts,
    ) -> Vec<(CellKey, Option<Arc<CellOutlook>>)> {
        let keys = self.columns.iter().map(|column| CellKey { source: row.source.id, deliverable: column.id });
        let Knowledge::Read(reading) = &row.source.knowledge else { return keys.map(|key| (key, None)).collect() };
        let own: Vec<Cow<'_, PresetPatch>> = keys.clone().map(|key| self.joined(row, key)).collect();
        let asked = self.columns.iter().zip(presets).zip(&own).map(|((column, preset), own)| Asked {
            column: column.id,
            preset,
            wish: wish(&self.name, place, date, row, column, own),
        });
        let asked: Vec<Asked<'_>> = asked.collect();
        keys.zip(forecasts.of_row(row.source.id, reading, &asked).into_iter().map(Some)).collect()
    }

    fn has(&self, key: CellKey) -> bool {
        self.columns.iter().any(|column| column.id == key.deliverable)
            && self.sources.iter().any(|row| row.source.id == key.source)
    }

    /// What is set for a cell alone.
    fn overrides(&self, key: CellKey) -> Option<&PresetPatch> {
        self.settings.get(&key)?.overrides.as_ref()
    }

    /// What is set for a cell, alone and with its row.
    fn joined<'a>(&'a self, row: &'a SheetSource, key: CellKey) -> Cow<'a, PresetPatch> {
        joined(row, self.overrides(key))
    }

    fn is_enabled(&self, key: CellKey) -> bool {
        self.settings.get(&key).is_none_or(|setting| setting.enabled)
    }

    /// Whether a cell has no file yet, or one that was made with other settings. A withheld file waits for a decision.
    fn is_to_be_made(&self, key: CellKey, preset: &Preset, overrides: &PresetPatch) -> bool {
        match self.latest.get(&key).map(|run| run.state) {
            Some(RunState::Withheld) => false,
            Some(RunState::Done) => {
                with_overrides(preset, overrides).is_ok_and(|now| self.is_out_of_date(key, Some(&now.settings())))
            }
            _ => true,
        }
    }

    /// Whether the last run of a cell had other settings than it has now.
    fn is_out_of_date(&self, key: CellKey, settings: Option<&Preset>) -> bool {
        let had = self.latest.get(&key).and_then(|run| self.made_with.get(&run.settings?));
        had.zip(settings).is_some_and(|(had, now)| !std::ptr::eq(Arc::as_ptr(had), now) && **had != *now)
    }

    fn cell(&self, key: CellKey, outlook: Option<Arc<CellOutlook>>, sharing: &HashSet<CellKey>, forecasts: &Forecasts) -> Cell {
        let forecast = outlook.as_ref().and_then(|outlook| outlook.forecast.as_ref().ok());
        let settings = outlook.as_ref().and_then(|outlook| outlook.settings.as_deref());
        Cell {
            source: key.source,
            deliverable: key.deliverable,
            enabled: self.is_enabled(key),
            overrides: self.overrides(key).filter(|own| !own.is_empty()).cloned(),
            forecast: forecast.map(|forecast| forecast.size.0),
            certainty: forecast.map(|forecast| forecast.certainty),
            exceeds_source: forecast.is_some_and(|forecast| forecast.exceeds_source),
            is_out_of_date: self.is_out_of_date(key, settings),
            shares_name: sharing.contains(&key),
            refusal: outlook.as_ref().and_then(|outlook| outlook.forecast.as_ref().err().cloned()),
            run: self.latest.get(&key).and_then(|run| forecasts.written(run)),
        }
    }
}

/// What is set for all outputs of a row, with what is set for one of them above it.
pub(super) fn joined<'a>(row: &'a SheetSource, of_output: Option<&'a PresetPatch>) -> Cow<'a, PresetPatch> {
    // Of thousands of cells few have anything of their own, and a patch has room for every setting.
    static NOTHING: LazyLock<PresetPatch> = LazyLock::new(PresetPatch::default);
    match (&row.overrides, of_output) {
        (None, None) => Cow::Borrowed(&NOTHING),
        (Some(of_row), None) => Cow::Borrowed(of_row),
        (None, Some(own)) => Cow::Borrowed(own),
        (Some(of_row), Some(own)) => Cow::Owned(of_row.clone().under(own.clone())),
    }
}

/// The wish for the output in a cell of the sheet with this name, whose row stands at `place`, from 1.
pub(super) fn wish<'a>(
    sheet: &'a str,
    place: u32,
    date: NaiveDate,
    row: &'a SheetSource,
    column: &'a Deliverable,
    overrides: &'a PresetPatch,
) -> Wish<'a> {
    Wish {
        source: &row.source,
        folder: &row.folder,
        preset: &column.preset,
        overrides,
        name_pattern: &column.name_pattern,
        destination: column.storage.map(|storage| (storage, column.folder.clone())),
        clash: column.clash,
        counter: place,
        sheet,
        date,
    }
}

async fn settings(app: &App, sheet: Uuid) -> Result<HashMap<CellKey, OutputSetting>, StoreError> {
    let settings = app.database.output_settings(sheet).await?.into_iter();
    Ok(settings.map(|one| (CellKey { source: one.source, deliverable: one.deliverable }, one)).collect())
}

/// A cell by its row and column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Deserialize, ToSchema)]
pub(super) struct CellKey {
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
    overrides: Option<PresetPatch>,
}

/// Switches cells on or off, or gives them their own settings; all or none.
#[utoipa::path(post, path = "/api/sheets/{id}/cells", params(("id" = Uuid, Path)), request_body = CellChange, responses((status = 200)))]
async fn set_cells(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(change): Json<CellChange>) -> Result<(), ApiError> {
    if let Some(overrides) = &change.overrides {
        for column in &app.database.deliverables(id).await? {
            if change.cells.iter().any(|cell| cell.deliverable == column.id) {
                with_overrides(&column.preset, overrides)?;
            }
        }
    }
    let present = settings(&app, id).await?;
    let settings: Vec<OutputSetting> = change
        .cells
        .iter()
        .map(|cell| {
            let own = present.get(cell);
            OutputSetting {
                source: cell.source,
                deliverable: cell.deliverable,
                enabled: change.enabled.unwrap_or_else(|| own.is_none_or(|own| own.enabled)),
                overrides: change.overrides.clone().or_else(|| own.and_then(|own| own.overrides.clone())),
            }
        })
        .collect();
    app.database.save_output_settings(id, &settings).await?;
    app.hub.tell(Change::Sheet { id });
    Ok(())
}

/// Which cells to run.
#[derive(Debug, Default, Deserialize, ToSchema)]
struct RunRequest {
    /// These cells, whatever became of them before; left out, all that are wanted and not made as they are set now,
    /// waiting or at work.
    cells: Option<Vec<CellKey>>,
}

/// What was queued.
#[derive(Debug, Serialize, ToSchema)]
struct Queued {
    runs: Vec<Uuid>,
    /// How many cells that were asked for cannot be made.
    passed_over: usize,
    /// Of how many sources nothing was queued because they are still being read.
    unread: usize,
}

/// Queues outputs of a sheet.
#[utoipa::path(post, path = "/api/sheets/{id}/run", params(("id" = Uuid, Path)), request_body = RunRequest, responses((status = 200, body = Queued)))]
async fn run_cells(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(request): Json<RunRequest>,
) -> Result<Json<Queued>, ApiError> {
    let state = SheetState::load(&app, id).await?;
    let asked: Option<HashSet<CellKey>> = request.cells.map(|cells| cells.into_iter().collect());
    if let Some(stranger) = asked.iter().flatten().find(|key| !state.has(**key)) {
        let why = format!("the sheet has no cell of source {} and deliverable {}", stranger.source, stranger.deliverable);
        return Err(ApiError::missing("nothing was queued", why));
    }
    let mut runs = Vec::new();
    let mut passed_over = 0;
    let mut unread = HashSet::new();
    let sharing = state.sharing_names(&state.outlooks(&app.forecasts));
    for (place, row) in (1..).zip(&state.sources) {
        for column in &state.columns {
            let key = CellKey { source: row.source.id, deliverable: column.id };
            let last = state.latest.get(&key).map(|run| run.state);
            let own = state.joined(row, key);
            let is_wanted = match &asked {
                Some(cells) => cells.contains(&key),
                None => state.is_enabled(key) && state.is_to_be_made(key, &column.preset, &own),
            };
            if !is_wanted || last.is_some_and(|last| !last.is_final()) {
                continue;
            }
            if matches!(row.source.knowledge, Knowledge::Unread) && asked.as_ref().is_none_or(|cells| cells.len() > 1) {
                unread.insert(row.source.id);
                continue;
            }
            let wished = wish(&state.name, place, state.today, row, column, &own);
            let run = match column.clash {
                ClashRule::Replace if sharing.contains(&key) => Err(one_name(&row.source)),
                ClashRule::Replace | ClashRule::Number | ClashRule::Skip => {
                    wished.run(Origin::Cell { sheet: id, deliverable: column.id })
                }
            };
            match run {
                Ok(run) => runs.push(run),
                // One cell asked for by name is told why not; of many, those are made that can be.
                Err(problem) if asked.as_ref().is_some_and(|cells| cells.len() == 1) => return Err(problem.into()),
                Err(_) => passed_over += 1,
            }
        }
    }
    let ids = app.database.queue_runs(&runs).await?;
    app.runs.tell_runs(&ids).await;
    app.slots.wake();
    Ok(Json(Queued { runs: ids, passed_over, unread: unread.len() }))
}

/// What it means that two outputs would get one name, and each would replace the other.
fn one_name(source: &Source) -> Problem {
    let what = format!("the output of {} was not queued", source.path.name());
    Problem::new(ProblemKind::NameTaken, what, "another output of this sheet gets the same name and would replace it")
        .with_next("Put the preset into the name pattern of one of them, or let files be numbered.")
}

/// Everything about one cell.
#[derive(Debug, Serialize, ToSchema)]
struct OutputView {
    /// What would be made now; nothing where that is impossible or the source is not read.
    plan: Option<Outlook>,
    /// Why nothing can be made.
    refusal: Option<String>,
    /// The name it would get, without number.
    name: Option<String>,
    /// What of its processor time goes into what is done to the picture.
    costs: Vec<SubjectCost>,
    /// The cell's own settings.
    overrides: Option<PresetPatch>,
    source: Option<Reading>,
    /// Settings that mean nothing for it, by their places, and why.
    idle: BTreeMap<String, String>,
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
    let (place, row) = app.database.sheet_source(column.sheet, source).await?;
    let own = app.database.output_setting(source, deliverable).await?.and_then(|setting| setting.overrides);
    let run = app.database.latest_run(source, deliverable).await?;
    let joined = joined(&row, own.as_ref());
    let sheet = app.database.sheet(column.sheet).await?;
    let wish = wish(&sheet.name, place, app.clock.today(), &row, &column, &joined);
    let reading = reading_of(&row.source).ok().cloned();
    let (made, refusal) = match wish.outlook() {
        Ok(outlook) => (Some(outlook), None),
        Err(problem) => (None, Some(problem.why)),
    };
    let name = made.as_ref().and_then(|Outlook { plan, .. }| {
        let parts = NameParts::of(plan);
        Some(format!("{}{}", wish.name(&parts).ok()?, parts.endings.first()?))
    });
    let details = match &run {
        Some(run) => Some(app.database.run_details(run.id).await?),
        None => None,
    };
    let made_reading = details
        .as_ref()
        .and_then(|details| details.facts.first())
        .filter(|_| run.as_ref().is_some_and(|run| matches!(run.state, RunState::Done | RunState::Withheld)));
    let comparison = reading.as_ref().zip(made_reading).map_or_else(Vec::new, |(before, after)| compare(&before.facts, after));
    Ok(Json(OutputView {
        costs: made.as_ref().map_or_else(Vec::new, |made| shares(&made.plan, &made.forecast)),
        plan: made,
        refusal,
        name,
        overrides: own.clone(),
        comparison,
        idle: reading.as_ref().map_or_else(BTreeMap::new, |reading| {
            let preset = with_overrides(&column.preset, &joined).unwrap_or_else(|_| column.preset.clone());
            idle_settings(reading, &preset)
        }),
        source: reading,
        run: run.as_ref().map(RunView::of),
        report: details.and_then(|details| details.report),
    }))
}

//! What pages see of sources, runs and cells.

use beryl_core::forecast::Certainty;
use beryl_core::preset::Preset;
use beryl_core::problem::Problem;
use beryl_core::run::{ClashRule, Progress, RunState};
use beryl_core::timecode::{clock_text, duration_text};
use beryl_store::runs::Run;
use beryl_store::sheets::Deliverable;
use beryl_store::sources::{Knowledge, Source};
use chrono::{DateTime, Utc};
use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;
use uuid::Uuid;

/// A row of a sheet.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct SourceRow {
    pub(crate) id: Uuid,
    /// Name without folders.
    pub(crate) name: String,
    /// Folders between the chosen one and the source.
    pub(crate) folder: String,
    /// One line of facts, once it is read.
    pub(crate) summary: Option<String>,
    /// Its length, as timecode where it has a frame rate.
    pub(crate) duration: Option<String>,
    /// Seconds, for totals.
    pub(crate) seconds: Option<f64>,
    /// Bytes.
    pub(crate) size: Option<u64>,
    /// Whether there is a picture of it.
    pub(crate) has_thumbnail: bool,
    /// Why it cannot be read.
    pub(crate) problem: Option<Problem>,
}

impl SourceRow {
    pub(crate) fn of(source: &Source, folder: &str) -> Self {
        let (reading, problem) = match &source.knowledge {
            Knowledge::Read(reading) => (Some(reading), None),
            Knowledge::Unreadable(problem) => (None, Some(problem.clone())),
            Knowledge::Unread => (None, None),
        };
        let steady_rate =
            reading.and_then(|reading| reading.picture()).and_then(|(_, picture)| picture.frame_rate.filter(|_| !picture.varies));
        let duration = reading.and_then(|reading| reading.duration);
        Self {
            id: source.id,
            name: source.path.name(),
            folder: folder.to_owned(),
            summary: reading.map(|reading| reading.summary()),
            duration: duration
                .map(|duration| steady_rate.map_or_else(|| clock_text(duration), |rate| duration_text(duration, rate))),
            seconds: duration.map(beryl_core::rational::Rational::to_f64),
            size: reading.map(|reading| reading.size.0),
            has_thumbnail: source.has_thumbnail,
            problem,
        }
    }
}

/// A column of a sheet.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct DeliverableColumn {
    pub(crate) id: Uuid,
    pub(crate) preset: Preset,
    /// Codec and rate in a few words.
    pub(crate) headline: String,
    /// Frame size and rate in a few words.
    pub(crate) frame: String,
    /// The storage outputs go to; nothing for beside the source.
    pub(crate) storage: Option<Uuid>,
    /// The folder there.
    pub(crate) folder: String,
    pub(crate) name_pattern: String,
    pub(crate) clash: ClashRule,
}

impl DeliverableColumn {
    pub(crate) fn of(column: &Deliverable) -> Self {
        Self {
            id: column.id,
            headline: column.preset.headline(),
            frame: column.preset.frame_words(),
            preset: column.preset.clone(),
            storage: column.storage,
            folder: column.folder.to_string(),
            name_pattern: column.name_pattern.clone(),
            clash: column.clash,
        }
    }
}

/// A cell of a sheet.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Cell {
    pub(crate) source: Uuid,
    pub(crate) deliverable: Uuid,
    /// Whether it is wanted.
    pub(crate) enabled: bool,
    /// Its own settings, a merge patch on the column's preset; nothing where it has none.
    #[schema(value_type = Option<Object>)]
    pub(crate) overrides: Option<Value>,
    /// Bytes it is expected to weigh.
    pub(crate) forecast: Option<u64>,
    pub(crate) certainty: Option<Certainty>,
    /// Why nothing can be made here.
    pub(crate) refusal: Option<String>,
    /// Its last run.
    pub(crate) run: Option<CellRun>,
}

/// The last run of a cell.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct CellRun {
    pub(crate) id: Uuid,
    pub(crate) state: RunState,
    /// The finished file's path in its storage, or the wanted one without extension.
    pub(crate) path: String,
    /// Bytes of the finished file.
    pub(crate) size: Option<u64>,
    pub(crate) progress: Option<Progress>,
    pub(crate) problem: Option<Problem>,
    pub(crate) started: Option<DateTime<Utc>>,
    pub(crate) finished: Option<DateTime<Utc>>,
}

/// A run with all that it belongs to.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct RunView {
    #[serde(flatten)]
    pub(crate) run: CellRun,
    pub(crate) source: Uuid,
    pub(crate) deliverable: Option<Uuid>,
    pub(crate) sheet: Option<Uuid>,
    pub(crate) watch_folder: Option<Uuid>,
    pub(crate) priority: i32,
}

impl RunView {
    pub(crate) fn of(run: &Run) -> Self {
        Self {
            run: CellRun::of(run),
            source: run.source,
            deliverable: run.deliverable,
            sheet: run.sheet,
            watch_folder: run.watch_folder,
            priority: run.priority,
        }
    }
}

impl CellRun {
    pub(crate) fn of(run: &Run) -> Self {
        Self {
            id: run.id,
            state: run.state,
            path: run.target.as_ref().unwrap_or(&run.stem).to_string(),
            size: run.size,
            progress: run.progress,
            problem: run.problem.clone(),
            started: run.started,
            finished: run.finished,
        }
    }
}

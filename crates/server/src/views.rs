//! What pages see of sources, runs and cells.

use std::sync::Arc;

use beryl_core::after::forecast::Certainty;
use beryl_core::findings::Findings;
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::flow::tasks::Progress;
use beryl_core::patch::Patch;
use beryl_core::preset::{Preset, PresetPatch};
use beryl_core::problem::Problem;
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, clock_text, duration_text, total};
use beryl_store::runs::Run;
use beryl_store::sheets::{Deliverable, SheetSource};
use beryl_store::sources::{Knowledge, Source};
use chrono::{DateTime, Utc};
use serde::{Serialize, Serializer};
use serde_json::value::RawValue;
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
    /// How long that is which is taken of it, where parts are marked in its sheet.
    pub(crate) taken: Option<String>,
    /// Seconds, for totals.
    pub(crate) seconds: Option<f64>,
    /// Bytes.
    pub(crate) size: Option<u64>,
    /// Bytes of what is taken of it, where parts are marked in its sheet: its share of the time.
    pub(crate) taken_size: Option<u64>,
    /// Whether there is a picture of it.
    pub(crate) has_thumbnail: bool,
    /// How far it was scanned: `waiting`, `parts`, `whole` or `failed`.
    pub(crate) scan: String,
    /// What the scan found that is remarkable, in a few words each.
    pub(crate) findings: Vec<String>,
    /// Why it cannot be read.
    pub(crate) problem: Option<Problem>,
    /// The editor's own settings for all of its outputs in this sheet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) overrides: Option<PresetPatch>,
}

impl SourceRow {
    /// A source as it stands in a sheet.
    pub(crate) fn of_row(row: &SheetSource) -> Self {
        Self::of(&row.source, &row.folder, row.overrides.as_ref())
    }

    /// A source with what is set for all outputs of its row.
    pub(crate) fn of(source: &Source, folder: &str, settings: Option<&PresetPatch>) -> Self {
        let (reading, problem) = match &source.knowledge {
            Knowledge::Read(known) => (Some(&known.reading), None),
            Knowledge::Unreadable(problem) => (None, Some(problem.clone())),
            Knowledge::Unread => (None, None),
        };
        let steady_rate = reading
            .and_then(|reading| reading.facts.picture())
            .and_then(|(_, picture)| picture.frame_rate.filter(|_| !picture.varies));
        let text = |length| steady_rate.map_or_else(|| clock_text(length), |rate| duration_text(length, rate));
        let duration = reading.and_then(|reading| reading.facts.duration);
        let taken = reading.and_then(|reading| taken_length(reading, settings));
        Self {
            id: source.id,
            name: source.name(),
            folder: folder.to_owned(),
            summary: reading.map(|reading| reading.facts.summary()),
            duration: duration.map(text),
            taken: taken.map(text),
            taken_size: reading.zip(taken).and_then(|(reading, taken)| reading.facts.size_of_part(taken)).map(|size| size.0),
            seconds: duration.map(Rational::to_f64),
            size: reading.map(|reading| reading.facts.size.0),
            has_thumbnail: source.has_thumbnail,
            scan: source.scan.word().to_owned(),
            findings: reading.and_then(|reading| reading.findings.as_ref()).map_or_else(Vec::new, Findings::remarkable),
            problem,
            overrides: settings.filter(|settings| !settings.is_empty()).cloned(),
        }
    }
}

/// Seconds of the parts that are marked.
fn taken_length(reading: &Reading, settings: Option<&PresetPatch>) -> Option<Rational> {
    let parts = settings?.parts.as_ref().filter(|parts| !parts.is_empty())?;
    reading.cut_to(parts).ok().map(|(_, parts)| total(&parts))
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

// Sheets of thousands of cells are sent whole: what there is nothing to say of is left out.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_false(flag: &bool) -> bool {
    !flag
}

/// A cell of a sheet.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Cell {
    pub(crate) source: Uuid,
    pub(crate) deliverable: Uuid,
    /// Whether it is wanted.
    pub(crate) enabled: bool,
    /// Its own settings, a merge patch on the column's preset; nothing where it has none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) overrides: Option<PresetPatch>,
    /// Bytes it is expected to weigh.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) forecast: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) certainty: Option<Certainty>,
    /// Whether that is more than what is taken of the source, where the output is to be smaller.
    #[serde(skip_serializing_if = "is_false")]
    #[schema(required = false)]
    pub(crate) exceeds_source: bool,
    /// Why nothing can be made here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) refusal: Option<String>,
    /// Whether the last run had other settings than the cell has now.
    #[serde(skip_serializing_if = "is_false")]
    #[schema(required = false)]
    pub(crate) is_out_of_date: bool,
    /// Whether another wanted output of the sheet would get the same name in the same place.
    #[serde(skip_serializing_if = "is_false")]
    #[schema(required = false)]
    pub(crate) shares_name: bool,
    /// Its last run.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<CellRun>)]
    pub(crate) run: Option<WrittenRun>,
}

/// A [`CellRun`] as it is sent: most of them are sent again and again, and never change.
#[derive(Debug, Clone)]
pub(crate) struct WrittenRun(Arc<RawValue>);

impl WrittenRun {
    pub(crate) fn of(run: &Run) -> Option<Self> {
        serde_json::value::to_raw_value(&CellRun::of(run)).ok().map(|written| Self(written.into()))
    }
}

impl Serialize for WrittenRun {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.serialize(serializer)
    }
}

/// The last run of a cell.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct CellRun {
    pub(crate) id: Uuid,
    pub(crate) state: RunState,
    /// The finished file's path in its storage, or the wanted one without extension.
    pub(crate) path: String,
    /// The paths of the other files that belong to it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schema(required = false)]
    pub(crate) beside: Vec<String>,
    /// Bytes of all finished files.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) size: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) progress: Option<Progress>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) problem: Option<Problem>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) started: Option<DateTime<Utc>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) finished: Option<DateTime<Utc>>,
    /// Why a person took the file for good although it is not as planned.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) released_because: Option<String>,
    /// How many things its check noted.
    pub(crate) notes: u32,
    /// How often it was begun.
    pub(crate) attempts: i32,
}

/// A run with all that it belongs to.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct RunView {
    #[serde(flatten)]
    pub(crate) run: CellRun,
    /// The storage of what it makes.
    pub(crate) storage: Uuid,
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
            storage: run.storage,
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
        let files: Vec<String> = match run.state {
            RunState::Checking | RunState::Done | RunState::Withheld => run.paths().map(ToString::to_string).collect(),
            RunState::Waiting | RunState::Running | RunState::Paused | RunState::Failed | RunState::Cancelled => Vec::new(),
        };
        Self {
            id: run.id,
            state: run.state,
            path: files.first().cloned().unwrap_or_else(|| run.stem.to_string()),
            beside: files.into_iter().skip(1).collect(),
            size: run.size,
            progress: run.progress,
            problem: run.problem.clone(),
            started: run.started,
            finished: run.finished,
            released_because: run.released_because.clone(),
            notes: run.notes,
            attempts: run.attempts,
        }
    }
}

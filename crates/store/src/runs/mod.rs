//! Runs: what is queued, and what came out of it. In the hands of workers they are in `leases`, changed by people in `order`.

mod leases;
mod order;

use std::collections::HashMap;
use std::sync::Arc;

use beryl_core::after::check::CheckReport;
use beryl_core::facts::Facts;
use beryl_core::flow::placing::Made;
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::flow::tasks::Progress;
use beryl_core::path::StoragePath;
use beryl_core::plan::Plan;
use beryl_core::preset::Preset;
use beryl_core::problem::Problem;
use chrono::{DateTime, Utc};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use uuid::Uuid;

use crate::sheets::clash_rule;
use crate::{Database, ROWS_AT_ONCE, StoreError, json};

pub(crate) use order::insert_runs;

/// A run to be queued.
#[derive(Debug, Clone, PartialEq)]
pub struct NewRun {
    /// The source.
    pub source: Uuid,
    /// Where the wish for it comes from.
    pub origin: Origin,
    /// What to make.
    pub plan: Plan,
    /// The settings from which the plan comes: by them it is seen later whether others are wanted now.
    pub settings: Preset,
    /// Processor seconds that it is expected to take.
    pub expected_cpu: f64,
    /// The storage it goes to.
    pub storage: Uuid,
    /// Path and name there, without extension.
    pub stem: StoragePath,
    /// What happens when the name is taken.
    pub clash: ClashRule,
    /// Higher comes first.
    pub priority: i32,
}

/// Settings that runs had, by their contents.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SettingsId([u8; 32]);

/// Where the wish for a run comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// A cell of a sheet.
    Cell {
        /// The sheet.
        sheet: Uuid,
        /// Its column.
        deliverable: Uuid,
    },
    /// A watch folder.
    WatchFolder(Uuid),
}

impl Origin {
    /// Sheet, column and watch folder.
    const fn parts(self) -> (Option<Uuid>, Option<Uuid>, Option<Uuid>) {
        match self {
            Self::Cell { sheet, deliverable } => (Some(sheet), Some(deliverable), None),
            Self::WatchFolder(folder) => (None, None, Some(folder)),
        }
    }
}

/// A run as the queue and the sheets show it.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// Its id.
    pub id: Uuid,
    /// Its place in the order of queueing.
    pub seq: i64,
    /// The source.
    pub source: Uuid,
    /// The column it belongs to.
    pub deliverable: Option<Uuid>,
    /// The sheet it belongs to.
    pub sheet: Option<Uuid>,
    /// The watch folder it belongs to.
    pub watch_folder: Option<Uuid>,
    /// Where it is in its life.
    pub state: RunState,
    /// Higher comes first.
    pub priority: i32,
    /// The storage it goes to.
    pub storage: Uuid,
    /// Path and name there, without extension.
    pub stem: StoragePath,
    /// What happens when the name is taken.
    pub clash: ClashRule,
    /// How often it was begun.
    pub attempts: i32,
    /// Its files, in the order of the plan's artifacts, once it was begun.
    pub files: Vec<RunFile>,
    /// Bytes of all finished files.
    pub size: Option<u64>,
    /// Why it failed.
    pub problem: Option<Problem>,
    /// How far it was last.
    pub progress: Option<Progress>,
    /// When it was last begun.
    pub started: Option<DateTime<Utc>>,
    /// When it ended.
    pub finished: Option<DateTime<Utc>>,
    /// Why a person took its file for good although it is not as planned.
    pub released_because: Option<String>,
    /// How many things its check noted.
    pub notes: u32,
    /// The settings it was queued with; those of earlier versions were not kept.
    pub settings: Option<SettingsId>,
}

/// One file of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunFile {
    /// Its temporary name, or the one under which it is withheld, while it has one.
    pub temporary: Option<StoragePath>,
    /// The final name, once it is chosen.
    pub target: Option<StoragePath>,
    /// By what it is known, from when its name is chosen.
    pub made: Option<Made>,
}

impl Run {
    /// Where its files are, or are about to be: their final names, or where they have none those under which they wait.
    pub fn paths(&self) -> impl Iterator<Item = &StoragePath> {
        self.files.iter().filter_map(|file| file.target.as_ref().or(file.temporary.as_ref()))
    }

    /// The names under which its files are written, or wait.
    #[must_use]
    pub fn temporaries(&self) -> Vec<StoragePath> {
        self.files.iter().filter_map(|file| file.temporary.clone()).collect()
    }
}

/// What belongs to one run alone and is too large for lists.
#[derive(Debug, Clone, PartialEq)]
pub struct RunDetails {
    /// What was to be made.
    pub plan: Plan,
    /// The verdict on the files.
    pub report: Option<CheckReport>,
    /// The facts of each file.
    pub facts: Vec<Facts>,
}

/// Facts as they are stored: those of one file alone by versions that made no more.
#[derive(serde::Deserialize)]
#[serde(untagged)]
enum StoredFacts {
    Each(Vec<Facts>),
    One(Box<Facts>),
}

impl From<StoredFacts> for Vec<Facts> {
    fn from(stored: StoredFacts) -> Self {
        match stored {
            StoredFacts::Each(facts) => facts,
            StoredFacts::One(facts) => vec![*facts],
        }
    }
}

/// The names of what a run is made of.
#[derive(Debug, Clone, PartialEq)]
pub struct RunNames {
    /// The source's file name.
    pub source: String,
    /// The preset's name.
    pub preset: String,
    /// The name of the sheet or watch folder it comes from, while there is one.
    pub origin: Option<String>,
    /// Processor seconds that it was expected to take when it was queued.
    pub expected_cpu: Option<f64>,
}

/// By what runs really took more, or less, than they were expected to.
#[derive(Debug, Clone, PartialEq)]
pub struct CostFactors {
    /// Of each preset by its name, where runs of it have ended lately.
    of_presets: HashMap<String, f64>,
    /// Of all together: how fast the machine is.
    machine: f64,
}

impl CostFactors {
    /// The factor of a preset; that of the machine where no run of the preset has ended.
    #[must_use]
    pub fn of(&self, preset: &str) -> f64 {
        self.of_presets.get(preset).copied().unwrap_or(self.machine)
    }
}

/// A part of the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// Runs before it.
    pub from: u32,
    /// Runs in it, at most.
    pub count: u32,
    /// The one sheet whose runs are meant.
    pub sheet: Option<Uuid>,
}

/// How many runs of the queue there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct QueueCounts {
    /// In the hands of an engine, or being checked.
    pub at_work: u32,
    /// Held by a person.
    pub held: u32,
    /// Waiting.
    pub waiting: u32,
}

impl QueueCounts {
    /// Those that are not at their end.
    #[must_use]
    pub const fn open(&self) -> u32 {
        self.at_work + self.held + self.waiting
    }
}

/// A run that waits.
#[derive(Debug, Clone, PartialEq)]
pub struct Waiting {
    /// The run.
    pub run: Uuid,
    /// Its source.
    pub source: Uuid,
    /// The preset's name.
    pub preset: String,
    /// Processor seconds that it is expected to take.
    pub expected_cpu: f64,
}

/// The right to work on a run, until the lease ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lease {
    /// The run.
    pub run: Uuid,
    /// Which lease of this run it is.
    pub epoch: i64,
}

/// A run whose worker seems to be gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lost {
    /// The lease that its worker had.
    pub lease: Lease,
    /// Whether the worker belonged to an earlier start of the same installation.
    pub is_own: bool,
}

/// A run that was claimed.
#[derive(Debug, Clone, PartialEq)]
pub struct Claimed {
    /// The lease.
    pub lease: Lease,
    /// The run.
    pub run: Run,
    /// What to make.
    pub plan: Plan,
}

/// Outputs of one source that are made together, at most.
pub const MOST_TOGETHER: u32 = 8;

const COLUMNS: &str = "runs.id, runs.seq, runs.source_id, runs.deliverable_id, runs.sheet_id, runs.watch_folder_id, runs.state, runs.priority, runs.storage_id, runs.stem, \
    runs.clash, runs.attempts, runs.size, runs.problem, runs.started, runs.finished, \
    runs.released_because, runs.notes, runs.settings_id, run_progress.progress";
// How far a run was that has ended, nobody asks.
const TABLES: &str =
    "runs LEFT JOIN run_progress ON run_progress.run_id = runs.id AND runs.state IN ('running', 'paused', 'checking')";

fn marks(count: usize) -> String {
    vec!["?"; count].join(", ")
}

fn path(text: Option<String>) -> Result<Option<StoragePath>, sqlx::Error> {
    text.map(|text| text.parse().map_err(|error| sqlx::Error::Decode(Box::new(error)))).transpose()
}

fn state_of(word: &str) -> Result<RunState, sqlx::Error> {
    RunState::from_word(word).ok_or_else(|| sqlx::Error::Decode(format!("unknown state {word}").into()))
}

fn settings_id(id: Option<Vec<u8>>) -> Option<SettingsId> {
    id.and_then(|id| Some(SettingsId(id.try_into().ok()?)))
}

fn run(row: &MySqlRow) -> Result<Run, sqlx::Error> {
    let stem = path(Some(row.try_get("stem")?))?.unwrap_or_default();
    Ok(Run {
        id: row.try_get("id")?,
        seq: row.try_get("seq")?,
        source: row.try_get("source_id")?,
        deliverable: row.try_get("deliverable_id")?,
        sheet: row.try_get("sheet_id")?,
        watch_folder: row.try_get("watch_folder_id")?,
        state: state_of(row.try_get("state")?)?,
        priority: row.try_get("priority")?,
        storage: row.try_get("storage_id")?,
        stem,
        clash: clash_rule(row.try_get("clash")?)?,
        attempts: row.try_get("attempts")?,
        // Asked for by `with_files`.
        files: Vec::new(),
        size: row.try_get("size")?,
        problem: json::optional(row.try_get("problem")?)?,
        progress: json::optional(row.try_get("progress")?)?,
        started: row.try_get("started")?,
        finished: row.try_get("finished")?,
        released_because: row.try_get("released_because")?,
        notes: row.try_get("notes")?,
        settings: settings_id(row.try_get("settings_id")?),
    })
}

/// The files of runs.
async fn files_of<'c>(
    connection: impl sqlx::Executor<'c, Database = sqlx::MySql>,
    runs: &[Uuid],
) -> Result<HashMap<Uuid, Vec<RunFile>>, StoreError> {
    let mut files: HashMap<Uuid, Vec<RunFile>> = HashMap::new();
    if runs.is_empty() {
        return Ok(files);
    }
    let statement = format!(
        "SELECT run_id, temporary, target, made_file, made_modified, size FROM run_files WHERE run_id IN ({}) ORDER BY run_id, place",
        marks(runs.len())
    );
    let query = runs.iter().fold(sqlx::query(AssertSqlSafe(statement)), |query, id| query.bind(id));
    for row in &query.fetch_all(connection).await? {
        let known: (Option<u64>, Option<i64>, Option<u64>) =
            (row.try_get("made_file")?, row.try_get("made_modified")?, row.try_get("size")?);
        let made = match known {
            (Some(number), Some(modified), Some(size)) => Some(Made { number, modified, size }),
            _ => None,
        };
        let file = RunFile { temporary: path(row.try_get("temporary")?)?, target: path(row.try_get("target")?)?, made };
        files.entry(row.try_get("run_id")?).or_default().push(file);
    }
    Ok(files)
}

impl Database {
    async fn select_runs(&self, condition: &str, ids: &[Uuid]) -> Result<Vec<Run>, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM {TABLES} WHERE {condition}");
        let mut query = sqlx::query(AssertSqlSafe(statement));
        for id in ids {
            query = query.bind(id);
        }
        let rows = query.fetch_all(&self.pool).await?;
        self.with_files(rows.iter().map(run).collect::<Result<_, _>>()?).await
    }

    /// The same runs, with their files.
    async fn with_files(&self, mut runs: Vec<Run>) -> Result<Vec<Run>, StoreError> {
        let begun: Vec<Uuid> = runs.iter().filter(|run| run.attempts > 0).map(|run| run.id).collect();
        let mut files = HashMap::new();
        for some in begun.chunks(ROWS_AT_ONCE) {
            files.extend(files_of(&self.pool, some).await?);
        }
        for run in &mut runs {
            run.files = files.remove(&run.id).unwrap_or_default();
        }
        Ok(runs)
    }

    /// One run.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn run(&self, id: Uuid) -> Result<Run, StoreError> {
        self.select_runs("runs.id = ?", &[id]).await?.pop().ok_or(StoreError::NotFound("run"))
    }

    /// Those of these runs that there are, in the order in which they were queued.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn runs(&self, ids: &[Uuid]) -> Result<Vec<Run>, StoreError> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        self.select_runs(&format!("runs.id IN ({}) ORDER BY runs.seq", marks(ids.len())), ids).await
    }

    /// The last run of a cell.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn latest_run(&self, source: Uuid, deliverable: Uuid) -> Result<Option<Run>, StoreError> {
        let latest = "runs.source_id = ? AND runs.deliverable_id = ? ORDER BY runs.seq DESC LIMIT 1";
        Ok(self.select_runs(latest, &[source, deliverable]).await?.pop())
    }

    /// Plan, verdict and facts of one run.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn run_details(&self, id: Uuid) -> Result<RunDetails, StoreError> {
        let row = sqlx::query("SELECT plan, report, reading FROM run_documents WHERE run_id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await?;
        let row = row.ok_or(StoreError::NotFound("run"))?;
        Ok(RunDetails {
            plan: json::value(row.try_get("plan")?)?,
            report: json::optional(row.try_get("report")?)?,
            facts: json::optional::<StoredFacts>(row.try_get("reading")?)?.map_or_else(Vec::new, Into::into),
        })
    }

    /// The last run of each cell of a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn latest_runs(&self, sheet: Uuid) -> Result<Vec<Arc<Run>>, StoreError> {
        // An index has all of this.
        let rows = sqlx::query("SELECT id, changed FROM runs WHERE sheet_id = ? AND is_latest = 1");
        let rows = rows.bind(sheet).fetch_all(&self.pool).await?;
        // By place: there are thousands, and names would be looked up for each value of them.
        let version = |row: &MySqlRow| Ok((row.try_get(0)?, row.try_get(1)?));
        let latest: Vec<(Uuid, DateTime<Utc>)> = rows.iter().map(version).collect::<Result<_, sqlx::Error>>()?;
        let known = self.runs.of(&latest);
        let unknown: Vec<Uuid> = latest.iter().zip(&known).filter(|(_, known)| known.is_none()).map(|((id, _), _)| *id).collect();
        let mut runs: Vec<Arc<Run>> = known.into_iter().flatten().collect();
        for some in unknown.chunks(ROWS_AT_ONCE) {
            let statement = format!("SELECT {COLUMNS}, runs.changed FROM {TABLES} WHERE runs.id IN ({})", marks(some.len()));
            let query = some.iter().fold(sqlx::query(AssertSqlSafe(statement)), |query, id| query.bind(id));
            let rows = query.fetch_all(&self.pool).await?;
            let read = self.with_files(rows.iter().map(run).collect::<Result<_, _>>()?).await?;
            for (row, run) in rows.iter().zip(read) {
                let run = Arc::new(run);
                // How far a run is, changes beside it.
                if run.state == RunState::Waiting || run.state.is_final() {
                    let bytes = size_of::<Run>() + run.problem.as_ref().map_or(0, |problem| problem.why.len());
                    self.runs.keep(run.id, row.try_get("changed")?, bytes, &run);
                }
                runs.push(run);
            }
        }
        Ok(runs)
    }

    /// Settings that runs had. What cannot be understood any more is left out.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn run_settings(&self, ids: &[SettingsId]) -> Result<Vec<(SettingsId, Preset)>, StoreError> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        let statement = format!("SELECT id, document FROM run_settings WHERE id IN ({})", marks(ids.len()));
        let mut query = sqlx::query(AssertSqlSafe(statement));
        for id in ids {
            query = query.bind(id.0.as_slice());
        }
        let rows = query.fetch_all(&self.pool).await?;
        let settings = |row: &MySqlRow| {
            let id: Vec<u8> = row.try_get("id").ok()?;
            Some((SettingsId(id.try_into().ok()?), json::value(row.try_get("document").ok()?).ok()?))
        };
        Ok(rows.iter().filter_map(settings).collect())
    }

    /// So many runs of the queue from a place on: everything that is not at its end, in the order in which it will be worked
    /// on, and then what ended, the newest first; of one sheet alone, where one is named.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn queue(&self, window: &Window) -> Result<Vec<Run>, StoreError> {
        let Window { from, count, sheet } = window;
        let of_sheet = if sheet.is_some() { " AND runs.sheet_id = ?" } else { "" };
        let sheet: Vec<Uuid> = sheet.iter().copied().collect();
        let open = format!(
            "runs.state IN ('running', 'checking', 'paused', 'waiting'){of_sheet} ORDER BY \
             FIELD(runs.state, 'checking', 'running', 'paused', 'waiting'), runs.priority DESC, runs.queue_rank, runs.seq \
             LIMIT {count} OFFSET {from}"
        );
        let mut all = self.select_runs(&open, &sheet).await?;
        let missing = *count - u32::try_from(all.len()).unwrap_or(*count);
        if missing > 0 {
            let counts = self.queue_counts(sheet.first().copied()).await?;
            let passed = from.saturating_sub(counts.open());
            let closed = format!(
                "runs.finished IS NOT NULL AND runs.state IN ('done', 'failed', 'cancelled', 'withheld'){of_sheet} \
                 ORDER BY runs.finished DESC LIMIT {missing} OFFSET {passed}"
            );
            all.extend(self.select_runs(&closed, &sheet).await?);
        }
        Ok(all)
    }

    /// How many runs of the queue are in which state; of one sheet alone, where one is named.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn queue_counts(&self, sheet: Option<Uuid>) -> Result<QueueCounts, StoreError> {
        let of_sheet = if sheet.is_some() { " AND sheet_id = ?" } else { "" };
        let statement = format!(
            "SELECT state, COUNT(*) FROM runs WHERE state IN ('running', 'checking', 'paused', 'waiting'){of_sheet} GROUP BY state"
        );
        let query = sheet.iter().fold(sqlx::query_as::<_, (String, i64)>(AssertSqlSafe(statement)), |query, id| query.bind(*id));
        let mut counts = QueueCounts::default();
        for (state, count) in query.fetch_all(&self.pool).await? {
            let count = u32::try_from(count).unwrap_or(u32::MAX);
            match state_of(&state)? {
                RunState::Waiting => counts.waiting += count,
                RunState::Paused => counts.held += count,
                _ => counts.at_work += count,
            }
        }
        Ok(counts)
    }

    /// All runs that are not at their end.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn open_runs(&self) -> Result<Vec<Uuid>, StoreError> {
        let query = sqlx::query_scalar("SELECT id FROM runs WHERE state IN ('running', 'checking', 'paused', 'waiting')");
        Ok(query.fetch_all(&self.pool).await?)
    }

    /// How many runs have ended, counted up to `most`; of one sheet alone, where one is named.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn ended_count(&self, sheet: Option<Uuid>, most: u32) -> Result<u32, StoreError> {
        let of_sheet = if sheet.is_some() { " AND sheet_id = ?" } else { "" };
        let statement =
            format!("SELECT COUNT(*) FROM (SELECT 1 FROM runs WHERE finished IS NOT NULL{of_sheet} LIMIT {most}) AS ended");
        let query = sheet.iter().fold(sqlx::query_scalar::<_, i64>(AssertSqlSafe(statement)), |query, id| query.bind(*id));
        Ok(u32::try_from(query.fetch_one(&self.pool).await?).unwrap_or(most))
    }

    /// All runs that wait, in their order, as far as the night is laid out by them.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn waiting(&self) -> Result<Vec<Waiting>, StoreError> {
        let rows = sqlx::query(
            "SELECT id, source_id, preset_name, expected_cpu FROM runs WHERE state = 'waiting' ORDER BY priority DESC, queue_rank, seq",
        );
        let rows = rows.fetch_all(&self.pool).await?;
        // By place: there are thousands.
        let waiting = |row: &MySqlRow| {
            Ok(Waiting {
                run: row.try_get(0)?,
                source: row.try_get(1)?,
                preset: row.try_get(2)?,
                expected_cpu: row.try_get::<Option<f64>, _>(3)?.unwrap_or(0.0),
            })
        };
        Ok(rows.iter().map(waiting).collect::<Result<_, sqlx::Error>>()?)
    }

    /// Runs whose files wait for a decision, those that have waited longest first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn withheld(&self) -> Result<Vec<Run>, StoreError> {
        self.select_runs("runs.state = 'withheld' ORDER BY runs.finished, runs.seq LIMIT 1000", &[]).await
    }

    /// The names of what runs are made of, for lists.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn run_names(&self, ids: &[Uuid]) -> Result<HashMap<Uuid, RunNames>, StoreError> {
        if ids.is_empty() {
            return Ok(HashMap::new());
        }
        let marks = marks(ids.len());
        let statement = format!(
            "SELECT runs.id, sources.path, COALESCE(sheets.name, watch_folders.name) AS origin, runs.preset_name AS preset, \
             runs.expected_cpu FROM runs JOIN sources ON sources.id = runs.source_id \
             LEFT JOIN sheets ON sheets.id = runs.sheet_id LEFT JOIN watch_folders ON watch_folders.id = runs.watch_folder_id WHERE runs.id IN ({marks})"
        );
        let mut query = sqlx::query(AssertSqlSafe(statement));
        for id in ids {
            query = query.bind(id);
        }
        let mut names = HashMap::new();
        for row in query.fetch_all(&self.pool).await? {
            let source = path(Some(row.try_get("path")?))?.unwrap_or_default().name();
            names.insert(
                row.try_get("id")?,
                RunNames {
                    source,
                    preset: row.try_get("preset")?,
                    origin: row.try_get("origin")?,
                    expected_cpu: row.try_get("expected_cpu")?,
                },
            );
        }
        Ok(names)
    }

    /// How much longer than expected the last runs of each preset took, as a factor.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn cost_factors(&self) -> Result<CostFactors, StoreError> {
        let rows = sqlx::query(
            "SELECT preset_name, SUM(cpu_seconds) / SUM(expected_cpu) AS factor FROM (SELECT preset_name, state, cpu_seconds, \
             expected_cpu FROM runs WHERE finished IS NOT NULL ORDER BY finished DESC LIMIT 300) AS last \
             WHERE state = 'done' AND cpu_seconds > 0 AND expected_cpu > 0 GROUP BY preset_name WITH ROLLUP",
        )
        .fetch_all(&self.pool)
        .await?;
        let mut factors = CostFactors { of_presets: HashMap::new(), machine: 1.0 };
        for row in &rows {
            let factor: f64 = row.try_get("factor")?;
            match row.try_get::<Option<String>, _>("preset_name")? {
                Some(preset) => drop(factors.of_presets.insert(preset, factor)),
                // The sum of all comes without a name.
                None => factors.machine = factor,
            }
        }
        Ok(factors)
    }
}

fn changed(rows: u64) -> Result<(), StoreError> {
    if rows == 0 { Err(StoreError::Changed) } else { Ok(()) }
}

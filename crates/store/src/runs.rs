//! Runs: the queue, its leases, and what came out.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use beryl_core::after::check::CheckReport;
use beryl_core::facts::Facts;
use beryl_core::flow::run::{ClashRule, Progress, RunEvent, RunState};
use beryl_core::path::StoragePath;
use beryl_core::plan::Plan;
use beryl_core::preset::Preset;
use beryl_core::problem::Problem;
use chrono::{DateTime, Utc};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use uuid::Uuid;

use crate::sheets::{clash_rule, clash_word};
use crate::{Database, ROWS_AT_ONCE, StoreError, json};

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
    /// The file under its temporary name, while there is one.
    pub temporary: Option<StoragePath>,
    /// The final name, once it is chosen.
    pub target: Option<StoragePath>,
    /// Bytes of the finished file.
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

/// What belongs to one run alone and is too large for lists.
#[derive(Debug, Clone, PartialEq)]
pub struct RunDetails {
    /// What was to be made.
    pub plan: Plan,
    /// The verdict on the file.
    pub report: Option<CheckReport>,
    /// The facts of the file.
    pub facts: Option<Facts>,
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

/// A file as its file system knows it, whatever it is called and on whatever path it is reached: a share that is
/// mounted twice has other device numbers, but the same files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MadeFile {
    /// Its number there.
    pub file: u64,
    /// Nanoseconds of its last change since 1970.
    pub modified: i64,
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
    runs.clash, runs.attempts, runs.temporary, runs.target, runs.size, runs.problem, runs.started, runs.finished, \
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
        temporary: path(row.try_get("temporary")?)?,
        target: path(row.try_get("target")?)?,
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

impl Database {
    /// Queues runs, all or none, in this order, but for those of cells that have an open run already. Answers those
    /// that were queued.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn queue_runs(&self, runs: &[NewRun]) -> Result<Vec<Uuid>, StoreError> {
        let mut work = self.pool.begin().await?;
        let ids = insert_runs(&mut work, runs).await?;
        work.commit().await?;
        Ok(ids)
    }

    async fn select_runs(&self, condition: &str, ids: &[Uuid]) -> Result<Vec<Run>, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM {TABLES} WHERE {condition}");
        let mut query = sqlx::query(AssertSqlSafe(statement));
        for id in ids {
            query = query.bind(id);
        }
        let rows = query.fetch_all(&self.pool).await?;
        Ok(rows.iter().map(run).collect::<Result<_, _>>()?)
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
            facts: json::optional(row.try_get("reading")?)?,
        })
    }

    /// The last run of each cell of a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn latest_runs(&self, sheet: Uuid) -> Result<Vec<Arc<Run>>, StoreError> {
        // An index has all of this, in this order: later runs of a cell come behind earlier ones.
        let rows = sqlx::query(
            "SELECT source_id, deliverable_id, id, changed FROM runs WHERE sheet_id = ? AND deliverable_id IS NOT NULL \
             ORDER BY source_id, deliverable_id, seq",
        );
        let rows = rows.bind(sheet).fetch_all(&self.pool).await?;
        let mut latest: Vec<(Uuid, DateTime<Utc>)> = Vec::with_capacity(rows.len());
        let mut cell: Option<(Uuid, Uuid)> = None;
        for row in &rows {
            // By place: there are thousands, and names would be looked up for each value of them.
            if cell.replace((row.try_get(0)?, row.try_get(1)?)) == cell {
                latest.pop();
            }
            latest.push((row.try_get(2)?, row.try_get(3)?));
        }
        let known = self.runs.of(&latest);
        let unknown: Vec<Uuid> = latest.iter().zip(&known).filter(|(_, known)| known.is_none()).map(|((id, _), _)| *id).collect();
        let mut runs: Vec<Arc<Run>> = known.into_iter().flatten().collect();
        for some in unknown.chunks(ROWS_AT_ONCE) {
            let statement = format!("SELECT {COLUMNS}, runs.changed FROM {TABLES} WHERE runs.id IN ({})", marks(some.len()));
            let query = some.iter().fold(sqlx::query(AssertSqlSafe(statement)), |query, id| query.bind(id));
            for row in &query.fetch_all(&self.pool).await? {
                let run = Arc::new(run(row)?);
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

    /// Everything that is not at its end, in the order in which it will be worked on, and then the
    /// newest `ended` runs that are.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn queue(&self, ended: u32) -> Result<Vec<Run>, StoreError> {
        let open = "runs.state IN ('running', 'checking', 'paused', 'waiting') ORDER BY \
                    FIELD(runs.state, 'checking', 'running', 'paused', 'waiting'), runs.priority DESC, runs.seq";
        let mut all = self.select_runs(open, &[]).await?;
        let closed = format!(
            "runs.finished IS NOT NULL AND runs.state IN ('done', 'failed', 'cancelled', 'withheld') ORDER BY runs.finished DESC LIMIT {ended}"
        );
        all.extend(self.select_runs(&closed, &[]).await?);
        Ok(all)
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

    /// Claims the next run that waits, together with others of the same source that wait, for
    /// `lease` from now. Nothing where nothing waits.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn claim(&self, owner: &str, lease: Duration) -> Result<Vec<Claimed>, StoreError> {
        let mut work = self.pool.begin().await?;
        let first = sqlx::query(
            "SELECT id, source_id FROM runs WHERE state = 'waiting' ORDER BY priority DESC, seq LIMIT 1 FOR UPDATE SKIP LOCKED",
        )
        .fetch_optional(&mut *work)
        .await?;
        let Some(first) = first else { return Ok(Vec::new()) };
        let source: Uuid = first.try_get("source_id")?;
        let ids: Vec<Uuid> = sqlx::query_scalar(
            "SELECT id FROM runs WHERE source_id = ? AND state = 'waiting' ORDER BY priority DESC, seq LIMIT ? FOR UPDATE SKIP LOCKED",
        )
        .bind(source)
        .bind(MOST_TOGETHER)
        .fetch_all(&mut *work)
        .await?;
        let mut claimed = Vec::with_capacity(ids.len());
        for id in ids {
            claimed.push(lease_run(&mut work, id, owner, lease).await?);
        }
        work.commit().await?;
        Ok(claimed)
    }

    /// Prolongs leases, all in one statement on a connection of its own. Answers those that are lost.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn renew(&self, leases: &[Lease], lease: Duration) -> Result<Vec<Lease>, StoreError> {
        if leases.is_empty() {
            return Ok(Vec::new());
        }
        let held = format!(
            "(id, lease_epoch) IN ({}) AND state IN ('running', 'paused', 'checking')",
            vec!["(?, ?)"; leases.len()].join(", ")
        );
        let statement = format!("UPDATE runs SET lease_until = NOW(6) + INTERVAL ? MICROSECOND WHERE {held}");
        let mut query = sqlx::query(AssertSqlSafe(statement)).bind(micros(lease));
        for one in leases {
            query = query.bind(one.run).bind(one.epoch);
        }
        let renewed = query.execute(&self.renewals).await?.rows_affected();
        if renewed == leases.len() as u64 {
            return Ok(Vec::new());
        }
        let mut query = sqlx::query_as::<_, (Uuid, i64)>(AssertSqlSafe(format!("SELECT id, lease_epoch FROM runs WHERE {held}")));
        for one in leases {
            query = query.bind(one.run).bind(one.epoch);
        }
        let still: Vec<(Uuid, i64)> = query.fetch_all(&self.renewals).await?;
        Ok(leases.iter().filter(|one| !still.contains(&(one.run, one.epoch))).copied().collect())
    }

    /// Keeps how far a run is.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_progress(&self, id: Uuid, progress: &Progress) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO run_progress (run_id, progress) VALUES (?, ?) ON DUPLICATE KEY UPDATE progress = VALUES(progress)",
        )
        .bind(id)
        .bind(json::text(progress)?)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Notes under which temporary name a leased run is written.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_temporary(&self, lease: Lease, temporary: &StoragePath) -> Result<(), StoreError> {
        let query = sqlx::query("UPDATE runs SET temporary = ?, target = NULL WHERE id = ? AND lease_epoch = ?")
            .bind(temporary.to_string());
        changed(query.bind(lease.run).bind(lease.epoch).execute(&self.pool).await?.rows_affected())
    }

    /// The file is written and passed its check: keeps what was found, before it is named.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_checking(&self, lease: Lease, report: &CheckReport, facts: &Facts) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'checking', size = ?, notes = ? WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        );
        let notes = u32::try_from(report.notes()).unwrap_or(u32::MAX);
        let query = query.bind(facts.size.0).bind(notes).bind(lease.run).bind(lease.epoch);
        changed(query.execute(&mut *work).await?.rows_affected())?;
        let query = sqlx::query("UPDATE run_documents SET report = ?, reading = ? WHERE run_id = ?");
        query.bind(json::text(report)?).bind(json::text(facts)?).bind(lease.run).execute(&mut *work).await?;
        work.commit().await?;
        Ok(())
    }

    /// The file is written and is not as planned: it waits under this name until a person decides.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn withhold(
        &self,
        lease: Lease,
        file: &StoragePath,
        report: &CheckReport,
        facts: &Facts,
        problem: &Problem,
    ) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'withheld', size = ?, temporary = ?, target = NULL, problem = ?, lease_owner = NULL, \
             lease_until = NULL, finished = NOW(6) WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        );
        let query = query.bind(facts.size.0).bind(file.to_string()).bind(json::text(problem)?);
        changed(query.bind(lease.run).bind(lease.epoch).execute(&mut *work).await?.rows_affected())?;
        let query = sqlx::query("UPDATE run_documents SET report = ?, reading = ? WHERE run_id = ?");
        query.bind(json::text(report)?).bind(json::text(facts)?).bind(lease.run).execute(&mut *work).await?;
        end_attempt(&mut work, lease, &problem.why).await?;
        work.commit().await?;
        Ok(())
    }

    /// A person takes a withheld file for good: the run is leased to `owner`, who gives the file its name.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where it is not withheld (any more).
    pub async fn release(&self, id: Uuid, because: &str, owner: &str, lease: Duration) -> Result<Claimed, StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'checking', released_because = ?, lease_owner = ?, lease_epoch = lease_epoch + 1, \
             lease_until = NOW(6) + INTERVAL ? MICROSECOND, finished = NULL WHERE id = ? AND state = 'withheld'",
        );
        let query = query.bind(because).bind(owner).bind(micros(lease)).bind(id);
        changed(query.execute(&mut *work).await?.rows_affected())?;
        let claimed = claimed(&mut work, id).await?;
        work.commit().await?;
        Ok(claimed)
    }

    /// A released file could not be named: it waits as before.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn withhold_again(&self, lease: Lease) -> Result<(), StoreError> {
        let query = sqlx::query(
            "UPDATE runs SET state = 'withheld', released_because = NULL, target = NULL, lease_owner = NULL, lease_until = NULL, \
             finished = NOW(6) WHERE id = ? AND lease_epoch = ? AND state = 'checking'",
        );
        changed(query.bind(lease.run).bind(lease.epoch).execute(&self.pool).await?.rows_affected())
    }

    /// Notes the name that the file is about to get, so that after a crash the file is found, and which file it is.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_target(&self, lease: Lease, target: &StoragePath, made: MadeFile) -> Result<(), StoreError> {
        let query = sqlx::query(
            "UPDATE runs SET target = ?, made_file = ?, made_modified = ? WHERE id = ? AND lease_epoch = ? AND state = 'checking'",
        )
        .bind(target.to_string())
        .bind(made.file)
        .bind(made.modified);
        changed(query.bind(lease.run).bind(lease.epoch).execute(&self.pool).await?.rows_affected())
    }

    /// Ends a leased run: done, failed or cancelled.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn finish(&self, lease: Lease, state: RunState, problem: Option<&Problem>) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let ended = sqlx::query(
            "UPDATE runs SET state = ?, problem = ?, temporary = NULL, lease_owner = NULL, lease_until = NULL, finished = NOW(6) \
             WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        )
        .bind(state.word())
        .bind(problem.map(json::text).transpose()?)
        .bind(lease.run)
        .bind(lease.epoch)
        .execute(&mut *work)
        .await?;
        changed(ended.rows_affected())?;
        end_attempt(&mut work, lease, problem.map_or(state.word(), |problem| problem.why.as_str())).await?;
        work.commit().await?;
        Ok(())
    }

    /// Keeps the processor time of a job, shared out over its runs by what each was expected to take.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_cpu_seconds(&self, runs: &[Uuid], seconds: f64) -> Result<(), StoreError> {
        let mut query = sqlx::QueryBuilder::new("UPDATE runs JOIN (SELECT SUM(expected_cpu) AS seconds FROM runs WHERE id IN ");
        let ids = |query: &mut sqlx::QueryBuilder<sqlx::MySql>| {
            query.push_tuples(runs, |mut row, run| {
                row.push_bind(*run);
            });
        };
        ids(&mut query);
        query.push(") AS whole SET cpu_seconds = ").push_bind(seconds);
        query.push(" * IF(whole.seconds > 0, expected_cpu / whole.seconds, 1 / ").push_bind(runs.len() as f64);
        query.push(") WHERE id IN ");
        ids(&mut query);
        query.build().execute(&self.pool).await?;
        Ok(())
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

    /// Puts a leased run back into the queue, because its engine was lost.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn put_back(&self, lease: Lease, why: &str) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let put = sqlx::query(
            "UPDATE runs SET state = 'waiting', temporary = NULL, target = NULL, lease_owner = NULL, lease_until = NULL \
             WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        )
        .bind(lease.run)
        .bind(lease.epoch)
        .execute(&mut *work)
        .await?;
        changed(put.rows_affected())?;
        end_attempt(&mut work, lease, why).await?;
        work.commit().await?;
        Ok(())
    }

    /// Runs whose lease has ended or whose worker belonged to an earlier start of the same installation (its name
    /// begins with `installation`), which cannot be there any more. Those of `owner` itself are never among them.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn lost(&self, owner: &str, installation: &str) -> Result<Vec<Lost>, StoreError> {
        let rows: Vec<(Uuid, i64, i8)> = sqlx::query_as(
            "SELECT id, lease_epoch, CAST(LEFT(lease_owner, CHAR_LENGTH(?)) = ? AS SIGNED) FROM runs \
             WHERE state IN ('running', 'checking', 'paused') AND lease_owner IS NOT NULL AND lease_owner <> ? \
             AND (LEFT(lease_owner, CHAR_LENGTH(?)) = ? OR lease_until < NOW(6))",
        )
        .bind(installation)
        .bind(installation)
        .bind(owner)
        .bind(installation)
        .bind(installation)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(run, epoch, own)| Lost { lease: Lease { run, epoch }, is_own: own != 0 }).collect())
    }

    /// Leases lost runs anew to `owner`, so that an old worker, should it still be there, can change nothing more.
    /// What has been renewed meanwhile stays with its worker.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn take_over(&self, lost: &[Lost], owner: &str, lease: Duration) -> Result<Vec<Claimed>, StoreError> {
        let mut work = self.pool.begin().await?;
        let mut taken = Vec::with_capacity(lost.len());
        for Lost { lease: old, is_own } in lost {
            let moved = sqlx::query(
                "UPDATE runs SET lease_owner = ?, lease_epoch = lease_epoch + 1, lease_until = NOW(6) + INTERVAL ? MICROSECOND \
                 WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'checking', 'paused') AND (? OR lease_until < NOW(6))",
            )
            .bind(owner)
            .bind(micros(lease))
            .bind(old.run)
            .bind(old.epoch)
            .bind(is_own)
            .execute(&mut *work)
            .await?;
            if moved.rows_affected() > 0 {
                taken.push(claimed(&mut work, old.run).await?);
            }
        }
        work.commit().await?;
        Ok(taken)
    }

    /// A paused run whose engine is gone stays paused, with nobody's lease on it.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn release_paused(&self, lease: Lease) -> Result<(), StoreError> {
        let query = sqlx::query(
            "UPDATE runs SET lease_owner = NULL, lease_until = NULL, temporary = NULL WHERE id = ? AND lease_epoch = ? AND state = 'paused'",
        );
        changed(query.bind(lease.run).bind(lease.epoch).execute(&self.pool).await?.rows_affected())
    }

    /// Changes a run's state by `event`, as a person asked for.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the event cannot happen (any more).
    pub async fn change(&self, id: Uuid, event: RunEvent) -> Result<RunState, StoreError> {
        let now = self.run(id).await?.state;
        let next = now.after(event).map_err(|_| StoreError::Changed)?;
        let ended = if next.is_final() { ", finished = NOW(6), lease_owner = NULL" } else { "" };
        let begun = if event == RunEvent::Retry { ", problem = NULL, attempts = 0, finished = NULL" } else { "" };
        let statement = format!("UPDATE runs SET state = ?{ended}{begun} WHERE id = ? AND state = ?");
        let query = sqlx::query(AssertSqlSafe(statement)).bind(next.word()).bind(id).bind(now.word());
        match query.execute(&self.pool).await {
            Ok(done) => changed(done.rows_affected())?,
            // Another run of the same cell is open.
            Err(error) if is_duplicate(&error) => return Err(StoreError::Changed),
            Err(error) => return Err(error.into()),
        }
        Ok(next)
    }

    /// Moves waiting runs, in their order, before another one that waits, or to the end. Answers
    /// how many still waited.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the one to go before does not wait any more.
    pub async fn move_runs(&self, moved: &[Uuid], before: Option<Uuid>) -> Result<usize, StoreError> {
        let mut work = self.pool.begin().await?;
        let order: Vec<Uuid> =
            sqlx::query_scalar("SELECT id FROM runs WHERE state = 'waiting' ORDER BY priority DESC, seq FOR UPDATE")
                .fetch_all(&mut *work)
                .await?;
        let moving: Vec<Uuid> = moved.iter().filter(|run| order.contains(run)).copied().collect();
        let mut rest: Vec<Uuid> = order.into_iter().filter(|run| !moving.contains(run)).collect();
        let place = match before {
            Some(before) => rest.iter().position(|run| *run == before).ok_or(StoreError::Changed)?,
            None => rest.len(),
        };
        rest.splice(place..place, moving.iter().copied());
        // The order is written into the priorities, so that what is queued later comes after it.
        let count = i32::try_from(rest.len()).unwrap_or(i32::MAX);
        for (priority, run) in (1..=count).rev().zip(&rest) {
            sqlx::query("UPDATE runs SET priority = ? WHERE id = ? AND priority <> ?")
                .bind(priority)
                .bind(run)
                .bind(priority)
                .execute(&mut *work)
                .await?;
        }
        work.commit().await?;
        Ok(moving.len())
    }
}

fn is_duplicate(error: &sqlx::Error) -> bool {
    error.as_database_error().is_some_and(sqlx::error::DatabaseError::is_unique_violation)
}

fn micros(duration: Duration) -> i64 {
    i64::try_from(duration.as_micros()).unwrap_or(i64::MAX)
}

fn changed(rows: u64) -> Result<(), StoreError> {
    if rows == 0 { Err(StoreError::Changed) } else { Ok(()) }
}

pub(crate) async fn insert_runs(work: &mut Transaction<'_, MySql>, runs: &[NewRun]) -> Result<Vec<Uuid>, StoreError> {
    let mut ids = Vec::with_capacity(runs.len());
    for new in runs {
        let id = Uuid::now_v7();
        let (sheet, deliverable, watch_folder) = new.origin.parts();
        let settings = json::text(&new.settings)?;
        let kept = sqlx::query("INSERT IGNORE INTO run_settings (id, document) VALUES (UNHEX(SHA2(?, 256)), ?)");
        kept.bind(&settings).bind(&settings).execute(&mut **work).await?;
        let inserted = sqlx::query(
            "INSERT INTO runs (id, source_id, sheet_id, deliverable_id, watch_folder_id, preset_name, expected_cpu, storage_id, stem, clash, \
             priority, settings_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, UNHEX(SHA2(?, 256)))",
        )
        .bind(id)
        .bind(new.source)
        .bind(sheet)
        .bind(deliverable)
        .bind(watch_folder)
        .bind(new.plan.preset_name.chars().take(255).collect::<String>())
        .bind(new.expected_cpu)
        .bind(new.storage)
        .bind(new.stem.to_string())
        .bind(clash_word(new.clash))
        .bind(new.priority)
        .bind(&settings)
        .execute(&mut **work)
        .await;
        match inserted {
            Ok(_) => {}
            // The cell has an open run already: that one stands for the wish.
            Err(error) if is_duplicate(&error) => continue,
            Err(error) => return Err(error.into()),
        }
        let documents =
            sqlx::query("INSERT INTO run_documents (run_id, plan) VALUES (?, ?)").bind(id).bind(json::text(&new.plan)?);
        documents.execute(&mut **work).await?;
        ids.push(id);
    }
    Ok(ids)
}

async fn claimed(work: &mut Transaction<'_, MySql>, id: Uuid) -> Result<Claimed, StoreError> {
    let statement = format!(
        "SELECT {COLUMNS}, run_documents.plan, runs.lease_epoch FROM {TABLES} JOIN run_documents ON run_documents.run_id = runs.id WHERE runs.id = ?"
    );
    let row = sqlx::query(AssertSqlSafe(statement)).bind(id).fetch_one(&mut **work).await?;
    let lease = Lease { run: id, epoch: row.try_get("lease_epoch")? };
    Ok(Claimed { lease, run: run(&row)?, plan: json::value(row.try_get("plan")?)? })
}

async fn lease_run(work: &mut Transaction<'_, MySql>, id: Uuid, owner: &str, lease: Duration) -> Result<Claimed, StoreError> {
    sqlx::query(
        "UPDATE runs SET state = 'running', lease_owner = ?, lease_epoch = lease_epoch + 1, lease_until = NOW(6) + INTERVAL ? MICROSECOND, \
         attempts = attempts + 1, started = NOW(6), finished = NULL, problem = NULL WHERE id = ?",
    )
    .bind(owner)
    .bind(micros(lease))
    .bind(id)
    .execute(&mut **work)
    .await?;
    let claimed = claimed(work, id).await?;
    sqlx::query("INSERT INTO attempts (run_id, lease_epoch, owner) VALUES (?, ?, ?)")
        .bind(id)
        .bind(claimed.lease.epoch)
        .bind(owner)
        .execute(&mut **work)
        .await?;
    sqlx::query("DELETE FROM run_progress WHERE run_id = ?").bind(id).execute(&mut **work).await?;
    Ok(claimed)
}

async fn end_attempt(work: &mut Transaction<'_, MySql>, lease: Lease, outcome: &str) -> Result<(), StoreError> {
    let outcome: String = outcome.chars().take(200).collect();
    sqlx::query("UPDATE attempts SET ended = NOW(6), outcome = ? WHERE run_id = ? AND ended IS NULL")
        .bind(outcome)
        .bind(lease.run)
        .execute(&mut **work)
        .await?;
    Ok(())
}

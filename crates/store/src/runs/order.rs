//! The queue as people change it: what waits, and in which order.

use std::collections::{HashMap, HashSet};

use beryl_core::flow::run::{RunEvent, RunState};
use sqlx::{AssertSqlSafe, MySql, Transaction};
use uuid::Uuid;

use super::{NewRun, changed, marks, state_of};
use crate::sheets::clash_word;
use crate::{Database, ROWS_AT_ONCE, StoreError, json};

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

    /// Changes a run's state by `event`, as a person asked for.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the event cannot happen (any more).
    pub async fn change(&self, id: Uuid, event: RunEvent) -> Result<RunState, StoreError> {
        let now = self.run(id).await?.state;
        let next = now.after(event).map_err(|_| StoreError::Changed)?;
        let statement = format!("UPDATE runs SET {} WHERE id = ? AND state = ?", becoming(next, event));
        let query = sqlx::query(AssertSqlSafe(statement)).bind(next.word()).bind(id).bind(now.word());
        match query.execute(&self.pool).await {
            Ok(done) => changed(done.rows_affected())?,
            // Another run of the same cell is open.
            Err(error) if is_duplicate(&error) => return Err(StoreError::Changed),
            Err(error) => return Err(error.into()),
        }
        Ok(next)
    }

    /// Changes the states of many runs by `event`, as a person asked for. Answers those in which it could happen; none of
    /// them may be in the hands of an engine.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer; nothing is changed then.
    pub async fn change_many(&self, ids: &[Uuid], event: RunEvent) -> Result<Vec<Uuid>, StoreError> {
        let mut work = self.pool.begin().await?;
        let mut done = Vec::new();
        for some in ids.chunks(ROWS_AT_ONCE) {
            let statement = format!("SELECT id, state FROM runs WHERE id IN ({}) FOR UPDATE", marks(some.len()));
            let query =
                some.iter().fold(sqlx::query_as::<_, (Uuid, String)>(AssertSqlSafe(statement)), |query, id| query.bind(id));
            let mut by_state: HashMap<RunState, Vec<Uuid>> = HashMap::new();
            for (id, state) in query.fetch_all(&mut *work).await? {
                by_state.entry(state_of(&state)?).or_default().push(id);
            }
            for (state, of_state) in by_state {
                let Ok(next) = state.after(event) else { continue };
                let statement =
                    format!("UPDATE IGNORE runs SET {} WHERE id IN ({})", becoming(next, event), marks(of_state.len()));
                let query = sqlx::query(AssertSqlSafe(statement)).bind(next.word());
                let query = of_state.iter().fold(query, |query, id| query.bind(id));
                query.execute(&mut *work).await?;
                // Of some cells another run may be open, so that these cannot be: which changed is asked, not counted.
                let statement = format!("SELECT id FROM runs WHERE state = ? AND id IN ({})", marks(of_state.len()));
                let query = sqlx::query_scalar::<_, Uuid>(AssertSqlSafe(statement)).bind(next.word());
                let query = of_state.iter().fold(query, |query, id| query.bind(id));
                done.extend(query.fetch_all(&mut *work).await?);
            }
        }
        work.commit().await?;
        Ok(done)
    }

    /// Moves waiting runs, in their order, before another one that waits, or to the end. Answers
    /// how many still waited.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the one to go before does not wait any more.
    pub async fn move_runs(&self, moved: &[Uuid], before: Option<Uuid>) -> Result<usize, StoreError> {
        let mut work = self.pool.begin().await?;
        let order: Vec<(Uuid, i64)> = sqlx::query_as(
            "SELECT id, queue_rank FROM runs WHERE state = 'waiting' ORDER BY priority DESC, queue_rank, seq FOR UPDATE",
        )
        .fetch_all(&mut *work)
        .await?;
        let waiting: HashSet<Uuid> = order.iter().map(|(run, _)| *run).collect();
        let moving: Vec<Uuid> = moved.iter().filter(|run| waiting.contains(run)).copied().collect();
        let is_moving: HashSet<Uuid> = moving.iter().copied().collect();
        let rest: Vec<(Uuid, i64)> = order.into_iter().filter(|(run, _)| !is_moving.contains(run)).collect();
        let place = match before {
            Some(before) => rest.iter().position(|(run, _)| *run == before).ok_or(StoreError::Changed)?,
            None => rest.len(),
        };
        let above = place.checked_sub(1).map(|above| rest[above].1);
        let below = rest.get(place).map(|(_, rank)| *rank);
        let ranks: Vec<(Uuid, i64)> = match ranks_between(above, below, moving.len()) {
            Some(ranks) => moving.iter().copied().zip(ranks).collect(),
            // There is no room left between the two: all get places anew.
            None => {
                let mut all: Vec<Uuid> = rest.into_iter().map(|(run, _)| run).collect();
                all.splice(place..place, moving.iter().copied());
                all.into_iter().zip((1..).map(|number| number * ROOM)).collect()
            }
        };
        set_ranks(&mut work, &ranks).await?;
        work.commit().await?;
        Ok(moving.len())
    }
}

/// Ranks from one run to the next.
const ROOM: i64 = 1 << 20;

/// So many ranks between two, evenly; nothing where there is no room for them.
fn ranks_between(above: Option<i64>, below: Option<i64>, count: usize) -> Option<Vec<i64>> {
    let count = i64::try_from(count).ok()?;
    let (from, step) = match (above, below) {
        (_, None) => (above.unwrap_or(0), ROOM),
        (None, Some(below)) => (below.checked_sub(ROOM.checked_mul(count + 1)?)?, ROOM),
        (Some(above), Some(below)) => (above, (below - above) / (count + 1)),
    };
    (step > 0).then(|| (1..=count).map(|number| from + number * step).collect())
}

async fn set_ranks(work: &mut Transaction<'_, MySql>, ranks: &[(Uuid, i64)]) -> Result<(), StoreError> {
    for some in ranks.chunks(ROWS_AT_ONCE) {
        let places = vec!["SELECT ? AS id, ? AS queue_rank"; some.len()].join(" UNION ALL ");
        let statement =
            format!("UPDATE runs JOIN ({places}) AS place ON place.id = runs.id SET runs.queue_rank = place.queue_rank");
        let query = some.iter().fold(sqlx::query(AssertSqlSafe(statement)), |query, (run, rank)| query.bind(run).bind(rank));
        query.execute(&mut **work).await?;
    }
    Ok(())
}

/// What is set in a run that comes into this state by `event`; the state itself is to be bound.
fn becoming(next: RunState, event: RunEvent) -> String {
    let ended = if next.is_final() { ", finished = NOW(6), lease_owner = NULL" } else { "" };
    let begun = if event == RunEvent::Retry { ", problem = NULL, attempts = 0, finished = NULL" } else { "" };
    format!("state = ?{ended}{begun}")
}

fn is_duplicate(error: &sqlx::Error) -> bool {
    error.as_database_error().is_some_and(sqlx::error::DatabaseError::is_unique_violation)
}

pub(crate) async fn insert_runs(work: &mut Transaction<'_, MySql>, runs: &[NewRun]) -> Result<Vec<Uuid>, StoreError> {
    let last: Option<i64> =
        sqlx::query_scalar("SELECT MAX(queue_rank) FROM runs WHERE state IN ('waiting', 'running', 'paused', 'checking')")
            .fetch_one(&mut **work)
            .await?;
    let mut ranks = (1..).map(|number| last.unwrap_or(0) + number * ROOM);
    let mut ids = Vec::with_capacity(runs.len());
    for some in runs.chunks(INSERTED_AT_ONCE) {
        ids.extend(insert_some(work, some, &mut ranks).await?);
    }
    Ok(ids)
}

/// Runs that one statement queues: their documents come in one as well, and a statement may not be longer than 16 MB.
const INSERTED_AT_ONCE: usize = 100;

async fn insert_some(
    work: &mut Transaction<'_, MySql>,
    runs: &[NewRun],
    ranks: &mut impl Iterator<Item = i64>,
) -> Result<Vec<Uuid>, StoreError> {
    let mut settings = Vec::with_capacity(runs.len());
    for new in runs {
        settings.push(json::text(&new.settings)?);
    }
    let different: HashSet<&String> = settings.iter().collect();
    let mut kept = sqlx::QueryBuilder::new("INSERT IGNORE INTO run_settings (id, document) ");
    kept.push_values(different, |mut row, document| {
        row.push("UNHEX(SHA2(").push_bind_unseparated(document).push_unseparated(", 256))").push_bind(document);
    });
    kept.build().execute(&mut **work).await?;
    let mut new: Vec<(Uuid, &NewRun, i64)> =
        runs.iter().zip(&mut *ranks).map(|(new, rank)| (Uuid::now_v7(), new, rank)).collect();
    // A cell that has an open run already is left out: that one stands for the wish.
    let mut insert = sqlx::QueryBuilder::new(
        "INSERT INTO runs (id, source_id, sheet_id, deliverable_id, watch_folder_id, preset_name, expected_cpu, storage_id, \
         stem, clash, priority, queue_rank, settings_id) ",
    );
    insert.push_values(new.iter().zip(&settings), |mut row, ((id, new, rank), settings)| {
        let (sheet, deliverable, watch_folder) = new.origin.parts();
        row.push_bind(*id).push_bind(new.source).push_bind(sheet).push_bind(deliverable).push_bind(watch_folder);
        row.push_bind(new.plan.preset_name.chars().take(255).collect::<String>()).push_bind(new.expected_cpu);
        row.push_bind(new.storage).push_bind(new.stem.to_string()).push_bind(clash_word(new.clash)).push_bind(new.priority);
        row.push_bind(*rank).push("UNHEX(SHA2(").push_bind_unseparated(settings).push_unseparated(", 256))");
    });
    insert.push(" ON DUPLICATE KEY UPDATE runs.id = runs.id");
    insert.build().execute(&mut **work).await?;
    // Which were left out is asked, not counted: the number of rows counts those too that were found and left as they are.
    let statement = format!("SELECT id FROM runs WHERE id IN ({})", marks(new.len()));
    let query = new.iter().fold(sqlx::query_scalar::<_, Uuid>(AssertSqlSafe(statement)), |query, (id, ..)| query.bind(id));
    let there: HashSet<Uuid> = query.fetch_all(&mut **work).await?.into_iter().collect();
    new.retain(|(id, ..)| there.contains(id));
    let ids: Vec<Uuid> = new.iter().map(|(id, ..)| *id).collect();
    if ids.is_empty() {
        return Ok(ids);
    }
    let mut plans = Vec::with_capacity(new.len());
    for (id, new, _) in &new {
        plans.push((*id, json::text(&new.plan)?));
    }
    let mut documents = sqlx::QueryBuilder::new("INSERT INTO run_documents (run_id, plan) ");
    documents.push_values(plans, |mut row, (id, plan)| {
        row.push_bind(id).push_bind(plan);
    });
    documents.build().execute(&mut **work).await?;
    note_latest(work, &ids).await?;
    Ok(ids)
}

/// Of the cells of these runs, which are new, they are the last ones now.
async fn note_latest(work: &mut Transaction<'_, MySql>, new: &[Uuid]) -> Result<(), StoreError> {
    let statement = format!(
        "UPDATE runs JOIN (SELECT source_id, deliverable_id FROM runs WHERE id IN ({}) AND deliverable_id IS NOT NULL) AS cell \
         ON cell.source_id = runs.source_id AND cell.deliverable_id = runs.deliverable_id \
         SET runs.is_latest = runs.id IN ({}), runs.changed = runs.changed",
        marks(new.len()),
        marks(new.len())
    );
    let query = new.iter().chain(new).fold(sqlx::query(AssertSqlSafe(statement)), |query, id| query.bind(id));
    query.execute(&mut **work).await?;
    Ok(())
}

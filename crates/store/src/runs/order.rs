//! The queue as people change it: what waits, and in which order.

use beryl_core::flow::run::{RunEvent, RunState};
use sqlx::{AssertSqlSafe, MySql, Transaction};
use uuid::Uuid;

use super::{NewRun, changed};
use crate::sheets::clash_word;
use crate::{Database, StoreError, json};

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

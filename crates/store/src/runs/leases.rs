//! Runs in the hands of a worker: claimed under a lease and an epoch, by the clock of the database.

use std::time::Duration;

use beryl_core::after::check::CheckReport;
use beryl_core::facts::Facts;
use beryl_core::flow::placing::Made;
use beryl_core::flow::run::RunState;
use beryl_core::flow::tasks::Progress;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use uuid::Uuid;

use super::{COLUMNS, Claimed, Lease, Lost, MOST_TOGETHER, TABLES, changed, files_of, run};
use crate::{Database, StoreError, json};

impl Database {
    /// Claims the next run that waits, together with others of the same source that wait, for
    /// `lease` from now. Nothing where nothing waits.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn claim(&self, owner: &str, lease: Duration) -> Result<Vec<Claimed>, StoreError> {
        let mut work = self.pool.begin().await?;
        let first = sqlx::query(
            "SELECT id, source_id FROM runs WHERE state = 'waiting' ORDER BY priority DESC, queue_rank, seq LIMIT 1 FOR UPDATE SKIP LOCKED",
        )
        .fetch_optional(&mut *work)
        .await?;
        let Some(first) = first else { return Ok(Vec::new()) };
        let source: Uuid = first.try_get("source_id")?;
        let ids: Vec<Uuid> = sqlx::query_scalar(
            "SELECT id FROM runs WHERE source_id = ? AND state = 'waiting' ORDER BY priority DESC, queue_rank, seq LIMIT ? FOR UPDATE SKIP LOCKED",
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

    /// Notes under which temporary names the files of a leased run are written.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_temporaries(&self, lease: Lease, temporaries: &[StoragePath]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        hold(&mut work, lease, "state IN ('running', 'paused', 'checking')").await?;
        keep_temporaries(&mut work, lease.run, temporaries).await?;
        work.commit().await?;
        Ok(())
    }

    /// The files are written and passed their check: keeps what was found, before they are named.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_checking(&self, lease: Lease, report: &CheckReport, facts: &[Facts]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'checking', size = ?, notes = ? WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        );
        let notes = u32::try_from(report.notes()).unwrap_or(u32::MAX);
        let query = query.bind(report.size.0).bind(notes).bind(lease.run).bind(lease.epoch);
        changed(query.execute(&mut *work).await?.rows_affected())?;
        let query = sqlx::query("UPDATE run_documents SET report = ?, reading = ? WHERE run_id = ?");
        query.bind(json::text(report)?).bind(json::text(facts)?).bind(lease.run).execute(&mut *work).await?;
        work.commit().await?;
        Ok(())
    }

    /// The files are written and are not as planned: they wait under these names until a person decides.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn withhold(
        &self,
        lease: Lease,
        files: &[StoragePath],
        report: &CheckReport,
        facts: &[Facts],
        problem: &Problem,
    ) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'withheld', size = ?, problem = ?, lease_owner = NULL, \
             lease_until = NULL, finished = NOW(6) WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        );
        let query = query.bind(report.size.0).bind(json::text(problem)?);
        changed(query.bind(lease.run).bind(lease.epoch).execute(&mut *work).await?.rows_affected())?;
        keep_temporaries(&mut work, lease.run, files).await?;
        let query = sqlx::query("UPDATE run_documents SET report = ?, reading = ? WHERE run_id = ?");
        query.bind(json::text(report)?).bind(json::text(facts)?).bind(lease.run).execute(&mut *work).await?;
        end_attempt(&mut work, lease, &problem.why).await?;
        work.commit().await?;
        Ok(())
    }

    /// A person takes withheld files for good: the run is leased to `owner`, who gives the files their names.
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

    /// Released files could not be named: they wait as before.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn withhold_again(&self, lease: Lease) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET state = 'withheld', released_because = NULL, lease_owner = NULL, lease_until = NULL, \
             finished = NOW(6) WHERE id = ? AND lease_epoch = ? AND state = 'checking'",
        );
        changed(query.bind(lease.run).bind(lease.epoch).execute(&mut *work).await?.rows_affected())?;
        sqlx::query("UPDATE run_files SET target = NULL WHERE run_id = ?").bind(lease.run).execute(&mut *work).await?;
        work.commit().await?;
        Ok(())
    }

    /// Notes the names that the files are about to get, so that after a crash they are found, and which files they are.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn set_targets(&self, lease: Lease, files: &[(StoragePath, Made)]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        hold(&mut work, lease, "state = 'checking'").await?;
        for (place, (target, made)) in (0_u16..).zip(files) {
            let query = sqlx::query(
                "UPDATE run_files SET target = ?, made_file = ?, made_modified = ?, size = ? WHERE run_id = ? AND place = ?",
            );
            let query = query.bind(target.to_string()).bind(made.number).bind(made.modified).bind(made.size);
            query.bind(lease.run).bind(place).execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Ends a leased run: done, failed or cancelled.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn finish(&self, lease: Lease, state: RunState, problem: Option<&Problem>) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let ended = sqlx::query(
            "UPDATE runs SET state = ?, problem = ?, lease_owner = NULL, lease_until = NULL, finished = NOW(6) \
             WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        )
        .bind(state.word())
        .bind(problem.map(json::text).transpose()?)
        .bind(lease.run)
        .bind(lease.epoch)
        .execute(&mut *work)
        .await?;
        changed(ended.rows_affected())?;
        if state == RunState::Done {
            sqlx::query("UPDATE run_files SET temporary = NULL WHERE run_id = ?").bind(lease.run).execute(&mut *work).await?;
        } else {
            forget_files(&mut work, lease.run).await?;
        }
        end_attempt(&mut work, lease, problem.map_or(state.word(), |problem| problem.why.as_str())).await?;
        work.commit().await?;
        Ok(())
    }

    /// Forgets the attempts of runs that ended more than so many days ago, and how far these were in between; the runs stay.
    /// Answers how many attempts.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn clear_attempts(&self, days: u32) -> Result<u64, StoreError> {
        let old = "JOIN runs ON runs.id = run_id WHERE runs.finished < NOW(6) - INTERVAL ? DAY";
        let progress = format!("DELETE run_progress FROM run_progress {old}");
        sqlx::query(AssertSqlSafe(progress)).bind(days).execute(&self.pool).await?;
        let attempts = format!("DELETE attempts FROM attempts {old}");
        Ok(sqlx::query(AssertSqlSafe(attempts)).bind(days).execute(&self.pool).await?.rows_affected())
    }

    /// Keeps the processor time of a job, shared out over its runs by what each was expected to take.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_cpu_seconds(&self, runs: &[Uuid], seconds: f64) -> Result<(), StoreError> {
        if runs.is_empty() {
            return Ok(());
        }
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

    /// Puts a leased run back into the queue, because its engine was lost.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the lease is lost.
    pub async fn put_back(&self, lease: Lease, why: &str) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let put = sqlx::query(
            "UPDATE runs SET state = 'waiting', lease_owner = NULL, lease_until = NULL \
             WHERE id = ? AND lease_epoch = ? AND state IN ('running', 'paused', 'checking')",
        )
        .bind(lease.run)
        .bind(lease.epoch)
        .execute(&mut *work)
        .await?;
        changed(put.rows_affected())?;
        forget_files(&mut work, lease.run).await?;
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
        let mut work = self.pool.begin().await?;
        let query = sqlx::query(
            "UPDATE runs SET lease_owner = NULL, lease_until = NULL WHERE id = ? AND lease_epoch = ? AND state = 'paused'",
        );
        changed(query.bind(lease.run).bind(lease.epoch).execute(&mut *work).await?.rows_affected())?;
        forget_files(&mut work, lease.run).await?;
        work.commit().await?;
        Ok(())
    }
}

fn micros(duration: Duration) -> i64 {
    i64::try_from(duration.as_micros()).unwrap_or(i64::MAX)
}

async fn claimed(work: &mut Transaction<'_, MySql>, id: Uuid) -> Result<Claimed, StoreError> {
    let statement = format!(
        "SELECT {COLUMNS}, run_documents.plan, runs.lease_epoch FROM {TABLES} JOIN run_documents ON run_documents.run_id = runs.id WHERE runs.id = ?"
    );
    let row = sqlx::query(AssertSqlSafe(statement)).bind(id).fetch_one(&mut **work).await?;
    let lease = Lease { run: id, epoch: row.try_get("lease_epoch")? };
    let mut run = run(&row)?;
    run.files = files_of(&mut **work, &[id]).await?.remove(&id).unwrap_or_default();
    Ok(Claimed { lease, run, plan: json::value(row.try_get("plan")?)? })
}

/// Keeps a leased run from changing hands until the transaction ends.
async fn hold(work: &mut Transaction<'_, MySql>, lease: Lease, state: &str) -> Result<(), StoreError> {
    let statement = format!("SELECT 1 FROM runs WHERE id = ? AND lease_epoch = ? AND {state} FOR UPDATE");
    let query = sqlx::query_scalar::<_, i64>(AssertSqlSafe(statement)).bind(lease.run).bind(lease.epoch);
    query.fetch_optional(&mut **work).await?.map(|_| ()).ok_or(StoreError::Changed)
}

/// Notes where the files of a run are; what was known of them before is no longer true.
async fn keep_temporaries(work: &mut Transaction<'_, MySql>, run: Uuid, temporaries: &[StoragePath]) -> Result<(), StoreError> {
    forget_files(work, run).await?;
    for (place, temporary) in (0_u16..).zip(temporaries) {
        let query = sqlx::query("INSERT INTO run_files (run_id, place, temporary) VALUES (?, ?, ?)");
        query.bind(run).bind(place).bind(temporary.to_string()).execute(&mut **work).await?;
    }
    Ok(())
}

async fn forget_files(work: &mut Transaction<'_, MySql>, run: Uuid) -> Result<(), StoreError> {
    sqlx::query("DELETE FROM run_files WHERE run_id = ?").bind(run).execute(&mut **work).await?;
    Ok(())
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

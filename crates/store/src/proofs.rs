//! Proofs.

use beryl_core::after::proof::{ProofResult, ProofState};
use beryl_core::after::quality::FrameQuality;
use beryl_core::plan::Plan;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::Problem;
use chrono::{DateTime, Utc};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use uuid::Uuid;

use crate::{Database, StoreError, json};

/// A proof.
#[derive(Debug, Clone, PartialEq)]
pub struct Proof {
    /// Its id.
    pub id: Uuid,
    /// The sheet.
    pub sheet: Uuid,
    /// The row.
    pub source: Uuid,
    /// The column.
    pub deliverable: Uuid,
    /// The test strip it belongs to.
    pub strip: Option<Uuid>,
    /// What is different in it, in a few words; empty where nothing is.
    pub label: String,
    /// What is different in it, a merge patch above the settings of row and cell.
    pub overrides: PresetPatch,
    /// What it is made by.
    pub plan: Plan,
    /// How far it is.
    pub state: ProofState,
    /// Why it could not be made.
    pub problem: Option<Problem>,
    /// What came out.
    pub result: Option<ProofResult>,
    /// When it was asked for.
    pub created: DateTime<Utc>,
}

/// Proofs of a cell that are kept: the newest.
const MOST_OF_A_CELL: u32 = 60;

const COLUMNS: &str =
    "id, sheet_id, source_id, deliverable_id, strip_id, label, overrides, plan, state, problem, result, created";

fn proof(row: &MySqlRow) -> Result<Proof, sqlx::Error> {
    Ok(Proof {
        id: row.try_get("id")?,
        sheet: row.try_get("sheet_id")?,
        source: row.try_get("source_id")?,
        deliverable: row.try_get("deliverable_id")?,
        strip: row.try_get("strip_id")?,
        label: row.try_get("label")?,
        overrides: json::patch(row.try_get("overrides")?)?.unwrap_or_default(),
        plan: json::value(row.try_get("plan")?)?,
        state: json::value(&format!("\"{}\"", row.try_get::<&str, _>("state")?))?,
        problem: json::optional(row.try_get("problem")?)?,
        result: json::optional(row.try_get("result")?)?,
        created: row.try_get("created")?,
    })
}

impl Database {
    /// Keeps proofs that are to be made.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_proofs(&self, proofs: &[Proof]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        for proof in proofs {
            sqlx::query(
                "INSERT INTO proofs (id, sheet_id, source_id, deliverable_id, strip_id, label, overrides, plan, state) \
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            )
            .bind(proof.id)
            .bind(proof.sheet)
            .bind(proof.source)
            .bind(proof.deliverable)
            .bind(proof.strip)
            .bind(&proof.label)
            .bind(json::text(&proof.overrides)?)
            .bind(json::text(&proof.plan)?)
            .bind(proof.state.word())
            .execute(&mut *work)
            .await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// The proofs of a cell, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn proofs(&self, source: Uuid, deliverable: Uuid) -> Result<Vec<Proof>, StoreError> {
        let statement = format!(
            "SELECT {COLUMNS} FROM proofs WHERE source_id = ? AND deliverable_id = ? ORDER BY created DESC, id DESC LIMIT ?"
        );
        let rows = sqlx::query(AssertSqlSafe(statement))
            .bind(source)
            .bind(deliverable)
            .bind(MOST_OF_A_CELL)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(proof).collect::<Result<_, _>>()?)
    }

    /// All proofs, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn proof_ids(&self) -> Result<Vec<Uuid>, StoreError> {
        Ok(sqlx::query_scalar("SELECT id FROM proofs ORDER BY created DESC, id DESC").fetch_all(&self.pool).await?)
    }

    /// One proof.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn proof(&self, id: Uuid) -> Result<Proof, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM proofs WHERE id = ?");
        let row = sqlx::query(AssertSqlSafe(statement)).bind(id).fetch_optional(&self.pool).await?;
        Ok(proof(&row.ok_or(StoreError::NotFound("proof"))?)?)
    }

    /// The oldest proofs that wait, all of one source, at most so many.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn waiting_proofs(&self, most: u32) -> Result<Vec<Proof>, StoreError> {
        let statement = format!(
            "SELECT {COLUMNS} FROM proofs WHERE state = 'waiting' AND source_id = \
             (SELECT source_id FROM proofs WHERE state = 'waiting' ORDER BY created, id LIMIT 1) ORDER BY created, id LIMIT ?"
        );
        let rows = sqlx::query(AssertSqlSafe(statement)).bind(most).fetch_all(&self.pool).await?;
        Ok(rows.iter().map(proof).collect::<Result<_, _>>()?)
    }

    /// Lets proofs that were being made when the server ended wait again.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn take_up_proofs(&self) -> Result<(), StoreError> {
        sqlx::query("UPDATE proofs SET state = 'waiting' WHERE state = 'running'").execute(&self.pool).await?;
        Ok(())
    }

    /// How near a proof comes to its source, frame by frame.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where it is not made, or has no picture.
    pub async fn proof_curve(&self, id: Uuid) -> Result<Vec<FrameQuality>, StoreError> {
        let row = sqlx::query("SELECT curve FROM proofs WHERE id = ? AND curve IS NOT NULL").bind(id).fetch_optional(&self.pool);
        let row = row.await?.ok_or(StoreError::NotFound("curve of the proof"))?;
        Ok(json::value(row.try_get("curve")?)?)
    }

    /// Keeps that a proof is being made.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn begin_proof(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query("UPDATE proofs SET state = 'running' WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Keeps what came out of a proof, with its frames where it has a picture, or why nothing did.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn end_proof(
        &self,
        id: Uuid,
        outcome: Result<(&ProofResult, &[FrameQuality]), &Problem>,
    ) -> Result<(), StoreError> {
        let state = if outcome.is_ok() { ProofState::Done } else { ProofState::Failed };
        let made = outcome.ok();
        sqlx::query("UPDATE proofs SET state = ?, result = ?, curve = ?, problem = ? WHERE id = ?")
            .bind(state.word())
            .bind(made.map(|(result, _)| json::text(result)).transpose()?)
            .bind(made.map(|(_, frames)| frames).filter(|frames| !frames.is_empty()).map(json::text).transpose()?)
            .bind(outcome.err().map(json::text).transpose()?)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Removes a proof.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn remove_proof(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM proofs WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }
}

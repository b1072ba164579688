//! Sources and what is known of them.

use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::Sequence;
use beryl_core::reading::Reading;
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::{Database, StoreError, json};

/// A source.
#[derive(Debug, Clone, PartialEq)]
pub struct Source {
    /// Its id.
    pub id: Uuid,
    /// The storage it lies in.
    pub storage: Uuid,
    /// The file, or the first image of a sequence.
    pub path: StoragePath,
    /// Set for image sequences.
    pub sequence: Option<Sequence>,
    /// What is known of it.
    pub knowledge: Knowledge,
    /// Whether there is a picture of it.
    pub has_thumbnail: bool,
}

/// What is known of a source.
#[derive(Debug, Clone, PartialEq)]
pub enum Knowledge {
    /// It has not been read yet.
    Unread,
    /// Its facts.
    Read(Box<Reading>),
    /// It cannot be read.
    Unreadable(Problem),
}

pub(crate) const COLUMNS: &str =
    "sources.id, sources.storage_id, sources.path, sources.sequence, sources.reading, sources.problem, sources.has_thumbnail";

pub(crate) fn source(row: &MySqlRow) -> Result<Source, sqlx::Error> {
    let path: String = row.try_get("path")?;
    let reading: Option<Reading> = json::optional(row.try_get("reading")?)?;
    let problem: Option<Problem> = json::optional(row.try_get("problem")?)?;
    Ok(Source {
        id: row.try_get("id")?,
        storage: row.try_get("storage_id")?,
        path: path.parse().map_err(|error| sqlx::Error::Decode(Box::new(error)))?,
        sequence: json::optional(row.try_get("sequence")?)?,
        knowledge: match (reading, problem) {
            (Some(reading), _) => Knowledge::Read(Box::new(reading)),
            (None, Some(problem)) => Knowledge::Unreadable(problem),
            (None, None) => Knowledge::Unread,
        },
        has_thumbnail: row.try_get("has_thumbnail")?,
    })
}

impl Database {
    /// One source.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn source(&self, id: Uuid) -> Result<Source, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM sources WHERE id = ?");
        let row = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(id).fetch_optional(&self.pool).await?;
        Ok(source(&row.ok_or(StoreError::NotFound("source"))?)?)
    }

    /// The id of the source at this place, made where it is new. A sequence that has grown is read again.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn ensure_source(&self, storage: Uuid, path: &StoragePath, sequence: Option<Sequence>) -> Result<Uuid, StoreError> {
        let path = path.to_string();
        let sequence = sequence.map(|sequence| json::text(&sequence)).transpose()?;
        sqlx::query(
            "INSERT INTO sources (id, storage_id, path, sequence) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE \
             state = IF(sequence <=> VALUES(sequence), state, 'waiting'), sequence = VALUES(sequence)",
        )
        .bind(Uuid::now_v7())
        .bind(storage)
        .bind(&path)
        .bind(sequence)
        .execute(&self.pool)
        .await?;
        let id = sqlx::query_scalar("SELECT id FROM sources WHERE storage_id = ? AND path_key = UNHEX(SHA2(?, 256))")
            .bind(storage)
            .bind(&path)
            .fetch_one(&self.pool)
            .await?;
        Ok(id)
    }

    /// Sources that have not been read yet, the oldest first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn unread_sources(&self, most: u32) -> Result<Vec<Source>, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM sources WHERE state = 'waiting' ORDER BY added, id LIMIT ?");
        let rows = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(most).fetch_all(&self.pool).await?;
        Ok(rows.iter().map(source).collect::<Result<_, _>>()?)
    }

    /// Keeps what was found out about a source.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_reading(&self, id: Uuid, outcome: &Result<Reading, Problem>, has_thumbnail: bool) -> Result<(), StoreError> {
        let (state, reading, problem) = match outcome {
            Ok(reading) => ("read", Some(json::text(reading)?), None),
            Err(problem) => ("unreadable", None, Some(json::text(problem)?)),
        };
        sqlx::query("UPDATE sources SET state = ?, reading = ?, problem = ?, has_thumbnail = ? WHERE id = ?")
            .bind(state)
            .bind(reading)
            .bind(problem)
            .bind(has_thumbnail)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

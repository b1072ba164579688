//! Sources and what is known of them.

use std::collections::HashMap;
use std::sync::Arc;

use beryl_core::after::sample::{MOST_SAMPLES, Sample};
use beryl_core::findings::Curves;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::Sequence;
use beryl_core::reading::Reading;
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::{Database, ROWS_AT_ONCE, StoreError, json};

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
    /// How far it was scanned.
    pub scan: ScanState,
    /// Of the same file, which one it is: a file whose parts become outputs of their own stands in
    /// several rows. 0 for the first.
    pub copy: u32,
}

impl Source {
    /// Its name for people, which tells several of one file apart.
    #[must_use]
    pub fn name(&self) -> String {
        let name = self.path.name();
        if self.copy == 0 { name } else { format!("{name} · part {}", self.copy + 1) }
    }

    /// The stem of the names of its outputs.
    #[must_use]
    pub fn stem(&self) -> String {
        let stem = self.path.stem();
        if self.copy == 0 { stem } else { format!("{stem}_part{}", self.copy + 1) }
    }
}

/// How far a source was scanned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ScanState {
    /// Not yet.
    Waiting,
    /// Evenly spread parts of it.
    Parts,
    /// All of it.
    Whole,
    /// It cannot be scanned.
    Failed,
}

impl ScanState {
    /// As it is kept and told.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Parts => "parts",
            Self::Whole => "whole",
            Self::Failed => "failed",
        }
    }
}

/// What is known of a source that was read.
#[derive(Debug, Clone, PartialEq)]
pub struct Known {
    /// Its facts and findings.
    pub reading: Reading,
    /// What proofs have shown of how much its pictures weigh.
    pub samples: Vec<Sample>,
}

/// Whether a source was read, and what is known of it.
#[derive(Debug, Clone, PartialEq)]
pub enum Knowledge {
    /// It has not been read yet.
    Unread,
    /// Its reading, and what proofs have shown.
    Read(Arc<Known>),
    /// It cannot be read.
    Unreadable(Problem),
}

/// Without its documents, which can be large: what is known of a source is remembered by their digest.
pub(crate) const COLUMNS: &str = "sources.id, sources.storage_id, sources.path, sources.sequence, sources.documents, sources.problem, \
     sources.has_thumbnail, sources.scan, sources.copy";

/// The digest of a source's documents; it has none before it is read.
fn digest(row: &MySqlRow) -> Result<Option<(Uuid, Vec<u8>)>, sqlx::Error> {
    let digest: Option<Vec<u8>> = row.try_get("documents")?;
    let id = row.try_get("id")?;
    Ok(digest.map(|digest| (id, digest)))
}

fn source(row: &MySqlRow, readings: &HashMap<Uuid, Arc<Known>>) -> Result<Source, sqlx::Error> {
    let id = row.try_get("id")?;
    let path: String = row.try_get("path")?;
    let problem: Option<Problem> = json::optional(row.try_get("problem")?)?;
    Ok(Source {
        id,
        storage: row.try_get("storage_id")?,
        path: path.parse().map_err(|error| sqlx::Error::Decode(Box::new(error)))?,
        sequence: json::optional(row.try_get("sequence")?)?,
        knowledge: match (readings.get(&id), problem) {
            (Some(reading), _) => Knowledge::Read(Arc::clone(reading)),
            (None, Some(problem)) => Knowledge::Unreadable(problem),
            (None, None) => Knowledge::Unread,
        },
        has_thumbnail: row.try_get("has_thumbnail")?,
        scan: json::value(&format!("\"{}\"", row.try_get::<&str, _>("scan")?))?,
        copy: row.try_get("copy")?,
    })
}

impl Database {
    /// The sources of rows that have at least these [`COLUMNS`], in their order.
    pub(crate) async fn sources_of(&self, rows: &[MySqlRow]) -> Result<Vec<Source>, StoreError> {
        let digests: Vec<(Uuid, Vec<u8>)> = rows.iter().filter_map(|row| digest(row).transpose()).collect::<Result<_, _>>()?;
        let known = self.readings.of(&digests);
        let mut readings: HashMap<Uuid, Arc<Known>> = HashMap::with_capacity(rows.len());
        let mut unknown = Vec::new();
        for ((id, _), known) in digests.iter().zip(known) {
            match known {
                Some(reading) => drop(readings.insert(*id, reading)),
                None => unknown.push(*id),
            }
        }
        for some in unknown.chunks(ROWS_AT_ONCE) {
            let mut query = sqlx::QueryBuilder::new("SELECT id, documents, reading, samples FROM sources WHERE id IN ");
            query.push_tuples(some, |mut row, id| {
                row.push_bind(id);
            });
            for row in &query.build().fetch_all(&self.pool).await? {
                let Some((id, digest)) = digest(row)? else { continue };
                let (document, samples): (&str, Option<&str>) = (row.try_get("reading")?, row.try_get("samples")?);
                let reading = Arc::new(Known {
                    reading: json::value(document)?,
                    samples: samples.map_or_else(|| Ok(Vec::new()), json::value)?,
                });
                self.readings.keep(id, digest, document.len() + samples.map_or(0, str::len), &reading);
                readings.insert(id, reading);
            }
        }
        Ok(rows.iter().map(|row| source(row, &readings)).collect::<Result<_, _>>()?)
    }

    /// Whether a file is a source, in any sheet or watch folder.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn is_source(&self, storage: Uuid, path: &StoragePath) -> Result<bool, StoreError> {
        let known: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM sources WHERE storage_id = ? AND path = ?")
            .bind(storage)
            .bind(path.to_string())
            .fetch_one(&self.pool)
            .await?;
        Ok(known > 0)
    }

    /// One source.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn source(&self, id: Uuid) -> Result<Source, StoreError> {
        let statement = format!("SELECT {COLUMNS} FROM sources WHERE id = ?");
        let rows = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(id).fetch_all(&self.pool).await?;
        self.sources_of(&rows).await?.pop().ok_or(StoreError::NotFound("source"))
    }

    /// The id of the source at this place, made where it is new. A sequence that has grown is read again; its first
    /// image alone is another source.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn ensure_source(&self, storage: Uuid, path: &StoragePath, sequence: Option<Sequence>) -> Result<Uuid, StoreError> {
        let path = path.to_string();
        let key = if sequence.is_some() { format!("{path} as a sequence") } else { path.clone() };
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
        let id =
            sqlx::query_scalar("SELECT id FROM sources WHERE storage_id = ? AND path_key = UNHEX(SHA2(?, 256)) AND copy = 0")
                .bind(storage)
                .bind(&key)
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
        self.sources_of(&rows).await
    }

    /// The next source to be scanned: first those of which nothing is known, then, where `whole` ones
    /// are wanted, those of which parts are known.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn next_to_scan(&self, whole: bool) -> Result<Option<Source>, StoreError> {
        for scan in ["waiting", "parts"].iter().take(if whole { 2 } else { 1 }) {
            let statement = format!("SELECT {COLUMNS} FROM sources WHERE state = 'read' AND scan = ? ORDER BY added, id LIMIT 1");
            let rows = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(*scan).fetch_all(&self.pool).await?;
            if let Some(next) = self.sources_of(&rows).await?.pop() {
                return Ok(Some(next));
            }
        }
        Ok(None)
    }

    /// Keeps what a scan found, with the curves behind it; of a scan that failed, only that it did.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_scan(&self, id: Uuid, state: ScanState, found: Option<(&Reading, &Curves)>) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        if let Some((reading, curves)) = found {
            sqlx::query("UPDATE sources SET reading = ? WHERE id = ?")
                .bind(json::text(reading)?)
                .bind(id)
                .execute(&mut *work)
                .await?;
            sqlx::query("REPLACE INTO source_curves (source_id, curves) VALUES (?, ?)")
                .bind(id)
                .bind(json::text(curves)?)
                .execute(&mut *work)
                .await?;
        }
        sqlx::query("UPDATE sources SET scan = ? WHERE id = ?").bind(state.word()).bind(id).execute(&mut *work).await?;
        work.commit().await?;
        Ok(())
    }

    /// Keeps what proofs have shown of a source, beside what earlier ones did; of too many the newest.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_samples(&self, id: Uuid, new: &[Sample]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let row = sqlx::query("SELECT samples FROM sources WHERE id = ? FOR UPDATE").bind(id).fetch_optional(&mut *work).await?;
        let Some(row) = row else { return Ok(()) };
        let mut samples: Vec<Sample> = json::optional(row.try_get("samples")?)?.unwrap_or_default();
        samples.extend_from_slice(new);
        samples.drain(..samples.len().saturating_sub(MOST_SAMPLES));
        sqlx::query("UPDATE sources SET samples = ? WHERE id = ?")
            .bind(json::text(&samples)?)
            .bind(id)
            .execute(&mut *work)
            .await?;
        work.commit().await?;
        Ok(())
    }

    /// The curves of a source; nothing where it was not scanned.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn curves(&self, id: Uuid) -> Result<Option<Curves>, StoreError> {
        let row = sqlx::query("SELECT curves FROM source_curves WHERE source_id = ?").bind(id).fetch_optional(&self.pool).await?;
        Ok(row.map(|row| json::value(row.try_get("curves")?)).transpose()?)
    }

    /// Keeps what was found out about a source; what an earlier scan found is to be found anew.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_reading(&self, id: Uuid, outcome: &Result<Reading, Problem>, has_thumbnail: bool) -> Result<(), StoreError> {
        let (state, reading, problem) = match outcome {
            Ok(reading) => ("read", Some(json::text(reading)?), None),
            Err(problem) => ("unreadable", None, Some(json::text(problem)?)),
        };
        sqlx::query("UPDATE sources SET state = ?, reading = ?, problem = ?, has_thumbnail = ?, scan = 'waiting', samples = NULL WHERE id = ?")
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

//! Presets of the house, with every version in which they were saved; the built-in ones are part of the program.

use beryl_core::preset::Preset;
use chrono::{DateTime, Utc};
use sqlx::{MySqlConnection, Row};

use crate::{Database, StoreError, json};

/// A preset of the house.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnPreset {
    /// As it is now.
    pub preset: Preset,
    /// The number of its newest version, from 1.
    pub version: u32,
}

/// A preset as it was saved once.
#[derive(Debug, Clone, PartialEq)]
pub struct PresetVersion {
    /// From 1.
    pub number: u32,
    /// As it was, under the id that it has now.
    pub preset: Preset,
    /// When it was saved.
    pub saved: DateTime<Utc>,
}

impl Database {
    /// The presets of the house, by id.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn own_presets(&self) -> Result<Vec<OwnPreset>, StoreError> {
        let rows = sqlx::query(
            "SELECT document, (SELECT MAX(number) FROM preset_versions WHERE preset_id = presets.id) AS version \
             FROM presets ORDER BY id",
        )
        .fetch_all(&self.pool)
        .await?;
        let own = |row: &sqlx::mysql::MySqlRow| {
            let version = row.try_get::<Option<u32>, _>("version")?.unwrap_or(1);
            Ok(OwnPreset { preset: json::value(row.try_get("document")?)?, version })
        };
        Ok(rows.iter().map(own).collect::<Result<_, sqlx::Error>>()?)
    }

    /// Saves a preset under its id; one that has this id becomes another version of it. Answers its number.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_preset(&self, preset: &Preset) -> Result<u32, StoreError> {
        let mut work = self.pool.begin().await?;
        sqlx::query("INSERT INTO presets (id, document) VALUES (?, ?) ON DUPLICATE KEY UPDATE document = VALUES(document)")
            .bind(&preset.id)
            .bind(json::text(preset)?)
            .execute(&mut *work)
            .await?;
        let version = add_version(&mut work, preset).await?;
        work.commit().await?;
        Ok(version)
    }

    /// Changes the preset with an id, its id too: its versions go with it. Answers the number of the new version.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id, [`StoreError::NameTaken`] where another one has the new id.
    pub async fn change_preset(&self, id: &str, preset: &Preset) -> Result<u32, StoreError> {
        let mut work = self.pool.begin().await?;
        let changed = sqlx::query("UPDATE presets SET id = ?, document = ?, changed = CURRENT_TIMESTAMP(6) WHERE id = ?")
            .bind(&preset.id)
            .bind(json::text(preset)?)
            .bind(id)
            .execute(&mut *work)
            .await
            .map_err(|error| StoreError::or_taken(error, &preset.id))?;
        if changed.rows_affected() == 0 {
            return Err(StoreError::NotFound("preset"));
        }
        if preset.id != id {
            // One that was removed may have left versions under the new id: these come behind them.
            let left: u32 = newest(&mut work, &preset.id).await?.map_or(0, |(number, _)| number);
            sqlx::query("UPDATE preset_versions SET preset_id = ?, number = number + ? WHERE preset_id = ? ORDER BY number DESC")
                .bind(&preset.id)
                .bind(left)
                .bind(id)
                .execute(&mut *work)
                .await?;
        }
        let version = add_version(&mut work, preset).await?;
        work.commit().await?;
        Ok(version)
    }

    /// The versions of a preset of the house, the newest first.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn preset_versions(&self, id: &str) -> Result<Vec<PresetVersion>, StoreError> {
        let rows = sqlx::query("SELECT number, document, saved FROM preset_versions WHERE preset_id = ? ORDER BY number DESC")
            .bind(id)
            .fetch_all(&self.pool)
            .await?;
        if rows.is_empty() {
            return Err(StoreError::NotFound("preset"));
        }
        let version = |row: &sqlx::mysql::MySqlRow| {
            let mut preset: Preset = json::value(row.try_get("document")?)?;
            id.clone_into(&mut preset.id);
            Ok(PresetVersion { number: row.try_get("number")?, preset, saved: row.try_get("saved")? })
        };
        Ok(rows.iter().map(version).collect::<Result<_, sqlx::Error>>()?)
    }

    /// Removes a preset of the house. Columns made from it keep their own copy, and its versions stay: saved again
    /// under its id, it has them.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn remove_preset(&self, id: &str) -> Result<(), StoreError> {
        let removed = sqlx::query("DELETE FROM presets WHERE id = ?").bind(id).execute(&self.pool).await?;
        if removed.rows_affected() == 0 { Err(StoreError::NotFound("preset")) } else { Ok(()) }
    }
}

/// The newest version of a preset: its number and its document.
async fn newest(work: &mut MySqlConnection, id: &str) -> Result<Option<(u32, String)>, StoreError> {
    let statement = "SELECT number, document FROM preset_versions WHERE preset_id = ? ORDER BY number DESC LIMIT 1 FOR UPDATE";
    Ok(sqlx::query_as(statement).bind(id).fetch_optional(work).await?)
}

/// Keeps a preset as a version, unless the newest is just that. Answers the number of the newest.
async fn add_version(work: &mut MySqlConnection, preset: &Preset) -> Result<u32, StoreError> {
    let document = json::text(preset)?;
    let number = match newest(work, &preset.id).await? {
        Some((number, known)) if known == document => return Ok(number),
        Some((number, _)) => number + 1,
        None => 1,
    };
    sqlx::query("INSERT INTO preset_versions (preset_id, number, document) VALUES (?, ?, ?)")
        .bind(&preset.id)
        .bind(number)
        .bind(document)
        .execute(work)
        .await?;
    Ok(number)
}

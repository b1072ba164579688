//! Presets of the house; the built-in ones are part of the program.

use beryl_core::preset::Preset;
use sqlx::Row;

use crate::{Database, StoreError, json};

impl Database {
    /// The presets of the house, by id.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn own_presets(&self) -> Result<Vec<Preset>, StoreError> {
        let rows = sqlx::query("SELECT document FROM presets ORDER BY id").fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| json::value(row.try_get("document")?)).collect::<Result<_, _>>()?)
    }

    /// Saves a preset under its id.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_preset(&self, preset: &Preset) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO presets (id, document) VALUES (?, ?) ON DUPLICATE KEY UPDATE document = VALUES(document)")
            .bind(&preset.id)
            .bind(json::text(preset)?)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Removes a preset of the house. Columns made from it keep their own copy.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn remove_preset(&self, id: &str) -> Result<(), StoreError> {
        let removed = sqlx::query("DELETE FROM presets WHERE id = ?").bind(id).execute(&self.pool).await?;
        if removed.rows_affected() == 0 { Err(StoreError::NotFound("preset")) } else { Ok(()) }
    }
}

//! Settings of the whole house.

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::{Database, StoreError, json};

impl Database {
    /// The setting with this name, where it was ever saved.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn setting<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>, StoreError> {
        let text: Option<String> =
            sqlx::query_scalar("SELECT value FROM settings WHERE name = ?").bind(name).fetch_optional(&self.pool).await?;
        Ok(json::optional(text)?)
    }

    /// Saves a setting.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_setting(&self, name: &str, value: &(impl Serialize + Sync)) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO settings (name, value) VALUES (?, ?) ON DUPLICATE KEY UPDATE value = VALUES(value)")
            .bind(name)
            .bind(json::text(value)?)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

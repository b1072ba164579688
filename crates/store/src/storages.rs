//! Named root folders.

use beryl_core::path::StoragePath;
use beryl_core::storage::{StorageName, StorageRoot};
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::{Database, StoreError};

/// A named root folder that may be read from and written to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Storage {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder on this machine.
    pub root: String,
    /// Whether it is kept for what was made and is not offered for anything new.
    pub is_retired: bool,
    /// Whether a marker lies at its root, without which it is not there.
    pub is_marked: bool,
}

impl Storage {
    /// As engines are told of it.
    #[must_use]
    pub fn named(&self) -> StorageName {
        StorageName { id: self.id, name: self.name.clone() }
    }

    /// Where it is on this machine.
    #[must_use]
    pub fn placed(&self) -> StorageRoot {
        StorageRoot { id: self.id, folder: self.root.clone(), is_marked: self.is_marked }
    }
}

fn storage(row: &MySqlRow) -> Result<Storage, sqlx::Error> {
    Ok(Storage {
        id: row.try_get("id")?,
        name: row.try_get("name")?,
        root: row.try_get("root")?,
        is_retired: row.try_get("is_retired")?,
        is_marked: row.try_get("is_marked")?,
    })
}

impl Database {
    /// All storages by name.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn storages(&self) -> Result<Vec<Storage>, StoreError> {
        let rows = sqlx::query("SELECT * FROM storages ORDER BY name").fetch_all(&self.pool).await?;
        Ok(rows.iter().map(storage).collect::<Result<_, _>>()?)
    }

    /// One storage.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn storage(&self, id: Uuid) -> Result<Storage, StoreError> {
        let row = sqlx::query("SELECT * FROM storages WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        Ok(storage(&row.ok_or(StoreError::NotFound("storage"))?)?)
    }

    /// Adds a storage.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`] where another one bears the name.
    pub async fn add_storage(&self, name: &str, root: &str) -> Result<Storage, StoreError> {
        let id = Uuid::now_v7();
        sqlx::query("INSERT INTO storages (id, name, root) VALUES (?, ?, ?)")
            .bind(id)
            .bind(name)
            .bind(root)
            .execute(&self.pool)
            .await
            .map_err(|error| StoreError::or_taken(error, name))?;
        Ok(Storage { id, name: name.to_owned(), root: root.to_owned(), is_retired: false, is_marked: false })
    }

    /// Retires a storage, or takes it into use again.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn retire_storage(&self, id: Uuid, is_retired: bool) -> Result<(), StoreError> {
        let query = sqlx::query("UPDATE storages SET is_retired = ? WHERE id = ?").bind(is_retired).bind(id);
        if query.execute(&self.pool).await?.rows_affected() == 0 { Err(StoreError::NotFound("storage")) } else { Ok(()) }
    }

    /// Notes that a storage bears a marker.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn set_storage_marked(&self, id: Uuid) -> Result<(), StoreError> {
        let query = sqlx::query("UPDATE storages SET is_marked = TRUE WHERE id = ?").bind(id);
        if query.execute(&self.pool).await?.rows_affected() == 0 { Err(StoreError::NotFound("storage")) } else { Ok(()) }
    }

    /// Forgets a storage; its files stay.
    ///
    /// # Errors
    /// [`StoreError::InUse`] where sources or outputs refer to it.
    pub async fn remove_storage(&self, id: Uuid) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        // Watch folders that were removed hold nobody back.
        sqlx::query("DELETE FROM watch_folders WHERE removed AND (storage_id = ? OR destination_storage_id = ?)")
            .bind(id)
            .bind(id)
            .execute(&mut *work)
            .await?;
        let removed = sqlx::query("DELETE FROM storages WHERE id = ?").bind(id).execute(&mut *work).await;
        let removed = removed.map_err(|error| StoreError::or_in_use(error, "the storage"))?;
        if removed.rows_affected() == 0 {
            return Err(StoreError::NotFound("storage"));
        }
        Ok(work.commit().await?)
    }
}

/// The path of a storage that a column holds.
pub(crate) fn stored_path(row: &MySqlRow, column: &str) -> Result<StoragePath, sqlx::Error> {
    let text: String = row.try_get(column)?;
    text.parse().map_err(|error| sqlx::Error::Decode(Box::new(error)))
}

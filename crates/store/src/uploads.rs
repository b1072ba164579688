//! Files on their way from a browser into a storage.

use beryl_core::path::StoragePath;
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::storages::stored_path;
use crate::{Database, StoreError};

/// A file on its way. How much of it has come is told by the size of its temporary file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Upload {
    /// Its id.
    pub id: Uuid,
    /// The storage it goes to.
    pub storage: Uuid,
    /// The path it shall get there; where that is taken, it gets a number.
    pub wanted: StoragePath,
    /// Bytes of the whole.
    pub length: u64,
    /// The path that it was about to get when it was whole: after a crash the file is found there.
    pub target: Option<StoragePath>,
    /// The path it got, once it is whole.
    pub placed: Option<StoragePath>,
}

fn upload(row: &MySqlRow) -> Result<Upload, sqlx::Error> {
    let path = |column| {
        let text: Option<String> = row.try_get(column)?;
        text.map(|_| stored_path(row, column)).transpose()
    };
    Ok(Upload {
        id: row.try_get("id")?,
        storage: row.try_get("storage_id")?,
        wanted: stored_path(row, "wanted")?,
        length: row.try_get("length")?,
        target: path("target")?,
        placed: path("placed")?,
    })
}

impl Database {
    /// One upload.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn upload(&self, id: Uuid) -> Result<Upload, StoreError> {
        let row = sqlx::query("SELECT * FROM uploads WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        Ok(upload(&row.ok_or(StoreError::NotFound("upload"))?)?)
    }

    /// Notes a file that is going to come.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_upload(&self, storage: Uuid, wanted: &StoragePath, length: u64) -> Result<Upload, StoreError> {
        let id = Uuid::now_v7();
        sqlx::query("INSERT INTO uploads (id, storage_id, wanted, length) VALUES (?, ?, ?, ?)")
            .bind(id)
            .bind(storage)
            .bind(wanted.to_string())
            .bind(length)
            .execute(&self.pool)
            .await?;
        Ok(Upload { id, storage, wanted: wanted.clone(), length, target: None, placed: None })
    }

    /// Notes the path that a whole file is about to get.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_upload_target(&self, id: Uuid, target: &StoragePath) -> Result<(), StoreError> {
        sqlx::query("UPDATE uploads SET target = ? WHERE id = ?").bind(target.to_string()).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// The file is whole and has this path.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn finish_upload(&self, id: Uuid, placed: &StoragePath) -> Result<(), StoreError> {
        sqlx::query("UPDATE uploads SET placed = ? WHERE id = ?").bind(placed.to_string()).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets an upload.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn remove_upload(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM uploads WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Uploads that were begun longer than `days` ago and never came to their end.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn abandoned_uploads(&self, days: u32) -> Result<Vec<Upload>, StoreError> {
        let rows = sqlx::query("SELECT * FROM uploads WHERE placed IS NULL AND begun < NOW(6) - INTERVAL ? DAY")
            .bind(days)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(upload).collect::<Result<_, _>>()?)
    }
}

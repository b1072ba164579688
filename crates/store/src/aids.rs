//! Aids: files that presets refer to by name, look-up tables and pictures.

use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::{Database, StoreError};

/// What an aid is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AidKind {
    /// A look-up table.
    Lut,
    /// A picture.
    Picture,
}

impl AidKind {
    /// The word that is stored.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Lut => "lut",
            Self::Picture => "picture",
        }
    }
}

/// An aid, without its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aid {
    /// Its id; another content under the same name has another one.
    pub id: Uuid,
    /// What it is.
    pub kind: AidKind,
    /// Its name, which presets call it by.
    pub name: String,
    /// What is known of it, in a few words.
    pub detail: String,
}

fn aid(row: &MySqlRow) -> Result<Aid, sqlx::Error> {
    let kind = if row.try_get::<&str, _>("kind")? == AidKind::Lut.word() { AidKind::Lut } else { AidKind::Picture };
    Ok(Aid { id: row.try_get("id")?, kind, name: row.try_get("name")?, detail: row.try_get("detail")? })
}

impl Database {
    /// All aids, by kind and name.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn aids(&self) -> Result<Vec<Aid>, StoreError> {
        let rows = sqlx::query("SELECT id, kind, name, detail FROM aids ORDER BY kind, name").fetch_all(&self.pool).await?;
        Ok(rows.iter().map(aid).collect::<Result<_, _>>()?)
    }

    /// The aid of a kind and name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none.
    pub async fn aid(&self, kind: AidKind, name: &str) -> Result<Aid, StoreError> {
        let query = sqlx::query("SELECT id, kind, name, detail FROM aids WHERE kind = ? AND name = ?");
        let row = query.bind(kind.word()).bind(name).fetch_optional(&self.pool).await?;
        Ok(aid(&row.ok_or(StoreError::NotFound("file of this name"))?)?)
    }

    /// The bytes of an aid.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn aid_bytes(&self, id: Uuid) -> Result<Vec<u8>, StoreError> {
        let bytes = sqlx::query_scalar("SELECT bytes FROM aids WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        bytes.ok_or(StoreError::NotFound("file of this name"))
    }

    /// Keeps an aid; one that has the name is replaced.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_aid(&self, aid: &Aid, bytes: &[u8]) -> Result<(), StoreError> {
        sqlx::query("REPLACE INTO aids (id, kind, name, detail, bytes) VALUES (?, ?, ?, ?, ?)")
            .bind(aid.id)
            .bind(aid.kind.word())
            .bind(&aid.name)
            .bind(&aid.detail)
            .bind(bytes)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Removes an aid.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn remove_aid(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM aids WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }
}

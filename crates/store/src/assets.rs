//! Assets: files that presets refer to by name, look-up tables and pictures.

use sqlx::Row;
use sqlx::mysql::MySqlRow;
use uuid::Uuid;

use crate::{Database, StoreError};

/// What an asset is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AssetKind {
    /// A look-up table.
    Lut,
    /// A picture.
    Picture,
}

impl AssetKind {
    /// The word that is stored.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Lut => "lut",
            Self::Picture => "picture",
        }
    }
}

/// An asset, without its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asset {
    /// Its id; another content under the same name has another one.
    pub id: Uuid,
    /// What it is.
    pub kind: AssetKind,
    /// Its name, which presets call it by.
    pub name: String,
    /// What is known of it, in a few words.
    pub detail: String,
}

fn asset(row: &MySqlRow) -> Result<Asset, sqlx::Error> {
    let kind = if row.try_get::<&str, _>("kind")? == AssetKind::Lut.word() { AssetKind::Lut } else { AssetKind::Picture };
    Ok(Asset { id: row.try_get("id")?, kind, name: row.try_get("name")?, detail: row.try_get("detail")? })
}

impl Database {
    /// All assets, by kind and name.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn assets(&self) -> Result<Vec<Asset>, StoreError> {
        let rows = sqlx::query("SELECT id, kind, name, detail FROM assets ORDER BY kind, name").fetch_all(&self.pool).await?;
        Ok(rows.iter().map(asset).collect::<Result<_, _>>()?)
    }

    /// The asset of a kind and name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none.
    pub async fn asset(&self, kind: AssetKind, name: &str) -> Result<Asset, StoreError> {
        let query = sqlx::query("SELECT id, kind, name, detail FROM assets WHERE kind = ? AND name = ?");
        let row = query.bind(kind.word()).bind(name).fetch_optional(&self.pool).await?;
        Ok(asset(&row.ok_or(StoreError::NotFound("file of this name"))?)?)
    }

    /// The bytes of an asset.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn asset_bytes(&self, id: Uuid) -> Result<Vec<u8>, StoreError> {
        let bytes = sqlx::query_scalar("SELECT bytes FROM assets WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        bytes.ok_or(StoreError::NotFound("file of this name"))
    }

    /// Keeps an asset; one that has the name is replaced.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_asset(&self, asset: &Asset, bytes: &[u8]) -> Result<(), StoreError> {
        sqlx::query("REPLACE INTO assets (id, kind, name, detail, bytes) VALUES (?, ?, ?, ?, ?)")
            .bind(asset.id)
            .bind(asset.kind.word())
            .bind(&asset.name)
            .bind(&asset.detail)
            .bind(bytes)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Removes an asset.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn remove_asset(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM assets WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }
}

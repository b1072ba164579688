//! Files that plans call by name, brought from the database to where engines can read them.

use std::collections::BTreeSet;

use beryl_core::lut::FENMARK_LOG;
use beryl_core::path::StoragePath;
use beryl_core::plan::{AssetName, Step};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Asset, FileRef};
use beryl_store::assets::AssetKind;
use beryl_store::{Database, StoreError};

use crate::cache::Cache;

/// Brings files that plans call by name to where engines can read them.
#[derive(Debug, Clone)]
pub(crate) struct Assets {
    pub(crate) database: Database,
    pub(crate) cache: Cache,
}

impl Assets {
    /// The files that these steps need.
    pub(crate) async fn assets_for(&self, steps: &[Step]) -> Result<Vec<Asset>, Problem> {
        let names: BTreeSet<AssetName<'_>> = steps.iter().filter_map(Step::asset).collect();
        let mut assets = Vec::new();
        for wanted in names {
            let (kind, name) = match wanted {
                // It ships with the program.
                AssetName::Lut(FENMARK_LOG) => continue,
                AssetName::Lut(name) => (AssetKind::Lut, name),
                AssetName::Picture(name) => (AssetKind::Picture, name),
            };
            let file = self.bring(kind, name).await?;
            assets.push(Asset { name: name.to_owned(), file });
        }
        Ok(assets)
    }

    async fn bring(&self, kind: AssetKind, name: &str) -> Result<FileRef, Problem> {
        let what = || format!("“{name}” could not be used");
        let missing = |error: StoreError| match error {
            StoreError::NotFound(_) => Problem::new(ProblemKind::Missing, what(), "there is no table or picture of this name")
                .with_next("Add it in the settings, or choose another."),
            other => Problem::new(ProblemKind::EngineLost, what(), other.to_string()),
        };
        let asset = self.database.asset(kind, name).await.map_err(missing)?;
        // Another content has another id, so what is there once stays right.
        let path: StoragePath = format!("asset-{}", asset.id).parse().unwrap_or_default();
        let file = self.cache.file(&path);
        if !file.is_file() {
            let bytes = self.database.asset_bytes(asset.id).await.map_err(missing)?;
            let temporary = self.cache.folder().join(format!("asset-{}.{}.part", asset.id, uuid::Uuid::now_v7()));
            let written = async {
                tokio::fs::write(&temporary, bytes).await?;
                tokio::fs::rename(&temporary, &file).await
            };
            written.await.map_err(|error| Problem::from_io(what(), &error))?;
        }
        Ok(self.cache.reference(path))
    }
}

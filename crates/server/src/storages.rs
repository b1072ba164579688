//! Storages as the server has them in hand: their markers, and who has to know where they are.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use beryl_core::problem::Problem;
use beryl_core::storage::{MARKER, with_storage};
use beryl_store::storages::Storage;
use beryl_store::{Database, StoreError};
use beryl_worker::KnownStorages;

use crate::door::{Door, marker_in};

/// Keeps door and engines informed of all storages, and their markers in place.
#[derive(Debug, Clone)]
pub(crate) struct Storages {
    pub(crate) database: Database,
    pub(crate) door: Arc<Door>,
    /// Where storages are, for engines.
    pub(crate) known: KnownStorages,
}

impl Storages {
    /// Tells the door and the engines of all storages as they are now.
    pub(crate) async fn tell(&self) -> Result<(), StoreError> {
        let all = self.database.storages().await?;
        let marked: Vec<_> = all
            .iter()
            .filter(|storage| storage.is_marked)
            .map(|storage| (PathBuf::from(&storage.root), storage.named()))
            .collect();
        self.door.set_marked(&marked);
        self.known.set(all.iter().map(Storage::placed).collect());
        Ok(())
    }

    /// Gives markers to storages that have none yet: those of earlier versions. An empty folder may be a mount point.
    pub(crate) async fn mark_those_without(&self) -> Result<(), StoreError> {
        for storage in self.database.storages().await?.into_iter().filter(|storage| !storage.is_marked) {
            let root = PathBuf::from(&storage.root);
            let folder = root.clone();
            let looking = move || Ok(std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some()));
            if self.door.in_any_folder(&root, looking).await == Ok(true)
                && let Err(problem) = self.mark(&storage).await
            {
                tracing::info!(%problem, "a storage goes without a marker");
            }
        }
        self.tell().await
    }

    /// Puts a marker into the folder of a storage, which is taken for the right one.
    pub(crate) async fn mark(&self, storage: &Storage) -> Result<(), Problem> {
        let root = PathBuf::from(&storage.root);
        let name = storage.named();
        let written = self.door.in_any_folder(&root, {
            let root = root.clone();
            move || {
                write_marker(&root, |marker| with_storage(marker, &name))
                    .map_err(|error| Problem::from_io(format!("the storage “{}” could not be marked", name.name), &error))
            }
        });
        written.await?;
        let noted = self.database.set_storage_marked(storage.id).await;
        noted.map_err(|error| Problem::from_io("the marker could not be noted", &std::io::Error::other(error)))
    }
}

/// The marker is whole or not there.
fn write_marker(root: &Path, text: impl FnOnce(&str) -> String) -> std::io::Result<()> {
    let text = text(&marker_in(root)?);
    let temporary = root.join(format!("{MARKER}.{}", uuid::Uuid::now_v7()));
    std::fs::write(&temporary, text)?;
    std::fs::rename(&temporary, root.join(MARKER)).inspect_err(|_| drop(std::fs::remove_file(&temporary)))
}

//! The cache: the names of its files, and their upkeep. What nothing belongs to any more goes, and so do the oldest proofs where all together
//! weigh too much.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use beryl_core::after::proof::beyond;
use beryl_core::path::StoragePath;
use beryl_core::protocol::FileRef;
use beryl_core::units::ByteSize;
use beryl_store::proofs::Proof;
use beryl_store::{Database, StoreError};
use uuid::Uuid;

use crate::events::{Change, Hub};

/// What proofs may weigh together.
const MOST_OF_PROOFS: ByteSize = ByteSize(20_000_000_000);

/// What small pictures may weigh together: a few hundred thousand of them.
pub(crate) const MOST_OF_PICTURES: ByteSize = ByteSize(2_000_000_000);

/// The file of a proof in the cache.
pub(crate) fn proof_name(proof: &Proof) -> StoragePath {
    format!("proof-{}.{}", proof.id, proof.plan.container.extension()).parse().unwrap_or_default()
}

/// The film of a proof and its source.
pub(crate) fn film_name(proof: &Proof) -> StoragePath {
    format!("proof-{}-both.mp4", proof.id).parse().unwrap_or_default()
}

/// Where something for the cache is written before it gets its name.
pub(crate) fn temporary_in_cache(id: &Uuid) -> StoragePath {
    format!(".beryl-{id}.part").parse().unwrap_or_default()
}

/// The folder for what can be made again.
#[derive(Debug, Clone)]
pub(crate) struct Cache {
    pub(crate) folder: PathBuf,
    pub(crate) database: Database,
    pub(crate) hub: Arc<Hub>,
}

impl Cache {
    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(crate) fn file(&self, name: &StoragePath) -> PathBuf {
        self.folder.join(name.to_string())
    }

    /// A file of the cache as engines are told of it.
    pub(crate) fn reference(&self, name: StoragePath) -> FileRef {
        FileRef::within(self.folder.display().to_string(), name)
    }

    /// Removes the files of a proof.
    pub(crate) fn clear_proof(&self, proof: &Proof) {
        for name in [proof_name(proof), film_name(proof)] {
            // One that is not there any more needs no removing.
            drop(std::fs::remove_file(self.file(&name)));
        }
    }

    /// Removes files of proofs, tables and pictures that are not there any more, and what an earlier start has
    /// left half-written. Nothing may be at work yet.
    pub(crate) async fn clear_strays(&self) -> Result<(), StoreError> {
        let proofs: HashSet<Uuid> = self.database.proof_ids().await?.into_iter().collect();
        let assets: HashSet<Uuid> = self.database.assets().await?.iter().map(|asset| asset.id).collect();
        let cache = self.folder.clone();
        let cleared = tokio::task::spawn_blocking(move || {
            for (name, _) in files(&cache) {
                let is_kept = match name.split_once('-') {
                    Some(("proof", rest)) => id_of(rest).is_some_and(|id| proofs.contains(&id)),
                    Some(("asset", rest)) => !rest.ends_with(".part") && id_of(rest).is_some_and(|id| assets.contains(&id)),
                    // Names of earlier versions.
                    Some(("still" | "aid", _)) => false,
                    _ => !name.ends_with(".part"),
                };
                if !is_kept && let Err(error) = std::fs::remove_file(cache.join(&name)) {
                    tracing::debug!(%error, name, "a file of the cache stays");
                }
            }
        });
        // It may have been ended with the server.
        drop(cleared.await);
        Ok(())
    }

    /// Removes the oldest proofs until all together weigh no more than is kept of them.
    pub(crate) async fn limit_proofs(&self) -> Result<(), StoreError> {
        let mut weights: HashMap<Uuid, u64> = HashMap::new();
        for (name, size) in files(&self.folder) {
            if let Some(id) = name.strip_prefix("proof-").and_then(id_of) {
                *weights.entry(id).or_default() += size;
            }
        }
        let weighed: Vec<(Uuid, ByteSize)> = self
            .database
            .proof_ids()
            .await?
            .into_iter()
            .map(|id| (id, ByteSize(weights.get(&id).copied().unwrap_or(0))))
            .collect();
        for id in beyond(&weighed, MOST_OF_PROOFS) {
            let proof = self.database.proof(id).await?;
            self.database.remove_proof(id).await?;
            self.clear_proof(&proof);
            self.hub.tell(Change::Proof { source: proof.source, deliverable: proof.deliverable });
        }
        Ok(())
    }
}

/// Removes the oldest small pictures until all together weigh no more than is kept of them: they are made again when
/// somebody looks.
pub(crate) fn limit_pictures(cache: &Path, most: ByteSize) {
    let is_picture = |(name, _): &(String, u64)| name.starts_with("thumbnail-") || name.starts_with("peek-");
    let changed = |name: &str| std::fs::metadata(cache.join(name)).and_then(|metadata| metadata.modified()).ok();
    let mut pictures: Vec<_> =
        files(cache).into_iter().filter(is_picture).map(|(name, size)| (changed(&name), name, size)).collect();
    pictures.sort();
    let mut whole: u64 = pictures.iter().map(|(_, _, size)| size).sum();
    for (_, name, size) in pictures {
        if whole <= most.0 {
            return;
        }
        match std::fs::remove_file(cache.join(&name)) {
            Ok(()) => whole -= size,
            Err(error) => tracing::debug!(%error, name, "a small picture stays"),
        }
    }
}

/// Names of the files in the cache, and their bytes.
fn files(cache: &Path) -> Vec<(String, u64)> {
    let entries = std::fs::read_dir(cache).into_iter().flatten().flatten();
    let file = |entry: std::fs::DirEntry| {
        let metadata = entry.metadata().ok().filter(std::fs::Metadata::is_file)?;
        Some((entry.file_name().into_string().ok()?, metadata.len()))
    };
    entries.filter_map(file).collect()
}

/// The id that a name goes on with.
fn id_of(rest: &str) -> Option<Uuid> {
    rest.get(..36)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, SystemTime};

    use super::*;

    #[test]
    fn the_oldest_small_pictures_go_and_nothing_else_does() {
        let cache = tempfile::tempdir().expect("a folder");
        let now = SystemTime::now();
        for (age, name) in
            [(5, "thumbnail-a.jpg"), (4, "peek-b.jpg"), (9, "proof-c.mp4"), (3, "peek-d.jpg"), (1, "thumbnail-e.jpg")]
        {
            let file = std::fs::File::create(cache.path().join(name)).expect("a file");
            file.set_len(100).expect("a size");
            file.set_modified(now - Duration::from_secs(age * 60)).expect("a time");
        }
        let left = || {
            let mut names: Vec<String> = files(cache.path()).into_iter().map(|(name, _)| name).collect();
            names.sort();
            names
        };
        limit_pictures(cache.path(), ByteSize(400));
        assert_eq!(left().len(), 5, "there was room for all");
        limit_pictures(cache.path(), ByteSize(250));
        assert_eq!(left(), ["peek-d.jpg", "proof-c.mp4", "thumbnail-e.jpg"]);
        limit_pictures(cache.path(), ByteSize(0));
        assert_eq!(left(), ["proof-c.mp4"]);
    }
}

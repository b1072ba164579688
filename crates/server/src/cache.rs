//! The cache: the names of its files, and their upkeep. What nothing belongs to any more goes, and so do the oldest proofs where all together
//! weigh too much.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use beryl_core::after::proof::beyond;
use beryl_core::path::StoragePath;
use beryl_core::units::ByteSize;
use beryl_store::StoreError;
use beryl_store::proofs::Proof;
use uuid::Uuid;

use crate::app::App;
use crate::events::Change;

/// What proofs may weigh together.
const MOST_OF_PROOFS: ByteSize = ByteSize(20_000_000_000);

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

/// Removes the files of a proof.
pub(crate) fn clear_proof(app: &App, proof: &Proof) {
    for name in [proof_name(proof), film_name(proof)] {
        // One that is not there any more needs no removing.
        drop(std::fs::remove_file(app.cache.join(name.to_string())));
    }
}

/// Removes files of proofs, tables and pictures that are not there any more, and what an earlier start has
/// left half-written. Nothing may be at work yet.
pub(crate) async fn clear_strays(app: &App) -> Result<(), StoreError> {
    let proofs: HashSet<Uuid> = app.database.proof_ids().await?.into_iter().collect();
    let aids: HashSet<Uuid> = app.database.aids().await?.iter().map(|aid| aid.id).collect();
    let cache = app.cache.clone();
    let cleared = tokio::task::spawn_blocking(move || {
        for (name, _) in files(&cache) {
            let is_kept = match name.split_once('-') {
                Some(("proof", rest)) => id_of(rest).is_some_and(|id| proofs.contains(&id)),
                Some(("aid", rest)) => !rest.ends_with(".part") && id_of(rest).is_some_and(|id| aids.contains(&id)),
                Some(("still", _)) => false,
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
pub(crate) async fn limit_proofs(app: &App) -> Result<(), StoreError> {
    let mut weights: HashMap<Uuid, u64> = HashMap::new();
    for (name, size) in files(&app.cache) {
        if let Some(id) = name.strip_prefix("proof-").and_then(id_of) {
            *weights.entry(id).or_default() += size;
        }
    }
    let weighed: Vec<(Uuid, ByteSize)> =
        app.database.proof_ids().await?.into_iter().map(|id| (id, ByteSize(weights.get(&id).copied().unwrap_or(0)))).collect();
    for id in beyond(&weighed, MOST_OF_PROOFS) {
        let proof = app.database.proof(id).await?;
        app.database.remove_proof(id).await?;
        clear_proof(app, &proof);
        app.hub.tell(Change::Proof { source: proof.source, deliverable: proof.deliverable });
    }
    Ok(())
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

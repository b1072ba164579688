//! Storages and what lies in them.

use std::path::{Path as SystemPath, PathBuf};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_store::storages::Storage;
use chrono::{DateTime, Utc};
use futures::future::join_all;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::files::{Entry, list};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(storages, add_storage))
        .routes(routes!(remove_storage))
        .routes(routes!(retire_storage))
        .routes(routes!(entries))
}

/// Folders of the system's own making, where a file is no file.
const OF_THE_SYSTEM: [&str; 3] = ["/proc", "/sys", "/dev"];

/// A named root folder.
#[derive(Debug, Serialize, ToSchema)]
struct StorageView {
    id: Uuid,
    name: String,
    /// The folder on this machine.
    root: String,
    /// Bytes that are free there; nothing where the folder cannot be reached.
    free: Option<u64>,
    /// Since when it has not answered.
    away_since: Option<DateTime<Utc>>,
    /// Whether it is kept for what was made and is not offered for anything new.
    is_retired: bool,
    /// The name of another storage that holds this one, is held by it, or has the same folder.
    overlaps: Option<String>,
}

/// A storage to add.
#[derive(Debug, Deserialize, ToSchema)]
struct NewStorage {
    name: String,
    /// An existing folder of this machine, from its root.
    root: String,
}

/// Whether a storage is kept for what was made only.
#[derive(Debug, Deserialize, ToSchema)]
struct Retirement {
    is_retired: bool,
}

async fn view(app: &App, storage: Storage, all: &[Storage]) -> StorageView {
    let root = PathBuf::from(&storage.root);
    let folder = root.clone();
    let free = app.door.work(&root, move || Ok(beryl_worker::free_bytes(&folder))).await.ok().flatten();
    let overlaps = |other: &&Storage| {
        let other_root = SystemPath::new(&other.root);
        other.id != storage.id && (root.starts_with(other_root) || other_root.starts_with(&root))
    };
    StorageView {
        free,
        away_since: app.door.away_since(&root),
        overlaps: all.iter().find(overlaps).map(|other| other.name.clone()),
        id: storage.id,
        name: storage.name,
        root: storage.root,
        is_retired: storage.is_retired,
    }
}

/// All storages.
#[utoipa::path(get, path = "/api/storages", responses((status = 200, body = Vec<StorageView>)))]
async fn storages(State(app): State<Arc<App>>) -> Result<Json<Vec<StorageView>>, ApiError> {
    let all = app.database.storages().await?;
    Ok(Json(join_all(all.iter().map(|storage| view(&app, storage.clone(), &all))).await))
}

/// Adds a storage.
#[utoipa::path(post, path = "/api/storages", request_body = NewStorage, responses((status = 200, body = StorageView)))]
async fn add_storage(State(app): State<Arc<App>>, Json(new): Json<NewStorage>) -> Result<Json<StorageView>, ApiError> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > 100 {
        return Err(ApiError::invalid("the storage could not be added", "its name must have 1 to 100 characters"));
    }
    let refused = |why: String| ApiError::invalid(format!("the storage “{name}” could not be added"), why);
    let said = PathBuf::from(&new.root);
    let looking = move || Ok::<_, Problem>(said.canonicalize().ok().filter(|root| said.is_absolute() && root.is_dir()));
    let root = app.door.work(SystemPath::new(&new.root), looking).await?;
    let Some(text) = root.as_deref().and_then(SystemPath::to_str) else {
        return Err(refused(format!("{} is no folder of this machine", new.root)));
    };
    let root = SystemPath::new(text);
    let mut kept = OF_THE_SYSTEM.iter().map(SystemPath::new).chain(app.own_folders.iter().map(PathBuf::as_path));
    if let Some(kept) = kept.find(|kept| kept.starts_with(root) || root.starts_with(kept)) {
        let why = if root.starts_with(kept) { "lies in" } else { "holds" };
        return Err(refused(format!("it {why} {}, which is not for media", kept.display())));
    }
    let storage = app.database.add_storage(name, text).await?;
    let all = app.database.storages().await?;
    Ok(Json(view(&app, storage, &all).await))
}

/// Forgets a storage that nothing refers to; its files stay.
#[utoipa::path(delete, path = "/api/storages/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_storage(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    Ok(app.database.remove_storage(id).await?)
}

/// Keeps a storage for what was made, and offers it for nothing new; or takes it into use again.
#[utoipa::path(put, path = "/api/storages/{id}/retirement", params(("id" = Uuid, Path)), request_body = Retirement, responses((status = 200)))]
async fn retire_storage(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(wanted): Json<Retirement>,
) -> Result<(), ApiError> {
    Ok(app.database.retire_storage(id, wanted.is_retired).await?)
}

/// A folder to look into.
#[derive(Debug, Deserialize, IntoParams)]
struct Folder {
    /// The folder's path in the storage; left out, its root.
    #[serde(default)]
    path: String,
}

/// What lies in a folder of a storage.
#[utoipa::path(get, path = "/api/storages/{id}/entries", params(("id" = Uuid, Path), Folder), responses((status = 200, body = Vec<Entry>)))]
async fn entries(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(folder): Query<Folder>,
) -> Result<Json<Vec<Entry>>, ApiError> {
    let storage = app.database.storage(id).await?;
    let path: StoragePath = folder.path.parse()?;
    let root = PathBuf::from(&storage.root);
    Ok(Json(app.door.work(&root, move || list(&storage, &path)).await?))
}

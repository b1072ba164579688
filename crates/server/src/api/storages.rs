//! Storages and what lies in them.

use std::path::Path as SystemPath;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use beryl_core::path::StoragePath;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::files::{Entry, list};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(storages, add_storage)).routes(routes!(remove_storage)).routes(routes!(entries))
}

/// A named root folder.
#[derive(Debug, Serialize, ToSchema)]
struct StorageView {
    id: Uuid,
    name: String,
    /// The folder on this machine.
    root: String,
    /// Bytes that are free there; nothing where the folder cannot be reached.
    free: Option<u64>,
}

/// A storage to add.
#[derive(Debug, Deserialize, ToSchema)]
struct NewStorage {
    name: String,
    /// An existing folder of this machine, from its root.
    root: String,
}

fn view(storage: beryl_store::storages::Storage) -> StorageView {
    let free = beryl_worker::free_bytes(SystemPath::new(&storage.root));
    StorageView { id: storage.id, name: storage.name, root: storage.root, free }
}

/// All storages.
#[utoipa::path(get, path = "/api/storages", responses((status = 200, body = Vec<StorageView>)))]
async fn storages(State(app): State<Arc<App>>) -> Result<Json<Vec<StorageView>>, ApiError> {
    Ok(Json(app.database.storages().await?.into_iter().map(view).collect()))
}

/// Adds a storage.
#[utoipa::path(post, path = "/api/storages", request_body = NewStorage, responses((status = 200, body = StorageView)))]
async fn add_storage(State(app): State<Arc<App>>, Json(new): Json<NewStorage>) -> Result<Json<StorageView>, ApiError> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > 100 {
        return Err(ApiError::invalid("the storage could not be added", "its name must have 1 to 100 characters"));
    }
    let root = SystemPath::new(&new.root);
    let whole = root.is_absolute().then(|| root.canonicalize().ok()).flatten().filter(|root| root.is_dir());
    let Some(root) = whole.as_deref().and_then(SystemPath::to_str).map(str::to_owned) else {
        return Err(ApiError::invalid(
            format!("the storage “{name}” could not be added"),
            format!("{} is no folder of this machine", new.root),
        ));
    };
    Ok(Json(view(app.database.add_storage(name, &root).await?)))
}

/// Forgets a storage; its files stay.
#[utoipa::path(delete, path = "/api/storages/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_storage(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    Ok(app.database.remove_storage(id).await?)
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
    Ok(Json(blocking(move || list(&storage, &path)).await?))
}

/// Work with files, off the threads that answer.
pub(super) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, beryl_core::problem::Problem> + Send + 'static,
) -> Result<T, ApiError> {
    match tokio::task::spawn_blocking(work).await {
        Ok(outcome) => Ok(outcome?),
        Err(error) => Err(ApiError::from(beryl_core::problem::Problem::new(
            beryl_core::problem::ProblemKind::Internal,
            "the files could not be looked at",
            error.to_string(),
        ))),
    }
}

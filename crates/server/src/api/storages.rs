//! Storages and what lies in them.

use std::os::unix::fs::MetadataExt;
use std::path::{Path as SystemPath, PathBuf};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::SourceRef;
use beryl_core::time::Rational;
use beryl_store::StoreError;
use beryl_store::storages::Storage;
use chrono::{DateTime, Utc};
use futures::future::join_all;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::media::picture;
use crate::app::App;
use crate::events::HousePart;
use crate::files::{Entry, file_ref, list, stamp_of};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(all_storages, add_storage))
        .routes(routes!(remove_storage))
        .routes(routes!(retire_storage))
        .routes(routes!(mark_storage))
        .routes(routes!(entries))
        .routes(routes!(entry_picture))
}

/// Folders of the system's own making, where a file is no file.
const OF_THE_SYSTEM: [&str; 3] = ["/proc", "/sys", "/dev"];

/// Why a folder can be no storage, where it cannot.
pub(super) fn not_for_media(app: &App, root: &SystemPath) -> Option<String> {
    let mut kept = OF_THE_SYSTEM.iter().map(SystemPath::new).chain(app.own_folders.iter().map(PathBuf::as_path));
    let kept = kept.find(|kept| kept.starts_with(root) || root.starts_with(kept))?;
    let why = if root.starts_with(kept) { "lies in" } else { "holds" };
    Some(format!("it {why} {}, which is not for media", kept.display()))
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
    /// Whether its folder is there without it: the marker is missing, as where a volume is not mounted.
    lacks_marker: bool,
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

/// A storage and what its folder says now.
struct Seen<'a> {
    storage: &'a Storage,
    root: PathBuf,
    free: Option<u64>,
    /// The file system of its folder and the number there: the same under whatever path it is mounted.
    folder: Option<(u64, u64)>,
}

async fn look<'a>(app: &App, storage: &'a Storage) -> Seen<'a> {
    let root = PathBuf::from(&storage.root);
    let looked_into = root.clone();
    let looking = move || {
        let folder = std::fs::metadata(&looked_into).ok().map(|folder| (folder.dev(), folder.ino()));
        Ok((beryl_worker::free_bytes(&looked_into), folder))
    };
    let (free, folder) = app.door.work(&root, looking).await.unwrap_or_default();
    Seen { storage, root, free, folder }
}

async fn views(app: &App, all: &[Storage]) -> Vec<StorageView> {
    let seen = join_all(all.iter().map(|storage| look(app, storage))).await;
    let view = |one: &Seen<'_>| {
        let overlaps = |other: &&Seen<'_>| {
            let is_nested = one.root.starts_with(&other.root) || other.root.starts_with(&one.root);
            other.storage.id != one.storage.id && (is_nested || one.folder.is_some() && one.folder == other.folder)
        };
        StorageView {
            free: one.free,
            lacks_marker: app.door.lacks_marker(&one.root),
            away_since: app.door.away_since(&one.root),
            overlaps: seen.iter().find(overlaps).map(|other| other.storage.name.clone()),
            id: one.storage.id,
            name: one.storage.name.clone(),
            root: one.storage.root.clone(),
            is_retired: one.storage.is_retired,
        }
    };
    seen.iter().map(view).collect()
}

/// All storages.
#[utoipa::path(get, path = "/api/storages", responses((status = 200, body = Vec<StorageView>)))]
async fn all_storages(State(app): State<Arc<App>>) -> Result<Json<Vec<StorageView>>, ApiError> {
    let all = app.database.storages().await?;
    Ok(Json(views(&app, &all).await))
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
    if let Some(why) = not_for_media(&app, root) {
        return Err(refused(why));
    }
    let storage = app.database.add_storage(name, text).await?;
    if let Err(problem) = app.storages.mark(&storage).await {
        tracing::info!(%problem, "a storage goes without a marker");
    }
    app.storages.tell().await?;
    app.hub.tell_house(HousePart::Storages);
    let all = app.database.storages().await?;
    let added = views(&app, &all).await.into_iter().find(|view| view.id == storage.id);
    Ok(Json(added.ok_or(StoreError::NotFound("storage"))?))
}

/// Forgets a storage that nothing refers to; its files stay.
#[utoipa::path(delete, path = "/api/storages/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_storage(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.remove_storage(id).await?;
    app.storages.tell().await?;
    app.hub.tell_house(HousePart::Storages);
    Ok(())
}

/// Keeps a storage for what was made, and offers it for nothing new; or takes it into use again.
#[utoipa::path(put, path = "/api/storages/{id}/retirement", params(("id" = Uuid, Path)), request_body = Retirement, responses((status = 200)))]
async fn retire_storage(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(wanted): Json<Retirement>,
) -> Result<(), ApiError> {
    app.database.retire_storage(id, wanted.is_retired).await?;
    app.hub.tell_house(HousePart::Storages);
    Ok(())
}

/// Puts a new marker into the folder of a storage, which is taken for the right one.
#[utoipa::path(post, path = "/api/storages/{id}/marker", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn mark_storage(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    let storage = app.database.storage(id).await?;
    app.storages.mark(&storage).await?;
    app.storages.tell().await?;
    app.hub.tell_house(HousePart::Storages);
    Ok(())
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
    let mut entries = app.door.work(&root, move || list(&storage, &path)).await?;
    let media: Vec<StoragePath> = entries.iter().filter(|entry| entry.is_media).map(|entry| entry.path.clone()).collect();
    let made = app.database.made_among(id, &media).await?;
    entries.iter_mut().for_each(|entry| entry.is_own = made.contains(&entry.path));
    Ok(Json(entries))
}

/// A file to look at.
#[derive(Debug, Deserialize, IntoParams)]
struct File {
    /// The file's path in the storage.
    path: String,
}

/// A small picture of a file that may become a source.
#[utoipa::path(get, path = "/api/storages/{id}/entries/picture", params(("id" = Uuid, Path), File), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>)))]
async fn entry_picture(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(file): Query<File>,
) -> Result<Response, ApiError> {
    let storage = app.database.storage(id).await?;
    let path: StoragePath = file.path.parse()?;
    let root = PathBuf::from(&storage.root);
    let (looked_at, looked_for) = (storage.clone(), path.clone());
    let stamp = app.door.work(&root, move || stamp_of(&looked_at, &looked_for)).await?;
    // A file that has changed has another picture.
    let known_by = format!("{path}\n{}\n{}", stamp.size.0, stamp.modified);
    let name: StoragePath = format!("peek-{}.jpg", Uuid::new_v5(&id, known_by.as_bytes())).parse()?;
    let source = SourceRef::of(file_ref(&storage, &path));
    // Beginnings are often black; what is shorter has none but its beginning.
    let bytes = app.pictures.small_picture(&source, &[Rational::whole(2), Rational::ZERO], &name).await?;
    Ok(picture(bytes))
}

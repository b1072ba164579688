//! Watch folders.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use beryl_core::flow::run::ClashRule;
use beryl_core::flow::watch::{WatchState, reason};
use beryl_core::path::StoragePath;
use beryl_core::preset::Preset;
use beryl_core::problem::Problem;
use beryl_store::watch_folders::{WatchFile, WatchFolder};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::events::Change;
use crate::watching::found_in_state;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(watch_folders, add_watch_folder))
        .routes(routes!(change_watch_folder, remove_watch_folder))
        .routes(routes!(restore_watch_folder))
        .routes(routes!(inside))
        .routes(routes!(switch_on))
        .routes(routes!(switch_off))
        .routes(routes!(files, take_files))
}

/// The longest time that a file may have to rest.
const LONGEST_SETTLE: u32 = 3600;
/// Names that a stage of the channel shows.
const NEWEST: u32 = 5;
/// Files that a list shows.
const MOST_FILES: u32 = 1000;

/// A watch folder with the files in it.
#[derive(Debug, Serialize, ToSchema)]
struct WatchFolderView {
    id: Uuid,
    name: String,
    storage: Uuid,
    folder: StoragePath,
    presets: Vec<Preset>,
    destination_storage: Uuid,
    destination: StoragePath,
    clash: ClashRule,
    settle_seconds: u32,
    is_on: bool,
    /// Why it cannot be looked through now.
    problem: Option<Problem>,
    /// Every state in which there are files, in the order of the channel.
    stages: Vec<WatchStage>,
}

/// The files of a watch folder in one state.
#[derive(Debug, Serialize, ToSchema)]
struct WatchStage {
    state: WatchState,
    /// How many.
    count: i64,
    /// Those that came last.
    newest: Vec<WatchFileView>,
}

/// A file in a watch folder, and why it is where it is.
#[derive(Debug, Serialize, ToSchema)]
struct WatchFileView {
    path: StoragePath,
    /// Its path below the watched folder.
    name: String,
    /// Bytes; of an image sequence, of all its images.
    size: u64,
    state: WatchState,
    /// In words.
    reason: String,
}

fn file_view(folder: &WatchFolder, file: &WatchFile) -> WatchFileView {
    WatchFileView {
        name: file.path.below(&folder.folder).unwrap_or_else(|| file.path.clone()).to_string(),
        path: file.path.clone(),
        size: file.stamp.size.0,
        state: file.state,
        reason: reason(
            file.state,
            file.still_seconds,
            u64::from(folder.settle_seconds),
            file.detail.as_deref(),
            file.left_out.as_deref(),
        ),
    }
}

/// All watch folders.
#[utoipa::path(get, path = "/api/watch", responses((status = 200, body = Vec<WatchFolderView>)))]
async fn watch_folders(State(app): State<Arc<App>>) -> Result<Json<Vec<WatchFolderView>>, ApiError> {
    let counts = app.database.watch_counts().await?;
    let wanted: Vec<(Uuid, WatchState)> = counts.keys().copied().collect();
    let newest = app.database.newest_of_each(&wanted, NEWEST).await?;
    let mut views = Vec::new();
    for folder in app.database.watch_folders().await? {
        let mut stages = Vec::new();
        for state in WatchState::ALL {
            let Some(count) = counts.get(&(folder.id, state)).copied() else { continue };
            let newest = newest.get(&(folder.id, state)).map_or(&[][..], Vec::as_slice);
            stages.push(WatchStage { state, count, newest: newest.iter().map(|file| file_view(&folder, file)).collect() });
        }
        views.push(view(&app, folder, stages));
    }
    Ok(Json(views))
}

fn view(app: &App, folder: WatchFolder, stages: Vec<WatchStage>) -> WatchFolderView {
    WatchFolderView {
        problem: app.watching.channels.problem(folder.id),
        id: folder.id,
        name: folder.name,
        storage: folder.storage,
        folder: folder.folder,
        presets: folder.presets,
        destination_storage: folder.destination_storage,
        destination: folder.destination,
        clash: folder.clash,
        settle_seconds: folder.settle_seconds,
        is_on: folder.is_on,
        stages,
    }
}

/// A watch folder to add or to change.
#[derive(Debug, Deserialize, ToSchema)]
struct NewWatchFolder {
    name: String,
    storage: Uuid,
    /// The folder that is watched, with all folders in it.
    #[serde(default)]
    folder: StoragePath,
    /// Preset documents, whole.
    #[schema(value_type = Vec<Preset>)]
    presets: Vec<Value>,
    destination_storage: Uuid,
    /// The folder that outputs go to; folders in the watched one are made there again.
    #[serde(default)]
    destination: StoragePath,
    #[serde(default)]
    clash: ClashRule,
    /// Seconds that a file must not change before it is taken up, 1 to 3600.
    settle_seconds: u32,
}

impl NewWatchFolder {
    async fn checked(self, app: &App, id: Uuid, is_on: bool) -> Result<WatchFolder, ApiError> {
        let refused = |why: &str| ApiError::invalid(format!("the watch folder “{}” could not be saved", self.name.trim()), why);
        let name = self.name.trim().to_owned();
        if name.is_empty() || name.chars().count() > 200 {
            return Err(refused("its name must have 1 to 200 characters"));
        }
        if self.presets.is_empty() {
            return Err(refused("it has no preset, so nothing could be made of what arrives"));
        }
        if !(1..=LONGEST_SETTLE).contains(&self.settle_seconds) {
            return Err(refused("files must rest for 1 to 3600 seconds"));
        }
        app.database.storage(self.storage).await?;
        app.database.storage(self.destination_storage).await?;
        Ok(WatchFolder {
            id,
            name,
            storage: self.storage,
            folder: self.folder,
            presets: self.presets.into_iter().map(Preset::from_value).collect::<Result<_, _>>()?,
            destination_storage: self.destination_storage,
            destination: self.destination,
            clash: self.clash,
            settle_seconds: self.settle_seconds,
            is_on,
        })
    }
}

/// Adds a watch folder, switched off.
#[utoipa::path(post, path = "/api/watch", request_body = NewWatchFolder, responses((status = 200, body = WatchFolderView)))]
async fn add_watch_folder(
    State(app): State<Arc<App>>,
    Json(new): Json<NewWatchFolder>,
) -> Result<Json<WatchFolderView>, ApiError> {
    let folder = new.checked(&app, Uuid::now_v7(), false).await?;
    app.database.save_watch_folder(&folder).await?;
    app.hub.tell(Change::Watch { id: folder.id });
    Ok(Json(view(&app, folder, Vec::new())))
}

/// Changes a watch folder. Where another place is to be watched it must be off, since switching on
/// asks what becomes of the files there.
#[utoipa::path(put, path = "/api/watch/{id}", params(("id" = Uuid, Path)), request_body = NewWatchFolder, responses((status = 200)))]
async fn change_watch_folder(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(new): Json<NewWatchFolder>,
) -> Result<(), ApiError> {
    let before = app.database.watch_folder(id).await?;
    let folder = new.checked(&app, id, before.is_on).await?;
    let moved = (before.storage, &before.folder) != (folder.storage, &folder.folder);
    if before.is_on && moved {
        let what = format!("the watch folder “{}” could not be moved", before.name);
        return Err(Problem::new(beryl_core::problem::ProblemKind::Invalid, what, "it is on")
            .with_next("Switch it off first.")
            .into());
    }
    app.database.save_watch_folder(&folder).await?;
    if folder.is_on {
        app.watching.start(folder);
    }
    app.hub.tell(Change::Watch { id });
    Ok(())
}

/// Removes a watch folder; files, outputs and runs stay, and it can be restored.
#[utoipa::path(delete, path = "/api/watch/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_watch_folder(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.watching.channels.stop(id);
    app.database.set_watch_folder_removed(id, true).await?;
    app.hub.tell(Change::Watch { id });
    Ok(())
}

/// Brings a watch folder back that was removed, switched off, with what is known of its files.
#[utoipa::path(post, path = "/api/watch/{id}/restore", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn restore_watch_folder(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.set_watch_folder_removed(id, false).await?;
    app.hub.tell(Change::Watch { id });
    Ok(())
}

/// What lies in a watch folder and was neither taken up nor left before.
#[derive(Debug, Serialize, ToSchema)]
struct Inside {
    /// How many files (an image sequence counts as one).
    files: usize,
    /// Bytes of them all.
    bytes: u64,
}

/// Counts what lies in a watch folder, to be asked about before it is switched on.
#[utoipa::path(get, path = "/api/watch/{id}/inside", params(("id" = Uuid, Path)), responses((status = 200, body = Inside)))]
async fn inside(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<Inside>, ApiError> {
    let folder = app.database.watch_folder(id).await?;
    let found = app.watching.unknown_files(&folder).await?;
    Ok(Json(Inside { files: found.len(), bytes: found.iter().map(|file| file.stamp.size.0).sum() }))
}

/// What becomes of the files that are in a folder when watching begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum Present {
    /// They are taken up as well.
    Take,
    /// They are left; only what arrives from now on is taken up.
    Leave,
}

/// How to begin.
#[derive(Debug, Deserialize, ToSchema)]
struct SwitchOn {
    /// What becomes of the files that are there; needed where there are some.
    present: Option<Present>,
}

/// Begins to watch a folder.
#[utoipa::path(post, path = "/api/watch/{id}/on", params(("id" = Uuid, Path)), request_body = SwitchOn, responses((status = 200)))]
async fn switch_on(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(how): Json<SwitchOn>) -> Result<(), ApiError> {
    let folder = app.database.watch_folder(id).await?;
    if folder.is_on {
        return Ok(());
    }
    let found = app.watching.unknown_files(&folder).await?;
    match how.present {
        None if !found.is_empty() => {
            let count = if found.len() == 1 { "one file is".to_owned() } else { format!("{} files are", found.len()) };
            let why = format!("{count} in it already, and it was not said what becomes of them");
            return Err(ApiError::invalid(format!("the watch folder “{}” could not be switched on", folder.name), why));
        }
        Some(Present::Leave) => {
            let rows: Vec<WatchFile> = found.iter().map(|file| found_in_state(file, WatchState::Left)).collect();
            app.database.save_watch_files(id, &rows).await?;
        }
        Some(Present::Take) | None => {}
    }
    app.database.switch_watch_folder(id, true).await?;
    app.watching.start(WatchFolder { is_on: true, ..folder });
    app.hub.tell(Change::Watch { id });
    Ok(())
}

/// Stops watching a folder; what is at work goes on.
#[utoipa::path(post, path = "/api/watch/{id}/off", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn switch_off(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.watching.channels.stop(id);
    app.database.switch_watch_folder(id, false).await?;
    app.hub.tell(Change::Watch { id });
    Ok(())
}

/// Which files to list.
#[derive(Debug, Deserialize, IntoParams)]
struct Which {
    state: WatchState,
}

/// The files of a watch folder in one state, the newest first, at most 1000.
#[utoipa::path(get, path = "/api/watch/{id}/files", params(("id" = Uuid, Path), Which), responses((status = 200, body = Vec<WatchFileView>)))]
async fn files(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(which): Query<Which>,
) -> Result<Json<Vec<WatchFileView>>, ApiError> {
    let folder = app.database.watch_folder(id).await?;
    let files = app.database.newest_watch_files(id, which.state, MOST_FILES).await?;
    Ok(Json(files.iter().map(|file| file_view(&folder, file)).collect()))
}

/// Files to take up.
#[derive(Debug, Deserialize, ToSchema)]
struct TakeFiles {
    paths: Vec<StoragePath>,
}

/// Takes up files that were left, failed, or were out already, as if they arrived now.
#[utoipa::path(post, path = "/api/watch/{id}/files", params(("id" = Uuid, Path)), request_body = TakeFiles, responses((status = 200)))]
async fn take_files(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(take): Json<TakeFiles>) -> Result<(), ApiError> {
    let folder = app.database.watch_folder(id).await?;
    if !folder.is_on {
        let what = format!("the files could not be taken up by “{}”", folder.name);
        return Err(Problem::new(beryl_core::problem::ProblemKind::Invalid, what, "it is off")
            .with_next("Switch it on first.")
            .into());
    }
    let mut files = app.database.watch_files(id).await?;
    files.retain(|file| {
        take.paths.contains(&file.path) && matches!(file.state, WatchState::Left | WatchState::Failed | WatchState::Out)
    });
    for file in &mut files {
        (file.state, file.tries, file.detail, file.left_out) = (WatchState::Arriving, 0, None, None);
    }
    app.database.save_watch_files(id, &files).await?;
    // The task knows the files as they were: it begins anew with what is kept.
    app.watching.start(folder);
    app.hub.tell(Change::Watch { id });
    Ok(())
}

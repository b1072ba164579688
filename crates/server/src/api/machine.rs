//! The folders of this machine, for choosing a storage: only their names are shown, and only on this machine.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
use beryl_core::problem::Problem;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::ApiError;
use super::storages::not_for_media;
use crate::app::App;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(folders))
}

/// Folders that are shown of one, at most.
const MOST: usize = 2000;
/// Where volumes are usually mounted.
const MOUNTED_BELOW: [&str; 4] = ["/media", "/mnt", "/run/media", "/srv"];

/// Which folder.
#[derive(Debug, Deserialize, IntoParams)]
struct Wanted {
    /// Its path from the root of the machine; left out, the places to begin with.
    path: Option<String>,
}

/// A folder.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, ToSchema)]
struct Folder {
    name: String,
    path: String,
}

/// What lies in a folder of this machine, as far as a storage can be chosen there.
#[derive(Debug, Serialize, ToSchema)]
struct FoldersView {
    /// The folder; nothing for the places to begin with.
    path: Option<String>,
    /// The folder that holds it.
    parent: Option<String>,
    /// Why it can be no storage itself.
    refusal: Option<String>,
    /// The folders in it, in the order of their names; hidden ones are left out.
    folders: Vec<Folder>,
}

impl Folder {
    fn of(path: &Path) -> Option<Self> {
        let name = path.file_name().unwrap_or(OsStr::new("/")).to_str()?.to_owned();
        Some(Self { name, path: path.to_str()?.to_owned() })
    }
}

/// Folders of this machine: mounted volumes and the home folder to begin with, and what lies in one.
#[utoipa::path(get, path = "/api/machine/folders", params(Wanted), responses((status = 200, body = FoldersView)))]
async fn folders(State(app): State<Arc<App>>, Query(wanted): Query<Wanted>) -> Result<Json<FoldersView>, ApiError> {
    let Some(path) = wanted.path else {
        let places = app.door.work(Path::new("/"), || Ok(places())).await?;
        return Ok(Json(FoldersView { path: None, parent: None, refusal: None, folders: places }));
    };
    let path = PathBuf::from(path);
    if !path.is_absolute() {
        return Err(ApiError::invalid("the folder could not be opened", "its path does not begin at the root of the machine"));
    }
    let looked = path.clone();
    let (path, folders) = app
        .door
        .work(&path, move || {
            let failed =
                |error: std::io::Error| Problem::from_io(format!("the folder {} could not be opened", looked.display()), &error);
            let path = looked.canonicalize().map_err(failed)?;
            let folders = subfolders(&path).map_err(failed)?;
            Ok((path, folders))
        })
        .await?;
    Ok(Json(FoldersView {
        parent: path.parent().and_then(Path::to_str).map(str::to_owned),
        refusal: not_for_media(&app, &path),
        path: path.to_str().map(str::to_owned),
        folders,
    }))
}

/// The places to begin with: what is mounted where volumes are, and the home folder.
fn places() -> Vec<Folder> {
    let home = std::env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_dir());
    let mut found: Vec<Folder> = home.iter().filter_map(|home| Folder::of(home)).collect();
    let mounts = std::fs::read_to_string("/proc/self/mounts").unwrap_or_default();
    let mounted = mounts.lines().filter_map(|line| line.split(' ').nth(1)).map(unescaped);
    let volumes = mounted.filter(|path| MOUNTED_BELOW.iter().any(|place| path.starts_with(place)));
    found.extend(volumes.filter_map(|path| Folder::of(&path)));
    found.extend(MOUNTED_BELOW.iter().map(Path::new).filter(|place| place.is_dir()).filter_map(Folder::of));
    found.extend(Folder::of(Path::new("/")));
    let mut seen = std::collections::HashSet::new();
    found.retain(|folder| seen.insert(folder.path.clone()));
    found
}

/// A path as the table of mounts writes it: spaces and the like as octal numbers (`getmntent(3)`).
fn unescaped(text: &str) -> PathBuf {
    PathBuf::from(text.replace("\\040", " ").replace("\\011", "\t").replace("\\012", "\n").replace("\\134", "\\"))
}

fn subfolders(path: &Path) -> std::io::Result<Vec<Folder>> {
    let mut folders: Vec<Folder> = std::fs::read_dir(path)?
        .filter_map(Result::ok)
        .filter(|entry| !entry.file_name().as_encoded_bytes().starts_with(b"."))
        .map(|entry| entry.path())
        .filter(|path| path.is_dir())
        .filter_map(|path| Folder::of(&path))
        .collect();
    folders.sort();
    folders.truncate(MOST);
    Ok(folders)
}

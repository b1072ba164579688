//! `beryl storage`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::problem::Problem;
use clap::Subcommand;
use reqwest::Url;
use serde_json::json;

use super::answers::{Entry, Folders, StorageItem};
use super::client::Server;
use super::naming::pick;
use crate::terminal::say;

/// Storages of the server: folders of its machine, by name.
#[derive(Debug, Subcommand)]
pub(crate) enum StorageTask {
    /// List the storages.
    List,
    /// Add a folder of the server's machine as a storage.
    Add {
        /// Its name.
        name: String,
        /// The folder.
        folder: PathBuf,
    },
    /// Forget a storage that nothing refers to; its files stay.
    Remove {
        /// The storage: its name, its id, or how one of them begins.
        storage: String,
    },
    /// Keep a storage for what was made, and offer it for nothing new.
    Retire {
        /// The storage.
        storage: String,
    },
    /// Take a retired storage into use again.
    Reuse {
        /// The storage.
        storage: String,
    },
    /// Mark the folder of a storage as the right one, where its marker is missing.
    Mark {
        /// The storage.
        storage: String,
    },
    /// Show what lies in a folder of a storage.
    Look {
        /// “Storage:folder”, or a path of this machine in a storage.
        place: String,
    },
    /// Fetch a small picture of a file in a storage.
    Picture {
        /// “Storage:file”, or a path of this machine in a storage.
        place: String,
        /// Where to: a JPEG.
        file: PathBuf,
    },
    /// Show folders of the server's machine that can become storages.
    Folders {
        /// In this one; left out, mounted volumes and the home folder.
        folder: Option<PathBuf>,
    },
}

pub(crate) async fn run(server: &Server, task: &StorageTask) -> Result<ExitCode, Problem> {
    match task {
        StorageTask::List => server.show(&server.get("/api/storages").await?, print)?,
        StorageTask::Add { name, folder } => {
            let root = std::path::absolute(folder)
                .map_err(|error| Problem::from_io(format!("{} cannot become a storage", folder.display()), &error))?;
            let made = server.post("/api/storages", &json!({ "name": name, "root": root })).await?;
            server.show(&made, |storage: StorageItem| print(vec![storage]))?;
        }
        StorageTask::Remove { storage } => {
            let id = id(server, storage).await?;
            server.delete(&format!("/api/storages/{id}")).await?;
        }
        StorageTask::Retire { storage } => retire(server, storage, true).await?,
        StorageTask::Reuse { storage } => retire(server, storage, false).await?,
        StorageTask::Mark { storage } => {
            let id = id(server, storage).await?;
            server.post(&format!("/api/storages/{id}/marker"), &json!({})).await?;
        }
        StorageTask::Look { place } => {
            let (storage, path) = server.place(place).await?;
            let entries = server.get(&query(&format!("/api/storages/{}/entries", storage.id), "path", &path.to_string())).await?;
            server.show(&entries, |entries: Vec<Entry>| {
                for Entry { name, is_folder, is_media, is_own, size } in entries {
                    match (is_folder, is_media, is_own) {
                        (true, ..) => say!("{name}/"),
                        (false, true, true) => say!("{name} · {size} · made here"),
                        (false, true, false) => say!("{name} · {size}"),
                        (false, false, _) => say!("{name} · {size} · no media"),
                    }
                }
            })?;
        }
        StorageTask::Picture { place, file } => {
            let (storage, path) = server.place(place).await?;
            let from = query(&format!("/api/storages/{}/entries/picture", storage.id), "path", &path.to_string());
            server.fetch(&from, file).await?;
        }
        StorageTask::Folders { folder } => {
            let path = match folder {
                Some(folder) => query("/api/machine/folders", "path", &folder.to_string_lossy()),
                None => "/api/machine/folders".to_owned(),
            };
            server.show(&server.get(&path).await?, |answer: Folders| {
                answer.folders.iter().for_each(|folder| say!("{}", folder.path));
                answer.refusal.iter().for_each(|refusal| say!("{refusal}"));
            })?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn id(server: &Server, wanted: &str) -> Result<String, Problem> {
    Ok(pick(&server.storages().await?, wanted)?.id.clone())
}

async fn retire(server: &Server, storage: &str, is_retired: bool) -> Result<(), Problem> {
    let id = id(server, storage).await?;
    server.put(&format!("/api/storages/{id}/retirement"), &json!({ "is_retired": is_retired })).await.map(drop)
}

/// A path with one query, its letters written as addresses have them.
pub(super) fn query(path: &str, key: &str, value: &str) -> String {
    let base = Url::parse("http://localhost").map(|mut url| {
        url.set_path(path);
        url.query_pairs_mut().append_pair(key, value);
        format!("{}?{}", url.path(), url.query().unwrap_or_default())
    });
    base.unwrap_or_else(|_| path.to_owned())
}

fn print(storages: Vec<StorageItem>) {
    for storage in storages {
        let free = storage.free.map_or_else(String::new, |free| format!(" · {free} free"));
        let away = match storage.away_since {
            Some(since) => format!(" · away since {since}"),
            None if storage.lacks_marker => " · not mounted: its marker is missing".to_owned(),
            None => String::new(),
        };
        let retired = if storage.is_retired { " · retired" } else { "" };
        say!("{} · {}{free}{away}{retired} ({})", storage.name, storage.root, storage.id);
    }
}

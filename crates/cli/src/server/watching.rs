//! `beryl watch`

use std::process::ExitCode;

use beryl_core::flow::run::ClashRule;
use beryl_core::problem::Problem;
use clap::{Subcommand, ValueEnum};
use serde_json::{Value, json};

use super::answers::{Inside, WatchFileItem, WatchItem};
use super::client::Server;
use crate::arguments::IfExists;
use crate::terminal::say;

/// Watch folders of the server.
#[derive(Debug, Subcommand)]
pub(crate) enum WatchTask {
    /// List the watch folders.
    List,
    /// Add a watch folder, switched off.
    Add {
        /// Its name.
        name: String,
        /// The folder: “Storage:folder”, or a path of this machine in a storage.
        folder: String,
        #[command(flatten)]
        outputs: Outputs,
    },
    /// Change a watch folder.
    Change {
        /// The watch folder: its name, its id, or how one of them begins.
        watch: String,
        /// Another name.
        #[arg(long)]
        name: Option<String>,
        /// Another folder; it must be switched off for that.
        #[arg(long)]
        folder: Option<String>,
        #[command(flatten)]
        outputs: Outputs,
    },
    /// Bring a watch folder back that was removed, switched off.
    Restore {
        /// Its id, as `remove` says it.
        id: String,
    },
    /// Remove a watch folder; files, outputs and runs stay, and it can be restored.
    Remove {
        /// The watch folder.
        watch: String,
    },
    /// Count what lies in a watch folder.
    Inside {
        /// The watch folder.
        watch: String,
    },
    /// Begin to watch a folder.
    On {
        /// The watch folder.
        watch: String,
        /// What becomes of files that lie in it already.
        #[arg(long, value_enum)]
        present: Option<Present>,
    },
    /// Stop watching a folder; what is at work goes on.
    Off {
        /// The watch folder.
        watch: String,
    },
    /// List the files of a watch folder in one state.
    Files {
        /// The watch folder.
        watch: String,
        /// The state.
        #[arg(long, default_value = "working", value_parser = ["arriving", "settling", "working", "out", "left", "failed", "gone", "own"])]
        state: String,
    },
    /// Take up files that were left, failed or are out, as if they arrived now.
    Take {
        /// The watch folder.
        watch: String,
        /// Their paths, as “beryl watch files” lists them.
        #[arg(required = true)]
        paths: Vec<String>,
    },
}

/// What becomes of files that lie in a folder before it is watched.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Present {
    /// They are taken up as well.
    Take,
    /// They are left; only what arrives from now on is taken up.
    Leave,
}

/// What is made of what arrives.
#[derive(Debug, clap::Args)]
pub(crate) struct Outputs {
    /// A preset of the server, or a preset file (.json); may be repeated.
    #[arg(long = "preset")]
    presets: Vec<String>,
    /// Where outputs go: “Storage:folder”, or a path of this machine in a storage.
    #[arg(long, value_name = "PLACE")]
    into: Option<String>,
    /// What to do where a file of the name exists.
    #[arg(long, value_enum)]
    if_exists: Option<IfExists>,
    /// Seconds for which a file must not change before it is taken up.
    #[arg(long, value_name = "SECONDS")]
    settle: Option<u32>,
}

pub(crate) async fn run(server: &Server, task: &WatchTask) -> Result<ExitCode, Problem> {
    match task {
        WatchTask::List => server.show(&server.get("/api/watch").await?, list)?,
        WatchTask::Add { name, folder, outputs } => {
            let (storage, path) = server.place(folder).await?;
            let mut wanted = json!({
                "name": name, "storage": storage.id, "folder": path, "presets": [],
                "destination_storage": storage.id, "destination": "", "settle_seconds": 10,
            });
            set(server, &mut wanted, outputs).await?;
            server.show(&server.post("/api/watch", &wanted).await?, |made: WatchItem| list(vec![made]))?;
        }
        WatchTask::Change { watch, name, folder, outputs } => {
            let now = server.watch_folder(watch).await?;
            let mut wanted = json!({
                "name": name.as_ref().unwrap_or(&now.name), "storage": now.storage, "folder": now.folder, "presets": now.presets,
                "destination_storage": now.destination_storage, "destination": now.destination,
                "clash": now.clash, "settle_seconds": now.settle_seconds,
            });
            if let Some(folder) = folder {
                let (storage, path) = server.place(folder).await?;
                (wanted["storage"], wanted["folder"]) = (json!(storage.id), json!(path));
            }
            set(server, &mut wanted, outputs).await?;
            server.put(&format!("/api/watch/{}", now.id), &wanted).await?;
        }
        WatchTask::Remove { watch } => {
            let id = server.watch_folder(watch).await?.id;
            server.delete(&format!("/api/watch/{id}")).await?;
            say!("Removed. “beryl watch restore {id}” brings it back.");
        }
        WatchTask::Restore { id } => drop(server.post(&format!("/api/watch/{id}/restore"), &json!({})).await?),
        WatchTask::Inside { watch } => {
            let id = server.watch_folder(watch).await?.id;
            let inside = server.get(&format!("/api/watch/{id}/inside")).await?;
            server.show(&inside, |inside: Inside| say!("{} files, {}", inside.files, inside.bytes))?;
        }
        WatchTask::On { watch, present } => {
            let id = server.watch_folder(watch).await?.id;
            let present = present.map(|present| match present {
                Present::Take => "take",
                Present::Leave => "leave",
            });
            server.post(&format!("/api/watch/{id}/on"), &json!({ "present": present })).await?;
        }
        WatchTask::Off { watch } => {
            let id = server.watch_folder(watch).await?.id;
            server.post(&format!("/api/watch/{id}/off"), &json!({})).await?;
        }
        WatchTask::Files { watch, state } => {
            let id = server.watch_folder(watch).await?.id;
            server.show(&server.get(&format!("/api/watch/{id}/files?state={state}")).await?, |files: Vec<WatchFileItem>| {
                for WatchFileItem { path, size, reason, state } in files {
                    say!("{path} · {size} · {}: {reason}", state.word());
                }
            })?;
        }
        WatchTask::Take { watch, paths } => {
            let id = server.watch_folder(watch).await?.id;
            server.post(&format!("/api/watch/{id}/files"), &json!({ "paths": paths })).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn set(server: &Server, wanted: &mut Value, outputs: &Outputs) -> Result<(), Problem> {
    if !outputs.presets.is_empty() {
        let mut presets = Vec::new();
        for preset in &outputs.presets {
            presets.push(server.preset(preset).await?);
        }
        wanted["presets"] = json!(presets);
    }
    if let Some(into) = &outputs.into {
        let (storage, path) = server.place(into).await?;
        (wanted["destination_storage"], wanted["destination"]) = (json!(storage.id), json!(path));
    }
    if let Some(rule) = outputs.if_exists {
        wanted["clash"] = json!(ClashRule::from(rule));
    }
    if let Some(settle) = outputs.settle {
        wanted["settle_seconds"] = json!(settle);
    }
    Ok(())
}

fn list(folders: Vec<WatchItem>) {
    for folder in folders {
        let on = if folder.is_on { "on" } else { "off" };
        let presets: Vec<&str> = folder.presets.iter().map(|preset| preset.name.as_str()).collect();
        say!("{} · {on} · {} → {} ({})", folder.name, folder.folder, presets.join(", "), folder.id);
        folder.problem.iter().for_each(|problem| say!("  {problem}"));
    }
}

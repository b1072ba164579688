//! `beryl asset`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::problem::{Problem, ProblemKind};
use clap::{Subcommand, ValueEnum};
use reqwest::Method;

use super::answers::AssetItem;
use super::client::Server;
use super::storages::query;
use crate::terminal::say;

/// LUTs and watermarks that settings call by name.
#[derive(Debug, Subcommand)]
pub(crate) enum AssetTask {
    /// List tables and pictures.
    List,
    /// Keep a table (.cube) or a picture; one of the same name is replaced.
    Add {
        /// The name by which settings call it.
        name: String,
        /// The file.
        file: PathBuf,
        /// What it is.
        #[arg(long, value_enum)]
        kind: AssetKind,
    },
    /// Remove a table or a picture.
    Remove {
        /// Its name.
        name: String,
    },
}

/// What is kept.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AssetKind {
    /// A LUT.
    Lut,
    /// A picture.
    Picture,
}

pub(crate) async fn run(server: &Server, task: &AssetTask) -> Result<ExitCode, Problem> {
    match task {
        AssetTask::List => server.show(&server.get("/api/assets").await?, list)?,
        AssetTask::Add { name, file, kind } => {
            let bytes = tokio::fs::read(file)
                .await
                .map_err(|error| Problem::from_io(format!("{} could not be read", file.display()), &error))?;
            let kind = match kind {
                AssetKind::Lut => "lut",
                AssetKind::Picture => "picture",
            };
            let path = format!("{}&kind={kind}", query("/api/assets", "name", name));
            let request = server.request(Method::POST, &path).header("content-type", "application/octet-stream").body(bytes);
            server.send(request).await?;
        }
        AssetTask::Remove { name } => {
            let all: Vec<AssetItem> = server.read("/api/assets").await?;
            let found = all.iter().find(|asset| asset.name == *name).and_then(|asset| asset.id.as_ref());
            let unknown =
                || Problem::new(ProblemKind::Invalid, format!("“{name}” was not removed"), "none of the house has this name");
            server.delete(&format!("/api/assets/{}", found.ok_or_else(unknown)?)).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(assets: Vec<AssetItem>) {
    for asset in assets {
        let built_in = if asset.id.is_none() { " · built in" } else { "" };
        say!("{} · {} · {}{built_in}", asset.name, asset.kind, asset.detail);
    }
}

//! `beryl aid`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::problem::{Problem, ProblemKind};
use clap::{Subcommand, ValueEnum};
use reqwest::Method;

use super::answers::AidItem;
use super::client::Server;
use super::storages::query;
use crate::terminal::say;

/// LUTs and watermarks that settings call by name.
#[derive(Debug, Subcommand)]
pub(crate) enum AidTask {
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
        kind: AidKind,
    },
    /// Remove a table or a picture.
    Remove {
        /// Its name.
        name: String,
    },
}

/// What is kept.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AidKind {
    /// A LUT.
    Lut,
    /// A picture.
    Picture,
}

pub(crate) async fn run(server: &Server, task: &AidTask) -> Result<ExitCode, Problem> {
    match task {
        AidTask::List => server.show(&server.get("/api/aids").await?, list)?,
        AidTask::Add { name, file, kind } => {
            let bytes = tokio::fs::read(file)
                .await
                .map_err(|error| Problem::from_io(format!("{} could not be read", file.display()), &error))?;
            let kind = match kind {
                AidKind::Lut => "lut",
                AidKind::Picture => "picture",
            };
            let path = format!("{}&kind={kind}", query("/api/aids", "name", name));
            let request = server.request(Method::POST, &path).header("content-type", "application/octet-stream").body(bytes);
            server.send(request).await?;
        }
        AidTask::Remove { name } => {
            let all: Vec<AidItem> = server.read("/api/aids").await?;
            let found = all.iter().find(|aid| aid.name == *name).and_then(|aid| aid.id.as_ref());
            let unknown =
                || Problem::new(ProblemKind::Invalid, format!("“{name}” was not removed"), "none of the house has this name");
            server.delete(&format!("/api/aids/{}", found.ok_or_else(unknown)?)).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(aids: Vec<AidItem>) {
    for aid in aids {
        let built_in = if aid.id.is_none() { " · built in" } else { "" };
        say!("{} · {} · {}{built_in}", aid.name, aid.kind, aid.detail);
    }
}

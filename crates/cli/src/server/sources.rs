//! `beryl source`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::time::Rational;
use clap::{Subcommand, ValueEnum};
use serde_json::{Value, json};

use super::client::Server;
use super::naming::pick;
use super::storages::query;
use crate::terminal::{json_line, say};

/// Sources of a sheet: what they are, and what they show.
#[derive(Debug, Subcommand)]
pub(crate) enum SourceTask {
    /// Show what a source is, what was found in it, and what is suggested.
    Show(Which),
    /// Write the curves behind the findings, as JSON.
    Curves(Which),
    /// Show what a crop rule comes to for a source.
    Crop {
        #[command(flatten)]
        which: Which,
        /// The rule: never, bars, or a shape such as 16/9.
        rule: String,
    },
    /// Write the frame that is shown at a moment into a file (JPEG).
    Still {
        #[command(flatten)]
        which: Which,
        /// The file.
        file: PathBuf,
        /// Seconds from the first frame, such as 12.5.
        #[arg(long, default_value = "0")]
        at: Rational,
        /// Columns; a picture is never enlarged.
        #[arg(long, default_value_t = 1920)]
        width: u32,
        /// One field alone.
        #[arg(long, value_enum)]
        field: Option<Field>,
        /// Its codes measured in this way, in place of the picture.
        #[arg(long, value_enum)]
        scope: Option<Scope>,
    },
    /// Write its small picture into a file (JPEG).
    Thumbnail {
        #[command(flatten)]
        which: Which,
        /// The file.
        file: PathBuf,
    },
    /// Fetch the file of a source.
    Fetch {
        #[command(flatten)]
        which: Which,
        /// Where to; no file of the name may be there.
        file: PathBuf,
        /// The copy that browsers can play, made where it is missing.
        #[arg(long)]
        viewing_copy: bool,
    },
}

/// Which source.
#[derive(Debug, clap::Args)]
pub(crate) struct Which {
    /// The sheet.
    sheet: String,
    /// The source.
    source: String,
}

/// One field of a frame.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Field {
    /// The top field.
    Top,
    /// The bottom field.
    Bottom,
}

/// How the codes of a picture are shown.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Scope {
    /// Luma of each column, the highest at the top.
    Waveform,
    /// Colour differences of all pixels, blue to the right, red to the top.
    Vectorscope,
}

impl Which {
    /// The ids of the sheet and the source.
    async fn ids(&self, server: &Server) -> Result<(String, String), Problem> {
        let sheet = server.sheet(&self.sheet).await?;
        let source = pick(&sheet.sources, &self.source)?.id.clone();
        Ok((sheet.id, source))
    }

    async fn source(&self, server: &Server) -> Result<String, Problem> {
        Ok(self.ids(server).await?.1)
    }
}

pub(crate) async fn run(server: &Server, task: &SourceTask) -> Result<ExitCode, Problem> {
    match task {
        SourceTask::Show(which) => {
            let (sheet, source) = which.ids(server).await?;
            server.show(&server.get(&format!("/api/sheets/{sheet}/sources/{source}")).await?, print)?;
        }
        SourceTask::Curves(which) => {
            let source = which.source(server).await?;
            json_line(&server.get(&format!("/api/sources/{source}/curves")).await?);
        }
        SourceTask::Crop { which, rule } => {
            let source = which.source(server).await?;
            let wish = json!({ "rule": crop_rule(rule)? });
            server.show(&server.post(&format!("/api/sources/{source}/crop"), &wish).await?, |crop: Value| {
                let words = |key: &str| crop[key].as_str().unwrap_or_default().to_owned();
                say!("{}, because {}", words("what"), words("because"));
                say!("{}×{} are kept", crop["width"], crop["height"]);
            })?;
        }
        SourceTask::Still { which, file, at, width, field, scope } => {
            let source = which.source(server).await?;
            let field = match field {
                None => "",
                Some(Field::Top) => "&field=top",
                Some(Field::Bottom) => "&field=bottom",
            };
            let scope = match scope {
                None => "",
                Some(Scope::Waveform) => "&scope=waveform",
                Some(Scope::Vectorscope) => "&scope=vectorscope",
            };
            let place = query(&format!("/api/sources/{source}/still"), "at", &at.to_string());
            server.fetch(&format!("{place}&width={width}{field}{scope}"), file).await?;
        }
        SourceTask::Thumbnail { which, file } => {
            let source = which.source(server).await?;
            server.fetch(&format!("/api/sources/{source}/thumbnail"), file).await?;
        }
        SourceTask::Fetch { which, file, viewing_copy } => {
            let source = which.source(server).await?;
            if *viewing_copy {
                super::queue::viewing(server, &format!("/api/sources/{source}/viewing")).await?;
                server.fetch(&format!("/api/sources/{source}/viewing-copy"), file).await?;
            } else {
                server.fetch(&format!("/api/sources/{source}/media"), file).await?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn crop_rule(text: &str) -> Result<Value, Problem> {
    match text {
        "never" | "bars" => Ok(json!({ "rule": text })),
        shape => {
            let shape: Rational = shape.parse().map_err(|_| {
                Problem::new(
                    ProblemKind::Invalid,
                    format!("“{text}” is no crop rule"),
                    "it must be never, bars or a shape such as 16/9",
                )
            })?;
            Ok(json!({ "rule": "shape", "shape": shape }))
        }
    }
}

fn print(bench: Value) {
    match serde_json::from_value(bench["reading"].clone()) {
        Ok(reading) => crate::inspect::print(&reading),
        Err(_) => say!("{}", bench["source"]["problem"]["why"].as_str().unwrap_or("not read yet")),
    }
    for finding in bench["source"]["findings"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        say!("  found: {finding}");
    }
    for suggestion in bench["suggestions"].as_array().into_iter().flatten() {
        let taken = if suggestion["taken"] == true { " (taken)" } else { "" };
        say!("  suggested: {}{taken}", suggestion["title"].as_str().unwrap_or_default());
    }
}

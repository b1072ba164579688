//! `beryl preset`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::preset::{PresetError, PresetPatch, apply};
use beryl_core::problem::{Problem, ProblemKind};
use clap::Subcommand;
use reqwest::Method;
use serde_json::{Value, json};

use super::answers::{PresetItem, PresetVersion, Tried};
use super::client::Server;
use super::naming::pick;
use crate::terminal::{json_line, preset_in, preset_problem, say};

/// Presets of the server.
#[derive(Debug, Subcommand)]
pub(crate) enum PresetTask {
    /// List the presets.
    List,
    /// Show a preset as its document.
    Show {
        /// The preset: its id, its name, or how one of them begins.
        preset: String,
        /// As it was in this version.
        #[arg(long, value_name = "NUMBER")]
        version: Option<u32>,
    },
    /// List the versions in which a preset of the house was saved.
    Versions {
        /// The preset; of one that was removed, its id.
        preset: String,
    },
    /// Take a preset of the house back to an earlier version.
    Revert {
        /// The preset.
        preset: String,
        /// The number of the version.
        version: u32,
    },
    /// Give a preset of the house another id or another name.
    Rename {
        /// The preset.
        preset: String,
        /// Its new id.
        id: String,
        /// Its new name.
        #[arg(long)]
        name: Option<String>,
    },
    /// Make a preset of the house from another one, with other settings.
    Save {
        /// The id of the new preset.
        id: String,
        /// The preset that it is made from: one of the server, or a preset file (.json).
        #[arg(long)]
        from: String,
        /// Its name.
        #[arg(long)]
        name: Option<String>,
        /// When to use it.
        #[arg(long)]
        use_when: Option<String>,
        /// Settings such as picture.rate.crf=20; may be repeated.
        #[arg(long = "set", value_name = "KEY=VALUE")]
        settings: Vec<String>,
        /// Replace a preset of the house that has this id.
        #[arg(long)]
        replace: bool,
    },
    /// Take in preset files.
    Import {
        /// The files (.json).
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Replace presets of the house that have the same id.
        #[arg(long)]
        replace: bool,
    },
    /// Write a preset into a file that is not there yet.
    Export {
        /// The preset.
        preset: String,
        /// The file.
        file: PathBuf,
    },
    /// Say what is wrong with a preset file, and what it would make of a source; nothing is saved.
    Try {
        /// The preset file (.json).
        file: PathBuf,
        /// The sheet of a source of which it is tried.
        #[arg(long, requires = "source")]
        sheet: Option<String>,
        /// The source.
        #[arg(long, requires = "sheet")]
        source: Option<String>,
    },
    /// Remove a preset of the house; deliverables made from it keep their copy.
    Remove {
        /// The preset.
        preset: String,
    },
    /// List every setting with its values, as --set takes them.
    Settings,
    /// Write the JSON Schema of preset documents.
    Schema,
}

pub(crate) async fn run(server: &Server, task: &PresetTask) -> Result<ExitCode, Problem> {
    match task {
        PresetTask::List => server.show(&server.get("/api/presets").await?, list)?,
        PresetTask::Show { preset, version: None } => json_line(&server.preset(preset).await?),
        PresetTask::Show { preset, version: Some(number) } => json_line(&version_of(server, preset, *number).await?.preset),
        PresetTask::Versions { preset } => {
            let versions = server.get(&format!("/api/presets/{}/versions", own_id(server, preset).await?)).await?;
            server.show(&versions, |versions: Vec<PresetVersion>| {
                for PresetVersion { number, saved, preset } in versions {
                    say!("{number:4}  {}  {}", saved.format("%Y-%m-%d %H:%M"), preset.name);
                }
            })?;
        }
        PresetTask::Revert { preset, version } => {
            let version = version_of(server, preset, *version).await?;
            let path = format!("/api/presets/{}", own_id(server, preset).await?);
            let changed = server.ask(Method::PUT, &path, Some(&json!(version.preset))).await?;
            server.show(&changed, |item: PresetItem| list(vec![item]))?;
        }
        PresetTask::Rename { preset, id, name } => {
            let mut renamed = server.preset(preset).await?;
            let path = format!("/api/presets/{}", renamed.id);
            renamed.id.clone_from(id);
            renamed.name = name.clone().unwrap_or(renamed.name);
            let changed = server.ask(Method::PUT, &path, Some(&json!(renamed))).await?;
            server.show(&changed, |item: PresetItem| list(vec![item]))?;
        }
        PresetTask::Save { id, from, name, use_when, settings, replace } => {
            let patch = PresetPatch::from_settings(settings).map_err(|error| preset_problem("with your settings", &error))?;
            let origin = server.preset(from).await?;
            let (mut preset, left_out) = apply(&origin, &patch).map_err(|error| preset_problem(id, &error))?;
            if let Some(setting) = left_out.first() {
                let why = format!("{} would change nothing: {}", setting.setting, setting.because);
                return Err(Problem::new(ProblemKind::Invalid, format!("the preset {id} was not saved"), why));
            }
            preset.id.clone_from(id);
            preset.name = name.clone().unwrap_or_else(|| id.clone());
            preset.use_when = use_when.clone().unwrap_or(preset.use_when);
            save(server, &preset, *replace).await?;
        }
        PresetTask::Import { files, replace } => {
            for file in files {
                save(server, &preset_in(file)?, *replace).await?;
            }
        }
        PresetTask::Export { preset, file } => {
            let preset = server.preset(preset).await?;
            let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be written", file.display()), &error);
            let out = std::fs::File::create_new(file).map_err(failed)?;
            serde_json::to_writer_pretty(out, &preset).map_err(|error| failed(error.into()))?;
        }
        PresetTask::Try { file, sheet, source } => {
            let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be read", file.display()), &error);
            let text = std::fs::read_to_string(file).map_err(failed)?;
            let document: Value = serde_json::from_str(&text)
                .map_err(|error| preset_problem(&file.display().to_string(), &PresetError::NotJson(error.to_string())))?;
            let source = match sheet.as_ref().zip(source.as_ref()) {
                Some((sheet, source)) => Some(pick(&server.sheet(sheet).await?.sources, source)?.id.clone()),
                None => None,
            };
            let tried = server.post("/api/presets/try", &json!({ "preset": document, "source": source })).await?;
            server.show(&tried, |tried: Tried| {
                tried.faults.iter().for_each(|fault| say!("{}: {}", fault.field, fault.words));
                tried.bytes_per_minute.iter().for_each(|minute| say!("{minute} a minute at 1080p25"));
                tried.forecast.iter().for_each(|forecast| say!("{} expected of the source", forecast.size));
                tried.refusal.iter().for_each(|refusal| say!("cannot be made of the source: {refusal}"));
            })?;
            if !tried["faults"].as_array().is_none_or(Vec::is_empty) {
                return Ok(ExitCode::from(1));
            }
        }
        PresetTask::Remove { preset } => {
            let all: Vec<PresetItem> = server.read("/api/presets").await?;
            server.delete(&format!("/api/presets/{}", pick(&all, preset)?.preset.id)).await?;
        }
        PresetTask::Settings => {
            let settings = server.get("/api/catalogue").await?;
            if server.wants_json() {
                json_line(&settings);
            } else {
                crate::presets::print_settings();
            }
        }
        PresetTask::Schema => {
            json_line(&server.get("/api/preset-schema.json").await?);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The id of a preset; of one that the server does not list any more, what was given.
async fn own_id(server: &Server, preset: &str) -> Result<String, Problem> {
    let all: Vec<PresetItem> = server.read("/api/presets").await?;
    Ok(pick(&all, preset).map_or_else(|_| preset.to_owned(), |item| item.preset.id.clone()))
}

async fn version_of(server: &Server, preset: &str, number: u32) -> Result<PresetVersion, Problem> {
    let id = own_id(server, preset).await?;
    let versions: Vec<PresetVersion> = server.read(&format!("/api/presets/{id}/versions")).await?;
    let count = versions.len();
    versions.into_iter().find(|version| version.number == number).ok_or_else(|| {
        let why = format!("it has {count} versions, and none of this number");
        Problem::new(ProblemKind::Missing, format!("version {number} of the preset {id} could not be found"), why)
            .with_next("“beryl preset versions” lists them.")
    })
}

/// Saves a preset; one of the house that has the same id is replaced only where that is said.
async fn save(server: &Server, preset: &beryl_core::preset::Preset, replace: bool) -> Result<(), Problem> {
    let all: Vec<PresetItem> = server.read("/api/presets").await?;
    if let Some(present) = all.iter().find(|item| item.preset.id == preset.id)
        && !present.is_builtin
        && !replace
    {
        let why = format!("the house has a preset of this id: {}", present.preset.name);
        return Err(Problem::new(ProblemKind::NameTaken, format!("the preset {} was not saved", preset.id), why)
            .with_next("Give it another id, or say --replace."));
    }
    let saved = server.post("/api/presets", &json!(preset)).await?;
    server.show(&saved, |item: PresetItem| list(vec![item]))
}

fn list(presets: Vec<PresetItem>) {
    for PresetItem { preset, is_builtin, version, headline, frame, bytes_per_minute } in presets {
        let own = match version {
            Some(number) if !is_builtin => format!(" · of the house, version {number}"),
            _ => String::new(),
        };
        let weight = bytes_per_minute.map_or_else(String::new, |minute| format!(" · about {minute} a minute"));
        say!("{:16} {} ({headline}, {frame}){own}{weight}", preset.id, preset.name);
        say!("{:16} {}", "", preset.use_when);
    }
}

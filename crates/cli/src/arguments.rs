//! What can be said on the command line.

use std::net::SocketAddr;
use std::path::PathBuf;

use beryl_core::run::ClashRule;
use clap::{Args, Parser, Subcommand, ValueEnum};

/// Compresses and transcodes video into delivery, streaming, proxy and editing formats.
#[derive(Debug, Parser)]
#[command(name = "beryl", version, about)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) task: Task,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Task {
    /// Show what a file is.
    Probe(ProbeTask),
    /// List the presets.
    Presets(PresetsTask),
    /// Show what would be made of a file, and why.
    Plan(PlanTask),
    /// Make outputs of files, each file decoded once for all presets.
    ///
    /// The exit status is 0 where every output is made and checked, 1 where one is not.
    Encode(EncodeTask),
    /// Start the application and print its address; Ctrl-C ends it.
    Serve(ServeTask),
    /// Write the description of the API (OpenAPI 3.1).
    Describe,
}

#[derive(Debug, Args)]
pub(crate) struct ServeTask {
    /// Where to listen; only this machine can be reached.
    #[arg(long, default_value = "127.0.0.1:8470")]
    pub(crate) listen: SocketAddr,
    /// The folder that keeps everything: database, thumbnails, demo media.
    #[arg(long, default_value = ".beryl")]
    pub(crate) state: PathBuf,
    /// A database of your own (mysql://…) instead of a private server in the state folder.
    #[arg(long)]
    pub(crate) database: Option<String>,
    /// Begin with the demo media and two sheets.
    #[arg(long)]
    pub(crate) demo: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ProbeTask {
    /// The file.
    pub(crate) file: PathBuf,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PresetsTask {
    /// Write the preset documents as JSON.
    #[arg(long)]
    pub(crate) json: bool,
    /// Write the JSON Schema of preset documents.
    #[arg(long, conflicts_with = "json")]
    pub(crate) schema: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PlanTask {
    /// The file.
    pub(crate) file: PathBuf,
    #[command(flatten)]
    pub(crate) choice: PresetChoice,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PresetChoice {
    /// Preset ids or preset files (.json), separated by commas.
    #[arg(long, required = true, value_delimiter = ',')]
    pub(crate) preset: Vec<String>,
    /// Own settings on top of the preset, such as picture.rate.crf=20; may be repeated.
    #[arg(long = "set", value_name = "KEY=VALUE")]
    pub(crate) settings: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct EncodeTask {
    /// The files.
    #[arg(required = true)]
    pub(crate) files: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) choice: PresetChoice,
    /// The folder for the outputs; made where it is missing.
    #[arg(long)]
    pub(crate) out: PathBuf,
    /// What to do where a name is taken.
    #[arg(long, value_enum, default_value_t = Clash::Number)]
    pub(crate) clash: Clash,
    /// Write events and a closing report as JSON lines.
    #[arg(long)]
    pub(crate) json: bool,
}

/// What to do where a name is taken.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Clash {
    /// Number the new file.
    Number,
    /// Make nothing.
    Skip,
    /// Replace the old file once the new one is whole.
    Replace,
}

impl From<Clash> for ClashRule {
    fn from(clash: Clash) -> Self {
        match clash {
            Clash::Number => Self::Number,
            Clash::Skip => Self::Skip,
            Clash::Replace => Self::Replace,
        }
    }
}

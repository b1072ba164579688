//! What can be said on the command line.

use std::net::SocketAddr;
use std::path::PathBuf;

use beryl_core::flow::run::ClashRule;
use beryl_core::time::Rational;
use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::server::{
    AssetTask, At, PresetTask, ProofTask, QueueTask, SettingsTask, SheetTask, SourceTask, StorageTask, UploadTask, WatchTask,
};

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
    #[command(alias = "probe")]
    Inspect(InspectTask),
    /// Decode a file and show what it is: fields, bars, rate, picture, sound.
    #[command(alias = "scan")]
    Analyse(AnalyseTask),
    /// Compare a file with its source, frame by frame: SSIM and PSNR.
    Compare(CompareTask),
    /// List the presets that are here; no server is asked.
    Presets(PresetsTask),
    /// Show what would be made of a file, and why.
    Plan(PlanTask),
    /// Make outputs of files, each file decoded once for all presets.
    ///
    /// The exit status is 0 where every output is made and checked, 1 where one is not.
    Encode(EncodeTask),
    /// Make short stretches of a file, hold them against it, and forecast the whole.
    Prove(ProveTask),
    /// Start the application and print its address; Ctrl-C ends it.
    Serve(ServeTask),
    /// Write the description of the API (OpenAPI 3.1).
    Describe,
    /// Write what completes commands in a shell.
    Completion {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Write the manual as man pages into a folder: one for each command.
    Manual {
        /// The folder, made where it is missing.
        folder: PathBuf,
    },
    /// Sheets of a server: sources, deliverables, and what becomes of each pair.
    Sheet(OnServer<SheetTask>),
    /// Sources of a sheet: what they are, and what they show.
    Source(OnServer<SourceTask>),
    /// Proofs of outputs: short stretches made as the whole would be, held against the source.
    Proof(OnServer<ProofTask>),
    /// The queue of a server.
    Queue(OnServer<QueueTask>),
    /// Watch folders of a server.
    Watch(OnServer<WatchTask>),
    /// Presets of a server.
    Preset(OnServer<PresetTask>),
    /// LUTs and watermarks of a server, which settings call by name.
    Asset(OnServer<AssetTask>),
    /// Storages of a server: folders of its machine, by name.
    Storage(OnServer<StorageTask>),
    /// Files of this machine that come into a storage of a server.
    Upload(OnServer<UploadTask>),
    /// Settings of a server.
    Settings(OnServer<SettingsTask>),
}

/// A task for a server that runs.
#[derive(Debug, Args)]
pub(crate) struct OnServer<T: Subcommand> {
    #[command(flatten)]
    pub(crate) at: At,
    #[command(subcommand)]
    pub(crate) task: T,
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
pub(crate) struct InspectTask {
    /// The file.
    pub(crate) file: PathBuf,
    /// The file is the first image of a sequence with so many images a second.
    #[arg(long, value_name = "FPS")]
    pub(crate) sequence: Option<Rational>,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct AnalyseTask {
    /// The file.
    pub(crate) file: PathBuf,
    /// The file is the first image of a sequence with so many images a second.
    #[arg(long, value_name = "FPS")]
    pub(crate) sequence: Option<Rational>,
    /// Look at evenly spread parts only.
    #[arg(long)]
    pub(crate) quick: bool,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CompareTask {
    /// What it was made from. Its pictures are brought to the size and form of the other's.
    pub(crate) reference: PathBuf,
    /// The file that was made; each of its frames is held against what the other shows at its time.
    pub(crate) file: PathBuf,
    /// Show each frame.
    #[arg(long)]
    pub(crate) frames: bool,
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

    /// List every setting with its values, as --set takes them.
    #[arg(long, conflicts_with = "schema")]
    pub(crate) settings: bool,
    /// The state folder of the application, for the presets of the house.
    #[arg(long, value_name = "DIR", default_value = ".beryl")]
    pub(crate) state: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct PlanTask {
    /// The file.
    pub(crate) file: PathBuf,
    #[command(flatten)]
    pub(crate) choice: PresetChoice,
    /// Where what is taken ends, for each --in; left out, the end of the file.
    #[arg(long = "out", value_name = "TIMECODE")]
    pub(crate) outs: Vec<String>,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PresetChoice {
    /// Preset ids, the house's own among them, or preset files (.json), separated by commas.
    #[arg(long, required = true, value_delimiter = ',')]
    pub(crate) preset: Vec<String>,
    /// Own settings on top of the preset, such as picture.rate.crf=20; may be repeated.
    #[arg(long = "set", value_name = "KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Where what is taken begins: a timecode, the file's own or counted from 00:00:00:00, or seconds
    /// such as 12.5s. Several parts become one output, one after the other.
    #[arg(long = "in", value_name = "TIMECODE")]
    pub(crate) ins: Vec<String>,
    /// Decode each file first, and plan by what is found in it: fields, film, bars.
    #[arg(long, alias = "scan")]
    pub(crate) analyse: bool,
    /// Each file is the first image of a sequence with so many images a second.
    #[arg(long, value_name = "FPS")]
    pub(crate) sequence: Option<Rational>,
    /// The state folder of the application, for the presets of the house.
    #[arg(long, value_name = "DIR", default_value = ".beryl")]
    pub(crate) state: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct EncodeTask {
    /// The files, and folders with all media in them.
    #[arg(required = true)]
    pub(crate) files: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) choice: PresetChoice,
    /// Where what is taken ends, for each --in; left out, the end of the file.
    #[arg(long = "out", value_name = "TIMECODE")]
    pub(crate) outs: Vec<String>,
    /// The pattern of names, such as “<name>_<preset>”; left out, that of the preset.
    #[arg(long, value_name = "PATTERN")]
    pub(crate) name: Option<String>,
    /// The folder for the outputs, made where it is missing.
    #[arg(long, value_name = "DIR")]
    pub(crate) into: PathBuf,
    /// What to do where a file of the name exists.
    #[arg(long, value_enum, default_value_t = IfExists::Number)]
    pub(crate) if_exists: IfExists,
    /// Write events and a closing report as JSON lines.
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ProveTask {
    /// The file.
    pub(crate) file: PathBuf,
    #[command(flatten)]
    pub(crate) choice: PresetChoice,
    /// Where what is taken ends, for each --in; left out, the end of the file.
    #[arg(long = "out", value_name = "TIMECODE")]
    pub(crate) outs: Vec<String>,
    /// A moment to prove: a timecode or seconds; may be repeated. Left out, short stretches spread over the whole.
    #[arg(long = "at", value_name = "TIMECODE")]
    pub(crate) moments: Vec<String>,
    /// Seconds at each moment.
    #[arg(long, default_value = "2")]
    pub(crate) seconds: Rational,
    /// Keep what is made in this folder.
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
    /// Write JSON.
    #[arg(long)]
    pub(crate) json: bool,
}

/// What to do where a file of the name exists.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum IfExists {
    /// Add a number to the new name.
    Number,
    /// Make nothing.
    Skip,
    /// Replace the old file once the new one is whole.
    Replace,
}

impl From<IfExists> for ClashRule {
    fn from(rule: IfExists) -> Self {
        match rule {
            IfExists::Number => Self::Number,
            IfExists::Skip => Self::Skip,
            IfExists::Replace => Self::Replace,
        }
    }
}

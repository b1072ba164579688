//! What is said to an engine and what it answers: one JSON document in on the first line, commands
//! on the following ones, events out as JSON lines.
//!
//! The engine speaks first: [`Said::Hello`]. From then on it is heard at least every [`ALIVE_EVERY`], and one that is silent
//! for [`LOST_AFTER`] is lost, wherever it runs.

use std::path::Path;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::after::check::Measured;
use crate::after::quality::Comparison;
use crate::findings::Curves;
use crate::flow::tasks::Progress;
use crate::path::StoragePath;
use crate::plan::{Plan, Step};
use crate::problem::Problem;
use crate::reading::Reading;
use crate::storage::StorageName;
use crate::time::{Rational, Span};
use crate::timeline::Anchor;
use crate::units::ByteSize;

/// The version of what is said here. Engines of another version are not worked with.
pub const PROTOCOL: u32 = 4;
/// How often an engine says that it is there, whatever it does.
pub const ALIVE_EVERY: Duration = Duration::from_secs(2);
/// An engine that is not heard for so long is lost.
pub const LOST_AFTER: Duration = Duration::from_secs(15);

/// How a line of an engine's standard error begins that tells what it could not do to hold itself.
pub const NOT_CONFINED: &str = "not confined:";

/// Below what an engine finds a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Root {
    /// A storage: where it is, is known where the engine runs.
    Storage(StorageName),
    /// A folder, as a path of the machine on which the engine runs.
    Folder(String),
}

/// A file for an engine: a root, and a path that cannot leave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileRef {
    /// The root.
    pub root: Root,
    /// The file below it.
    pub path: StoragePath,
}

impl FileRef {
    /// A file below a folder of this machine.
    #[must_use]
    pub fn within(folder: impl Into<String>, path: StoragePath) -> Self {
        Self { root: Root::Folder(folder.into()), path }
    }

    /// The folder below which it is.
    ///
    /// # Errors
    /// The storage, where it is not known yet where that is: see [`Job::files_mut`].
    pub fn folder(&self) -> std::io::Result<&Path> {
        match &self.root {
            Root::Folder(folder) => Ok(Path::new(folder)),
            Root::Storage(storage) => {
                Err(std::io::Error::new(std::io::ErrorKind::NotFound, format!("nobody says where “{}” is", storage.name)))
            }
        }
    }
}

/// A source: one file, or the files of an image sequence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceRef {
    /// The file; for a sequence, its first image.
    pub file: FileRef,
    /// Set where the images that follow by number belong to it.
    #[serde(default)]
    pub sequence: Option<Sequence>,
    /// What is known of its clock.
    #[serde(default)]
    pub clock: SourceClock,
}

/// What reading a source once showed of its clock, so that whoever reads it again counts by the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceClock {
    /// The moment that people count from; the header's word where it is not known.
    pub zero: Option<Rational>,
    /// Places from which reading can begin, where the clock jumps.
    pub anchors: Vec<Anchor>,
}

impl SourceRef {
    /// A file of which nothing is known yet.
    #[must_use]
    pub fn of(file: FileRef) -> Self {
        Self { file, sequence: None, clock: SourceClock::default() }
    }

    /// The same source, with what is known of its clock.
    #[must_use]
    pub fn known_by(self, reading: &Reading) -> Self {
        let anchors = reading.findings.as_ref().map_or_else(Vec::new, |findings| findings.anchors.clone());
        Self { clock: SourceClock { zero: Some(reading.facts.zero()), anchors }, ..self }
    }
}

/// Images numbered without a gap that are shown one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sequence {
    /// How many.
    pub count: u32,
    /// Images a second.
    pub rate: Rational,
}

/// Another file that picture steps need, by the name by which they call it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Asset {
    /// The name.
    pub name: String,
    /// Where it is.
    pub file: FileRef,
}

/// One output of an encoding job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EncodeRun {
    /// The run.
    pub id: Uuid,
    /// What to make.
    pub plan: Plan,
    /// Where, under temporary names: a file for each of the plan's artifacts, in their order.
    pub outputs: Vec<FileRef>,
    /// Other files that its steps need.
    #[serde(default)]
    pub assets: Vec<Asset>,
}

/// What a file is held against: a source, or parts of it, behind picture steps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reference {
    /// The source.
    pub source: SourceRef,
    /// The moment of the source's clock, in seconds, from which parts count and which is nought where all of it is
    /// taken; left out, the word of its header.
    #[serde(default)]
    pub origin: Option<Rational>,
    /// The parts that are taken, in seconds from its first frame; all of it where there are none.
    #[serde(default)]
    pub parts: Vec<Span>,
    /// What was done to its pictures.
    #[serde(default)]
    pub steps: Vec<Step>,
    /// Other files that these steps need.
    #[serde(default)]
    pub assets: Vec<Asset>,
}

impl Reference {
    /// All of a source as it is.
    #[must_use]
    pub const fn of(source: SourceRef) -> Self {
        Self { source, origin: None, parts: Vec::new(), steps: Vec::new(), assets: Vec::new() }
    }
}

/// A film of a source, above, and what was made of it, below, frame for frame.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PairFilm {
    /// What brings pictures of the source to the shape and pace of what was made.
    pub seen: Vec<Step>,
    /// Columns of each half.
    pub width: u32,
    /// Lines of each half.
    pub height: u32,
    /// Where to.
    pub output: FileRef,
}

/// Which lines of a frame are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ShownField {
    /// All of them.
    #[default]
    Both,
    /// Those of the top field, each twice.
    Top,
    /// Those of the bottom field, each twice.
    Bottom,
}

/// How the codes of a picture are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Scope {
    /// Luma of each column, the highest at the top.
    Waveform,
    /// Colour differences of all pixels, blue to the right, red to the top.
    Vectorscope,
}

/// The shape in which an output shows a picture of its source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StillShape {
    /// What brings the picture to it; what takes time to show is left out.
    pub steps: Vec<Step>,
    /// Width of a pixel over its height behind these steps.
    pub pixel_aspect: Rational,
    /// Other files that these steps need.
    #[serde(default)]
    pub assets: Vec<Asset>,
}

/// What an engine is started for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "job", rename_all = "snake_case")]
pub enum Job {
    /// Read the facts of a source.
    Probe {
        /// The source.
        source: SourceRef,
    },
    /// Decode a source to find out what it is.
    Scan {
        /// The source.
        source: SourceRef,
        /// Evenly spread parts only, for a first answer.
        quick: bool,
    },
    /// Make outputs of one source, in one decode.
    Encode {
        /// The source.
        source: SourceRef,
        /// What to make of it.
        runs: Vec<EncodeRun>,
        /// How many jobs share the machine, this one among them.
        #[serde(default = "alone")]
        share: u32,
    },
    /// Hold a file against what it was made from.
    Compare {
        /// What it was made from.
        reference: Box<Reference>,
        /// The file.
        file: SourceRef,
        /// A film of both, where one is wanted.
        #[serde(default)]
        film: Option<PairFilm>,
    },
    /// Keep a source open and write single pictures of it, as each is asked for.
    Stills {
        /// The source.
        source: SourceRef,
        /// The folder, as a path of this machine, in which pictures are written and other files are found.
        folder: String,
    },
}

const fn alone() -> u32 {
    1
}

impl Job {
    /// Every file that it names, so that roots can be told where the engine runs.
    pub fn files_mut(&mut self) -> Vec<&mut FileRef> {
        fn assets(assets: &mut [Asset]) -> impl Iterator<Item = &mut FileRef> {
            assets.iter_mut().map(|asset| &mut asset.file)
        }
        match self {
            Self::Probe { source } | Self::Scan { source, .. } | Self::Stills { source, .. } => vec![&mut source.file],
            Self::Encode { source, runs, .. } => {
                let of_runs = runs.iter_mut().flat_map(|run| run.outputs.iter_mut().chain(assets(&mut run.assets)));
                std::iter::once(&mut source.file).chain(of_runs).collect()
            }
            Self::Compare { reference, file, film } => {
                let Reference { source, assets: of_reference, .. } = &mut **reference;
                let both = [&mut source.file, &mut file.file].into_iter();
                both.chain(assets(of_reference)).chain(film.iter_mut().map(|film| &mut film.output)).collect()
            }
        }
    }
}

/// A picture of a source that is open in an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Still {
    /// Seconds into the source.
    pub at: Rational,
    /// Columns of the picture; lines follow from its shape.
    pub width: u32,
    /// One field alone.
    #[serde(default)]
    pub field: ShownField,
    /// As an output shows it.
    #[serde(default)]
    pub shape: Option<StillShape>,
    /// Measured in this way, in place of the picture.
    #[serde(default)]
    pub scope: Option<Scope>,
    /// Where to: a JPEG or, where the name ends in `.png`, a PNG without loss.
    pub output: FileRef,
}

/// What can be said to a running engine. When its input ends, the engine ends too and leaves nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "command", rename_all = "snake_case")]
pub enum Command {
    /// Stand still.
    Pause,
    /// Go on.
    Resume,
    /// Give up one output; its temporary file goes.
    CancelRun {
        /// The run.
        id: Uuid,
    },
    /// Give up everything; all temporary files go.
    Cancel,
    /// Write a picture of the source that is kept open.
    Still(Box<Still>),
}

/// A line of what an engine says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "said", rename_all = "snake_case")]
pub enum Said {
    /// The first word, before there is a job.
    Hello(Hello),
    /// It is there.
    Alive,
    /// Something about its job.
    News(Event),
}

/// What an engine has to say of its job.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// What a job has to say that makes no outputs.
    Answer(Answer),
    /// What there is to say of one run of an encoding job.
    Run {
        /// The run.
        id: Uuid,
        /// What.
        news: RunNews,
    },
    /// The job as a whole could not be done; it stands for all runs not yet named.
    Failed {
        /// Why.
        problem: Problem,
    },
    /// The last word.
    Ended {
        /// Seconds of processor time, user and system.
        cpu_seconds: f64,
        /// Seconds of the clock, pauses left out.
        wall_seconds: f64,
        /// The most memory that it held at any time; nothing where the system does not tell.
        #[serde(default)]
        peak_memory: Option<ByteSize>,
        /// The most that outputs were planned to need; nothing where none were made.
        #[serde(default)]
        planned_memory: Option<ByteSize>,
    },
}

/// What an engine says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    /// The version of what it says and understands: [`PROTOCOL`].
    pub protocol: u32,
    /// The version of the program.
    pub build: String,
    /// The codecs that it can write, by the words of documents.
    pub encoders: Vec<String>,
    /// The storages of which it knows where they are.
    pub storages: Vec<Uuid>,
}

/// What jobs say that make no outputs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "snake_case")]
pub enum Answer {
    /// A probe's answer.
    Probed {
        /// The facts.
        reading: Box<Reading>,
    },
    /// How far a scan is.
    Scanning {
        /// Seconds of the source.
        position: f64,
    },
    /// A scan's answer.
    Scanned {
        /// Facts and findings.
        reading: Box<Reading>,
        /// What the findings were judged from, for showing.
        curves: Box<Curves>,
    },
    /// How far a comparison is.
    Comparing {
        /// Seconds of the file.
        position: f64,
    },
    /// A comparison's answer.
    Compared {
        /// Frame by frame and as a whole.
        comparison: Box<Comparison>,
    },
    /// A still is written.
    StillWritten,
    /// A still could not be written; others may.
    StillRefused {
        /// Why.
        problem: Problem,
    },
}

/// What there is to say of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum RunNews {
    /// How far it is; at least twice a second.
    Progress {
        /// How far.
        progress: Progress,
    },
    /// Its files are written and are being read back.
    Reading,
    /// Its files are written under their temporary names, flushed to disk, and read back.
    Written {
        /// What was found in each, in the order of the plan's artifacts.
        measured: Vec<Measured>,
    },
    /// It ended without a file.
    Failed {
        /// Why.
        problem: Problem,
    },
}

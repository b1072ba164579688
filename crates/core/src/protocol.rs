//! What is said to an engine and what it answers: one JSON document in on the first line, commands
//! on the following ones, events out as JSON lines.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::check::Measured;
use crate::path::StoragePath;
use crate::plan::Plan;
use crate::problem::Problem;
use crate::rational::Rational;
use crate::reading::Reading;
use crate::run::Progress;

/// A file for an engine: a root folder of this machine and a path that cannot leave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileRef {
    /// The folder, as a path of this machine.
    pub root: String,
    /// The file in it.
    pub path: StoragePath,
}

/// A source: one file, or the files of an image sequence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceRef {
    /// The file; for a sequence, its first image.
    pub file: FileRef,
    /// Set where the images that follow by number belong to it.
    #[serde(default)]
    pub sequence: Option<Sequence>,
}

/// Images numbered without a gap that are shown one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sequence {
    /// How many.
    pub count: u32,
    /// Images a second.
    pub rate: Rational,
}

/// One output of an encoding job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EncodeRun {
    /// The run.
    pub id: Uuid,
    /// What to make.
    pub plan: Plan,
    /// Where, under a temporary name.
    pub output: FileRef,
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
    /// Make outputs of one source, in one decode.
    Encode {
        /// The source.
        source: SourceRef,
        /// What to make of it.
        runs: Vec<EncodeRun>,
    },
    /// Write one picture of a source as JPEG.
    Still {
        /// The source.
        source: SourceRef,
        /// Seconds into the source.
        at: Rational,
        /// Columns of the picture; lines follow from its shape.
        width: u32,
        /// Where to.
        output: FileRef,
    },
}

/// What can be said to a running engine. When its input ends, the engine ends too and leaves nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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
}

/// What an engine says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// A probe's answer.
    Probed {
        /// The facts.
        reading: Reading,
    },
    /// A still is written.
    StillWritten,
    /// How far a run is; at least twice a second.
    Progress {
        /// The run.
        id: Uuid,
        /// How far.
        progress: Progress,
    },
    /// A run's file is written and is being read back.
    Reading {
        /// The run.
        id: Uuid,
    },
    /// A run's file is written under its temporary name, flushed to disk, and read back.
    Written {
        /// The run.
        id: Uuid,
        /// What was found in it.
        measured: Box<Measured>,
    },
    /// A run ended without a file.
    RunFailed {
        /// The run.
        id: Uuid,
        /// Why.
        problem: Problem,
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
    },
}

//! What a server answers, as far as it is shown in words.

use beryl_core::flow::run::RunState;
use beryl_core::flow::tasks::Progress;
use beryl_core::flow::watch::WatchState;
use beryl_core::path::StoragePath;
use beryl_core::preset::{Preset, PresetPatch};
use beryl_core::problem::{Fault, Problem};
use beryl_core::units::ByteSize;
use chrono::{DateTime, Utc};
use serde::Deserialize;

#[derive(Debug, Clone, Deserialize)]
pub(super) struct SheetItem {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) sources: u64,
    pub(super) deliverables: u64,
    pub(super) open: u64,
    pub(super) done: u64,
    pub(super) failed: u64,
    pub(super) withheld: u64,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct SheetView {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) seq: u64,
    pub(super) sources: Vec<SourceRow>,
    pub(super) deliverables: Vec<Column>,
    pub(super) cells: Vec<Cell>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct SourceRow {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) folder: String,
    pub(super) summary: Option<String>,
    pub(super) findings: Vec<String>,
    pub(super) problem: Option<Problem>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Suggested {
    pub(super) what: String,
    pub(super) because: String,
    pub(super) settings: PresetPatch,
    pub(super) sources: Vec<String>,
    pub(super) taken: Vec<String>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Column {
    pub(super) id: String,
    pub(super) preset: Preset,
    pub(super) headline: String,
    pub(super) storage: Option<String>,
    pub(super) folder: String,
    pub(super) name_pattern: String,
    pub(super) clash: String,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Cell {
    pub(super) source: String,
    pub(super) deliverable: String,
    pub(super) enabled: bool,
    pub(super) forecast: Option<ByteSize>,
    pub(super) refusal: Option<String>,
    pub(super) overrides: Option<PresetPatch>,
    pub(super) run: Option<CellRun>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct CellRun {
    pub(super) id: String,
    pub(super) state: RunState,
    pub(super) path: String,
    pub(super) size: Option<ByteSize>,
    pub(super) progress: Option<Progress>,
    pub(super) problem: Option<Problem>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct QueueView {
    pub(super) items: Vec<QueueItem>,
    pub(super) rows: u64,
    pub(super) at_work: u64,
    pub(super) waiting: u64,
    pub(super) held: u64,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct QueueItem {
    pub(super) run: CellRun,
    pub(super) preset_name: String,
    pub(super) source_name: String,
    pub(super) origin_name: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct NightView {
    pub(super) all_done_in: Option<f64>,
    pub(super) further_jobs: u64,
    pub(super) jobs: Vec<serde::de::IgnoredAny>,
    pub(super) lanes: u64,
    pub(super) withheld: Vec<QueueItem>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Acted {
    pub(super) done: u64,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct StorageItem {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) root: String,
    pub(super) free: Option<ByteSize>,
    pub(super) away_since: Option<String>,
    pub(super) lacks_marker: bool,
    pub(super) is_retired: bool,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Entry {
    pub(super) name: String,
    pub(super) is_folder: bool,
    pub(super) is_media: bool,
    pub(super) is_own: bool,
    pub(super) size: ByteSize,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Folders {
    pub(super) folders: Vec<Folder>,
    pub(super) refusal: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Folder {
    pub(super) path: String,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct PresetItem {
    pub(super) preset: Preset,
    pub(super) is_builtin: bool,
    pub(super) version: Option<u32>,
    pub(super) headline: String,
    pub(super) frame: String,
    pub(super) bytes_per_minute: Option<ByteSize>,
}

#[derive(Debug, Deserialize)]
pub(super) struct PresetVersion {
    pub(super) number: u32,
    pub(super) saved: DateTime<Utc>,
    pub(super) preset: Preset,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct WatchItem {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) storage: String,
    pub(super) folder: StoragePath,
    pub(super) presets: Vec<Preset>,
    pub(super) destination_storage: String,
    pub(super) destination: StoragePath,
    pub(super) clash: String,
    pub(super) settle_seconds: u32,
    pub(super) is_on: bool,
    pub(super) problem: Option<Problem>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct WatchFileItem {
    pub(super) path: StoragePath,
    pub(super) state: WatchState,
    pub(super) size: ByteSize,
    pub(super) reason: String,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Inside {
    pub(super) files: u64,
    pub(super) bytes: ByteSize,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct AssetItem {
    /// Nothing for those that are built in.
    pub(super) id: Option<String>,
    pub(super) name: String,
    pub(super) kind: String,
    pub(super) detail: String,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct CellProofs {
    pub(super) proofs: Vec<ProofItem>,
    pub(super) refusal: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct ProofItem {
    pub(super) id: String,
    pub(super) label: String,
    pub(super) state: String,
    pub(super) fraction: f64,
    pub(super) problem: Option<Problem>,
    pub(super) made: Option<ProofMade>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct ProofMade {
    pub(super) size: ByteSize,
    #[serde(flatten)]
    pub(super) quality: beryl_core::after::quality::Quality,
}

/// What comes of a preset that is tried.
#[derive(Debug, Clone, Deserialize)]
pub(super) struct Tried {
    pub(super) faults: Vec<Fault>,
    pub(super) bytes_per_minute: Option<ByteSize>,
    pub(super) forecast: Option<Expected>,
    pub(super) refusal: Option<String>,
}

/// What a file is expected to weigh.
#[derive(Debug, Clone, Deserialize)]
pub(super) struct Expected {
    pub(super) size: ByteSize,
}

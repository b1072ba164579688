//! A file that arrives in a watch folder, from its first bytes to its outputs.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::path::StoragePath;
use crate::units::ByteSize;

/// Where a file in a watch folder is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WatchState {
    /// Still growing or changing.
    Arriving,
    /// Unchanged for a while, but not yet for long enough.
    Settling,
    /// Its outputs are queued or being made.
    Working,
    /// All outputs are made.
    Out,
    /// It was there when watching began, and only new files are wanted.
    Left,
    /// It is no media, or something failed for it.
    Failed,
    /// It went away again.
    Gone,
}

/// Size and time of a file at one look.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// Bytes.
    pub size: ByteSize,
    /// Nanoseconds of its last change since 1970.
    pub modified: i128,
}

/// What is remembered of a file in a watch folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Watched {
    /// Where it is.
    pub state: WatchState,
    /// Its stamp at the last look.
    pub stamp: Stamp,
    /// Milliseconds (of any steady clock) since when the stamp has not changed.
    pub unchanged_since: u64,
}

/// What to do after a look at a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WatchStep {
    /// Nothing.
    Wait,
    /// Read its headers; where they are whole, queue its outputs.
    TakeUp,
}

/// The next state of a file after a look at it `now`, and what to do.
///
/// A file is taken up when size and time have not changed for `settle` milliseconds. A file that
/// was finished or left and then changes is a new arrival; one that is being worked on is left
/// alone until its runs have ended.
#[must_use]
pub fn look(known: Option<Watched>, stamp: Stamp, now: u64, settle: u64) -> (Watched, WatchStep) {
    let arrived = Watched { state: WatchState::Arriving, stamp, unchanged_since: now };
    let Some(known) = known else { return (arrived, WatchStep::Wait) };
    let changed = known.stamp != stamp;
    match known.state {
        WatchState::Working => (known, WatchStep::Wait),
        WatchState::Out | WatchState::Left | WatchState::Failed if !changed => (known, WatchStep::Wait),
        _ if changed => (arrived, WatchStep::Wait),
        WatchState::Gone => (arrived, WatchStep::Wait),
        WatchState::Arriving | WatchState::Settling => {
            let state = if stamp.size == ByteSize(0) { WatchState::Arriving } else { WatchState::Settling };
            let settled = state == WatchState::Settling && now.saturating_sub(known.unchanged_since) >= settle;
            (Watched { state, ..known }, if settled { WatchStep::TakeUp } else { WatchStep::Wait })
        }
        WatchState::Out | WatchState::Left | WatchState::Failed => (known, WatchStep::Wait),
    }
}

/// Why a file is where it is, in one sentence.
#[must_use]
pub fn reason(state: WatchState, still_seconds: u64, settle_seconds: u64, detail: Option<&str>) -> String {
    match state {
        WatchState::Arriving => "Still being copied: its size or time changed at the last look.".to_owned(),
        WatchState::Settling => {
            format!("Unchanged for {still_seconds} s; it is taken up after {settle_seconds} s.")
        }
        WatchState::Working => detail.map_or_else(|| "Its outputs are being made.".to_owned(), str::to_owned),
        WatchState::Out => "All outputs are made.".to_owned(),
        WatchState::Left => "It was here before watching began; only new files are taken.".to_owned(),
        WatchState::Failed => detail.map_or_else(|| "It could not be read.".to_owned(), str::to_owned),
        WatchState::Gone => "It was removed before it was taken up.".to_owned(),
    }
}

/// Whether a path can be a source at all: not hidden, not one of this program's temporary files,
/// not in a folder where outputs of this watch folder go.
#[must_use]
pub fn may_be_source(path: &StoragePath, outputs: &[StoragePath]) -> bool {
    let hidden = path.as_bytes().split(|byte| *byte == b'/').any(|part| part.first() == Some(&b'.'));
    !hidden && !outputs.iter().any(|folder| path.is_within(folder))
}

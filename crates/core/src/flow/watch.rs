//! A file that arrives in a watch folder, from its first bytes to its outputs.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::flow::run::RunState;
use crate::path::StoragePath;
use crate::problem::ProblemKind;
use crate::units::ByteSize;

/// Where a file in a watch folder is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WatchState {
    /// Still growing or changing.
    Arriving,
    /// Unchanged for a while, but not yet for long enough, or its headers are not complete yet.
    Settling,
    /// Its outputs are queued or being made.
    Working,
    /// All outputs are made.
    Out,
    /// It was there when watching began, and only new files are wanted.
    Left,
    /// It cannot be read, or an output of it was not made.
    Failed,
    /// It went away before it was taken up.
    Gone,
    /// It was made by this program and is never a source.
    Own,
}

impl WatchState {
    /// All states, those of the channel first and in its order.
    pub const ALL: [Self; 8] =
        [Self::Arriving, Self::Settling, Self::Working, Self::Out, Self::Left, Self::Failed, Self::Gone, Self::Own];

    /// The word that is stored.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Arriving => "arriving",
            Self::Settling => "settling",
            Self::Working => "working",
            Self::Out => "out",
            Self::Left => "left",
            Self::Failed => "failed",
            Self::Gone => "gone",
            Self::Own => "own",
        }
    }

    /// The state that a stored word names.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether the file is looked at again soon, because something is to happen with it.
    #[must_use]
    pub const fn is_on_its_way(self) -> bool {
        match self {
            Self::Arriving | Self::Settling => true,
            Self::Working | Self::Out | Self::Left | Self::Failed | Self::Gone | Self::Own => false,
        }
    }
}

/// Size and time of a file at one look; for an image sequence, of all its images together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// Bytes.
    pub size: ByteSize,
    /// Nanoseconds of its last change since 1970.
    pub modified: i64,
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
    /// How often its headers were found incomplete since then.
    pub tries: u32,
}

/// What to do after a look at a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WatchStep {
    /// Nothing.
    Wait,
    /// Read its headers; where they are whole, queue its outputs.
    TakeUp,
}

/// How often incomplete headers are read again, each time after twice the wait, before the file
/// is taken for broken: a copy may stand still for a while with its end still missing.
pub const MOST_TRIES: u32 = 4;

/// The next state of a file after a look at it `now`, and what to do.
///
/// A file is taken up when size and time have not changed for `settle` milliseconds. A file that
/// was finished or left and then changes is a new arrival; one that is being worked on is left
/// alone until its runs have ended.
#[must_use]
pub fn look(known: Option<Watched>, stamp: Stamp, now: u64, settle: u64) -> (Watched, WatchStep) {
    let arrived = Watched { state: WatchState::Arriving, stamp, unchanged_since: now, tries: 0 };
    let Some(known) = known else { return (arrived, WatchStep::Wait) };
    let changed = known.stamp != stamp;
    match known.state {
        WatchState::Working | WatchState::Own => (known, WatchStep::Wait),
        WatchState::Gone => (arrived, WatchStep::Wait),
        _ if changed => (arrived, WatchStep::Wait),
        WatchState::Out | WatchState::Left | WatchState::Failed => (known, WatchStep::Wait),
        WatchState::Arriving | WatchState::Settling => {
            let state = if stamp.size == ByteSize(0) { WatchState::Arriving } else { WatchState::Settling };
            let wait = settle.saturating_mul(1 << known.tries.min(MOST_TRIES));
            let settled = state == WatchState::Settling && now.saturating_sub(known.unchanged_since) >= wait;
            (Watched { state, ..known }, if settled { WatchStep::TakeUp } else { WatchStep::Wait })
        }
    }
}

/// What becomes of a settled file after an attempt to read its headers.
///
/// Headers that are missing or end too early may still be on their way; everything else is final.
#[must_use]
pub const fn after_reading(file: Watched, outcome: Result<(), ProblemKind>) -> Watched {
    let incomplete = matches!(outcome, Err(ProblemKind::NotMedia | ProblemKind::CutShort));
    let state = match outcome {
        Ok(()) => WatchState::Working,
        Err(_) if incomplete && file.tries + 1 < MOST_TRIES => WatchState::Settling,
        Err(ProblemKind::Missing) => WatchState::Gone,
        Err(_) => WatchState::Failed,
    };
    Watched { state, tries: file.tries + if incomplete { 1 } else { 0 }, ..file }
}

/// What becomes of a file whose runs are in these states.
#[must_use]
pub fn after_runs(states: &[RunState]) -> WatchState {
    if states.iter().any(|state| !state.is_final()) {
        WatchState::Working
    } else if states.iter().all(|state| *state == RunState::Done) {
        WatchState::Out
    } else {
        WatchState::Failed
    }
}

/// Why a file is where it is, in a sentence or two. `detail` tells more of the state, `left_out`
/// which outputs cannot be made of the file.
#[must_use]
pub fn reason(
    state: WatchState,
    still_seconds: u64,
    settle_seconds: u64,
    detail: Option<&str>,
    left_out: Option<&str>,
) -> String {
    let mut words = match (state, detail) {
        (WatchState::Arriving, _) => "Still being copied: its size or time changed at the last look.".to_owned(),
        (WatchState::Settling, Some(detail)) => {
            format!("Its headers are not complete yet ({detail}). They are read again in a while.")
        }
        (WatchState::Settling, None) => format!("Unchanged for {still_seconds} s; it is taken up after {settle_seconds} s."),
        (WatchState::Working, None) => "Its outputs are queued.".to_owned(),
        (WatchState::Out, _) => "Its outputs are made.".to_owned(),
        (WatchState::Left, _) => "It was here before watching began, and only new files are taken.".to_owned(),
        (WatchState::Failed, None) => "It could not be read.".to_owned(),
        (WatchState::Working | WatchState::Failed, Some(detail)) => {
            let mut letters = detail.chars();
            let first = letters.next().into_iter().flat_map(char::to_uppercase);
            format!("{}.", first.chain(letters).collect::<String>())
        }
        (WatchState::Gone, _) => "It went away before it was taken up.".to_owned(),
        (WatchState::Own, _) => "It was made here: outputs are never taken as sources.".to_owned(),
    };
    if let Some(left_out) = left_out {
        words.push_str(&format!(" Left out: {left_out}."));
    }
    words
}

/// Whether a path in the folder `watched` can be a source at all: not hidden, not one of this
/// program's temporary files, not in a `destination` that lies inside the watched tree.
#[must_use]
pub fn may_be_source(path: &StoragePath, watched: &StoragePath, destination: Option<&StoragePath>) -> bool {
    let Some(below) = path.below(watched) else { return false };
    let hidden = below.as_bytes().split(|byte| *byte == b'/').any(|part| part.first() == Some(&b'.'));
    let in_destination =
        destination.is_some_and(|folder| folder != watched && folder.is_within(watched) && path.is_within(folder));
    !hidden && !in_destination
}

//! The life of a run.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a run is in its life.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RunState {
    /// In the queue.
    Waiting,
    /// An engine works on it.
    Running,
    /// Held by a person.
    Paused,
    /// The file is written and is being held against its plan and named.
    Checking,
    /// The file bears its name and is whole.
    Done,
    /// It ended with a problem; no file bears the name.
    Failed,
    /// A person ended it; no file bears the name.
    Cancelled,
}

/// What can happen to a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RunEvent {
    /// An engine slot takes it.
    Start,
    /// A person holds it.
    Pause,
    /// A person lets it go on, its engine still there.
    Resume,
    /// A person lets it go on, its engine gone: it begins again.
    Requeue,
    /// The file is written.
    Written,
    /// The file is checked and named.
    Succeed,
    /// Something went wrong for good.
    Fail,
    /// A person ends it.
    Cancel,
    /// Engine, server or machine went away; it begins again.
    Lose,
    /// A person wants it again.
    Retry,
}

/// Something happened that cannot happen in this state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a run that is {state:?} cannot {event:?}")]
pub struct NoSuchStep {
    /// The state it is in.
    pub state: RunState,
    /// What was to happen.
    pub event: RunEvent,
}

impl RunState {
    /// All states, in the order of a life.
    pub const ALL: [Self; 7] =
        [Self::Waiting, Self::Running, Self::Paused, Self::Checking, Self::Done, Self::Failed, Self::Cancelled];

    /// The state after `event`.
    ///
    /// # Errors
    /// [`NoSuchStep`] where the event cannot happen now, which callers treat as “somebody was faster”.
    pub const fn after(self, event: RunEvent) -> Result<Self, NoSuchStep> {
        use RunEvent as E;
        match (self, event) {
            (Self::Waiting, E::Start) | (Self::Paused, E::Resume) => Ok(Self::Running),
            (Self::Waiting | Self::Running, E::Pause) => Ok(Self::Paused),
            (Self::Paused, E::Requeue) | (Self::Running | Self::Checking, E::Lose) => Ok(Self::Waiting),
            (Self::Running, E::Written) => Ok(Self::Checking),
            (Self::Checking, E::Succeed) => Ok(Self::Done),
            (Self::Waiting | Self::Running | Self::Paused | Self::Checking, E::Fail) => Ok(Self::Failed),
            (Self::Waiting | Self::Running | Self::Paused, E::Cancel) => Ok(Self::Cancelled),
            (Self::Failed | Self::Cancelled, E::Retry) => Ok(Self::Waiting),
            (state, event) => Err(NoSuchStep { state, event }),
        }
    }

    /// Whether nothing more happens by itself.
    #[must_use]
    pub const fn is_final(self) -> bool {
        match self {
            Self::Done | Self::Failed | Self::Cancelled => true,
            Self::Waiting | Self::Running | Self::Paused | Self::Checking => false,
        }
    }

    /// The word that is stored and shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Paused => "paused",
            Self::Checking => "checking",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
        }
    }

    /// The state that a stored word names.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.word() == word)
    }
}

/// What happens when the wanted name is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ClashRule {
    /// The new file gets a number.
    #[default]
    Number,
    /// The run ends without making anything; the old file stays.
    Skip,
    /// The new file takes the place of the old one, once it is whole and checked.
    Replace,
}

/// How far a run is.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// 1, or 2 in the second pass.
    pub pass: u8,
    /// How many passes there are.
    pub passes: u8,
    /// Frames (or for sound alone, packets) finished in this pass.
    pub frames: u64,
    /// Seconds of the output finished in this pass.
    pub position: f64,
    /// Bytes written.
    pub bytes: u64,
    /// Seconds of material worked on in a second.
    pub speed: f64,
    /// The part of the whole that is done, 0 to 1.
    pub fraction: f64,
    /// Seconds left, where it can be said.
    pub remaining: Option<f64>,
}

/// The part of the work that a first pass is, measured over the built-in presets: it analyses with
/// fewer choices than the second.
const FIRST_PASS_SHARE: f64 = 0.35;

impl Progress {
    /// What is known after `elapsed` seconds of work, `position` seconds into a pass of `duration`.
    #[must_use]
    pub fn measure(pass: u8, passes: u8, position: f64, duration: f64, elapsed: f64) -> Self {
        let within = if duration > 0.0 { (position / duration).clamp(0.0, 1.0) } else { 0.0 };
        let fraction = match (passes, pass) {
            (2, 1) => within * FIRST_PASS_SHARE,
            (2, _) => FIRST_PASS_SHARE + within * (1.0 - FIRST_PASS_SHARE),
            _ => within,
        };
        // Before a hundredth is done any figure would be a guess.
        let remaining = (fraction > 0.01).then(|| elapsed * (1.0 - fraction) / fraction);
        let speed = if elapsed > 0.0 { fraction * duration / elapsed } else { 0.0 };
        Self { pass, passes, frames: 0, position, bytes: 0, speed, fraction, remaining }
    }
}

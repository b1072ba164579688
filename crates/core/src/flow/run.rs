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
    /// The file is written and is not as planned: it waits under a name of its own until a person decides.
    Withheld,
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
    /// The file is not as planned.
    Withhold,
    /// A person takes a withheld file for good.
    Release,
    /// A person does not want a withheld file.
    Discard,
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
    pub const ALL: [Self; 8] =
        [Self::Waiting, Self::Running, Self::Paused, Self::Checking, Self::Done, Self::Failed, Self::Cancelled, Self::Withheld];

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
            (Self::Running | Self::Checking, E::Withhold) => Ok(Self::Withheld),
            // A released file is named like any other.
            (Self::Withheld, E::Release) => Ok(Self::Checking),
            (Self::Withheld, E::Discard) => Ok(Self::Failed),
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
            Self::Done | Self::Failed | Self::Cancelled | Self::Withheld => true,
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
            Self::Withheld => "withheld",
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

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
    /// The part of the finished file that is read back, 0 to 1, once it is written.
    #[serde(default)]
    pub read_back: Option<f64>,
    /// Bytes that the whole job has read and written so far, whatever for: while the number grows, it moves.
    #[serde(default)]
    pub moved: u64,
}

/// What is known of a pass while it goes on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PassSoFar {
    /// 1, or 2 in the second pass.
    pub pass: u8,
    /// How many passes there are.
    pub passes: u8,
    /// The part of the whole time that the first pass is expected to take, where there are two.
    pub first_share: f64,
    /// Seconds of the output that have come out of the encoder.
    pub position: f64,
    /// The part of this pass's work that these are, 0 to 1: of two passes, the first shows where the work is.
    pub done: f64,
    /// Seconds of the output.
    pub duration: f64,
    /// Seconds since the pass began.
    pub elapsed: f64,
    /// Seconds after its beginning at which something had come out first, and what part was done then: encoders
    /// take in some hundred frames before.
    pub first_out: Option<(f64, f64)>,
    /// Seconds that the pass before took.
    pub earlier: f64,
}

/// How much what is known from the first pass counts in the second, whose own pace counts with the square of what is
/// done: it is known badly at first.
const TRUST_IN_FIRST_PASS: f64 = 0.2;

/// How far a pass had come when: some of the material takes longer than the rest, in the next pass as well.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Course(Vec<(f64, f64)>);

impl Course {
    /// Notes that the output had come to `position` after `elapsed` seconds.
    pub fn note(&mut self, position: f64, elapsed: f64) {
        let (last, after) = self.0.last().copied().unwrap_or_default();
        if position > last && elapsed >= after {
            self.0.push((position, elapsed));
        }
    }

    /// The part of the time that had gone when the output had come to `position`; its part of `duration` where
    /// nothing was noted.
    #[must_use]
    pub fn part(&self, position: f64, duration: f64) -> f64 {
        let even = if duration > 0.0 { (position / duration).clamp(0.0, 1.0) } else { 0.0 };
        let Some((end, total)) = self.0.last().copied().filter(|(_, total)| *total > 0.0) else { return even };
        if position >= end {
            return 1.0;
        }
        let next = self.0.partition_point(|(noted, _)| *noted <= position);
        let before = next.checked_sub(1).map_or((0.0, 0.0), |place| self.0[place]);
        let (from, to) = (before, self.0[next]);
        let between = (position - from.0) / (to.0 - from.0);
        ((from.1 + (to.1 - from.1) * between) / total).clamp(0.0, 1.0)
    }
}

impl PassSoFar {
    /// Seconds that this pass will have taken, where that can be said: its start, and the rest at the pace since.
    fn own_length(&self) -> Option<f64> {
        let (began, from) = self.first_out?;
        let (gone, took) = (self.done - from, self.elapsed - began);
        // Before a hundredth is done any figure would be a guess.
        (gone > 0.01 && took > 0.0).then(|| began + took * (1.0 - from) / gone)
    }

    /// Seconds that are left of all passes.
    fn remaining(&self) -> Option<f64> {
        let after_first = |first: f64| first * (1.0 - self.first_share) / self.first_share;
        let own = self.own_length().map(|own| own - self.elapsed);
        let rest = match (self.passes, self.pass) {
            (2, 1) => self.own_length().map(|first| first - self.elapsed + after_first(first)),
            (2, _) => {
                // What is left of it by the first pass: a deviation counts for the rest alone.
                let expected = after_first(self.earlier);
                let expected = self.first_out.map_or(expected - self.elapsed, |(began, from)| {
                    (expected - began).max(0.0) * (1.0 - self.done) / (1.0 - from)
                });
                let (trust, within) = (TRUST_IN_FIRST_PASS, self.done * self.done);
                Some(own.map_or(expected, |own| (expected * trust + own * within) / (trust + within)))
            }
            _ => own,
        };
        rest.map(|rest| rest.max(0.0))
    }
}

impl Progress {
    /// What is known at this point of a pass.
    #[must_use]
    pub fn measure(so_far: &PassSoFar) -> Self {
        let (within, share) = (so_far.done, so_far.first_share);
        let fraction = match (so_far.passes, so_far.pass) {
            (2, 1) => within * share,
            (2, _) => share + within * (1.0 - share),
            _ => within,
        };
        let worked = so_far.earlier + so_far.elapsed;
        Self {
            pass: so_far.pass,
            passes: so_far.passes,
            frames: 0,
            position: so_far.position,
            bytes: 0,
            speed: if worked > 0.0 { fraction * so_far.duration / worked } else { 0.0 },
            fraction,
            remaining: so_far.remaining(),
            read_back: None,
            moved: 0,
        }
    }
}

//! Pausing and ending a job from outside.

use std::collections::HashSet;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use uuid::Uuid;

use crate::raw::Stop;

/// Pauses, resumes and ends a job, or single runs of it, from another thread.
#[derive(Debug, Default)]
pub struct Control {
    state: Mutex<State>,
    changed: Condvar,
    stop: Stop,
}

#[derive(Debug, Default)]
struct State {
    paused_since: Option<Instant>,
    paused_for: Duration,
    cancelled: HashSet<Uuid>,
}

impl Control {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lets the job stand still.
    pub fn pause(&self) {
        let mut state = self.state();
        state.paused_since = state.paused_since.or_else(|| Some(Instant::now()));
    }

    /// Lets the job go on.
    pub fn resume(&self) {
        let mut state = self.state();
        if let Some(since) = state.paused_since.take() {
            state.paused_for += since.elapsed();
        }
        self.changed.notify_all();
    }

    /// Whether the job stands still.
    #[must_use]
    pub fn is_paused(&self) -> bool {
        self.state().paused_since.is_some()
    }

    /// Gives up one run.
    pub fn cancel_run(&self, id: Uuid) {
        self.state().cancelled.insert(id);
        self.changed.notify_all();
    }

    /// Gives up everything.
    pub fn cancel(&self) {
        self.stop.set();
        self.changed.notify_all();
    }

    pub(crate) fn stop(&self) -> &Stop {
        &self.stop
    }

    /// Time spent standing still so far.
    #[must_use]
    pub fn paused_for(&self) -> Duration {
        let state = self.state();
        state.paused_for + state.paused_since.map_or(Duration::ZERO, |since| since.elapsed())
    }

    pub(crate) fn is_cancelled(&self, id: Uuid) -> bool {
        self.stop.is_set() || self.state().cancelled.contains(&id)
    }

    /// Waits while the job stands still; answers whether it goes on at all.
    pub(crate) fn goes_on(&self) -> bool {
        let mut state = self.state();
        while state.paused_since.is_some() && !self.stop.is_set() {
            state = self
                .changed
                .wait_timeout(state, Duration::from_millis(100))
                .map_or_else(|error| error.into_inner().0, |(state, _)| state);
        }
        !self.stop.is_set()
    }
}

//! The folders that are watched now: their tasks, and why one cannot be looked through.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use beryl_core::problem::Problem;
use tokio::sync::{Notify, Semaphore, SemaphorePermit};
use tokio::task::JoinHandle;
use uuid::Uuid;

/// Files whose headers are read at the same time, over all watch folders.
const READERS: usize = 2;

/// The folders that are watched now.
#[derive(Debug)]
pub(crate) struct Channels {
    channels: Mutex<HashMap<Uuid, Channel>>,
    /// Why a folder cannot be looked through, where that is so.
    problems: Mutex<HashMap<Uuid, Problem>>,
    readers: Semaphore,
}

#[derive(Debug)]
struct Channel {
    wake: Arc<Notify>,
    task: JoinHandle<()>,
}

impl Default for Channels {
    fn default() -> Self {
        Self { channels: Mutex::default(), problems: Mutex::default(), readers: Semaphore::new(READERS) }
    }
}

impl Channels {
    fn channels(&self) -> MutexGuard<'_, HashMap<Uuid, Channel>> {
        self.channels.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Follows a folder by this task from now on.
    pub(super) fn insert(&self, folder: Uuid, wake: Arc<Notify>, task: JoinHandle<()>) {
        self.channels().insert(folder, Channel { wake, task });
    }

    /// Stops looking at all folders.
    pub(super) fn stop_all(&self) {
        self.channels().drain().for_each(|(_, channel)| channel.task.abort());
    }

    /// A turn to read headers; nothing where the server ends.
    pub(super) async fn reader(&self) -> Option<SemaphorePermit<'_>> {
        self.readers.acquire().await.ok()
    }

    /// Remembers why a folder cannot be looked through, or that it can; answers what was so before.
    pub(super) fn set_problem(&self, folder: Uuid, problem: Option<Problem>) -> Option<Problem> {
        match problem {
            Some(problem) => self.problems().insert(folder, problem),
            None => self.problems().remove(&folder),
        }
    }

    fn problems(&self) -> MutexGuard<'_, HashMap<Uuid, Problem>> {
        self.problems.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Looks at a folder again soon, because a run of it has changed.
    pub(crate) fn wake(&self, folder: Uuid) {
        if let Some(channel) = self.channels().get(&folder) {
            channel.wake.notify_one();
        }
    }

    /// Stops looking at a folder; what is at work goes on.
    pub(crate) fn stop(&self, folder: Uuid) {
        if let Some(channel) = self.channels().remove(&folder) {
            channel.task.abort();
        }
        self.problems().remove(&folder);
    }

    /// Why a folder cannot be looked through now.
    pub(crate) fn problem(&self, folder: Uuid) -> Option<Problem> {
        self.problems().get(&folder).cloned()
    }
}

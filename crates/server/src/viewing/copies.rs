//! The viewing copies that are being made now.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use tokio::sync::{Semaphore, SemaphorePermit};

/// Copies made at the same time: somebody waits for each, and the night's work goes on.
const TOGETHER: usize = 2;

/// The copies that are being made or could not be made.
#[derive(Debug)]
pub(crate) struct Copies {
    making: Mutex<HashMap<StoragePath, Making>>,
    turns: Semaphore,
}

#[derive(Debug, Clone)]
pub(super) enum Making {
    Underway(f64),
    Failed(Problem),
}

impl Default for Copies {
    fn default() -> Self {
        Self { making: Mutex::default(), turns: Semaphore::new(TOGETHER) }
    }
}

impl Copies {
    pub(super) fn making(&self) -> MutexGuard<'_, HashMap<StoragePath, Making>> {
        self.making.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A turn to make a copy; nothing where the server ends.
    pub(super) async fn turn(&self) -> Option<SemaphorePermit<'_>> {
        self.turns.acquire().await.ok()
    }
}

//! One at a time, for each thing apart.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::{Mutex as Turn, OwnedMutexGuard};
use uuid::Uuid;

/// Turns by id. An id that nobody waits for takes no room.
#[derive(Debug, Default)]
pub(crate) struct Turns {
    turns: Mutex<HashMap<Uuid, Arc<Turn<()>>>>,
}

impl Turns {
    /// Waits for the turn of `id`, and has it until the guard is dropped.
    pub(crate) async fn lock(&self, id: Uuid) -> OwnedMutexGuard<()> {
        let turn = {
            let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
            turns.retain(|_, turn| Arc::strong_count(turn) > 1);
            Arc::clone(turns.entry(id).or_default())
        };
        turn.lock_owned().await
    }
}

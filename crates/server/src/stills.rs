//! Sources that engines keep open for single pictures: who drags along one asks for many.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use beryl_core::problem::Problem;
use beryl_core::protocol::{SourceRef, Still};
use beryl_worker::{Engine, OpenStills};
use tokio::sync::Mutex as Turn;
use tokio::time::Instant;

/// Sources that are kept open at the same time.
const MOST_OPEN: usize = 4;
/// How long a source stays open that nobody asks.
const IDLE: Duration = Duration::from_secs(60);

/// The sources that are open.
#[derive(Debug, Default)]
pub(crate) struct StillPool {
    open: Mutex<Vec<Open>>,
}

#[derive(Debug)]
struct Open {
    source: SourceRef,
    asked: Instant,
    /// One picture at a time; nothing until the engine is started, and after it was lost.
    engine: Arc<Turn<Option<OpenStills>>>,
}

impl StillPool {
    /// Writes a picture of a source, from an engine that has it open already where there is one.
    pub(crate) async fn write(&self, engine: &Engine, source: &SourceRef, still: Still) -> Result<(), Problem> {
        let turn = self.turn(source);
        let mut open = turn.lock().await;
        if open.as_ref().is_none_or(|open| !open.is_open()) {
            *open = Some(engine.stills_beside(source, &still.output).await?);
        }
        let Some(stills) = open.as_mut() else { return Ok(()) };
        let outcome = stills.write(still).await;
        if !stills.is_open() {
            *open = None;
        }
        outcome
    }

    fn turn(&self, source: &SourceRef) -> Arc<Turn<Option<OpenStills>>> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        if let Some(known) = open.iter_mut().find(|open| open.source == *source) {
            known.asked = now;
            return Arc::clone(&known.engine);
        }
        if open.len() >= MOST_OPEN
            && let Some(oldest) = open.iter().enumerate().min_by_key(|(_, open)| open.asked).map(|(place, _)| place)
        {
            // Whoever still waits for a picture of it holds it until then.
            open.swap_remove(oldest);
        }
        let engine = Arc::default();
        open.push(Open { source: source.clone(), asked: now, engine: Arc::clone(&engine) });
        engine
    }

    /// Closes what nobody has asked for a while.
    pub(crate) fn close_idle(&self) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).retain(|open| open.asked.elapsed() < IDLE);
    }

    /// Closes everything.
    pub(crate) fn close(&self) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// How often [`Self::close_idle`] is worth calling.
    pub(crate) const fn every() -> Duration {
        IDLE
    }
}

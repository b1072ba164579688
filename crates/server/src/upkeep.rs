//! What is cleared away by itself: what nobody asks for any more, and nothing that somebody has made.

use std::sync::Arc;
use std::time::Duration;

use beryl_store::Database;
use tokio::sync::watch;

use crate::api::clear_abandoned;
use crate::app::ending;
use crate::cache::{Cache, MOST_OF_PICTURES, limit_pictures};
use crate::door::Door;

/// How often it is looked after.
const EVERY: Duration = Duration::from_secs(24 * 3600);
/// How long it is kept in how many beginnings a run came to its end, and how far it was in between.
const ATTEMPTS_KEPT_DAYS: u32 = 90;

/// Clears away what nobody asks for any more.
#[derive(Debug)]
pub(crate) struct Upkeep {
    pub(crate) database: Database,
    pub(crate) door: Arc<Door>,
    pub(crate) cache: Cache,
}

impl Upkeep {
    /// Looks after it until the server ends.
    pub(crate) async fn run(self, mut stopped: watch::Receiver<bool>) {
        let mut tick = tokio::time::interval(EVERY);
        loop {
            tokio::select! {
                _ = tick.tick() => {}
                () = ending(&mut stopped) => return,
            }
            clear_abandoned(&self.database, &self.door).await;
            let cache = self.cache.folder().to_path_buf();
            // It may have been ended with the server.
            drop(tokio::task::spawn_blocking(move || limit_pictures(&cache, MOST_OF_PICTURES)).await);
            match self.database.clear_attempts(ATTEMPTS_KEPT_DAYS).await {
                Ok(0) => {}
                Ok(cleared) => tracing::info!(cleared, "old attempts of ended runs were forgotten"),
                Err(error) => tracing::warn!(%error, "old attempts could not be cleared away"),
            }
        }
    }
}

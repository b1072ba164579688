//! Reading new sources in the background: facts and a thumbnail.

use std::sync::Arc;
use std::time::Duration;

use beryl_core::problem::Problem;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_store::sources::Source;
use beryl_store::{Database, StoreError};
use beryl_worker::Engine;
use futures::StreamExt;
use tokio::sync::{Notify, watch};
use uuid::Uuid;

use crate::app::ending;
use crate::events::{Change, Hub};
use crate::files::source_ref;
use crate::pictures::Pictures;
use crate::views::SourceRow;

/// Sources read at the same time.
const TOGETHER: usize = 2;

/// Reads sources.
#[derive(Debug, Clone)]
pub(crate) struct Reader {
    pub(crate) database: Database,
    pub(crate) engine: Engine,
    pub(crate) hub: Arc<Hub>,
    pub(crate) pictures: Pictures,
    /// Wakes it.
    pub(crate) unread: Arc<Notify>,
    /// Wakes the scanner of sources.
    pub(crate) unscanned: Arc<Notify>,
}

impl Reader {
    /// Reads sources as they come until the server ends.
    pub(crate) async fn run(self, mut stopped: watch::Receiver<bool>) {
        loop {
            let pause = match self.read_waiting().await {
                Ok(0) => Duration::from_secs(30),
                Ok(_) => Duration::ZERO,
                Err(error) => {
                    tracing::warn!(%error, "sources could not be read now");
                    Duration::from_secs(2)
                }
            };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.unread.notified() => {}
                () = ending(&mut stopped) => return,
            }
            if *stopped.borrow() {
                return;
            }
        }
    }

    async fn read_waiting(&self) -> Result<usize, StoreError> {
        let sources = self.database.unread_sources(64).await?;
        let count = sources.len();
        let outcomes: Vec<Result<(), StoreError>> =
            futures::stream::iter(sources).map(|source| self.read_one(source)).buffer_unordered(TOGETHER).collect().await;
        outcomes.into_iter().collect::<Result<Vec<()>, _>>()?;
        Ok(count)
    }

    async fn read_one(&self, source: Source) -> Result<(), StoreError> {
        self.read_source(&source).await.map(|_| ())
    }

    /// Reads facts and thumbnail of a source, keeps and tells them.
    pub(crate) async fn read_source(&self, source: &Source) -> Result<Result<Reading, Problem>, StoreError> {
        let storage = self.database.storage(source.storage).await?;
        let reference = source_ref(&storage, source);
        let outcome = self.engine.probe(&reference).await;
        let has_thumbnail = match &outcome {
            Ok(reading) if reading.facts.picture().is_some() => {
                self.pictures.make(&reference, &[thumbnail_moment(reading)], &thumbnail_name(source.id)).await.is_ok()
            }
            Ok(_) | Err(_) => false,
        };
        self.database.set_reading(source.id, &outcome, has_thumbnail).await?;
        self.unscanned.notify_one();
        tell_source(&self.database, &self.hub, source.id).await?;
        Ok(outcome)
    }
}

/// Tells pages what a source is like now.
pub(crate) async fn tell_source(database: &Database, hub: &Hub, id: Uuid) -> Result<(), StoreError> {
    let source = database.source(id).await?;
    hub.tell(Change::Source { source: Box::new(SourceRow::of(&source, "", None)) });
    Ok(())
}

/// A third into the source: beginnings are often black.
pub(crate) fn thumbnail_moment(reading: &Reading) -> Rational {
    reading.facts.duration.map_or(Rational::ZERO, |duration| duration * Rational::constant(1, 3))
}

/// The name of a source's thumbnail in the cache.
pub(crate) fn thumbnail_name(id: Uuid) -> beryl_core::path::StoragePath {
    format!("thumbnail-{id}.jpg").parse().unwrap_or_default()
}

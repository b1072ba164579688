//! Reading new sources in the background: facts and a thumbnail.

use std::sync::Arc;
use std::time::Duration;

use beryl_core::problem::Problem;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_store::StoreError;
use beryl_store::sources::Source;
use futures::StreamExt;
use tokio::sync::watch;
use uuid::Uuid;

use crate::app::{App, ending};
use crate::events::Change;
use crate::files::source_ref;
use crate::pictures;
use crate::views::SourceRow;

/// Sources read at the same time.
const TOGETHER: usize = 2;

/// Reads sources as they come until the server ends.
pub(crate) async fn run(app: Arc<App>, mut stopped: watch::Receiver<bool>) {
    loop {
        let pause = match read_waiting(&app).await {
            Ok(0) => Duration::from_secs(30),
            Ok(_) => Duration::ZERO,
            Err(error) => {
                tracing::warn!(%error, "sources could not be read now");
                Duration::from_secs(2)
            }
        };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = app.unread.notified() => {}
            () = ending(&mut stopped) => return,
        }
        if *stopped.borrow() {
            return;
        }
    }
}

async fn read_waiting(app: &App) -> Result<usize, StoreError> {
    let sources = app.database.unread_sources(64).await?;
    let count = sources.len();
    let outcomes: Vec<Result<(), StoreError>> =
        futures::stream::iter(sources).map(|source| read_one(app, source)).buffer_unordered(TOGETHER).collect().await;
    outcomes.into_iter().collect::<Result<Vec<()>, _>>()?;
    Ok(count)
}

async fn read_one(app: &App, source: Source) -> Result<(), StoreError> {
    read_source(app, &source).await.map(|_| ())
}

/// Reads facts and thumbnail of a source, keeps and tells them.
pub(crate) async fn read_source(app: &App, source: &Source) -> Result<Result<Reading, Problem>, StoreError> {
    let storage = app.database.storage(source.storage).await?;
    let reference = source_ref(&storage, source);
    let outcome = app.engine.probe(&reference).await;
    let has_thumbnail = match &outcome {
        Ok(reading) if reading.facts.picture().is_some() => {
            pictures::make(app, &reference, &[thumbnail_moment(reading)], &thumbnail_name(source.id)).await.is_ok()
        }
        Ok(_) | Err(_) => false,
    };
    app.database.set_reading(source.id, &outcome, has_thumbnail).await?;
    app.unscanned.notify_one();
    tell_source(app, source.id).await?;
    Ok(outcome)
}

/// Tells pages what a source is like now.
pub(crate) async fn tell_source(app: &App, id: Uuid) -> Result<(), StoreError> {
    let source = app.database.source(id).await?;
    app.hub.tell(Change::Source { source: Box::new(SourceRow::of(&source, "", None)) });
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

//! Scanning sources in the background: parts of each for a first answer, then all of it while no
//! run is at work.

use std::sync::Arc;
use std::time::Duration;

use beryl_core::findings::Extent;
use beryl_store::StoreError;
use beryl_store::sources::{ScanState, Source};
use tokio::sync::watch;

use crate::app::{App, ending};
use crate::files::source_ref;
use crate::reader::tell_source;

/// Scans sources until the server ends.
pub(crate) async fn run(app: Arc<App>, mut stopped: watch::Receiver<bool>) {
    loop {
        let pause = tokio::select! {
            outcome = scan_next(&app) => match outcome {
                Ok(true) => Duration::ZERO,
                Ok(false) => Duration::from_secs(20),
                Err(error) => {
                    tracing::warn!(%error, "sources could not be scanned now");
                    Duration::from_secs(5)
                }
            },
            // The engine of a scan that is left ends with it; the source is scanned after the next start.
            () = ending(&mut stopped) => return,
        };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = app.unscanned.notified() => {}
            () = ending(&mut stopped) => return,
        }
    }
}

/// Scans one source; answers whether there was one.
async fn scan_next(app: &App) -> Result<bool, StoreError> {
    let idle = app.slots.at_work().is_empty();
    let Some(source) = app.database.next_to_scan(idle).await? else { return Ok(false) };
    scan(app, &source, source.scan == ScanState::Waiting).await?;
    Ok(true)
}

async fn scan(app: &App, source: &Source, quick: bool) -> Result<(), StoreError> {
    let storage = app.database.storage(source.storage).await?;
    match app.engine.scan(&source_ref(&storage, source), quick, |_| {}).await {
        Ok((reading, curves)) => {
            let whole = reading.findings.as_ref().is_some_and(|findings| findings.extent == Extent::Whole);
            let state = if whole || !quick { ScanState::Whole } else { ScanState::Parts };
            app.database.set_scan(source.id, state, Some((&reading, &curves))).await?;
        }
        Err(problem) => {
            tracing::info!(%problem, source = %source.path, "a source could not be scanned");
            app.database.set_scan(source.id, ScanState::Failed, None).await?;
        }
    }
    tell_source(app, source.id).await
}

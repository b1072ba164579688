//! Scanning sources in the background: parts of each for a first answer, then all of it while no
//! run is at work.

use std::sync::Arc;
use std::time::Duration;

use beryl_core::findings::Extent;
use beryl_store::sources::{ScanState, Source};
use beryl_store::{Database, StoreError};
use beryl_worker::Engine;
use tokio::sync::{Notify, watch};

use crate::app::ending;
use crate::events::Hub;
use crate::files::source_ref;
use crate::reader::tell_source;
use crate::scheduler::Slots;

/// Scans sources.
#[derive(Debug, Clone)]
pub(crate) struct Scanner {
    pub(crate) database: Database,
    pub(crate) engine: Engine,
    pub(crate) hub: Arc<Hub>,
    pub(crate) slots: Arc<Slots>,
    /// Wakes it.
    pub(crate) unscanned: Arc<Notify>,
}

impl Scanner {
    /// Scans sources until the server ends.
    pub(crate) async fn run(self, mut stopped: watch::Receiver<bool>) {
        loop {
            let pause = tokio::select! {
                outcome = self.scan_next() => match outcome {
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
                () = self.unscanned.notified() => {}
                () = ending(&mut stopped) => return,
            }
        }
    }

    /// Scans one source; answers whether there was one.
    async fn scan_next(&self) -> Result<bool, StoreError> {
        let idle = self.slots.at_work().is_empty();
        let Some(source) = self.database.next_to_scan(idle).await? else { return Ok(false) };
        self.scan(&source, source.scan == ScanState::Waiting).await?;
        Ok(true)
    }

    async fn scan(&self, source: &Source, quick: bool) -> Result<(), StoreError> {
        let storage = self.database.storage(source.storage).await?;
        match self.engine.scan(&source_ref(&storage, source), quick, |_| {}).await {
            Ok((reading, curves)) => {
                let whole = reading.findings.as_ref().is_some_and(|findings| findings.extent == Extent::Whole);
                let state = if whole || !quick { ScanState::Whole } else { ScanState::Parts };
                self.database.set_scan(source.id, state, Some((&reading, &curves))).await?;
            }
            Err(problem) => {
                tracing::info!(%problem, source = %source.path, "a source could not be scanned");
                self.database.set_scan(source.id, ScanState::Failed, None).await?;
            }
        }
        tell_source(&self.database, &self.hub, source.id).await
    }
}

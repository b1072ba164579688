//! What handlers and services share.

use std::collections::HashSet;
use std::path::PathBuf;

use beryl_store::Database;
use beryl_worker::{Engine, KnownStorages};
use tokio::sync::{Notify, watch};
use uuid::Uuid;

use crate::clock::HouseClock;
use crate::door::Door;
use crate::events::{Change, Hub};
use crate::forecasts::Forecasts;
use crate::pictures::PictureTurns;
use crate::proving::Proving;
use crate::scheduler::Slots;
use crate::stills::StillPool;
use crate::turns::Turns;
use crate::viewing::Copies;
use crate::views::RunView;
use crate::watching::Channels;

/// Runs that one event tells of, at most.
const RUNS_IN_AN_EVENT: usize = 500;

/// What handlers and services share.
#[derive(Debug)]
pub(crate) struct App {
    pub(crate) database: Database,
    pub(crate) engine: Engine,
    pub(crate) hub: Hub,
    pub(crate) forecasts: Forecasts,
    pub(crate) slots: Slots,
    pub(crate) clock: HouseClock,
    /// Wakes the reader of sources.
    pub(crate) unread: Notify,
    /// Wakes the scanner of sources.
    pub(crate) unscanned: Notify,
    pub(crate) watching: Channels,
    /// One piece of an upload at a time.
    pub(crate) uploads: Turns,
    pub(crate) viewings: Copies,
    pub(crate) proving: Proving,
    pub(crate) stills: StillPool,
    pub(crate) pictures: PictureTurns,
    /// To the files of storages.
    pub(crate) door: Door,
    /// Where storages are, for engines.
    pub(crate) storages: KnownStorages,
    pub(crate) cache: PathBuf,
    /// Where the presets of the house stand for the command line.
    pub(crate) house_presets: PathBuf,
    /// Beryl's own folders, which are no storages.
    pub(crate) own_folders: Vec<PathBuf>,
}

impl App {
    /// Tells pages, and the watch folder it belongs to, what a run is like now.
    pub(crate) async fn tell_run(&self, id: Uuid) {
        self.tell_runs(&[id]).await;
    }

    /// The same of several runs, asking the database once.
    pub(crate) async fn tell_runs(&self, ids: &[Uuid]) {
        let runs = match self.database.runs(ids).await {
            Ok(runs) => runs,
            Err(error) => return tracing::debug!(%error, "a change could not be told"),
        };
        let folders: HashSet<Uuid> = runs.iter().filter_map(|run| run.watch_folder).collect();
        for folder in folders {
            self.watching.wake(folder);
        }
        for some in runs.chunks(RUNS_IN_AN_EVENT) {
            self.hub.tell(Change::Runs { runs: some.iter().map(RunView::of).collect() });
        }
    }
}

/// Waits until the server ends.
pub(crate) async fn ending(stopped: &mut watch::Receiver<bool>) {
    // An error means that the sender is gone, which ends the server as well.
    drop(stopped.wait_for(|stop| *stop).await);
}

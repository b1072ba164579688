//! What handlers and services share.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;

use beryl_store::Database;
use beryl_worker::{Engine, KnownStorages};
use tokio::sync::watch;
use uuid::Uuid;

use crate::assets::Assets;
use crate::cache::Cache;
use crate::clock::HouseClock;
use crate::door::Door;
use crate::events::{Change, Hub};
use crate::forecasts::Forecasts;
use crate::house_presets::HousePresets;
use crate::pictures::Pictures;
use crate::proving::Proving;
use crate::publish::Publisher;
use crate::reader::Reader;
use crate::scanner::Scanner;
use crate::scheduler::{Scheduler, Slots};
use crate::stills::StillPool;
use crate::storages::Storages;
use crate::turns::Turns;
use crate::viewing::Viewings;
use crate::views::RunView;
use crate::watching::{Channels, WatchFolders};

/// Runs that one event tells of, at most.
const RUNS_IN_AN_EVENT: usize = 500;

/// What handlers share. Each service holds what it needs itself.
#[derive(Debug)]
pub(crate) struct App {
    pub(crate) database: Database,
    pub(crate) engine: Engine,
    pub(crate) hub: Arc<Hub>,
    pub(crate) forecasts: Forecasts,
    pub(crate) slots: Arc<Slots>,
    pub(crate) clock: Arc<HouseClock>,
    /// One piece of an upload at a time.
    pub(crate) uploads: Turns,
    pub(crate) stills: StillPool,
    /// To the files of storages.
    pub(crate) door: Arc<Door>,
    pub(crate) cache: Cache,
    pub(crate) assets: Assets,
    pub(crate) house_presets: HousePresets,
    pub(crate) pictures: Pictures,
    pub(crate) proving: Arc<Proving>,
    pub(crate) reader: Reader,
    pub(crate) runs: RunTeller,
    pub(crate) scanner: Scanner,
    pub(crate) scheduler: Scheduler,
    pub(crate) storages: Storages,
    pub(crate) viewings: Viewings,
    pub(crate) watching: WatchFolders,
    /// Beryl's own folders, which are no storages.
    pub(crate) own_folders: Vec<PathBuf>,
}

/// Beryl's own folders.
#[derive(Debug)]
pub(crate) struct OwnFolders {
    pub(crate) cache: PathBuf,
    pub(crate) scratch: PathBuf,
    pub(crate) database: PathBuf,
    /// Where the presets of the house stand for the command line.
    pub(crate) presets: PathBuf,
}

impl App {
    /// Gives each service what it needs.
    pub(crate) fn assemble(
        database: Database,
        engine: Engine,
        known: KnownStorages,
        clock: HouseClock,
        slots: Slots,
        own: OwnFolders,
    ) -> Self {
        let (hub, door, channels) = (Arc::new(Hub::default()), Arc::new(Door::default()), Arc::new(Channels::default()));
        let (clock, slots) = (Arc::new(clock), Arc::new(slots));
        let own_folders = vec![own.cache.clone(), own.scratch, own.database, own.presets.clone()];
        let cache = Cache { folder: own.cache, database: database.clone(), hub: Arc::clone(&hub) };
        let assets = Assets { database: database.clone(), cache: cache.clone() };
        let pictures = Pictures::new(&engine, &cache);
        let runs = RunTeller { database: database.clone(), hub: Arc::clone(&hub), channels: Arc::clone(&channels) };
        let reader = Reader {
            database: database.clone(),
            engine: engine.clone(),
            hub: Arc::clone(&hub),
            pictures: pictures.clone(),
            unread: Arc::default(),
            unscanned: Arc::default(),
        };
        let scanner = Scanner {
            database: database.clone(),
            engine: engine.clone(),
            hub: Arc::clone(&hub),
            slots: Arc::clone(&slots),
            unscanned: Arc::clone(&reader.unscanned),
        };
        let scheduler = Scheduler {
            database: database.clone(),
            engine: engine.clone(),
            door: Arc::clone(&door),
            hub: Arc::clone(&hub),
            slots: Arc::clone(&slots),
            assets: assets.clone(),
            publisher: Publisher { database: database.clone(), door: Arc::clone(&door) },
            runs: runs.clone(),
        };
        let watching = WatchFolders {
            database: database.clone(),
            door: Arc::clone(&door),
            hub: Arc::clone(&hub),
            clock: Arc::clone(&clock),
            slots: Arc::clone(&slots),
            reader: reader.clone(),
            runs: runs.clone(),
            channels,
        };
        let viewings = Viewings {
            engine: engine.clone(),
            hub: Arc::clone(&hub),
            slots: Arc::clone(&slots),
            cache: cache.clone(),
            copies: Arc::default(),
        };
        Self {
            proving: Arc::new(Proving::new(&database, &engine, &hub, &slots, &assets)),
            house_presets: HousePresets { database: database.clone(), folder: own.presets },
            storages: Storages { database: database.clone(), door: Arc::clone(&door), known },
            forecasts: Forecasts::default(),
            uploads: Turns::default(),
            stills: StillPool::default(),
            database,
            engine,
            hub,
            slots,
            clock,
            door,
            cache,
            assets,
            pictures,
            reader,
            runs,
            scanner,
            scheduler,
            viewings,
            watching,
            own_folders,
        }
    }
}

/// Tells what runs are like now.
#[derive(Debug, Clone)]
pub(crate) struct RunTeller {
    pub(crate) database: Database,
    pub(crate) hub: Arc<Hub>,
    pub(crate) channels: Arc<Channels>,
}

impl RunTeller {
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
            self.channels.wake(folder);
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

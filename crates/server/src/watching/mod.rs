//! Watch folders: one task a folder that is on, which looks, waits until files have settled, and
//! takes them up. What is decided is decided in core; what was taken up stands in the database.

mod channels;

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use beryl_core::flow::placing::Made;
use beryl_core::flow::run::RunState;
use beryl_core::flow::watch::{Stamp, WatchState, WatchStep, Watched, after_reading, after_runs, look, may_be_source};
use beryl_core::path::StoragePath;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::runs::{NewRun, Origin};
use beryl_store::storages::Storage;
use beryl_store::watch_folders::{WatchFile, WatchFolder};
use beryl_store::{Database, StoreError, patiently};
use chrono::NaiveDate;
use notify::event::{AccessKind, AccessMode};
use notify::{EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::{Notify, watch};
use tokio::task::JoinSet;
use tokio::time::Instant;

use crate::app::{RunTeller, ending};
use crate::clock::HouseClock;
use crate::door::{Door, Walk};
use crate::events::{Change, Hub};
use crate::files::{Found, find_sources};
use crate::outputs::Wish;
use crate::reader::Reader;
use crate::scheduler::Slots;

pub(crate) use channels::Channels;

/// How often a folder is looked through while something in it is on its way.
const SOON: Duration = Duration::from_secs(1);
/// How often otherwise: not every file system tells of changes.
const LATER: Duration = Duration::from_secs(30);
/// The shortest time between two looks, however much the system tells.
const SHORTEST: Duration = Duration::from_millis(400);
/// How long the database may be away at the start.
const PATIENCE: Duration = Duration::from_secs(600);

/// Watches folders.
#[derive(Debug, Clone)]
pub(crate) struct WatchFolders {
    pub(crate) database: Database,
    pub(crate) door: Arc<Door>,
    pub(crate) hub: Arc<Hub>,
    pub(crate) clock: Arc<HouseClock>,
    pub(crate) slots: Arc<Slots>,
    pub(crate) reader: Reader,
    pub(crate) runs: RunTeller,
    pub(crate) channels: Arc<Channels>,
}

impl WatchFolders {
    /// Begins to watch a folder, or begins anew after its settings were changed.
    pub(crate) fn start(&self, folder: WatchFolder) {
        self.channels.stop(folder.id);
        let (id, wake) = (folder.id, Arc::new(Notify::new()));
        let task = tokio::spawn(follow(self.clone(), folder, Arc::clone(&wake)));
        self.channels.insert(id, wake, task);
    }

    /// Watches all folders that are on until the server ends.
    pub(crate) async fn run(self, mut stopped: watch::Receiver<bool>) {
        match patiently(PATIENCE, || self.database.watch_folders()).await {
            Ok(folders) => folders.into_iter().filter(|folder| folder.is_on).for_each(|folder| self.start(folder)),
            Err(error) => tracing::error!(%error, "watch folders could not be taken up"),
        }
        ending(&mut stopped).await;
        self.channels.stop_all();
    }

    /// Everything in a folder that may be a source and is not known yet.
    pub(crate) async fn unknown_files(&self, folder: &WatchFolder) -> Result<Vec<Found>, Problem> {
        let known = self.database.watch_files(folder.id).await.map_err(|error| unknown(&error))?;
        let known: HashSet<StoragePath> = known.into_iter().map(|file| file.path).collect();
        let mut found = self.look_through(folder).await?;
        found.retain(|file| !known.contains(&file.path));
        let mut unknown_files = Vec::with_capacity(found.len());
        let storages = self.database.storages().await.map_err(|error| unknown(&error))?;
        for file in found {
            if !self.is_own(&storages, folder, &file).await.map_err(|error| unknown(&error))? {
                unknown_files.push(file);
            }
        }
        Ok(unknown_files)
    }

    async fn look_through(&self, folder: &WatchFolder) -> Result<Vec<Found>, Problem> {
        let storage = self.database.storage(folder.storage).await.map_err(|error| unknown(&error))?;
        let destination = (folder.destination_storage == folder.storage).then(|| folder.destination.clone());
        let watched = folder.folder.clone();
        let root = PathBuf::from(&storage.root);
        let looking = move |walk: &Walk| {
            let mut found = find_sources(&storage, &watched, walk)?;
            found.retain(|file| may_be_source(&file.path, &watched, destination.as_ref()));
            Ok(found)
        };
        self.door.walk(&root, looking).await
    }

    /// Whether a file is an output of any run: by what it is, on whatever way it is reached, or by the name that it
    /// is about to get, under whichever storage's name it was made.
    async fn is_own(&self, storages: &[Storage], folder: &WatchFolder, found: &Found) -> Result<bool, StoreError> {
        let made = Made { number: found.file, modified: found.stamp.modified, size: found.stamp.size.0 };
        if found.sequence.is_none() && self.database.is_made(made).await? {
            return Ok(true);
        }
        let Some(own) = storages.iter().find(|storage| storage.id == folder.storage) else { return Ok(false) };
        let whole = Path::new(&own.root).join(crate::files::system_path(&found.path));
        for storage in storages {
            let Ok(below) = whole.strip_prefix(&storage.root) else { continue };
            let bytes = std::os::unix::ffi::OsStrExt::as_bytes(below.as_os_str());
            if let Ok(path) = StoragePath::from_bytes(bytes)
                && self.database.is_own_output(storage.id, &path).await?
            {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Lets the system tell of changes. Where it cannot (a network share, too many folders), the
    /// folder is looked through every now and then all the same.
    async fn listen(&self, folder: &WatchFolder, wake: Arc<Notify>) -> Option<RecommendedWatcher> {
        let storage = self.database.storage(folder.storage).await.ok()?;
        let root = Path::new(&storage.root).join(crate::files::system_path(&folder.folder));
        let set_up = move || {
            let tell = move |event: notify::Result<notify::Event>| {
                // Reading a folder is an event as well: only changes count, or looking would never end.
                let is_change = |kind| match kind {
                    EventKind::Create(_) | EventKind::Modify(_) | EventKind::Remove(_) => true,
                    EventKind::Access(kind) => kind == AccessKind::Close(AccessMode::Write),
                    EventKind::Any | EventKind::Other => false,
                };
                if event.is_ok_and(|event| is_change(event.kind)) {
                    wake.notify_one();
                }
            };
            let mut watcher = notify::recommended_watcher(tell)?;
            watcher.watch(&root, RecursiveMode::Recursive)?;
            Ok::<_, notify::Error>(watcher)
        };
        match tokio::task::spawn_blocking(set_up).await.ok()? {
            Ok(watcher) => Some(watcher),
            Err(error) => {
                tracing::info!(%error, "changes are not told; the folder is looked through every now and then");
                None
            }
        }
    }

    /// Reads a settled file and queues its outputs.
    async fn take_up(&self, folder: &WatchFolder, file: &Found, counter: u32) -> Result<Taken, StoreError> {
        let Some(_turn) = self.channels.reader().await else { return Ok(Taken::NotNow) };
        let id = self.database.ensure_source(folder.storage, &file.path, file.sequence).await?;
        let source = self.database.source(id).await?;
        if let Err(problem) = self.reader.read_source(&source).await? {
            return Ok(Taken::Refused(problem));
        }
        if self.stamp_now(folder, file).await != Some(file.stamp) {
            return Ok(Taken::Changed);
        }
        let source = self.database.source(id).await?;
        let (runs, refused): (Vec<_>, Vec<_>) =
            wished_runs(folder, file, &source, counter, self.clock.today()).into_iter().partition(Result::is_ok);
        let runs: Vec<NewRun> = runs.into_iter().filter_map(Result::ok).collect();
        let refused: Vec<Problem> = refused.into_iter().filter_map(Result::err).collect();
        if runs.is_empty() {
            let nothing = || Problem::new(ProblemKind::Invalid, "nothing could be made", "no preset is set");
            return Ok(Taken::Refused(refused.into_iter().next().unwrap_or_else(nothing)));
        }
        let queued = match self.database.take_up_watch_file(folder.id, &file.path, id, &runs).await {
            Ok(queued) => queued,
            Err(StoreError::Changed) => return Ok(Taken::Changed),
            Err(error) => return Err(error),
        };
        self.runs.tell_runs(&queued).await;
        self.slots.wake();
        let left_out: Vec<String> = refused.into_iter().map(|problem| problem.to_string()).collect();
        Ok(Taken::Queued { left_out: (!left_out.is_empty()).then(|| left_out.join("; ")) })
    }

    /// Size and time of a file now; a sequence is looked for in its folder, since it is more than one file.
    async fn stamp_now(&self, folder: &WatchFolder, file: &Found) -> Option<Stamp> {
        let storage = self.database.storage(folder.storage).await.ok()?;
        let chosen = if file.sequence.is_some() { file.path.parent() } else { file.path.clone() };
        let root = PathBuf::from(&storage.root);
        let found = self.door.walk(&root, move |walk| find_sources(&storage, &chosen, walk)).await.ok()?;
        found.into_iter().find(|found| found.path == file.path).map(|found| found.stamp)
    }
}

fn unknown(error: &StoreError) -> Problem {
    Problem::new(ProblemKind::Internal, "the watch folder could not be looked through", error.to_string())
}

/// The row of a file that was found, in this state.
pub(crate) fn found_in_state(file: &Found, state: WatchState) -> WatchFile {
    let path = file.path.clone();
    WatchFile { path, state, stamp: file.stamp, tries: 0, detail: None, left_out: None, still_seconds: 0 }
}

/// What the task of a folder remembers of a file.
#[derive(Debug, Clone)]
struct Known {
    watched: Watched,
    detail: Option<String>,
    left_out: Option<String>,
}

/// What came of taking up a file.
enum Taken {
    /// It is at work.
    Queued { left_out: Option<String> },
    /// It has changed meanwhile.
    Changed,
    /// It cannot be read or made into anything.
    Refused(Problem),
    /// The database is away.
    NotNow,
}

struct Task {
    service: WatchFolders,
    folder: WatchFolder,
    files: HashMap<StoragePath, Known>,
    began: Instant,
    /// Files that are being taken up right now.
    taking: JoinSet<(StoragePath, Taken)>,
    in_hand: HashSet<StoragePath>,
    /// Files whose state has changed and is not kept yet, because the database was away.
    unkept: HashSet<StoragePath>,
}

async fn follow(service: WatchFolders, folder: WatchFolder, wake: Arc<Notify>) {
    let _told = service.listen(&folder, Arc::clone(&wake)).await;
    let began = Instant::now();
    let Ok(remembered) = patiently(PATIENCE, || service.database.watch_files(folder.id)).await else { return };
    let known = remembered.into_iter().map(|file| {
        let watched = Watched { state: file.state, stamp: file.stamp, unchanged_since: 0, tries: file.tries };
        (file.path, Known { watched, detail: file.detail, left_out: file.left_out })
    });
    let mut task = Task {
        files: known.collect(),
        service,
        folder,
        began,
        taking: JoinSet::new(),
        in_hand: HashSet::new(),
        unkept: HashSet::new(),
    };
    loop {
        if let Err(error) = task.look().await {
            tracing::warn!(%error, folder = %task.folder.name, "the watch folder is looked at again later");
        }
        let on_its_way = task.files.values().any(|known| known.watched.state.is_on_its_way());
        let earliest = Instant::now() + SHORTEST;
        tokio::select! {
            () = wake.notified() => {}
            () = tokio::time::sleep(if on_its_way { SOON } else { LATER }) => {}
            Some(outcome) = task.taking.join_next() => {
                if let Ok((path, taken)) = outcome
                    && let Err(error) = task.conclude(path, taken).await
                {
                    tracing::warn!(%error, "the state of a file could not be kept");
                }
            }
        }
        tokio::time::sleep_until(earliest).await;
    }
}

impl Task {
    fn now(&self) -> u64 {
        u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX)
    }

    fn settle(&self) -> u64 {
        u64::from(self.folder.settle_seconds) * 1000
    }

    /// Looks through the folder once, and at the runs of what was taken up.
    async fn look(&mut self) -> Result<(), StoreError> {
        let id = self.folder.id;
        let found = match self.service.look_through(&self.folder).await {
            Ok(found) => found,
            Err(problem) => {
                if self.service.channels.set_problem(id, Some(problem)).is_none() {
                    self.service.hub.tell(Change::Watch { id });
                }
                return Ok(());
            }
        };
        let had_problem = self.service.channels.set_problem(id, None).is_some();
        let (now, settle) = (self.now(), self.settle());
        let storages = self.service.database.storages().await?;
        let present: HashSet<StoragePath> = found.iter().map(|file| file.path.clone()).collect();
        for file in found {
            if self.in_hand.contains(&file.path) {
                continue;
            }
            let known = self.files.get(&file.path);
            let (mut watched, step) = look(known.map(|known| known.watched), file.stamp, now, settle);
            if known.is_none() && self.service.is_own(&storages, &self.folder, &file).await? {
                watched.state = WatchState::Own;
            }
            if known.map(|known| known.watched) != Some(watched) {
                self.unkept.insert(file.path.clone());
                let before = known.cloned().filter(|_| watched.state != WatchState::Arriving);
                let known = before.unwrap_or(Known { watched, detail: None, left_out: None });
                self.files.insert(file.path.clone(), Known { watched, ..known });
            }
            if step == WatchStep::TakeUp {
                self.begin(file);
            }
        }
        for (path, known) in &mut self.files {
            if known.watched.state.is_on_its_way() && !present.contains(path) && !self.in_hand.contains(path) {
                known.watched.state = WatchState::Gone;
                self.unkept.insert(path.clone());
            }
        }
        self.look_at_runs().await?;
        if self.keep().await? || had_problem {
            self.service.hub.tell(Change::Watch { id });
        }
        Ok(())
    }

    /// Follows the runs of files that were taken up.
    async fn look_at_runs(&mut self) -> Result<(), StoreError> {
        if !self.files.values().any(|known| matches!(known.watched.state, WatchState::Working | WatchState::Failed)) {
            return Ok(());
        }
        for taken in self.service.database.taken_watch_files(self.folder.id).await? {
            let Some(known) = self.files.get_mut(&taken.path).filter(|known| known.watched.state == taken.state) else {
                continue;
            };
            let state = after_runs(&taken.runs);
            let detail = detail_of_runs(state, &taken.runs, taken.problem.as_deref());
            if known.watched.state != state || known.detail != detail {
                known.watched.state = state;
                known.detail = detail;
                self.unkept.insert(taken.path);
            }
        }
        Ok(())
    }

    /// Keeps all states that have changed; answers whether there were any.
    async fn keep(&mut self) -> Result<bool, StoreError> {
        let row = |path: &StoragePath| {
            let known = self.files.get(path)?;
            Some(WatchFile {
                path: path.clone(),
                state: known.watched.state,
                stamp: known.watched.stamp,
                tries: known.watched.tries,
                detail: known.detail.clone(),
                left_out: known.left_out.clone(),
                still_seconds: 0,
            })
        };
        // The row of a file in hand belongs to whoever takes it up: written here, it could be taken up twice.
        let rows: Vec<WatchFile> = self.unkept.difference(&self.in_hand).filter_map(row).collect();
        self.service.database.save_watch_files(self.folder.id, &rows).await?;
        self.unkept.retain(|path| self.in_hand.contains(path));
        Ok(!rows.is_empty())
    }

    fn begin(&mut self, file: Found) {
        let taken_before = self
            .files
            .values()
            .filter(|known| matches!(known.watched.state, WatchState::Working | WatchState::Out | WatchState::Failed))
            .count();
        let counter = u32::try_from(taken_before + self.in_hand.len() + 1).unwrap_or(u32::MAX);
        self.in_hand.insert(file.path.clone());
        let (service, folder) = (self.service.clone(), self.folder.clone());
        self.taking.spawn(async move {
            let taken = service.take_up(&folder, &file, counter).await.unwrap_or_else(|error| {
                tracing::warn!(%error, file = %file.path, "it is taken up later");
                Taken::NotNow
            });
            (file.path, taken)
        });
    }

    async fn conclude(&mut self, path: StoragePath, taken: Taken) -> Result<(), StoreError> {
        self.in_hand.remove(&path);
        let now = self.now();
        let Some(known) = self.files.get_mut(&path) else { return Ok(()) };
        match taken {
            Taken::Queued { left_out } => {
                known.watched = after_reading(known.watched, Ok(()));
                (known.detail, known.left_out) = (None, left_out);
            }
            Taken::Changed => {
                known.watched = Watched { state: WatchState::Arriving, unchanged_since: now, ..known.watched };
                known.detail = None;
            }
            Taken::Refused(problem) => {
                known.watched = after_reading(known.watched, Err(problem.kind));
                known.detail = Some(problem.why);
            }
            Taken::NotNow => {}
        }
        self.unkept.insert(path);
        self.keep().await?;
        self.service.hub.tell(Change::Watch { id: self.folder.id });
        Ok(())
    }
}

fn detail_of_runs(state: WatchState, runs: &[RunState], problem: Option<&str>) -> Option<String> {
    let count = |state| runs.iter().filter(|run| **run == state).count();
    let done = format!("{} of {} outputs made", count(RunState::Done), runs.len());
    match state {
        WatchState::Failed if count(RunState::Failed) == 0 => {
            let others = [(RunState::Withheld, "withheld until you decide"), (RunState::Cancelled, "cancelled")];
            let others = others.map(|(state, words)| (count(state), words)).into_iter().filter(|(count, _)| *count > 0);
            Some(others.fold(done, |said, (count, words)| format!("{said}, {count} {words}")))
        }
        WatchState::Failed => Some(format!("{done}; {}", problem.unwrap_or("the queue says why"))),
        WatchState::Working => Some(done),
        _ => None,
    }
}

/// One run for each preset, below the destination in the same folders as the file lies in.
fn wished_runs(
    folder: &WatchFolder,
    file: &Found,
    source: &beryl_store::sources::Source,
    counter: u32,
    date: NaiveDate,
) -> Vec<Result<NewRun, Problem>> {
    let nested = file.path.parent().below(&folder.folder).unwrap_or_default();
    let destination = if nested.is_root() { Ok(folder.destination.clone()) } else { folder.destination.join(nested.as_bytes()) };
    let Ok(destination) = destination else {
        let problem = Problem::new(ProblemKind::Invalid, "the outputs could not be named", "the destination's path is too long");
        return vec![Err(problem)];
    };
    let none = PresetPatch::default();
    let run = |preset| {
        let wish = Wish {
            source,
            folder: &file.folder,
            preset,
            overrides: &none,
            name_pattern: &preset.name_pattern,
            destination: Some((folder.destination_storage, destination.clone())),
            clash: folder.clash,
            counter,
            sheet: &folder.name,
            date,
        };
        wish.run(Origin::WatchFolder(folder.id))
    };
    folder.presets.iter().map(run).collect()
}

//! Engine slots: claiming runs, following their engines, ending them.

mod conclude;
mod leases;
mod slots;

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use beryl_core::flow::run::{ClashRule, RunEvent};
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Asset, Command, EncodeRun, Event, FileRef, Job, RunNews};
use beryl_store::runs::{Claimed, Lease};
use beryl_store::storages::Storage;
use beryl_store::{Database, StoreError, patiently};
use beryl_worker::{Engine, candidates, endings, open_folder, remove_temporary, temporary_names};
use tokio::sync::watch;
use tokio::task::JoinSet;
use uuid::Uuid;

use crate::app::{RunTeller, ending};
use crate::assets::Assets;
use crate::door::Door;
use crate::events::{Change, Hub};
use crate::files::{file_ref, size_of, source_ref};
use crate::publish::{Publisher, skipped};

use leases::Suspects;

pub(crate) use slots::{MOST_SLOTS, SLOTS_SETTING, Slots};

/// How long a claim holds without being renewed.
const LEASE: Duration = Duration::from_secs(20);
/// How often a run is begun again after its engine was lost.
const MOST_ATTEMPTS: i32 = 3;
/// How long things are tried again while the database is away: what was made in a night waits for it.
const PATIENCE: Duration = Duration::from_secs(24 * 3600);
/// How often waiting runs are looked for without being called.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// How often a run's progress is kept.
const KEEP_EVERY: Duration = Duration::from_secs(2);

/// Works off runs.
#[derive(Debug, Clone)]
pub(crate) struct Scheduler {
    pub(crate) database: Database,
    pub(crate) engine: Engine,
    pub(crate) door: Arc<Door>,
    pub(crate) hub: Arc<Hub>,
    pub(crate) slots: Arc<Slots>,
    pub(crate) assets: Assets,
    pub(crate) publisher: Publisher,
    pub(crate) runs: RunTeller,
}

impl Scheduler {
    /// Claims and works off runs until the server ends.
    pub(crate) async fn run(self, mut stopped: watch::Receiver<bool>) {
        let mut suspects = Suspects::default();
        self.recover(&mut suspects).await;
        self.slots.set_count(self.kept_slots().await);
        let renewing = tokio::spawn(self.clone().renew(stopped.clone()));
        let mut jobs = JoinSet::new();
        let mut looked_for_lost = tokio::time::Instant::now();
        while !*stopped.borrow() {
            while jobs.try_join_next().is_some() {}
            if looked_for_lost.elapsed() > LEASE {
                looked_for_lost = tokio::time::Instant::now();
                self.recover(&mut suspects).await;
            }
            if jobs.len() < self.slots.count() {
                match self.database.claim(&self.slots.owner, LEASE).await {
                    Ok(claimed) if !claimed.is_empty() => {
                        // Renewed from the first moment on, whatever preparing them takes.
                        self.slots.hold(claimed.iter().map(|one| one.lease));
                        let (own, stopped) = (self.clone(), stopped.clone());
                        jobs.spawn(async move { own.work(claimed, stopped).await });
                        continue;
                    }
                    Ok(_) => {}
                    Err(error) => tracing::warn!(%error, "no work could be claimed now"),
                }
            }
            tokio::select! {
                () = self.slots.called() => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
                Some(_) = jobs.join_next() => {}
                () = ending(&mut stopped) => break,
            }
        }
        while jobs.join_next().await.is_some() {}
        renewing.abort();
    }

    async fn kept_slots(&self) -> usize {
        self.database.setting::<usize>(SLOTS_SETTING).await.ok().flatten().unwrap_or_else(slots::usual)
    }

    /// Works off runs of one source in one engine.
    async fn work(&self, claimed: Vec<Claimed>, stopped: watch::Receiver<bool>) {
        let ids: Vec<Uuid> = claimed.iter().map(|one| one.run.id).collect();
        let leases: Vec<Lease> = claimed.iter().map(|one| one.lease).collect();
        self.runs.tell_runs(&ids).await;
        let mut underway = Vec::new();
        for one in claimed {
            let one = Arc::new(one);
            match self.prepare(&one).await {
                Ok(ready) => underway.push(ready),
                // A database or a share that is away comes back.
                Err(problem) => self.fail(&one, &problem, problem.kind.worth_retrying()).await,
            }
        }
        self.runs.tell_runs(&ids).await;
        if let Some(first) = underway.first() {
            let started = match self.job(first.claimed.run.source, &underway).await {
                Ok(job) => self.engine.start(&job).await,
                Err(problem) => Err(problem),
            };
            match started {
                Ok(running) => self.follow(running, underway, stopped).await,
                Err(problem) => {
                    for one in &underway {
                        self.fail(&one.claimed, &problem, problem.kind.worth_retrying()).await;
                    }
                    self.runs.tell_runs(&ids).await;
                }
            }
        }
        for lease in leases {
            self.slots.forget(lease);
        }
        self.slots.wake();
    }

    async fn job(&self, source: Uuid, underway: &[Underway]) -> Result<Job, Problem> {
        let source = asked(|| self.database.source(source)).await?;
        let storage = asked(|| self.database.storage(source.storage)).await?;
        let runs = underway.iter().map(|one| EncodeRun {
            id: one.claimed.run.id,
            plan: one.claimed.plan.clone(),
            outputs: one.outputs(),
            assets: one.assets.clone(),
        });
        Ok(Job::Encode { source: source_ref(&storage, &source), runs: runs.collect(), share: self.slots.share() })
    }

    /// Makes the folder, and notes the temporary names before anything is written under them.
    async fn prepare(&self, claimed: &Arc<Claimed>) -> Result<Underway, Problem> {
        let storage = asked(|| self.database.storage(claimed.run.storage)).await?;
        let root = PathBuf::from(&storage.root);
        let (folder, parent) = (root.clone(), claimed.run.stem.parent());
        self.door.work(&root, move || open_folder(&folder, &parent).map(|_| ())).await?;
        let endings = endings(&claimed.plan);
        if claimed.run.clash == ClashRule::Skip {
            for target in candidates(&claimed.run.stem, &endings, 1)? {
                let (folder, path) = (root.clone(), target.clone());
                if self.door.work(&root, move || size_of(&folder, &path)).await?.is_some() {
                    return Err(skipped(&target));
                }
            }
        }
        let assets = self.assets.assets_for(claimed.plan.steps()).await?;
        let id = format!("{}-{}", claimed.run.id, claimed.lease.epoch);
        let temporaries = temporary_names(&claimed.run.stem, &id, endings.len())?;
        asked(|| self.database.set_temporaries(claimed.lease, &temporaries)).await?;
        Ok(Underway {
            claimed: Arc::clone(claimed),
            storage,
            root,
            temporaries,
            assets,
            ended: false,
            kept: tokio::time::Instant::now(),
            keeping: Arc::default(),
        })
    }

    /// Follows an engine. Nothing here waits for the database or for a file system: what has to is done beside it.
    async fn follow(
        &self,
        mut running: beryl_worker::RunningJob,
        mut underway: Vec<Underway>,
        mut stopped: watch::Receiver<bool>,
    ) {
        let control = running.control();
        self.slots.jobs().extend(underway.iter().map(|one| (one.claimed.run.id, control.clone())));
        let mut look = tokio::time::interval(LOOK_EVERY);
        let mut paused = false;
        let mut ends = JoinSet::new();
        loop {
            tokio::select! {
                event = running.next() => match event {
                    Some(event) => self.take(&mut underway, &mut ends, event),
                    None => break,
                },
                _ = look.tick() => {
                    let now_paused = control.is_paused();
                    if paused || now_paused {
                        running.has_moved();
                    }
                    paused = now_paused;
                }
                () = ending(&mut stopped) => {
                    // Dropping the job ends its engine; what it made is taken up at the next start.
                    drop(running);
                    for one in underway.iter().filter(|one| !one.ended) {
                        // What stays is put away when its run is taken up again.
                        let (root, files) = (one.root.clone(), one.temporaries.clone());
                        let putting_away = move || files.iter().try_for_each(|file| remove_temporary(&root, file));
                        drop(self.door.work(&one.root, putting_away).await);
                    }
                    ends.abort_all();
                    break;
                }
            }
        }
        self.slots.jobs().retain(|_, of| !of.is_same_job(&control));
        while ends.join_next().await.is_some() {}
    }

    fn take(&self, underway: &mut [Underway], ends: &mut JoinSet<()>, event: Event) {
        match event {
            Event::Run { id, news } => {
                if let Some(one) = underway.iter_mut().find(|one| one.claimed.run.id == id) {
                    self.take_news(one, ends, news);
                }
            }
            Event::Failed { problem } => {
                let again = matches!(problem.kind, ProblemKind::EngineLost | ProblemKind::OutOfMemory);
                for one in underway.iter_mut().filter(|one| !one.ended) {
                    one.ended = true;
                    let (own, claimed, problem) = (self.clone(), Arc::clone(&one.claimed), problem.clone());
                    let (root, files) = (one.root.clone(), one.temporaries.clone());
                    ends.spawn(async move {
                        drop(own.publisher.put_away(&root, &files).await);
                        own.fail(&claimed, &problem, again).await;
                        own.slots.forget(claimed.lease);
                        own.runs.tell_run(claimed.run.id).await;
                    });
                }
            }
            Event::Ended { cpu_seconds, .. } => {
                let runs: Vec<Uuid> = underway.iter().map(|one| one.claimed.run.id).collect();
                let own = self.clone();
                ends.spawn(async move {
                    if let Err(error) = own.database.save_cpu_seconds(&runs, cpu_seconds).await {
                        tracing::debug!(%error, "processor time was not kept");
                    }
                });
            }
            Event::Answer(_) => {}
        }
    }

    fn take_news(&self, one: &mut Underway, ends: &mut JoinSet<()>, news: RunNews) {
        let id = one.claimed.run.id;
        match news {
            RunNews::Progress { progress } => {
                self.hub.tell(Change::Progress { id, progress });
                if one.kept.elapsed() > KEEP_EVERY && !one.keeping.swap(true, Ordering::Relaxed) {
                    one.kept = tokio::time::Instant::now();
                    let (own, keeping) = (self.clone(), Arc::clone(&one.keeping));
                    tokio::spawn(async move {
                        if let Err(error) = own.database.save_progress(id, &progress).await {
                            tracing::debug!(%error, "progress was not kept");
                        }
                        keeping.store(false, Ordering::Relaxed);
                    });
                }
            }
            RunNews::Written { measured } => {
                one.ended = true;
                let (own, claimed) = (self.clone(), Arc::clone(&one.claimed));
                let (root, files) = (one.root.clone(), one.temporaries.clone());
                ends.spawn(async move {
                    own.conclude(&claimed, root, files, &measured).await;
                    own.slots.forget(claimed.lease);
                    own.runs.tell_run(id).await;
                });
            }
            RunNews::Failed { problem } if !one.ended => {
                one.ended = true;
                let (own, lease) = (self.clone(), one.claimed.lease);
                let (root, files) = (one.root.clone(), one.temporaries.clone());
                ends.spawn(async move {
                    // The engine cannot remove them where its source lies beside them.
                    drop(own.publisher.put_away(&root, &files).await);
                    own.keep_end(lease, Err(problem.into())).await;
                    own.slots.forget(lease);
                    own.runs.tell_run(id).await;
                });
            }
            RunNews::Reading | RunNews::Failed { .. } => {}
        }
    }

    /// What a person asks of runs. Answers in how many it could happen; the others were in another state.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub(crate) async fn act(&self, runs: &[Uuid], event: RunEvent) -> Result<usize, StoreError> {
        let (at_work, others): (Vec<Uuid>, Vec<Uuid>) = runs.iter().partition(|run| !self.slots.together_with(**run).is_empty());
        let mut done = 0;
        let mut told = Vec::new();
        for run in at_work {
            match self.act_at_work(run, event).await {
                Ok(changed) => {
                    done += 1;
                    told.extend(changed);
                }
                Err(StoreError::Changed) => {}
                Err(error) => return Err(error),
            }
        }
        // No engine is there: a waiting run is held, a held one waits again.
        let event = if event == RunEvent::Resume { RunEvent::Requeue } else { event };
        let changed = self.database.change_many(&others, event).await?;
        done += changed.len();
        told.extend(changed);
        self.slots.wake();
        self.runs.tell_runs(&told).await;
        Ok(done)
    }

    /// The same of one run that an engine works on. Answers the runs that are in another state now.
    async fn act_at_work(&self, id: Uuid, event: RunEvent) -> Result<Vec<Uuid>, StoreError> {
        match event {
            RunEvent::Pause | RunEvent::Resume => {
                // Runs that share a decode stand still together.
                let group = self.slots.together_with(id);
                self.slots.say(id, if event == RunEvent::Pause { Command::Pause } else { Command::Resume });
                for member in &group {
                    match self.database.change(*member, event).await {
                        Ok(_) | Err(StoreError::Changed) => {}
                        Err(error) => return Err(error),
                    }
                }
                Ok(group)
            }
            // The engine puts its file away and answers; the run's end is kept then.
            RunEvent::Cancel if self.slots.say(id, Command::CancelRun { id }) => Ok(Vec::new()),
            other => self.database.change(id, other).await.map(|_| vec![id]),
        }
    }
}

/// A run on its way, with the place of its file.
struct Underway {
    claimed: Arc<Claimed>,
    storage: Storage,
    /// The folder of the storage.
    root: PathBuf,
    /// Where its files are written.
    temporaries: Vec<StoragePath>,
    assets: Vec<Asset>,
    ended: bool,
    /// When its progress was last kept, and whether it is being kept now.
    kept: tokio::time::Instant,
    keeping: Arc<AtomicBool>,
}

impl Underway {
    /// Where the engine writes.
    fn outputs(&self) -> Vec<FileRef> {
        self.temporaries.iter().map(|path| file_ref(&self.storage, path)).collect()
    }
}

/// What the database says, however long it is away.
async fn asked<T, F: Future<Output = Result<T, StoreError>>>(call: impl FnMut() -> F) -> Result<T, Problem> {
    let failed = |error: StoreError| Problem::new(ProblemKind::EngineLost, "the run could not be prepared", error.to_string());
    patiently(PATIENCE, call).await.map_err(failed)
}

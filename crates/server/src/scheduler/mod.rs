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
use beryl_store::{StoreError, patiently};
use beryl_worker::{candidates, endings, open_folder, remove_temporary, temporary_names};
use tokio::sync::watch;
use tokio::task::JoinSet;
use uuid::Uuid;

use crate::app::{App, ending};
use crate::assets::assets_for;
use crate::events::Change;
use crate::files::{file_ref, size_of, source_ref};
use crate::publish::{put_away, skipped};

use conclude::{conclude, fail, keep_end};
use leases::{Suspects, recover, renew};

pub(crate) use conclude::{discard, release};
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

/// Claims and works off runs until the server ends.
pub(crate) async fn run(app: Arc<App>, mut stopped: watch::Receiver<bool>) {
    let mut suspects = Suspects::default();
    recover(&app, &mut suspects).await;
    app.slots.set_count(kept_slots(&app).await);
    let renewing = tokio::spawn(renew(Arc::clone(&app), stopped.clone()));
    let mut jobs = JoinSet::new();
    let mut looked_for_lost = tokio::time::Instant::now();
    while !*stopped.borrow() {
        while jobs.try_join_next().is_some() {}
        if looked_for_lost.elapsed() > LEASE {
            looked_for_lost = tokio::time::Instant::now();
            recover(&app, &mut suspects).await;
        }
        if jobs.len() < app.slots.count() {
            match app.database.claim(&app.slots.owner, LEASE).await {
                Ok(claimed) if !claimed.is_empty() => {
                    // Renewed from the first moment on, whatever preparing them takes.
                    app.slots.hold(claimed.iter().map(|one| one.lease));
                    let (app, stopped) = (Arc::clone(&app), stopped.clone());
                    jobs.spawn(async move { work(&app, claimed, stopped).await });
                    continue;
                }
                Ok(_) => {}
                Err(error) => tracing::warn!(%error, "no work could be claimed now"),
            }
        }
        tokio::select! {
            () = app.slots.called() => {}
            () = tokio::time::sleep(LOOK_EVERY) => {}
            Some(_) = jobs.join_next() => {}
            () = ending(&mut stopped) => break,
        }
    }
    while jobs.join_next().await.is_some() {}
    renewing.abort();
}

async fn kept_slots(app: &App) -> usize {
    app.database.setting::<usize>(SLOTS_SETTING).await.ok().flatten().unwrap_or_else(slots::usual)
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

/// Works off runs of one source in one engine.
async fn work(app: &Arc<App>, claimed: Vec<Claimed>, stopped: watch::Receiver<bool>) {
    let ids: Vec<Uuid> = claimed.iter().map(|one| one.run.id).collect();
    let leases: Vec<Lease> = claimed.iter().map(|one| one.lease).collect();
    app.tell_runs(&ids).await;
    let mut underway = Vec::new();
    for one in claimed {
        let one = Arc::new(one);
        match prepare(app, &one).await {
            Ok(ready) => underway.push(ready),
            // A database or a share that is away comes back.
            Err(problem) => fail(app, &one, &problem, problem.kind.worth_retrying()).await,
        }
    }
    app.tell_runs(&ids).await;
    if let Some(first) = underway.first() {
        let started = match job(app, first.claimed.run.source, &underway).await {
            Ok(job) => app.engine.start(&job).await,
            Err(problem) => Err(problem),
        };
        match started {
            Ok(running) => follow(app, running, underway, stopped).await,
            Err(problem) => {
                for one in &underway {
                    fail(app, &one.claimed, &problem, problem.kind.worth_retrying()).await;
                }
                app.tell_runs(&ids).await;
            }
        }
    }
    for lease in leases {
        app.slots.forget(lease);
    }
    app.slots.wake();
}

async fn job(app: &App, source: Uuid, underway: &[Underway]) -> Result<Job, Problem> {
    let source = asked(|| app.database.source(source)).await?;
    let storage = asked(|| app.database.storage(source.storage)).await?;
    let runs = underway.iter().map(|one| EncodeRun {
        id: one.claimed.run.id,
        plan: one.claimed.plan.clone(),
        outputs: one.outputs(),
        assets: one.assets.clone(),
    });
    Ok(Job::Encode { source: source_ref(&storage, &source), runs: runs.collect(), share: app.slots.share() })
}

/// What the database says, however long it is away.
async fn asked<T, F: Future<Output = Result<T, StoreError>>>(call: impl FnMut() -> F) -> Result<T, Problem> {
    let failed = |error: StoreError| Problem::new(ProblemKind::EngineLost, "the run could not be prepared", error.to_string());
    patiently(PATIENCE, call).await.map_err(failed)
}

/// Makes the folder, and notes the temporary names before anything is written under them.
async fn prepare(app: &App, claimed: &Arc<Claimed>) -> Result<Underway, Problem> {
    let storage = asked(|| app.database.storage(claimed.run.storage)).await?;
    let root = PathBuf::from(&storage.root);
    let (folder, parent) = (root.clone(), claimed.run.stem.parent());
    app.door.work(&root, move || open_folder(&folder, &parent).map(|_| ())).await?;
    let endings = endings(&claimed.plan);
    if claimed.run.clash == ClashRule::Skip {
        for target in candidates(&claimed.run.stem, &endings, 1)? {
            let (folder, path) = (root.clone(), target.clone());
            if app.door.work(&root, move || size_of(&folder, &path)).await?.is_some() {
                return Err(skipped(&target));
            }
        }
    }
    let assets = assets_for(app, claimed.plan.steps()).await?;
    let id = format!("{}-{}", claimed.run.id, claimed.lease.epoch);
    let temporaries = temporary_names(&claimed.run.stem, &id, endings.len())?;
    asked(|| app.database.set_temporaries(claimed.lease, &temporaries)).await?;
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
    app: &Arc<App>,
    mut running: beryl_worker::RunningJob,
    mut underway: Vec<Underway>,
    mut stopped: watch::Receiver<bool>,
) {
    let control = running.control();
    app.slots.jobs().extend(underway.iter().map(|one| (one.claimed.run.id, control.clone())));
    let mut look = tokio::time::interval(LOOK_EVERY);
    let mut paused = false;
    let mut ends = JoinSet::new();
    loop {
        tokio::select! {
            event = running.next() => match event {
                Some(event) => take(app, &mut underway, &mut ends, event),
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
                    drop(app.door.work(&one.root, putting_away).await);
                }
                ends.abort_all();
                break;
            }
        }
    }
    app.slots.jobs().retain(|_, of| !of.is_same_job(&control));
    while ends.join_next().await.is_some() {}
}

fn take(app: &Arc<App>, underway: &mut [Underway], ends: &mut JoinSet<()>, event: Event) {
    match event {
        Event::Run { id, news } => {
            if let Some(one) = underway.iter_mut().find(|one| one.claimed.run.id == id) {
                take_news(app, one, ends, news);
            }
        }
        Event::Failed { problem } => {
            let again = matches!(problem.kind, ProblemKind::EngineLost | ProblemKind::OutOfMemory);
            for one in underway.iter_mut().filter(|one| !one.ended) {
                one.ended = true;
                let (app, claimed, problem) = (Arc::clone(app), Arc::clone(&one.claimed), problem.clone());
                let (root, files) = (one.root.clone(), one.temporaries.clone());
                ends.spawn(async move {
                    drop(put_away(&app, &root, &files).await);
                    fail(&app, &claimed, &problem, again).await;
                    app.slots.forget(claimed.lease);
                    app.tell_run(claimed.run.id).await;
                });
            }
        }
        Event::Ended { cpu_seconds, .. } => {
            let runs: Vec<Uuid> = underway.iter().map(|one| one.claimed.run.id).collect();
            let app = Arc::clone(app);
            ends.spawn(async move {
                if let Err(error) = app.database.save_cpu_seconds(&runs, cpu_seconds).await {
                    tracing::debug!(%error, "processor time was not kept");
                }
            });
        }
        Event::Answer(_) => {}
    }
}

fn take_news(app: &Arc<App>, one: &mut Underway, ends: &mut JoinSet<()>, news: RunNews) {
    let id = one.claimed.run.id;
    match news {
        RunNews::Progress { progress } => {
            app.hub.tell(Change::Progress { id, progress });
            if one.kept.elapsed() > KEEP_EVERY && !one.keeping.swap(true, Ordering::Relaxed) {
                one.kept = tokio::time::Instant::now();
                let (app, keeping) = (Arc::clone(app), Arc::clone(&one.keeping));
                tokio::spawn(async move {
                    if let Err(error) = app.database.save_progress(id, &progress).await {
                        tracing::debug!(%error, "progress was not kept");
                    }
                    keeping.store(false, Ordering::Relaxed);
                });
            }
        }
        RunNews::Written { measured } => {
            one.ended = true;
            let (app, claimed) = (Arc::clone(app), Arc::clone(&one.claimed));
            let (root, files) = (one.root.clone(), one.temporaries.clone());
            ends.spawn(async move {
                conclude(&app, &claimed, root, files, &measured).await;
                app.slots.forget(claimed.lease);
                app.tell_run(id).await;
            });
        }
        RunNews::Failed { problem } if !one.ended => {
            one.ended = true;
            let (app, lease) = (Arc::clone(app), one.claimed.lease);
            let (root, files) = (one.root.clone(), one.temporaries.clone());
            ends.spawn(async move {
                // The engine cannot remove them where its source lies beside them.
                drop(put_away(&app, &root, &files).await);
                keep_end(&app, lease, Err(problem.into())).await;
                app.slots.forget(lease);
                app.tell_run(id).await;
            });
        }
        RunNews::Reading | RunNews::Failed { .. } => {}
    }
}

/// What a person asks of runs. Answers in how many it could happen; the others were in another state.
///
/// # Errors
/// [`StoreError`] where the database does not answer.
pub(crate) async fn act(app: &App, runs: &[Uuid], event: RunEvent) -> Result<usize, StoreError> {
    let (at_work, others): (Vec<Uuid>, Vec<Uuid>) = runs.iter().partition(|run| !app.slots.together_with(**run).is_empty());
    let mut done = 0;
    let mut told = Vec::new();
    for run in at_work {
        match act_at_work(app, run, event).await {
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
    let changed = app.database.change_many(&others, event).await?;
    done += changed.len();
    told.extend(changed);
    app.slots.wake();
    app.tell_runs(&told).await;
    Ok(done)
}

/// The same of one run that an engine works on. Answers the runs that are in another state now.
async fn act_at_work(app: &App, id: Uuid, event: RunEvent) -> Result<Vec<Uuid>, StoreError> {
    match event {
        RunEvent::Pause | RunEvent::Resume => {
            // Runs that share a decode stand still together.
            let group = app.slots.together_with(id);
            app.slots.say(id, if event == RunEvent::Pause { Command::Pause } else { Command::Resume });
            for member in &group {
                match app.database.change(*member, event).await {
                    Ok(_) | Err(StoreError::Changed) => {}
                    Err(error) => return Err(error),
                }
            }
            Ok(group)
        }
        // The engine puts its file away and answers; the run's end is kept then.
        RunEvent::Cancel if app.slots.say(id, Command::CancelRun { id }) => Ok(Vec::new()),
        other => app.database.change(id, other).await.map(|_| vec![id]),
    }
}

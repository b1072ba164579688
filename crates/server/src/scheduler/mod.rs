//! Engine slots: claiming runs, following their engines, ending them.

mod slots;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use beryl_core::check::{Measured, judge, problem_of};
use beryl_core::night::cpu_cost;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Aid, Command, EncodeRun, Event, FileRef, Job, RunNews};
use beryl_core::run::{ClashRule, RunEvent, RunState};
use beryl_store::runs::{Claimed, Lease};
use beryl_store::storages::Storage;
use beryl_store::{StoreError, patiently};
use beryl_worker::{candidate, open_folder, remove_temporary, temporary_name};
use tokio::sync::watch;
use uuid::Uuid;

use crate::aids::aids_for;
use crate::app::{App, ending};
use crate::events::Change;
use crate::files::source_ref;
use crate::publish::{Finished, PublishError, name_problem, publish, skipped};

pub(crate) use slots::{MOST_SLOTS, SLOTS_SETTING, Slots};

/// How long a claim holds without being renewed.
const LEASE: Duration = Duration::from_secs(20);
/// How often claims are renewed.
const RENEW_EVERY: Duration = Duration::from_secs(5);
/// How often a run is begun again after its engine was lost.
const MOST_ATTEMPTS: i32 = 3;
/// How long a finished run's state is tried to be kept while the database is away.
const PATIENCE: Duration = Duration::from_secs(600);
/// How often waiting runs are looked for without being called.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// Claims and works off runs until the server ends.
pub(crate) async fn run(app: Arc<App>, mut stopped: watch::Receiver<bool>) {
    recover(&app, true).await;
    app.slots.set_count(kept_slots(&app).await);
    let mut jobs = tokio::task::JoinSet::new();
    let mut looked_for_lost = tokio::time::Instant::now();
    while !*stopped.borrow() {
        while jobs.try_join_next().is_some() {}
        if looked_for_lost.elapsed() > LEASE {
            looked_for_lost = tokio::time::Instant::now();
            recover(&app, false).await;
        }
        if jobs.len() < app.slots.count() {
            match app.database.claim(&app.slots.node, LEASE).await {
                Ok(claimed) if !claimed.is_empty() => {
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
}

async fn kept_slots(app: &App) -> usize {
    app.database.setting::<usize>(SLOTS_SETTING).await.ok().flatten().unwrap_or_else(slots::usual)
}

/// Takes up what a worker that is gone has left.
async fn recover(app: &App, include_own: bool) {
    let taken = patiently(PATIENCE, || app.database.take_over_lost(&app.slots.node, include_own, LEASE)).await;
    for claimed in taken.unwrap_or_else(|error| {
        tracing::error!(%error, "what was left could not be taken up");
        Vec::new()
    }) {
        let id = claimed.run.id;
        if let Err(error) = recover_one(app, claimed).await {
            tracing::error!(%error, run = %id, "a run that was left could not be taken up");
        }
        app.tell_run(id).await;
    }
}

/// A checked file that lost its worker while it was being named is named now, or is found to have
/// its name; everything else begins again.
async fn recover_one(app: &App, claimed: Claimed) -> Result<(), StoreError> {
    let storage = app.database.storage(claimed.run.storage).await?;
    let root = PathBuf::from(&storage.root);
    let lease = claimed.lease;
    if claimed.run.state == RunState::Checking {
        let is_there = |path: &beryl_core::path::StoragePath| size_of(&storage, path);
        if let (Some(target), Some(size)) = (&claimed.run.target, claimed.run.size)
            && claimed.run.temporary.as_ref().is_none_or(|temporary| is_there(temporary).is_none())
            && is_there(target) == Some(size)
        {
            return app.database.finish(lease, RunState::Done, None).await;
        }
        if let Some(temporary) = claimed.run.temporary.clone().filter(|temporary| is_there(temporary) == claimed.run.size) {
            let file = finished(&claimed, root, temporary);
            return end(app, lease, publish(app, &file).await).await;
        }
    }
    if let Some(temporary) = &claimed.run.temporary
        && let Err(problem) = remove_temporary(Path::new(&storage.root), temporary)
    {
        tracing::warn!(%problem, "a temporary file stays");
    }
    if claimed.run.state == RunState::Paused {
        return app.database.release_paused(lease).await;
    }
    app.database.put_back(lease, "its worker went away").await
}

fn size_of(storage: &Storage, path: &beryl_core::path::StoragePath) -> Option<u64> {
    let folder = crate::files::open_storage(storage).ok()?;
    folder.metadata(crate::files::system_path(path)).ok().map(|metadata| metadata.len())
}

fn finished(claimed: &Claimed, root: PathBuf, temporary: beryl_core::path::StoragePath) -> Finished {
    Finished {
        lease: claimed.lease,
        root,
        temporary,
        stem: claimed.run.stem.clone(),
        extension: claimed.plan.container.extension(),
        clash: claimed.run.clash,
    }
}

/// A run on its way, with the place of its file.
struct Underway {
    claimed: Claimed,
    root: PathBuf,
    output: FileRef,
    aids: Vec<Aid>,
    ended: bool,
    /// When its progress was last kept.
    kept: tokio::time::Instant,
}

/// Works off runs of one source in one engine.
async fn work(app: &App, claimed: Vec<Claimed>, stopped: watch::Receiver<bool>) {
    for one in &claimed {
        app.tell_run(one.run.id).await;
    }
    let mut underway = Vec::new();
    for one in claimed {
        let (id, lease) = (one.run.id, one.lease);
        match prepare(app, one).await {
            Ok(ready) => underway.push(ready),
            Err(problem) => keep_end(app, lease, Err(problem.into())).await,
        }
        app.tell_run(id).await;
    }
    let Some(first) = underway.first() else { return };
    let job = job(app, first.claimed.run.source, &underway).await;
    let started = match job {
        Ok(job) => app.engine.start(&job).await,
        Err(problem) => Err(problem),
    };
    match started {
        Ok(running) => follow(app, running, underway, stopped).await,
        Err(problem) => fail_all(app, &mut underway, &problem, false).await,
    }
}

async fn job(app: &App, source: Uuid, underway: &[Underway]) -> Result<Job, Problem> {
    let source = app.database.source(source).await.map_err(|error| store_problem(&error))?;
    let storage = app.database.storage(source.storage).await.map_err(|error| store_problem(&error))?;
    let runs = underway.iter().map(|one| EncodeRun {
        id: one.claimed.run.id,
        plan: one.claimed.plan.clone(),
        output: one.output.clone(),
        aids: one.aids.clone(),
    });
    Ok(Job::Encode { source: source_ref(&storage, &source), runs: runs.collect() })
}

fn store_problem(error: &StoreError) -> Problem {
    Problem::new(ProblemKind::EngineLost, "the run could not be prepared", error.to_string())
}

/// Makes the folder, and notes the temporary name before anything is written under it.
async fn prepare(app: &App, claimed: Claimed) -> Result<Underway, Problem> {
    let storage = app.database.storage(claimed.run.storage).await.map_err(|error| store_problem(&error))?;
    let root = PathBuf::from(&storage.root);
    open_folder(&root, &claimed.run.stem.parent())?;
    if claimed.run.clash == ClashRule::Skip {
        let target = candidate(&claimed.run.stem, claimed.plan.container.extension(), 1).map_err(|error| name_problem(&error))?;
        if size_of(&storage, &target).is_some() {
            return Err(skipped(&target));
        }
    }
    let aids = aids_for(app, claimed.plan.steps()).await?;
    let id = format!("{}-{}", claimed.run.id, claimed.lease.epoch);
    let temporary = temporary_name(&claimed.run.stem, &id).map_err(|error| name_problem(&error))?;
    app.database.set_temporary(claimed.lease, &temporary).await.map_err(|error| store_problem(&error))?;
    let output = FileRef { root: storage.root, path: temporary };
    Ok(Underway { claimed, root, output, aids, ended: false, kept: tokio::time::Instant::now() })
}

async fn follow(
    app: &App,
    mut running: beryl_worker::RunningJob,
    mut underway: Vec<Underway>,
    mut stopped: watch::Receiver<bool>,
) {
    let control = running.control();
    app.slots.jobs().extend(underway.iter().map(|one| (one.claimed.run.id, control.clone())));
    let mut renew = tokio::time::interval(RENEW_EVERY);
    let mut paused = false;
    loop {
        tokio::select! {
            event = running.next() => match event {
                Some(event) => take(app, &mut underway, event).await,
                None => break,
            },
            _ = renew.tick() => {
                let leases: Vec<Lease> = underway.iter().filter(|one| !one.ended).map(|one| one.claimed.lease).collect();
                // While the database is away the engine goes on: nobody else can claim either.
                if let Ok(lost) = app.database.renew(&leases, LEASE).await {
                    for lease in lost {
                        control.say(Command::CancelRun { id: lease.run });
                    }
                }
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
                    drop(remove_temporary(&one.root, &one.output.path));
                }
                break;
            }
        }
    }
    app.slots.jobs().retain(|id, _| !underway.iter().any(|one| one.claimed.run.id == *id));
    app.slots.wake();
}

async fn take(app: &App, underway: &mut [Underway], event: Event) {
    match event {
        Event::Run { id, news } => {
            if let Some(one) = underway.iter_mut().find(|one| one.claimed.run.id == id) {
                take_news(app, one, news).await;
            }
        }
        Event::Failed { problem } => fail_all(app, underway, &problem, problem.kind == ProblemKind::EngineLost).await,
        Event::Ended { cpu_seconds, .. } => {
            let runs: Vec<(Uuid, f64)> = underway.iter().map(|one| (one.claimed.run.id, cpu_cost(&one.claimed.plan))).collect();
            if let Err(error) = app.database.save_cpu_seconds(&runs, cpu_seconds).await {
                tracing::debug!(%error, "processor time was not kept");
            }
        }
        Event::Answer(_) => {}
    }
}

async fn take_news(app: &App, one: &mut Underway, news: RunNews) {
    let id = one.claimed.run.id;
    match news {
        RunNews::Progress { progress } => {
            app.hub.tell(Change::Progress { id, progress });
            if one.kept.elapsed() > Duration::from_secs(2) {
                one.kept = tokio::time::Instant::now();
                if let Err(error) = app.database.save_progress(id, &progress).await {
                    tracing::debug!(%error, "progress was not kept");
                }
            }
        }
        RunNews::Written { measured } => {
            one.ended = true;
            conclude(app, one, &measured).await;
            app.tell_run(id).await;
        }
        RunNews::Failed { problem } if !one.ended => {
            one.ended = true;
            keep_end(app, one.claimed.lease, Err(problem.into())).await;
            app.tell_run(id).await;
        }
        RunNews::Reading | RunNews::Failed { .. } => {}
    }
}

/// Judges a written file and, where it is as planned, gives it its name.
async fn conclude(app: &App, one: &Underway, measured: &Measured) {
    let lease = one.claimed.lease;
    let report = judge(&one.claimed.plan, measured);
    if let Some(problem) = problem_of(&one.claimed.plan, measured, &report) {
        drop(remove_temporary(&one.root, &one.output.path));
        return keep_end(app, lease, Err(problem.into())).await;
    }
    let kept = patiently(PATIENCE, || app.database.set_checking(lease, &report, &measured.reading)).await;
    if let Err(error) = kept {
        tracing::warn!(%error, run = %lease.run, "the run is no longer ours");
        drop(remove_temporary(&one.root, &one.output.path));
        return;
    }
    let file = finished(&one.claimed, one.root.clone(), one.output.path.clone());
    let outcome = loop {
        match publish(app, &file).await {
            Err(PublishError::Store(error)) if error.is_passing() => tokio::time::sleep(Duration::from_millis(500)).await,
            outcome => break outcome,
        }
    };
    if outcome.is_err() {
        drop(remove_temporary(&one.root, &one.output.path));
    }
    keep_end(app, lease, outcome).await;
}

/// Everything that has not ended ends with this problem, or begins again where that may help.
async fn fail_all(app: &App, underway: &mut [Underway], problem: &Problem, again: bool) {
    for one in underway.iter_mut().filter(|one| !one.ended) {
        one.ended = true;
        drop(remove_temporary(&one.root, &one.output.path));
        let lease = one.claimed.lease;
        if again && one.claimed.run.attempts < MOST_ATTEMPTS {
            let put = patiently(PATIENCE, || app.database.put_back(lease, &problem.why)).await;
            if let Err(error) = put {
                tracing::warn!(%error, run = %lease.run, "the run could not be put back");
            }
        } else {
            keep_end(app, lease, Err(problem.clone().into())).await;
        }
        app.tell_run(lease.run).await;
    }
}

/// Keeps how a run ended, however long the database is away.
async fn keep_end(app: &App, lease: Lease, outcome: Result<beryl_core::path::StoragePath, PublishError>) {
    let problem = match outcome {
        Ok(_) => None,
        Err(PublishError::Refused(problem)) => Some(problem),
        Err(PublishError::Store(error)) => {
            tracing::warn!(%error, run = %lease.run, "the run is no longer ours");
            return;
        }
    };
    let state = end_state(problem.as_ref());
    let kept = patiently(PATIENCE, || app.database.finish(lease, state, problem.as_ref())).await;
    if let Err(error) = kept {
        tracing::warn!(%error, run = %lease.run, "how the run ended could not be kept");
    }
}

/// The same without waiting, while runs are taken up.
async fn end(app: &App, lease: Lease, outcome: Result<beryl_core::path::StoragePath, PublishError>) -> Result<(), StoreError> {
    let problem = match outcome {
        Ok(_) => None,
        Err(PublishError::Refused(problem)) => Some(problem),
        Err(PublishError::Store(error)) => return Err(error),
    };
    app.database.finish(lease, end_state(problem.as_ref()), problem.as_ref()).await
}

fn end_state(problem: Option<&Problem>) -> RunState {
    match problem.map(|problem| problem.kind) {
        None => RunState::Done,
        Some(ProblemKind::Cancelled) => RunState::Cancelled,
        Some(_) => RunState::Failed,
    }
}

/// What a person asks of a run.
pub(crate) async fn act(app: &App, id: Uuid, event: RunEvent) -> Result<(), StoreError> {
    match event {
        RunEvent::Pause | RunEvent::Resume => {
            let command = if event == RunEvent::Pause { Command::Pause } else { Command::Resume };
            let group = app.slots.together_with(id);
            if group.is_empty() {
                // No engine is there: a waiting run is held, a held one waits again.
                let event = if event == RunEvent::Pause { RunEvent::Pause } else { RunEvent::Requeue };
                app.database.change(id, event).await?;
            } else {
                // Runs that share a decode stand still together.
                app.slots.say(id, command);
                for member in &group {
                    match app.database.change(*member, event).await {
                        Ok(_) | Err(StoreError::Changed) => {}
                        Err(error) => return Err(error),
                    }
                }
                for member in group {
                    app.tell_run(member).await;
                }
            }
        }
        // The engine puts its file away and answers; the run's end is kept then.
        RunEvent::Cancel if app.slots.say(id, Command::CancelRun { id }) => {}
        other => {
            app.database.change(id, other).await?;
        }
    }
    app.slots.wake();
    app.tell_run(id).await;
    Ok(())
}

//! How runs end: judged, named, withheld, failed or put back.

use std::path::{Path, PathBuf};
use std::time::Duration;

use beryl_core::after::check::{Measured, judge, problem_of};
use beryl_core::flow::run::{ClashRule, RunEvent, RunState};
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::FileRef;
use beryl_store::runs::{Claimed, Lease};
use beryl_store::{StoreError, patiently};
use beryl_worker::withhold;
use uuid::Uuid;

use super::{LEASE, MOST_ATTEMPTS, PATIENCE};
use crate::app::App;
use crate::publish::{Finished, PublishError, publish, put_away};

pub(super) fn finished(claimed: &Claimed, root: PathBuf, temporary: StoragePath) -> Finished {
    Finished {
        lease: claimed.lease,
        source: claimed.run.source,
        root,
        temporary,
        stem: claimed.run.stem.clone(),
        extension: claimed.plan.container.extension(),
        clash: claimed.run.clash,
    }
}

/// Judges a written file: as planned, it gets its name; otherwise it waits for a person.
pub(super) async fn conclude(app: &App, claimed: &Claimed, root: PathBuf, output: FileRef, measured: &Measured) {
    let lease = claimed.lease;
    let report = judge(&claimed.plan, measured);
    if let Some(problem) = problem_of(&claimed.plan, measured, &report) {
        // Under its temporary name it is as safe, if harder to find.
        let file = kept_aside(app, claimed, &root, &output.path).await.unwrap_or_else(|error| {
            tracing::warn!(%error, run = %lease.run, "a withheld file keeps its temporary name");
            output.path.clone()
        });
        let stored = patiently(PATIENCE, || app.database.withhold(lease, &file, &report, &measured.facts, &problem)).await;
        if let Err(error) = stored {
            tracing::warn!(%error, run = %lease.run, file = %file, "the run is no longer ours; its file stays");
        }
        return;
    }
    let kept = patiently(PATIENCE, || app.database.set_checking(lease, &report, &measured.facts)).await;
    if let Err(error) = kept {
        tracing::warn!(%error, run = %lease.run, "the run is no longer ours");
        drop(put_away(app, &root, &output.path).await);
        return;
    }
    let file = finished(claimed, root.clone(), output.path.clone());
    let outcome = named(app, &file).await;
    if let Err(PublishError::Refused(problem)) = &outcome
        && (problem.kind != ProblemKind::NameTaken || claimed.run.clash == ClashRule::Replace)
        && let Ok(name) = kept_aside(app, claimed, &root, &output.path).await
    {
        // A finished, checked file is kept, whatever hinders its name.
        let stored = patiently(PATIENCE, || app.database.withhold(lease, &name, &report, &measured.facts, problem)).await;
        if stored.is_ok() {
            return;
        }
    }
    keep_end(app, lease, outcome).await;
}

/// Gives a file the name under which it waits for a person.
async fn kept_aside(app: &App, claimed: &Claimed, root: &Path, file: &StoragePath) -> Result<StoragePath, Problem> {
    let (folder, file, stem) = (root.to_path_buf(), file.clone(), claimed.run.stem.clone());
    let extension = claimed.plan.container.extension();
    app.door.surely(root, move || withhold(&folder, &file, &stem, extension)).await
}

/// Gives a file its name, however long the database is away.
async fn named(app: &App, file: &Finished) -> Result<StoragePath, PublishError> {
    loop {
        match publish(app, file).await {
            Err(PublishError::Store(error)) if error.is_passing() => tokio::time::sleep(Duration::from_millis(500)).await,
            outcome => return outcome,
        }
    }
}

/// Begins a run again where that may help, and ends it with this problem where not.
pub(super) async fn fail(app: &App, claimed: &Claimed, problem: &Problem, again: bool) {
    let lease = claimed.lease;
    if again && claimed.run.attempts < MOST_ATTEMPTS {
        let put = patiently(PATIENCE, || app.database.put_back(lease, &problem.why)).await;
        if let Err(error) = put {
            tracing::warn!(%error, run = %lease.run, "the run could not be put back");
        }
    } else {
        keep_end(app, lease, Err(problem.clone().into())).await;
    }
}

/// Keeps how a run ended, however long the database is away.
pub(super) async fn keep_end(app: &App, lease: Lease, outcome: Result<StoragePath, PublishError>) {
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
pub(super) async fn end(app: &App, lease: Lease, outcome: Result<StoragePath, PublishError>) -> Result<(), StoreError> {
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
        // What was left out because its name is taken did as it was told.
        Some(ProblemKind::Cancelled | ProblemKind::NameTaken) => RunState::Cancelled,
        Some(_) => RunState::Failed,
    }
}

/// A person takes a withheld file for good, for this reason: it gets its name.
pub(crate) async fn release(app: &App, id: Uuid, because: &str) -> Result<(), PublishError> {
    // Asked for first: once the run is leased, nothing may end this before its end is kept.
    let storage = app.database.storage(app.database.run(id).await?.storage).await?;
    let claimed = app.database.release(id, because, &app.slots.owner, LEASE).await?;
    let lease = claimed.lease;
    let Some(file) = claimed.run.temporary.clone() else {
        app.database.withhold_again(lease).await?;
        return Err(Problem::new(ProblemKind::Missing, "the file could not be released", "nobody knows where it is").into());
    };
    let outcome = publish(app, &finished(&claimed, PathBuf::from(storage.root), file)).await;
    match &outcome {
        Ok(_) => patiently(PATIENCE, || app.database.finish(lease, RunState::Done, None)).await?,
        Err(_) => patiently(PATIENCE, || app.database.withhold_again(lease)).await?,
    }
    app.tell_run(id).await;
    outcome.map(|_| ())
}

/// A person does not want a withheld file: it goes.
pub(crate) async fn discard(app: &App, id: Uuid) -> Result<(), PublishError> {
    let run = app.database.run(id).await?;
    app.database.change(id, RunEvent::Discard).await?;
    if let Some(file) = &run.temporary {
        let storage = app.database.storage(run.storage).await?;
        put_away(app, Path::new(&storage.root), file).await?;
    }
    app.tell_run(id).await;
    Ok(())
}

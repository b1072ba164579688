//! How runs end: judged, named, withheld, failed or put back.

use std::path::{Path, PathBuf};
use std::time::Duration;

use beryl_core::after::check::{Measured, judge, problem_of};
use beryl_core::facts::Facts;
use beryl_core::flow::run::{ClashRule, RunEvent, RunState};
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::runs::{Claimed, Lease};
use beryl_store::{StoreError, patiently};
use beryl_worker::{endings, withhold};
use uuid::Uuid;

use super::Scheduler;
use super::{LEASE, MOST_ATTEMPTS, PATIENCE};
use crate::publish::{Finished, PublishError};

pub(super) fn finished(claimed: &Claimed, root: PathBuf, temporaries: Vec<StoragePath>) -> Finished {
    Finished {
        lease: claimed.lease,
        source: claimed.run.source,
        root,
        temporaries,
        stem: claimed.run.stem.clone(),
        endings: endings(&claimed.plan),
        clash: claimed.run.clash,
    }
}

impl Scheduler {
    /// Judges written files: as planned, they get their names; otherwise they wait for a person.
    pub(super) async fn conclude(&self, claimed: &Claimed, root: PathBuf, written: Vec<StoragePath>, measured: &[Measured]) {
        let lease = claimed.lease;
        let report = judge(&claimed.plan, measured);
        let facts: Vec<Facts> = measured.iter().map(|measured| measured.facts.clone()).collect();
        if let Some(problem) = problem_of(&claimed.plan, measured, &report) {
            // Under their temporary names they are as safe, if harder to find.
            let files = self.kept_aside(claimed, &root, &written).await.unwrap_or_else(|error| {
                tracing::warn!(%error, run = %lease.run, "withheld files keep their temporary names");
                written
            });
            let stored = patiently(PATIENCE, || self.database.withhold(lease, &files, &report, &facts, &problem)).await;
            if let Err(error) = stored {
                tracing::warn!(%error, run = %lease.run, ?files, "the run is no longer ours; its files stay");
            }
            return;
        }
        let kept = patiently(PATIENCE, || self.database.set_checking(lease, &report, &facts)).await;
        if let Err(error) = kept {
            tracing::warn!(%error, run = %lease.run, "the run is no longer ours");
            drop(self.publisher.put_away(&root, &written).await);
            return;
        }
        let files = finished(claimed, root.clone(), written.clone());
        let outcome = self.named(&files).await;
        if let Err(PublishError::Refused(problem)) = &outcome
            && (problem.kind != ProblemKind::NameTaken || claimed.run.clash == ClashRule::Replace)
            && let Ok(names) = self.kept_aside(claimed, &root, &written).await
        {
            // Finished, checked files are kept, whatever hinders their names.
            let stored = patiently(PATIENCE, || self.database.withhold(lease, &names, &report, &facts, problem)).await;
            if stored.is_ok() {
                return;
            }
        }
        self.keep_end(lease, outcome).await;
    }

    /// Gives files the names under which they wait for a person.
    async fn kept_aside(&self, claimed: &Claimed, root: &Path, files: &[StoragePath]) -> Result<Vec<StoragePath>, Problem> {
        let (folder, files, stem) = (root.to_path_buf(), files.to_vec(), claimed.run.stem.clone());
        let endings = endings(&claimed.plan);
        self.door.surely(root, move || withhold(&folder, &files, &stem, &endings)).await
    }

    /// Gives files their names, however long the database is away.
    async fn named(&self, files: &Finished) -> Result<(), PublishError> {
        loop {
            match self.publisher.publish(files).await {
                Err(PublishError::Store(error)) if error.is_passing() => tokio::time::sleep(Duration::from_millis(500)).await,
                outcome => return outcome,
            }
        }
    }

    /// Begins a run again where that may help, and ends it with this problem where not.
    pub(super) async fn fail(&self, claimed: &Claimed, problem: &Problem, again: bool) {
        let lease = claimed.lease;
        if again && claimed.run.attempts < MOST_ATTEMPTS {
            let put = patiently(PATIENCE, || self.database.put_back(lease, &problem.why)).await;
            if let Err(error) = put {
                tracing::warn!(%error, run = %lease.run, "the run could not be put back");
            }
        } else {
            self.keep_end(lease, Err(problem.clone().into())).await;
        }
    }

    /// Keeps how a run ended, however long the database is away.
    pub(super) async fn keep_end(&self, lease: Lease, outcome: Result<(), PublishError>) {
        let problem = match outcome {
            Ok(_) => None,
            Err(PublishError::Refused(problem)) => Some(problem),
            Err(PublishError::Store(error)) => {
                tracing::warn!(%error, run = %lease.run, "the run is no longer ours");
                return;
            }
        };
        let state = end_state(problem.as_ref());
        let kept = patiently(PATIENCE, || self.database.finish(lease, state, problem.as_ref())).await;
        if let Err(error) = kept {
            tracing::warn!(%error, run = %lease.run, "how the run ended could not be kept");
        }
    }

    /// The same without waiting, while runs are taken up.
    pub(super) async fn end(&self, lease: Lease, outcome: Result<(), PublishError>) -> Result<(), StoreError> {
        let problem = match outcome {
            Ok(_) => None,
            Err(PublishError::Refused(problem)) => Some(problem),
            Err(PublishError::Store(error)) => return Err(error),
        };
        self.database.finish(lease, end_state(problem.as_ref()), problem.as_ref()).await
    }

    /// A person takes withheld files for good, for this reason: they get their names.
    pub(crate) async fn release(&self, id: Uuid, because: &str) -> Result<(), PublishError> {
        // Asked for first: once the run is leased, nothing may end this before its end is kept.
        let storage = self.database.storage(self.database.run(id).await?.storage).await?;
        let claimed = self.database.release(id, because, &self.slots.owner, LEASE).await?;
        let lease = claimed.lease;
        let files = claimed.run.temporaries();
        if files.len() != claimed.plan.artifacts().len() {
            self.database.withhold_again(lease).await?;
            return Err(Problem::new(ProblemKind::Missing, "the file could not be released", "nobody knows where it is").into());
        }
        let outcome = self.publisher.publish(&finished(&claimed, PathBuf::from(storage.root), files)).await;
        match &outcome {
            Ok(()) => patiently(PATIENCE, || self.database.finish(lease, RunState::Done, None)).await?,
            Err(_) => patiently(PATIENCE, || self.database.withhold_again(lease)).await?,
        }
        self.runs.tell_run(id).await;
        outcome
    }

    /// A person does not want withheld files: they go.
    pub(crate) async fn discard(&self, id: Uuid) -> Result<(), PublishError> {
        let run = self.database.run(id).await?;
        self.database.change(id, RunEvent::Discard).await?;
        let storage = self.database.storage(run.storage).await?;
        self.publisher.put_away(Path::new(&storage.root), &run.temporaries()).await?;
        self.runs.tell_run(id).await;
        Ok(())
    }
}

fn end_state(problem: Option<&Problem>) -> RunState {
    match problem.map(|problem| problem.kind) {
        None => RunState::Done,
        // What was left out because its name is taken did as it was told.
        Some(ProblemKind::Cancelled | ProblemKind::NameTaken) => RunState::Cancelled,
        Some(_) => RunState::Failed,
    }
}

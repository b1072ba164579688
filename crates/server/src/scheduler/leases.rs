//! Keeping leases, and taking up what workers that are gone have left.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use beryl_core::flow::run::RunState;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::Command;
use beryl_store::runs::{Claimed, Lost, RunFile};
use beryl_store::{StoreError, patiently};
use beryl_worker::Placing;
use tokio::sync::watch;
use tokio::time::Instant;
use uuid::Uuid;

use super::Scheduler;
use super::conclude::finished;
use super::{LEASE, PATIENCE};
use crate::app::ending;
use crate::files::size_of;
use crate::publish::PublishError;

/// How often leases are renewed.
const RENEW_EVERY: Duration = Duration::from_secs(5);
/// A renewal that takes longer is given up and tried again.
const RENEWAL: Duration = Duration::from_secs(10);
/// The lease of another installation's worker must have been seen ended for so long before its run is taken up: a
/// worker whose database was away for a while renews within seconds of its return.
const DOUBT: Duration = Duration::from_secs(40);

impl Scheduler {
    /// Renews the leases of everything at work, apart from all other work, until the server ends.
    pub(super) async fn renew(self, mut stopped: watch::Receiver<bool>) {
        let mut tick = tokio::time::interval(RENEW_EVERY);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = tick.tick() => {}
                () = ending(&mut stopped) => return,
            }
            let leases = self.slots.leases();
            // While the database is away engines go on: nobody else can claim either.
            if let Ok(Ok(lost)) = tokio::time::timeout(RENEWAL, self.database.renew(&leases, LEASE)).await {
                // What ended meanwhile is not lost.
                for lease in lost.into_iter().filter(|lease| self.slots.forget(*lease)) {
                    tracing::warn!(run = %lease.run, "a lease was lost");
                    self.slots.say(lease.run, Command::CancelRun { id: lease.run });
                }
            }
        }
    }

    /// Takes up what workers that are gone have left. Each run goes on by itself: a storage may be long in coming back.
    pub(super) async fn recover(&self, suspects: &mut Suspects) {
        let slots = &self.slots;
        let lost = match self.database.lost(&slots.owner, &slots.installation).await {
            Ok(lost) => suspects.ripe(lost),
            Err(error) => return tracing::warn!(%error, "what was left could not be looked for"),
        };
        if lost.is_empty() {
            return;
        }
        let taken = patiently(PATIENCE, || self.database.take_over(&lost, &slots.owner, LEASE)).await;
        for claimed in taken.unwrap_or_else(|error| {
            tracing::error!(%error, "what was left could not be taken up");
            Vec::new()
        }) {
            let (own, lease) = (self.clone(), claimed.lease);
            own.slots.hold(std::iter::once(lease));
            tokio::spawn(async move {
                if let Err(error) = own.recover_one(claimed).await {
                    tracing::error!(%error, run = %lease.run, "a run that was left could not be taken up");
                }
                own.slots.forget(lease);
                own.runs.tell_run(lease.run).await;
                own.slots.wake();
            });
        }
    }

    /// Checked files that lost their worker while they were being named are named now, or are found to have
    /// their names; everything else begins again.
    async fn recover_one(&self, claimed: Claimed) -> Result<(), StoreError> {
        let storage = self.database.storage(claimed.run.storage).await?;
        let root = PathBuf::from(&storage.root);
        let lease = claimed.lease;
        let files = finished(&claimed, root.clone(), claimed.run.temporaries());
        if claimed.run.state == RunState::Checking {
            let noted = noted_names(&claimed.run.files);
            match self.publisher.resume(&files, noted).await {
                Ok(true) => return self.database.finish(lease, RunState::Done, None).await,
                Ok(false) => {}
                Err(PublishError::Store(error)) => return Err(error),
                // Finished, checked files are not thrown away because their names cannot be given now: the next start tries again.
                Err(PublishError::Refused(problem)) => {
                    tracing::warn!(%problem, run = %lease.run, "names that were begun could not be given");
                    return Ok(());
                }
            }
            // No names were chosen yet, or somebody has taken one meanwhile.
            match self.are_whole(&root, &files.temporaries, claimed.run.size).await {
                Ok(true) => return self.end(lease, self.publisher.publish(&files).await).await,
                Ok(false) => {}
                Err(problem) => {
                    tracing::warn!(%problem, run = %lease.run, "finished files could not be looked for");
                    return Ok(());
                }
            }
        }
        if let Err(problem) = self.publisher.put_away(&root, &files.temporaries).await {
            tracing::warn!(%problem, "a temporary file stays");
        }
        if claimed.run.state == RunState::Paused {
            return self.database.release_paused(lease).await;
        }
        self.database.put_back(lease, "its worker went away").await
    }

    /// Whether all these files are there, and have so many bytes together.
    async fn are_whole(&self, root: &Path, files: &[StoragePath], bytes: Option<u64>) -> Result<bool, Problem> {
        let (folder, files) = (root.to_path_buf(), files.to_vec());
        let looking = move || {
            let sizes = files.iter().map(|file| size_of(&folder, file));
            let sizes: Vec<Option<u64>> = sizes.collect::<Result<_, _>>()?;
            let found = sizes.into_iter().sum::<Option<u64>>().filter(|_| !files.is_empty());
            Ok(found.is_some() && found == bytes)
        };
        self.door.surely(root, looking).await
    }
}

/// Runs of other workers that seem to be lost, with the moment at which that was seen first.
#[derive(Debug, Default)]
pub(super) struct Suspects(HashMap<(Uuid, i64), Instant>);

impl Suspects {
    /// Those that may be taken up now: what an earlier start of this installation left at once, what others hold
    /// once it has been seen lost for long enough.
    fn ripe(&mut self, lost: Vec<Lost>) -> Vec<Lost> {
        let now = Instant::now();
        let key = |one: &Lost| (one.lease.run, one.lease.epoch);
        self.0.retain(|known, _| lost.iter().any(|one| key(one) == *known));
        lost.into_iter().filter(|one| one.is_own || now.duration_since(*self.0.entry(key(one)).or_insert(now)) >= DOUBT).collect()
    }
}

/// The names that were chosen for files; empty where they were not.
fn noted_names(files: &[RunFile]) -> Vec<Placing> {
    let placing =
        |file: &RunFile| Some(Placing { temporary: file.temporary.clone()?, target: file.target.clone()?, made: file.made? });
    files.iter().map(placing).collect::<Option<_>>().unwrap_or_default()
}

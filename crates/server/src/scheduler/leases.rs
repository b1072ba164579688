//! Keeping leases, and taking up what workers that are gone have left.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use beryl_core::flow::run::RunState;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::Command;
use beryl_store::runs::{Claimed, Lost};
use beryl_store::{StoreError, patiently};
use tokio::sync::watch;
use tokio::time::Instant;
use uuid::Uuid;

use super::conclude::{end, finished};
use super::{LEASE, PATIENCE};
use crate::app::{App, ending};
use crate::files::size_of;
use crate::publish::{publish, put_away};

/// How often leases are renewed.
const RENEW_EVERY: Duration = Duration::from_secs(5);
/// A renewal that takes longer is given up and tried again.
const RENEWAL: Duration = Duration::from_secs(10);
/// The lease of another installation's worker must have been seen ended for so long before its run is taken up: a
/// worker whose database was away for a while renews within seconds of its return.
const DOUBT: Duration = Duration::from_secs(40);

/// Renews the leases of everything at work, apart from all other work, until the server ends.
pub(super) async fn renew(app: Arc<App>, mut stopped: watch::Receiver<bool>) {
    let mut tick = tokio::time::interval(RENEW_EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = tick.tick() => {}
            () = ending(&mut stopped) => return,
        }
        let leases = app.slots.leases();
        // While the database is away engines go on: nobody else can claim either.
        if let Ok(Ok(lost)) = tokio::time::timeout(RENEWAL, app.database.renew(&leases, LEASE)).await {
            // What ended meanwhile is not lost.
            for lease in lost.into_iter().filter(|lease| app.slots.forget(*lease)) {
                tracing::warn!(run = %lease.run, "a lease was lost");
                app.slots.say(lease.run, Command::CancelRun { id: lease.run });
            }
        }
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

/// Takes up what workers that are gone have left.
pub(super) async fn recover(app: &App, suspects: &mut Suspects) {
    let slots = &app.slots;
    let lost = match app.database.lost(&slots.owner, &slots.installation).await {
        Ok(lost) => suspects.ripe(lost),
        Err(error) => return tracing::warn!(%error, "what was left could not be looked for"),
    };
    if lost.is_empty() {
        return;
    }
    let taken = patiently(PATIENCE, || app.database.take_over(&lost, &slots.owner, LEASE)).await;
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
        let size_now = async |path: Option<&StoragePath>| -> Result<Option<u64>, Problem> {
            let Some(path) = path.cloned() else { return Ok(None) };
            let folder = root.clone();
            app.door.work(&root, move || size_of(&folder, &path)).await
        };
        // A checked file is not made again because its storage is away: it is looked for later.
        let (Ok(under_temporary), Ok(under_target)) =
            (size_now(claimed.run.temporary.as_ref()).await, size_now(claimed.run.target.as_ref()).await)
        else {
            return Ok(());
        };
        if under_temporary.is_none() && under_target.is_some() && under_target == claimed.run.size {
            return app.database.finish(lease, RunState::Done, None).await;
        }
        if let Some(temporary) = claimed.run.temporary.clone().filter(|_| under_temporary == claimed.run.size) {
            let file = finished(&claimed, root, temporary);
            return end(app, lease, publish(app, &file).await).await;
        }
    }
    if let Some(temporary) = &claimed.run.temporary
        && let Err(problem) = put_away(app, &root, temporary).await
    {
        tracing::warn!(%problem, "a temporary file stays");
    }
    if claimed.run.state == RunState::Paused {
        return app.database.release_paused(lease).await;
    }
    app.database.put_back(lease, "its worker went away").await
}

//! The queue's promises against a real MariaDB: no run is claimed twice, and who lost a lease
//! changes nothing more.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::collections::HashSet;
use std::time::Duration;

use beryl_core::path::StoragePath;
use beryl_core::run::{RunEvent, RunState};
use beryl_store::private_server::PrivateServer;
use beryl_store::{Database, StoreError};
use common::new_run;

const LEASE: Duration = Duration::from_secs(30);

async fn queue(database: &Database, sources: usize, runs_each: usize) {
    let storage = database.add_storage("Media", "/media").await.unwrap();
    let mut runs = Vec::new();
    for source in 0..sources {
        let path: StoragePath = format!("clip-{source}.mov").parse().unwrap();
        let source = database.ensure_source(storage.id, &path, None).await.unwrap();
        runs.extend((0..runs_each).map(|_| new_run(&storage, source)));
    }
    database.queue_runs(&runs).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn eight_workers_claim_every_run_once() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    queue(&database, 60, 3).await;
    let workers = (0..8).map(|worker| {
        let database = database.clone();
        tokio::spawn(async move {
            let mut mine = Vec::new();
            loop {
                let claimed = database.claim(&format!("worker {worker}"), LEASE).await.unwrap();
                if claimed.is_empty() {
                    return mine;
                }
                let sources: HashSet<_> = claimed.iter().map(|one| one.run.source).collect();
                assert_eq!(sources.len(), 1, "what is claimed together has one source");
                mine.extend(claimed.into_iter().map(|one| one.lease.run));
            }
        })
    });
    let mut all = Vec::new();
    for worker in workers {
        all.extend(worker.await.unwrap());
    }
    assert_eq!(all.len(), 180);
    assert_eq!(all.iter().collect::<HashSet<_>>().len(), 180);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_lost_a_lease_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    queue(&database, 1, 1).await;
    let old = database.claim("this machine", LEASE).await.unwrap().remove(0);
    let taken = database.take_over_lost("this machine", true, LEASE).await.unwrap();
    assert_eq!(taken.len(), 1);
    assert_ne!(taken[0].lease, old.lease);
    let refused = database.finish(old.lease, RunState::Done, None).await;
    assert!(matches!(refused, Err(StoreError::Changed)), "{refused:?}");
    assert_eq!(database.renew(&[old.lease], LEASE).await.unwrap(), vec![old.lease]);
    database.put_back(taken[0].lease, "its worker went away").await.unwrap();
    assert_eq!(database.run(old.lease.run).await.unwrap().state, RunState::Waiting);
    // A person's wish counts only in the state in which it makes sense.
    database.change(old.lease.run, RunEvent::Cancel).await.unwrap();
    assert!(matches!(database.change(old.lease.run, RunEvent::Pause).await, Err(StoreError::Changed)));
    assert_eq!(database.change(old.lease.run, RunEvent::Retry).await.unwrap(), RunState::Waiting);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_servers_that_start_at_once_migrate_once() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let url = server.url();
    let (one, other) = tokio::join!(Database::connect(&url), Database::connect(&url));
    one.unwrap().ping().await.unwrap();
    other.unwrap().ping().await.unwrap();
}

//! The queue's promises against a real MariaDB: no run is claimed twice, and who lost a lease
//! changes nothing more.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::collections::HashSet;
use std::time::Duration;

use beryl_core::flow::run::{RunEvent, RunState};
use beryl_core::path::StoragePath;
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
    let old = database.claim("one/first start", LEASE).await.unwrap().remove(0);
    // A worker's own runs are never lost, nor are those of another installation while their lease holds.
    assert!(database.lost("one/first start", "one/").await.unwrap().is_empty());
    assert!(database.lost("other/start", "other/").await.unwrap().is_empty());
    // What an earlier start of the same installation left is.
    let lost = database.lost("one/second start", "one/").await.unwrap();
    assert!(lost.len() == 1 && lost[0].is_own);
    let taken = database.take_over(&lost, "one/second start", LEASE).await.unwrap();
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
async fn a_lease_that_was_renewed_after_all_is_not_taken_over() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    queue(&database, 1, 2).await;
    let mine: Vec<_> = database.claim("one/start", Duration::ZERO).await.unwrap().into_iter().map(|one| one.lease).collect();
    assert_eq!(mine.len(), 2);
    let lost = database.lost("other/start", "other/").await.unwrap();
    assert!(lost.len() == 2 && lost.iter().all(|one| !one.is_own));
    // One statement renews all; what is no lease of ours any more is told.
    let stale = beryl_store::runs::Lease { epoch: mine[0].epoch + 7, ..mine[0] };
    assert_eq!(database.renew(&[mine[0], mine[1], stale], LEASE).await.unwrap(), vec![stale]);
    assert!(database.take_over(&lost, "other/start", LEASE).await.unwrap().is_empty());
    assert!(database.renew(&mine, LEASE).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cell_has_one_open_run_however_often_it_is_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    let storage = database.add_storage("Media", "/media").await.unwrap();
    let source = database.ensure_source(storage.id, &"clip.mov".parse().unwrap(), None).await.unwrap();
    let (sheet, deliverable) = (uuid::Uuid::now_v7(), uuid::Uuid::now_v7());
    let run =
        beryl_store::runs::NewRun { origin: beryl_store::runs::Origin::Cell { sheet, deliverable }, ..new_run(&storage, source) };
    let clicks = (0..8).map(|_| {
        let (database, run) = (database.clone(), run.clone());
        tokio::spawn(async move { database.queue_runs(&[run]).await.unwrap() })
    });
    let mut queued = Vec::new();
    for click in clicks {
        queued.extend(click.await.unwrap());
    }
    assert_eq!(queued.len(), 1);
    // Once it has ended, it can be asked for again; an older one cannot come back beside it.
    database.change(queued[0], RunEvent::Cancel).await.unwrap();
    assert_eq!(database.queue_runs(&[run]).await.unwrap().len(), 1);
    assert!(matches!(database.change(queued[0], RunEvent::Retry).await, Err(StoreError::Changed)));
    assert!(database.change_many(&queued, RunEvent::Retry).await.unwrap().is_empty());
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

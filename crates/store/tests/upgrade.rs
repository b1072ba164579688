//! A database of an earlier version is brought up to date with everything that is in it.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::path::Path;
use std::time::Duration;

use beryl_core::run::RunState;
use beryl_store::Database;
use beryl_store::private_server::PrivateServer;
use common::plan;
use sqlx::migrate::Migrator;
use sqlx::{Connection, MySqlConnection};
use uuid::Uuid;

/// The last version whose runs kept their documents beside their state.
const BEFORE: u32 = 19;

/// The migrations up to a version, in a folder of their own.
fn earlier(folder: &Path, version: u32) {
    for entry in std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations")).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap();
        if name[..4].parse::<u32>().unwrap() <= version {
            std::fs::copy(&path, folder.join(name)).unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_of_an_earlier_version_keep_their_plans_and_are_worked_off() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(&folder.path().join("database")).unwrap();
    let migrations = folder.path().join("migrations");
    std::fs::create_dir(&migrations).unwrap();
    earlier(&migrations, BEFORE);
    let mut connection = MySqlConnection::connect(&server.url()).await.unwrap();
    Migrator::new(migrations).await.unwrap().set_locking(false).run(&mut connection).await.unwrap();

    let [storage, source, waiting, done] = [(); 4].map(|()| Uuid::now_v7());
    let insert = |statement: &'static str| sqlx::query(statement);
    insert("INSERT INTO storages (id, name, root) VALUES (?, 'Media', '/media')")
        .bind(storage)
        .execute(&mut connection)
        .await
        .unwrap();
    let query = insert("INSERT INTO sources (id, storage_id, path) VALUES (?, ?, 'clip.mov')").bind(source).bind(storage);
    query.execute(&mut connection).await.unwrap();
    let document = serde_json::to_string(&plan()).unwrap();
    for (run, state) in [(waiting, "waiting"), (done, "done")] {
        let statement = "INSERT INTO runs (id, source_id, state, plan, storage_id, stem, clash, report, size, cpu_seconds, expected_cpu, finished) \
                         VALUES (?, ?, ?, ?, ?, 'out/clip', 'number', ?, 7, 3, 1, IF(? = 'done', NOW(6), NULL))";
        let report = r#"{"passed": true, "size": 7, "items": [], "remarks": []}"#;
        let query = insert(statement).bind(run).bind(source).bind(state).bind(&document).bind(storage).bind(report).bind(state);
        query.execute(&mut connection).await.unwrap();
    }
    connection.close().await.unwrap();

    let database = Database::connect(&server.url()).await.unwrap();
    assert_eq!(database.runs(&[done, waiting]).await.unwrap().iter().map(|run| run.id).collect::<Vec<_>>(), [waiting, done]);
    let details = database.run_details(done).await.unwrap();
    assert_eq!((details.plan, details.report.map(|report| report.size.0)), (plan(), Some(7)));
    assert_eq!(database.run_names(&[done]).await.unwrap()[&done].preset, "Sound only");
    assert_eq!(database.cost_factors().await.unwrap()["Sound only"], 3.0);
    let claimed = database.claim("node", Duration::from_secs(60)).await.unwrap();
    assert_eq!(
        claimed.iter().map(|one| (one.run.id, one.run.state, &one.plan)).collect::<Vec<_>>(),
        [(waiting, RunState::Running, &plan())]
    );
    // A second start finds nothing to do.
    database.close().await;
    Database::connect(&server.url()).await.unwrap().close().await;
}

//! A database of an earlier version is brought up to date with everything that is in it.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::path::Path;
use std::time::Duration;

use beryl_core::flow::run::RunState;
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
    assert_eq!(database.cost_factors().await.unwrap().of("Sound only"), 3.0);
    let claimed = database.claim("node", Duration::from_secs(60)).await.unwrap();
    assert_eq!(
        claimed.iter().map(|one| (one.run.id, one.run.state, &one.plan)).collect::<Vec<_>>(),
        [(waiting, RunState::Running, &plan())]
    );
    // A second start finds nothing to do.
    database.close().await;
    Database::connect(&server.url()).await.unwrap().close().await;
}

/// Table and columns of each index that a migration adds to a table and none takes away.
fn added_indexes() -> Vec<(String, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations");
    let texts: Vec<String> =
        std::fs::read_dir(folder).unwrap().map(|entry| std::fs::read_to_string(entry.unwrap().path()).unwrap()).collect();
    let mut added = Vec::new();
    for text in &texts {
        let Some(table) = text.split("ALTER TABLE ").nth(1).and_then(|rest| rest.split_whitespace().next()) else { continue };
        for line in text.lines().map(str::trim) {
            let index = ["ADD KEY IF NOT EXISTS ", "ADD INDEX IF NOT EXISTS "].iter().find_map(|start| line.strip_prefix(start));
            let Some((name, columns)) = index.and_then(|index| index.trim_end_matches([',', ';', ')']).split_once(" (")) else {
                continue;
            };
            if !texts.iter().any(|text| text.contains(&format!("DROP KEY IF EXISTS {name}"))) {
                added.push((table.to_owned(), columns.replace(" DESC", "").replace(' ', "")));
            }
        }
    }
    added
}

/// An index that is added under the name of another is not made, and nothing says so.
#[tokio::test(flavor = "multi_thread")]
async fn every_index_that_was_to_be_added_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(&folder.path().join("database")).unwrap();
    Database::connect(&server.url()).await.unwrap().close().await;
    let mut connection = MySqlConnection::connect(&server.url()).await.unwrap();
    let there: Vec<(String, String)> = sqlx::query_as(
        "SELECT table_name, GROUP_CONCAT(column_name ORDER BY seq_in_index SEPARATOR ',') FROM information_schema.statistics \
         WHERE table_schema = DATABASE() GROUP BY table_name, index_name",
    )
    .fetch_all(&mut connection)
    .await
    .unwrap();
    let added = added_indexes();
    assert!(added.len() > 3, "{added:?}");
    let missing: Vec<_> = added.iter().filter(|index| !there.contains(index)).collect();
    assert!(missing.is_empty(), "{missing:?} are not among {there:?}");
}

//! What the tests of the store share.

#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used)]

use beryl_core::flow::run::ClashRule;
use beryl_core::path::StoragePath;
use beryl_core::plan::Plan;
use beryl_core::preset::builtin;
use beryl_store::Database;
use beryl_store::private_server::PrivateServer;
use beryl_store::runs::{NewRun, Origin};
use beryl_store::storages::Storage;
use serde_json::json;
use uuid::Uuid;

/// A small plan; what it says matters to no test of the store.
pub fn plan() -> Plan {
    serde_json::from_value(json!({
        "preset": "sound-only", "preset_name": "Sound only", "container": "wav", "picture": null, "sound": [], "duration": "10",
        "timecode": null, "reel": null, "chapters": [], "tags": {}, "decisions": [],
        "forecast": { "size": 1, "picture": 0, "sound": 1, "overhead": 0, "certainty": "fixed" }
    }))
    .unwrap()
}

pub fn new_run(storage: &Storage, source: Uuid) -> NewRun {
    let stem: StoragePath = "out/clip".parse().unwrap();
    let origin = Origin::WatchFolder(storage.id);
    let settings = builtin("sound-only").unwrap();
    NewRun {
        source,
        origin,
        plan: plan(),
        expected_cpu: 2.0,
        settings: settings.settings(),
        storage: storage.id,
        stem,
        clash: ClashRule::Number,
        priority: 0,
    }
}

/// Runs `test` on a database of its own.
pub async fn with_database(test: impl AsyncFnOnce(Database)) {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    test(database.clone()).await;
    database.close().await;
}

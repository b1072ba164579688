//! A database as an earlier version left it, with everything that a house has in one: it loads, means what it meant, and
//! plans what it planned.
//!
//! `data/before_layers.sql` was dumped from the demo after a night's work: done, failed and withheld runs, settings of rows
//! and cells, presets of the house, a watch folder, proofs.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::after::forecast::forecast;
use beryl_core::patch::Patch;
use beryl_core::plan::{Plan, plan};
use beryl_core::preset::with_overrides;
use beryl_store::Database;
use beryl_store::private_server::PrivateServer;
use beryl_store::sources::Knowledge;
use sqlx::{AssertSqlSafe, Connection, MySqlConnection};

const DUMP: &str = include_str!("data/before_layers.sql");

/// A plan as far as it decides about a file: words of reasons may be put better.
fn made_of(plan: &Plan) -> Plan {
    Plan { decisions: Vec::new(), preset_name: String::new(), ..plan.clone() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_house_that_was_left_by_an_earlier_version_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(&folder.path().join("database")).unwrap();
    let mut connection = MySqlConnection::connect(&server.url()).await.unwrap();
    sqlx::raw_sql(AssertSqlSafe(DUMP)).execute(&mut connection).await.unwrap();
    let rows: Vec<(String, Vec<u8>)> =
        sqlx::query_as("SELECT overrides, source_id FROM sheet_sources WHERE overrides IS NOT NULL")
            .fetch_all(&mut connection)
            .await
            .unwrap();
    connection.close().await.unwrap();

    let database = Database::connect(&server.url()).await.unwrap();
    let (mut planned, mut same, mut overridden) = (0, 0, 0);
    for sheet in database.sheets().await.unwrap() {
        let sources = database.sheet_sources(sheet.sheet.id).await.unwrap();
        let columns = database.deliverables(sheet.sheet.id).await.unwrap();
        let settings = database.output_settings(sheet.sheet.id).await.unwrap();
        assert!(!sources.is_empty() && !columns.is_empty(), "{}", sheet.sheet.name);
        for row in &sources {
            let Knowledge::Read(known) = &row.source.knowledge else { panic!("{} was read", row.source.path) };
            assert!(known.reading.findings.is_some(), "{} was scanned", row.source.path);
            for column in &columns {
                let own = settings.iter().find(|one| one.source == row.source.id && one.deliverable == column.id);
                let own = own.and_then(|one| one.overrides.clone()).unwrap_or_default();
                let own = row.overrides.clone().unwrap_or_default().under(own);
                overridden += usize::from(!own.is_empty());
                let now = plan(&known.reading, &column.preset, &own).unwrap();
                assert!(forecast(&now, &known.reading.facts, &known.samples).size.0 > 0);
                planned += 1;
                let Some(run) = database.latest_run(row.source.id, column.id).await.unwrap() else { continue };
                let details = database.run_details(run.id).await.unwrap();
                let wanted = with_overrides(&column.preset, &own).unwrap().settings();
                let had = database.run_settings(&run.settings.into_iter().collect::<Vec<_>>()).await.unwrap();
                if had.iter().any(|(_, had)| *had == wanted) {
                    assert_eq!(made_of(&now), made_of(&details.plan), "{} as {}", row.source.path, column.preset.name);
                    same += 1;
                }
            }
        }
    }
    println!("{planned} outputs planned, {overridden} with settings of their own, {same} as they were made");
    assert!(planned > 50 && same >= 10 && overridden >= 5, "{planned}, {overridden}, {same}");
    // Nothing of what rows had set is lost on its way.
    assert!(rows.len() >= 2, "{}", rows.len());
    for (stored, source) in rows {
        let (patch, left_out) = beryl_core::preset::PresetPatch::from_stored(serde_json::from_str(&stored).unwrap());
        assert_eq!(left_out, Vec::new(), "{source:?}");
        assert_eq!(serde_json::to_value(patch).unwrap(), serde_json::from_str::<serde_json::Value>(&stored).unwrap());
    }
    assert!(!database.own_presets().await.unwrap().is_empty());
    assert!(database.own_presets().await.unwrap().iter().all(|own| own.preset.faults().is_empty() && own.version == 1));
    assert!(!database.watch_folders().await.unwrap().is_empty());
    let proofs = database.proof_ids().await.unwrap();
    assert!(!proofs.is_empty());
    for proof in proofs {
        assert!(database.proof(proof).await.unwrap().plan.picture.is_some());
    }
    assert!(!database.withheld().await.unwrap().is_empty());
    database.close().await;
}

//! What the database keeps, against a real MariaDB: order, restoring, watch folders, uploads.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::time::Duration;

use beryl_core::flow::run::{ClashRule, RunEvent, RunState};
use beryl_core::flow::watch::{Stamp, WatchState};
use beryl_core::path::StoragePath;
use beryl_core::preset::{Preset, PresetPatch, builtin};
use beryl_core::units::ByteSize;
use beryl_store::runs::{NewRun, Origin, Window};
use beryl_store::sheets::{Deliverable, OutputSetting};
use beryl_store::watch_folders::{WatchFile, WatchFolder};
use beryl_store::{Database, StoreError};
use common::{new_run, with_database};
use uuid::Uuid;

/// All that is open.
const OPEN: Window = Window { from: 0, count: 100, sheet: None };

fn path(text: &str) -> StoragePath {
    text.parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn waiting_runs_are_moved_and_later_ones_come_after_them() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let mut ids = Vec::new();
        for number in 0..5 {
            let source = database.ensure_source(storage.id, &path(&format!("clip-{number}.mov")), None).await.unwrap();
            ids.extend(database.queue_runs(&[new_run(&storage, source)]).await.unwrap());
        }
        let order = async || -> Vec<Uuid> { database.queue(&OPEN).await.unwrap().iter().map(|run| run.id).collect() };
        assert_eq!(order().await, ids);
        assert_eq!(database.move_runs(&[ids[4], ids[3]], Some(ids[1])).await.unwrap(), 2);
        let moved = [ids[0], ids[4], ids[3], ids[1], ids[2]];
        assert_eq!(order().await, moved);
        // What is queued later comes after everything that was put in order.
        let late = database.ensure_source(storage.id, &path("late.mov"), None).await.unwrap();
        let late = database.queue_runs(&[new_run(&storage, late)]).await.unwrap()[0];
        assert_eq!(order().await, [&moved[..], &[late]].concat());
        database.move_runs(&[ids[0]], None).await.unwrap();
        assert_eq!(order().await.last(), Some(&ids[0]));
        // The order is that in which runs are claimed, and who is claimed cannot be moved before.
        let claimed = database.claim("node", Duration::from_secs(60)).await.unwrap();
        assert_eq!(claimed[0].run.id, ids[4]);
        let refused = database.move_runs(&[late], Some(ids[4])).await;
        assert!(matches!(refused, Err(StoreError::Changed)), "{refused:?}");
        // However often runs are put between two others, there is room again.
        let mut now: Vec<Uuid> = order().await.into_iter().filter(|run| *run != ids[4]).collect();
        for turn in 0..60 {
            let moved = now.remove(if turn % 2 == 0 { 1 } else { now.len() - 1 });
            database.move_runs(&[moved], Some(now[1])).await.unwrap();
            now.insert(1, moved);
            assert_eq!(order().await[1..], now[..], "turn {turn}");
        }
        // A storage that is in use is not forgotten.
        assert!(matches!(database.remove_storage(storage.id).await, Err(StoreError::InUse(_))));
        assert!(matches!(database.add_storage("Media", "/other").await, Err(StoreError::NameTaken(_))));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_queue_of_thousands_is_filled_read_in_parts_and_changed_at_once() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let mut runs = Vec::new();
        for number in 0..60 {
            let source = database.ensure_source(storage.id, &path(&format!("clip-{number}.mov")), None).await.unwrap();
            runs.extend(std::iter::repeat_n(new_run(&storage, source), 40));
        }
        let ids = database.queue_runs(&runs).await.unwrap();
        assert_eq!(ids.len(), 2400);
        let part = async |from: u32, count: u32| -> Vec<Uuid> {
            database.queue(&Window { from, count, sheet: None }).await.unwrap().iter().map(|run| run.id).collect()
        };
        assert_eq!([part(0, 1000).await, part(1000, 1000).await, part(2000, 1000).await].concat(), ids);
        // Some are at work, some were cancelled: what can be held is, in one go, and nothing else.
        let claimed: Vec<Uuid> =
            database.claim("node", Duration::from_secs(60)).await.unwrap().iter().map(|one| one.run.id).collect();
        let cancelled = database.change_many(&ids[100..1700], RunEvent::Cancel).await.unwrap();
        assert_eq!(cancelled.len(), 1600);
        let held = database.change_many(&ids[50..], RunEvent::Pause).await.unwrap();
        assert_eq!(held.len(), 750);
        let counts = database.queue_counts(None).await.unwrap();
        assert_eq!((counts.at_work as usize, counts.held, counts.waiting as usize), (claimed.len(), 750, 50 - claimed.len()));
        // Behind what is open comes what has ended.
        let around = database.queue(&Window { from: 799, count: 3, sheet: None }).await.unwrap();
        assert_eq!(
            around.iter().map(|run| run.state).collect::<Vec<_>>(),
            [RunState::Waiting, RunState::Cancelled, RunState::Cancelled]
        );
        assert_eq!(database.ended_count(None, 200).await.unwrap(), 200);
        assert_eq!(database.change_many(&cancelled, RunEvent::Retry).await.unwrap().len(), 1600);
        assert_eq!(database.ended_count(None, 200).await.unwrap(), 0);
        // Of what has ended, old attempts are forgotten; what is under way keeps its own, and so does what ended today.
        let ended = database.claim("node", Duration::from_secs(60)).await.unwrap();
        database.finish(ended[0].lease, RunState::Done, None).await.unwrap();
        assert_eq!(database.clear_attempts(1).await.unwrap(), 0);
        assert_eq!(database.clear_attempts(0).await.unwrap(), 1);
        assert_eq!(database.run(ended[0].run.id).await.unwrap().state, RunState::Done);
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn processor_time_is_shared_out_and_becomes_a_factor() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let source = database.ensure_source(storage.id, &path("clip.mov"), None).await.unwrap();
        let longer = NewRun { expected_cpu: 6.0, ..new_run(&storage, source) };
        let runs = database.queue_runs(&[new_run(&storage, source), longer]).await.unwrap();
        let claimed = database.claim("node", Duration::from_secs(60)).await.unwrap();
        assert_eq!(claimed.len(), 2);
        assert!((database.cost_factors().await.unwrap().of("Sound only") - 1.0).abs() < 1e-6);
        for one in &claimed {
            database.finish(one.lease, RunState::Done, None).await.unwrap();
        }
        let names = database.run_names(&runs).await.unwrap();
        assert_eq!([0, 1].map(|run| names[&runs[run]].expected_cpu), [Some(2.0), Some(6.0)]);
        database.save_cpu_seconds(&runs, 24.0).await.unwrap();
        // A job of which no run could begin.
        database.save_cpu_seconds(&[], 1.0).await.unwrap();
        let factors = database.cost_factors().await.unwrap();
        // A preset of which nothing has ended goes by the machine.
        for preset in ["Sound only", "Web 1080"] {
            assert!((factors.of(preset) - 3.0).abs() < 1e-6, "{preset}: {factors:?}");
        }
        // What is done is done: nothing a person does changes it.
        for event in [RunEvent::Retry, RunEvent::Cancel, RunEvent::Pause] {
            assert!(matches!(database.change(runs[0], event).await, Err(StoreError::Changed)));
        }
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_columns_and_sheets_come_back_with_their_settings() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let sheet = database.add_sheet("Night").await.unwrap().id;
        let mut sources = Vec::new();
        for name in ["a.mov", "b.mov", "c.mov"] {
            sources.push((database.ensure_source(storage.id, &path(name), None).await.unwrap(), "card".to_owned()));
        }
        assert_eq!(database.add_sheet_sources(sheet, &sources).await.unwrap(), 3);
        assert_eq!(database.add_sheet_sources(sheet, &sources).await.unwrap(), 0);
        let column = Deliverable {
            id: Uuid::now_v7(),
            sheet,
            preset: builtin("web-720").unwrap(),
            storage: Some(storage.id),
            folder: path("web"),
            name_pattern: "{source}".to_owned(),
            clash: ClashRule::Skip,
        };
        database.save_deliverable(&column).await.unwrap();
        let setting = OutputSetting {
            source: sources[1].0,
            deliverable: column.id,
            enabled: false,
            overrides: Some(PresetPatch::from_settings(&["picture.rate.mode=constant_quality", "picture.rate.crf=20"]).unwrap()),
        };
        database.save_output_settings(sheet, std::slice::from_ref(&setting)).await.unwrap();

        let names = async || -> Vec<String> {
            database.sheet_sources(sheet).await.unwrap().iter().map(|row| row.source.path.name()).collect()
        };
        database.set_sheet_sources_removed(sheet, &[sources[1].0], true).await.unwrap();
        database.set_deliverable_removed(sheet, column.id, true).await.unwrap();
        assert_eq!(names().await, ["a.mov", "c.mov"]);
        assert!(database.deliverables(sheet).await.unwrap().is_empty());
        let summary = database.sheets().await.unwrap();
        assert_eq!((summary[0].sources, summary[0].deliverables), (2, 0));
        database.set_sheet_sources_removed(sheet, &[sources[1].0], false).await.unwrap();
        database.set_deliverable_removed(sheet, column.id, false).await.unwrap();
        assert_eq!(names().await, ["a.mov", "b.mov", "c.mov"]);
        // A pattern of an earlier version comes back as it is written now.
        let column = Deliverable { name_pattern: "<name>".to_owned(), ..column };
        assert_eq!(database.deliverables(sheet).await.unwrap(), [column]);
        assert_eq!(database.output_settings(sheet).await.unwrap(), [setting]);
        // Taken out and chosen again, a source stands at the end as a new one does.
        database.set_sheet_sources_removed(sheet, &[sources[0].0], true).await.unwrap();
        assert_eq!(database.add_sheet_sources(sheet, &sources[..1]).await.unwrap(), 1);
        assert_eq!(names().await, ["b.mov", "c.mov", "a.mov"]);
        database.set_sheet_removed(sheet, true).await.unwrap();
        assert!(matches!(database.sheet(sheet).await, Err(StoreError::NotFound(_))));
        assert!(database.sheets().await.unwrap().is_empty());
        database.set_sheet_removed(sheet, false).await.unwrap();
        assert_eq!(database.sheet(sheet).await.unwrap().name, "Night");
    })
    .await;
}

fn watched(name: &str, state: WatchState, size: u64) -> WatchFile {
    let stamp = Stamp { size: ByteSize(size), modified: 1 };
    WatchFile { path: path(name), state, stamp, tries: 0, detail: None, left_out: None, still_seconds: 0 }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_watched_file_is_taken_up_once_and_its_runs_are_followed() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let folder = WatchFolder {
            id: Uuid::now_v7(),
            name: "Dailies".to_owned(),
            storage: storage.id,
            folder: path("in"),
            presets: vec![builtin("sound-only").unwrap()],
            destination_storage: storage.id,
            destination: path("in/out"),
            clash: ClashRule::Number,
            settle_seconds: 5,
            is_on: false,
        };
        database.save_watch_folder(&folder).await.unwrap();
        database.switch_watch_folder(folder.id, true).await.unwrap();
        assert_eq!(database.watch_folders().await.unwrap(), [WatchFolder { is_on: true, ..folder.clone() }]);

        // Two thousand files at once, each in its own state.
        let many: Vec<WatchFile> = (0..2000).map(|number| watched(&format!("in/{number}.mov"), WatchState::Left, 10)).collect();
        database.save_watch_files(folder.id, &many).await.unwrap();
        let arriving = watched("in/new.mov", WatchState::Settling, 10);
        database.save_watch_files(folder.id, std::slice::from_ref(&arriving)).await.unwrap();
        let counts = database.watch_counts().await.unwrap();
        assert_eq!((counts[&(folder.id, WatchState::Left)], counts[&(folder.id, WatchState::Settling)]), (2000, 1));

        let source = database.ensure_source(storage.id, &arriving.path, None).await.unwrap();
        let wish = beryl_store::runs::NewRun { origin: Origin::WatchFolder(folder.id), ..new_run(&storage, source) };
        let wishes = [wish.clone(), wish];
        let runs = database.take_up_watch_file(folder.id, &arriving.path, source, &wishes).await.unwrap();
        let again = database.take_up_watch_file(folder.id, &arriving.path, source, &wishes).await;
        assert!(matches!(again, Err(StoreError::Changed)), "{again:?}");
        assert_eq!(database.queue_counts(None).await.unwrap().open(), 2, "nothing was queued twice");
        database.change(runs[0], RunEvent::Cancel).await.unwrap();
        let taken = database.taken_watch_files(folder.id).await.unwrap();
        assert_eq!((taken.len(), taken[0].state), (1, WatchState::Working));
        let mut states = taken[0].runs.clone();
        states.sort_by_key(|state| state.word());
        assert_eq!(states, [RunState::Cancelled, RunState::Waiting]);

        // Taken up anew after it has changed, it is judged by its new runs alone.
        database.change(runs[1], RunEvent::Cancel).await.unwrap();
        database.save_watch_files(folder.id, &[watched("in/new.mov", WatchState::Settling, 20)]).await.unwrap();
        database.take_up_watch_file(folder.id, &arriving.path, source, &wishes[..1]).await.unwrap();
        assert_eq!(database.taken_watch_files(folder.id).await.unwrap()[0].runs, [RunState::Waiting]);

        // Off, what was on its way is forgotten and what was made or left is remembered.
        database.save_watch_files(folder.id, &[watched("in/half.mov", WatchState::Arriving, 1)]).await.unwrap();
        database.switch_watch_folder(folder.id, false).await.unwrap();
        let known = database.watch_files(folder.id).await.unwrap();
        assert_eq!(known.len(), 2001);
        assert!(!database.is_own_output(storage.id, &path("in/new.wav")).await.unwrap());
        // Removed, it is gone for everybody, and comes back switched off with all that is known of its files.
        database.switch_watch_folder(folder.id, true).await.unwrap();
        database.set_watch_folder_removed(folder.id, true).await.unwrap();
        assert!(database.watch_folders().await.unwrap().is_empty());
        assert!(matches!(database.watch_folder(folder.id).await, Err(StoreError::NotFound(_))));
        let twice = database.set_watch_folder_removed(folder.id, true).await;
        assert!(matches!(twice, Err(StoreError::NotFound(_))), "{twice:?}");
        database.set_watch_folder_removed(folder.id, false).await.unwrap();
        assert!(!database.watch_folder(folder.id).await.unwrap().is_on);
        assert_eq!(database.watch_files(folder.id).await.unwrap().len(), 2001);
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_and_settings_are_kept() {
    with_database(async |database: Database| {
        let storage = database.add_storage("Media", "/media").await.unwrap();
        let upload = database.add_upload(storage.id, &path("card/50%25.mov"), 1 << 40).await.unwrap();
        assert_eq!(database.upload(upload.id).await.unwrap(), upload);
        assert!(database.abandoned_uploads(7).await.unwrap().is_empty());
        assert_eq!(database.abandoned_uploads(0).await.unwrap(), std::slice::from_ref(&upload));
        database.finish_upload(upload.id, &path("card/50%25_2.mov")).await.unwrap();
        assert!(database.abandoned_uploads(0).await.unwrap().is_empty());
        assert_eq!(database.upload(upload.id).await.unwrap().placed, Some(path("card/50%25_2.mov")));
        assert_eq!(database.setting::<usize>("slots").await.unwrap(), None);
        database.save_setting("slots", &3_usize).await.unwrap();
        database.save_setting("slots", &4_usize).await.unwrap();
        assert_eq!(database.setting::<usize>("slots").await.unwrap(), Some(4));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn presets_keep_every_version_over_other_ids_and_removal() {
    with_database(async |database: Database| {
        let named = |id: &str, name: &str| Preset { id: id.to_owned(), name: name.to_owned(), ..builtin("web-720").unwrap() };
        let own = async || {
            let all = database.own_presets().await.unwrap().into_iter();
            all.map(|own| (own.preset.id, own.preset.name, own.version)).collect::<Vec<_>>()
        };
        let versions = async |id: &str| {
            let all = database.preset_versions(id).await.unwrap().into_iter();
            all.map(|version| (version.number, version.preset.id, version.preset.name)).collect::<Vec<_>>()
        };
        let word = |text: &str| text.to_owned();
        assert_eq!(database.save_preset(&named("house", "One")).await.unwrap(), 1);
        assert_eq!(database.save_preset(&named("house", "One")).await.unwrap(), 1, "what is as it was is no new version");
        assert_eq!(database.save_preset(&named("house", "Two")).await.unwrap(), 2);
        assert_eq!(database.change_preset("house", &named("home", "Three")).await.unwrap(), 3);
        assert_eq!(own().await, [(word("home"), word("Three"), 3)]);
        let all = [(3, word("home"), word("Three")), (2, word("home"), word("Two")), (1, word("home"), word("One"))];
        assert_eq!(versions("home").await, all, "they go with it");
        assert!(matches!(database.preset_versions("house").await, Err(StoreError::NotFound(_))));

        // Another one is not overwritten by giving its id.
        database.save_preset(&named("other", "Other")).await.unwrap();
        let taken = database.change_preset("other", &named("home", "Mine")).await;
        assert!(matches!(taken, Err(StoreError::NameTaken(id)) if id == "home"));
        assert!(matches!(database.change_preset("nobody", &named("new", "New")).await, Err(StoreError::NotFound(_))));
        assert_eq!(own().await, [(word("home"), word("Three"), 3), (word("other"), word("Other"), 1)]);

        // What a removed one was is there still, also where another one comes to its id.
        database.remove_preset("home").await.unwrap();
        assert_eq!(versions("home").await, all);
        assert_eq!(database.change_preset("other", &named("home", "Four")).await.unwrap(), 5);
        assert_eq!(versions("home").await.iter().map(|version| version.0).collect::<Vec<_>>(), [5, 4, 3, 2, 1]);
    })
    .await;
}

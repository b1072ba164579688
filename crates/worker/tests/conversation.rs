//! What starts engines outlives whatever they do, and takes none for stuck that still moves.

mod material;

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use beryl_core::flow::tasks::Progress;
use beryl_core::problem::ProblemKind;
use beryl_core::protocol::{Event, FileRef, PROTOCOL, Root, RunNews, Said, SourceRef};
use beryl_core::storage::{MARKER, StorageName, StorageRoot, with_storage};
use beryl_worker::{Engine, KnownStorages, LocalPlace, Patience};
use uuid::Uuid;

use material::{engine_program, sound_only, tone, wave};

fn program(folder: &Path, script: &str) -> PathBuf {
    let program = folder.join("engine");
    std::fs::write(&program, format!("#!/bin/sh\n{script}\n")).expect("written");
    std::fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).expect("set");
    program
}

/// What an engine says first.
/// What an engine of this version of the protocol says first.
fn greeting(protocol: u32) -> String {
    format!(r#"echo '{{"said":"hello","protocol":{protocol},"build":"test","encoders":[],"storages":[]}}'"#)
}

fn at(program: PathBuf) -> Engine {
    Engine::at(LocalPlace::new(program, None))
}

async fn probed(script: &str) -> Result<beryl_core::reading::Reading, beryl_core::problem::Problem> {
    let place = tempfile::tempdir().expect("a folder");
    std::fs::write(place.path().join("tone.wav"), wave(&tone(1))).expect("written");
    let file = FileRef::within(place.path().display().to_string(), "tone.wav".parse().expect("a path"));
    at(program(place.path(), script)).probe(&SourceRef::of(file)).await
}

#[tokio::test]
async fn a_file_on_a_slow_share_is_read_back_to_its_end() {
    let place = tempfile::tempdir().expect("a folder");
    let standstill = Duration::from_millis(1500);
    std::fs::write(place.path().join("tone.wav"), wave(&tone(20))).expect("written");
    let job = sound_only(place.path(), "tone.wav").await;
    // A quarter of a megabyte at a time, half a second each: 1.9 megabytes take four seconds, with nothing written.
    let slow = program(place.path(), &format!("exec {} --slow-share 500000", engine_program().display()));
    let mut running =
        at(slow).followed_with(Patience { standstill, ..Patience::default() }).start(&job("slow.part")).await.expect("it starts");
    let mut read_back: Vec<f64> = Vec::new();
    let mut told_of_reading = None;
    let written = loop {
        match running.next().await.expect("a last word") {
            Event::Run { news: RunNews::Progress { progress }, .. } => read_back.extend(progress.read_back),
            Event::Run { news: RunNews::Reading, .. } => told_of_reading = Some(std::time::Instant::now()),
            Event::Run { news: RunNews::Written { measured }, .. } => break measured,
            event => panic!("{event:?}"),
        }
    };
    assert!(told_of_reading.expect("it was read back").elapsed() > standstill, "the share was not slow");
    assert_eq!(written[0].streams[0].end, beryl_core::time::Rational::whole(20));
    assert!(read_back.is_sorted() && read_back.iter().any(|part| (0.1..0.9).contains(part)), "{read_back:?}");
}

#[tokio::test]
async fn an_engine_that_talks_without_end_is_no_hindrance() {
    let real = engine_program();
    // Far more than a pipe holds, in lines and in one line: whoever does not read it waits for ever.
    let talks = "yes 'a codec has something to say' | head -c 4000000 >&2; head -c 4000000 /dev/zero >&2";
    let reading = probed(&format!("{talks}; exec {}", real.display())).await.expect("it is read");
    assert_eq!(reading.facts.sounds().count(), 1);
}

#[tokio::test]
async fn an_engine_is_believed_by_its_last_word_alone() {
    let greeting = greeting(PROTOCOL);
    let lost = probed(&format!("{greeting}; read job; echo 'the codec gave up' >&2; exit 0")).await.expect_err("no answer");
    assert_eq!(lost.kind, ProblemKind::EngineLost);
    assert!(lost.details.contains("the codec gave up"), "{lost:?}");

    // A line without end is no event, and does not fill the memory.
    let endless = probed(&format!("{greeting}; read job; exec tr '\\0' x < /dev/zero")).await.expect_err("no answer");
    assert_eq!(endless.kind, ProblemKind::EngineLost);
}

#[tokio::test]
async fn an_engine_that_falls_silent_is_lost_and_one_of_another_version_is_not_worked_with() {
    let other = format!("{}; read job; sleep 60", greeting(PROTOCOL - 1));
    assert!(probed(&other).await.expect_err("it is another").why.contains("another version"));
    let none = probed("read job; sleep 60; echo '{\"said\":\"alive\"}'; sleep 60");
    let none = tokio::time::timeout(Duration::from_secs(30), none).await.expect("it is not waited for");
    assert!(none.expect_err("it said nothing").why.contains("said nothing for 15 seconds"));

    // Silence counts, not how long the job takes.
    let place = tempfile::tempdir().expect("a folder");
    std::fs::write(place.path().join("tone.wav"), wave(&tone(1))).expect("written");
    let job = sound_only(place.path(), "tone.wav").await;
    let greeting = greeting(PROTOCOL);
    let alive = "for turn in 1 2 3 4 5 6; do echo '{\"said\":\"alive\"}'; sleep 0.5; done";
    let patience = Patience { silence: Duration::from_millis(1500), ..Patience::default() };
    let engine = at(program(place.path(), &format!("{greeting}; read job; {alive}; sleep 60"))).followed_with(patience);
    let began = std::time::Instant::now();
    let mut running = engine.start(&job("silent.part")).await.expect("it starts");
    let last = tokio::time::timeout(Duration::from_secs(30), running.next()).await.expect("it is not waited for");
    let Some(Event::Failed { problem }) = last else { panic!("{last:?}") };
    assert!(problem.why.contains("said nothing") && problem.kind == ProblemKind::EngineLost, "{problem}");
    assert!(began.elapsed() > Duration::from_secs(4), "it was given up while it was heard");
    assert!(running.next().await.is_none());
}

#[tokio::test]
async fn a_storage_is_found_by_its_id_and_not_where_its_marker_is_missing() {
    let place = tempfile::tempdir().expect("a folder");
    std::fs::write(place.path().join("tone.wav"), wave(&tone(1))).expect("written");
    let [known, strange] = [1, 2].map(|id| StorageName { id: Uuid::from_u128(id), name: "Rushes".to_owned() });
    let storages = KnownStorages::default();
    let engine = Engine::at(LocalPlace::new(engine_program(), None).knowing(storages.clone()));
    let of = |storage: &StorageName| {
        SourceRef::of(FileRef { root: Root::Storage(storage.clone()), path: "tone.wav".parse().expect("a path") })
    };
    let here = |is_marked| vec![StorageRoot { id: known.id, folder: place.path().display().to_string(), is_marked }];
    let nobody = engine.probe(&of(&known)).await.expect_err("nobody says where it is");
    assert!(nobody.kind == ProblemKind::Unreachable && nobody.why.contains("not known where the engine runs"), "{nobody}");

    storages.set(here(false));
    assert_eq!(engine.probe(&of(&known)).await.expect("it is there").facts.sounds().count(), 1);
    assert!(engine.probe(&of(&strange)).await.is_err(), "another storage is not there");

    storages.set(here(true));
    let unmarked = engine.probe(&of(&known)).await.expect_err("it bears no marker");
    assert!(unmarked.kind == ProblemKind::Unreachable && unmarked.why.contains("not mounted at"), "{unmarked}");
    let marker = place.path().join(MARKER);
    std::fs::write(&marker, with_storage("", &strange)).expect("written");
    assert!(engine.probe(&of(&known)).await.is_err(), "the marker is that of another storage");
    std::fs::write(&marker, with_storage(&with_storage("", &strange), &known)).expect("written");
    assert!(engine.probe(&of(&known)).await.is_ok());

    // What is made goes the same way.
    let mut job = sound_only(place.path(), "tone.wav").await("made.part");
    job.files_mut().into_iter().for_each(|file| file.root = Root::Storage(known.clone()));
    let mut running = engine.start(&job).await.expect("it starts");
    let last = loop {
        match running.next().await.expect("a last word") {
            Event::Run { news: RunNews::Written { .. }, .. } => break true,
            Event::Failed { .. } | Event::Run { news: RunNews::Failed { .. }, .. } => break false,
            _ => {}
        }
    };
    assert!(last && place.path().join("made.part").is_file());
}

#[tokio::test]
async fn a_job_of_two_runs_that_both_stand_still_is_ended() {
    let place = tempfile::tempdir().expect("a folder");
    std::fs::write(place.path().join("tone.wav"), wave(&tone(1))).expect("written");
    let job = sound_only(place.path(), "tone.wav").await;
    // One has come far, the other has not; neither goes on.
    let lines: Vec<String> = [3, 500]
        .map(|frames| {
            let progress = Progress { frames, ..Progress::default() };
            let event = Event::Run { id: Uuid::now_v7(), news: RunNews::Progress { progress } };
            serde_json::to_string(&Said::News(event)).expect("JSON")
        })
        .to_vec();
    let greeting = greeting(PROTOCOL);
    let script = format!("{greeting}; read job; while echo '{}'; echo '{}'; do sleep 0.1; done", lines[0], lines[1]);
    let standstill = Duration::from_secs(1);
    let engine = at(program(place.path(), &script)).followed_with(Patience { standstill, ..Patience::default() });
    let mut running = engine.start(&job("still.part")).await.expect("it starts");
    let last = tokio::time::timeout(standstill * 20, async {
        loop {
            match running.next().await.expect("a last word") {
                Event::Run { .. } => {}
                event => break event,
            }
        }
    });
    let Event::Failed { problem } = last.await.expect("it is ended") else { panic!("it did not fail") };
    assert!(problem.why.contains("moved nothing"), "{problem}");
}

//! What is said between a server and its engines survives its way: one line each, the same at the other end.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::fmt::Debug;

use beryl_core::flow::tasks::{Progress, Task};
use beryl_core::plan::plan;
use beryl_core::preset::{PresetPatch, builtin_presets};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{
    Command, EncodeRun, Event, FileRef, Hello, Job, PROTOCOL, RunNews, Said, Scope, Sequence, ShownField, SourceClock, SourceRef,
    Still,
};
use beryl_core::time::Rational;
use beryl_core::units::ByteSize;
use common::reading;
use proptest::prelude::*;
use serde::Serialize;
use serde::de::DeserializeOwned;
use uuid::Uuid;

/// The same behind its way through a line.
fn through<T: Serialize + DeserializeOwned + PartialEq + Debug>(said: &T) -> Result<(), TestCaseError> {
    let line = serde_json::to_string(said).unwrap();
    prop_assert!(!line.contains('\n'), "{line}");
    prop_assert_eq!(&serde_json::from_str::<T>(&line).unwrap(), said);
    Ok(())
}

/// Names of files as they come: any letters, and bytes that are none.
fn any_file() -> impl Strategy<Value = FileRef> {
    let name = prop_oneof![
        "[a-zA-Zäß日 .'\"%{}-]{1,24}".prop_map(String::into_bytes),
        prop::collection::vec(any::<u8>().prop_filter("no part of a path", |byte| !matches!(byte, 0 | b'/')), 1..16),
    ];
    ("/[a-z ]{1,12}", name).prop_filter_map("a path that can be", |(root, name)| {
        Some(FileRef::within(root, beryl_core::path::StoragePath::from_bytes(&name).ok()?))
    })
}

fn any_time() -> impl Strategy<Value = Rational> {
    (-1_000_000_i64..1_000_000_000, 1_i64..240_000).prop_map(|(above, below)| Rational::new(above, below).unwrap())
}

fn any_source() -> impl Strategy<Value = SourceRef> {
    let sequence =
        prop::option::of((1_u32..100_000, 1_i64..120).prop_map(|(count, rate)| Sequence { count, rate: Rational::whole(rate) }));
    (any_file(), sequence, prop::option::of(any_time())).prop_map(|(file, sequence, zero)| SourceRef {
        file,
        sequence,
        clock: SourceClock { zero, anchors: Vec::new() },
    })
}

fn any_problem() -> impl Strategy<Value = Problem> {
    let kinds = prop::sample::select(vec![
        ProblemKind::Missing,
        ProblemKind::Invalid,
        ProblemKind::Cancelled,
        ProblemKind::EngineLost,
        ProblemKind::NotMedia,
        ProblemKind::Unsupported,
    ]);
    (kinds, ".{0,40}", ".{0,40}", "(?s).{0,60}")
        .prop_map(|(kind, what, why, details)| Problem::new(kind, what, why).with_details(details))
}

fn any_progress() -> impl Strategy<Value = Progress> {
    let tasks = prop::sample::select(vec![Task::Analyse, Task::Encode, Task::ReadBack]);
    (
        tasks,
        any::<u64>(),
        0.0..1e6_f64,
        any::<u64>(),
        0.0..1.0_f64,
        prop::option::of(0.0..1e6_f64),
        prop::option::of(0.0..1.0_f64),
    )
        .prop_map(|(task, frames, position, bytes, fraction, remaining, read_back)| Progress {
            task,
            frames,
            position,
            bytes,
            speed: position / 7.0,
            fraction,
            remaining,
            read_back,
            moved: bytes,
        })
}

/// Figures of clocks need not come back to the last bit.
fn is_near(one: &Progress, other: &Progress) -> bool {
    let near = |one: f64, other: f64| (one - other).abs() <= one.abs() * 1e-12;
    (one.task, one.frames, one.bytes, one.moved) == (other.task, other.frames, other.bytes, other.moved)
        && near(one.position, other.position)
        && near(one.fraction, other.fraction)
        && one.remaining.is_some() == other.remaining.is_some()
}

proptest! {
    #[test]
    fn what_an_engine_is_told_arrives(source in any_source(), at in any_time(), width in 2_u32..8000, output in any_file(), number in 0_usize..10) {
        let plan = plan(&reading(|_| ()), &builtin_presets().remove(number), &PresetPatch::default()).unwrap();
        let outputs = plan.artifacts().iter().map(|_| output.clone()).collect();
        let run = EncodeRun { id: Uuid::from_u128(u128::from(width)), plan, outputs, assets: Vec::new() };
        for job in [
            Job::Probe { source: source.clone() },
            Job::Scan { source: source.clone(), quick: width % 2 == 0 },
            Job::Encode { source: source.clone(), runs: vec![run.clone()], share: 2 },
            Job::Stills { source, folder: "/scratch".to_owned() },
        ] {
            through(&job)?;
        }
        let still = Still { at, width, field: ShownField::Top, shape: None, scope: Some(Scope::Waveform), output };
        for command in [Command::Pause, Command::Resume, Command::Cancel, Command::CancelRun { id: run.id }, Command::Still(Box::new(still))] {
            through(&command)?;
        }
    }

    #[test]
    fn what_an_engine_says_arrives(problem in any_problem(), progress in any_progress(), cpu in 0.0..1e6_f64, number in any::<u128>()) {
        let id = Uuid::from_u128(number);
        for said in [
            Said::Hello(Hello { protocol: PROTOCOL, build: "0.1".to_owned(), encoders: vec!["h264".to_owned()], storages: vec![id] }),
            Said::Alive,
            Said::News(Event::Failed { problem: problem.clone() }),
            Said::News(Event::Run { id, news: RunNews::Reading }),
            Said::News(Event::Run { id, news: RunNews::Failed { problem } }),
            Said::News(Event::Ended { cpu_seconds: cpu.trunc(), wall_seconds: 1.0, peak_memory: Some(ByteSize(1 << 30)), planned_memory: None }),
        ] {
            through(&said)?;
        }
        let line = serde_json::to_string(&progress).unwrap();
        let told: Progress = serde_json::from_str(&line).unwrap();
        prop_assert!(is_near(&progress, &told), "{line}");
    }
}

#[test]
fn progress_as_earlier_versions_kept_it_is_still_read() {
    let kept = r#"{"pass":2,"passes":2,"frames":7,"position":1.5,"bytes":9,"speed":2.0,"fraction":0.25,"remaining":null}"#;
    let progress: Progress = serde_json::from_str(kept).unwrap();
    assert_eq!((progress.task, progress.frames, progress.fraction, progress.moved), (Task::Encode, 7, 0.25, 0));
}

//! The lives of runs and of files in watch folders.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::flow::run::{RunEvent, RunState};
use beryl_core::flow::watch::{MOST_TRIES, Stamp, WatchState, WatchStep, after_reading, after_runs, look, may_be_source, reason};
use beryl_core::path::StoragePath;
use beryl_core::problem::ProblemKind;
use beryl_core::units::ByteSize;
use proptest::prelude::*;

const EVENTS: [RunEvent; 13] = [
    RunEvent::Start,
    RunEvent::Pause,
    RunEvent::Resume,
    RunEvent::Requeue,
    RunEvent::Written,
    RunEvent::Succeed,
    RunEvent::Fail,
    RunEvent::Cancel,
    RunEvent::Lose,
    RunEvent::Retry,
    RunEvent::Withhold,
    RunEvent::Release,
    RunEvent::Discard,
];

#[test]
fn a_run_is_done_only_after_its_check_and_stays_so() {
    for state in RunState::ALL {
        assert_eq!(RunState::from_word(state.word()), Some(state));
        for event in EVENTS {
            match state.after(event) {
                Ok(RunState::Done) => assert_eq!((state, event), (RunState::Checking, RunEvent::Succeed)),
                Ok(_) => assert_ne!(state, RunState::Done),
                Err(refused) => assert_eq!((refused.state, refused.event), (state, event)),
            }
        }
    }
}

proptest! {
    #[test]
    fn whatever_happens_a_run_can_still_come_to_its_end(events in prop::collection::vec(prop::sample::select(EVENTS.to_vec()), 0..40)) {
        let mut state = RunState::Waiting;
        for event in events {
            state = state.after(event).unwrap_or(state);
        }
        if !state.is_final() {
            prop_assert_eq!(state.after(RunEvent::Fail).unwrap(), RunState::Failed);
        }
    }
}

fn stamp(size: u64, modified: i64) -> Stamp {
    Stamp { size: ByteSize(size), modified }
}

#[test]
fn a_file_is_taken_up_only_when_it_has_settled() {
    let settle = 5_000;
    let (mut file, step) = look(None, stamp(0, 1), 0, settle);
    assert_eq!((file.state, step), (WatchState::Arriving, WatchStep::Wait));
    for second in 1..=8_u32 {
        let step;
        (file, step) = look(Some(file), stamp(u64::from(second) * 1000, i64::from(second)), u64::from(second) * 1000, settle);
        assert_eq!((file.state, step), (WatchState::Arriving, WatchStep::Wait), "it grew at second {second}");
    }
    for second in 9..13 {
        let step;
        (file, step) = look(Some(file), stamp(8_000, 8), second * 1000, settle);
        assert_eq!((file.state, step), (WatchState::Settling, WatchStep::Wait), "second {second}");
    }
    let (_, step) = look(Some(file), stamp(8_000, 8), 13_000, settle);
    assert_eq!(step, WatchStep::TakeUp);
}

#[test]
fn what_is_at_work_is_left_alone_and_what_was_finished_and_changes_arrives_anew() {
    let (arrived, _) = look(None, stamp(10, 1), 0, 1);
    let in_state = |state| beryl_core::flow::watch::Watched { state, ..arrived };
    let (file, step) = look(Some(in_state(WatchState::Working)), stamp(99, 2), 10_000, 1);
    assert_eq!((file.state, step), (WatchState::Working, WatchStep::Wait));
    for state in [WatchState::Out, WatchState::Left, WatchState::Failed] {
        assert_eq!(look(Some(in_state(state)), stamp(10, 1), 10_000, 1).0.state, state);
        assert_eq!(look(Some(in_state(state)), stamp(11, 1), 10_000, 1).0.state, WatchState::Arriving);
    }
    // An empty file never settles.
    let (empty, _) = look(None, stamp(0, 1), 0, 1);
    assert_eq!(look(Some(empty), stamp(0, 1), 99_000, 1).1, WatchStep::Wait);
}

#[test]
fn incomplete_headers_are_waited_for_longer_and_longer_and_then_told() {
    let (arrived, _) = look(None, stamp(10, 1), 0, 1_000);
    let (mut file, _) = look(Some(arrived), stamp(10, 1), 500, 1_000);
    let mut tried_at = Vec::new();
    for now in (0..60_000).step_by(500) {
        let step;
        (file, step) = look(Some(file), stamp(10, 1), now, 1_000);
        if step == WatchStep::TakeUp {
            tried_at.push(now);
            file = after_reading(file, Err(ProblemKind::CutShort));
        }
    }
    assert_eq!(tried_at, [1_000, 2_000, 4_000, 8_000]);
    assert_eq!((file.state, file.tries), (WatchState::Failed, MOST_TRIES));
    // The rest of the file comes after all: it is as good as any other.
    assert_eq!(look(Some(file), stamp(20, 2), 61_000, 1_000).0.tries, 0);
    assert_eq!(after_reading(file, Err(ProblemKind::Unsupported)).state, WatchState::Failed);
    assert_eq!(after_reading(file, Err(ProblemKind::Missing)).state, WatchState::Gone);
    assert_eq!(after_reading(file, Ok(())).state, WatchState::Working);
}

#[test]
fn a_file_is_out_when_all_its_runs_are_done() {
    use RunState::{Cancelled, Done, Failed, Running, Waiting};
    assert_eq!(after_runs(&[Done, Done]), WatchState::Out);
    assert_eq!(after_runs(&[Done, Waiting]), WatchState::Working);
    assert_eq!(after_runs(&[Failed, Running]), WatchState::Working);
    assert_eq!(after_runs(&[Done, Failed]), WatchState::Failed);
    assert_eq!(after_runs(&[Cancelled]), WatchState::Failed);
    for state in WatchState::ALL {
        assert_eq!(WatchState::from_word(state.word()), Some(state));
        assert!(reason(state, 3, 10, None, None).ends_with('.'));
    }
    assert!(reason(WatchState::Settling, 3, 10, None, None).contains("3 s; it is taken up after 10 s"));
    assert!(reason(WatchState::Out, 0, 10, None, Some("no sound")).ends_with("Left out: no sound."));
}

#[test]
fn outputs_and_hidden_files_are_no_sources() {
    let path = |text: &str| text.parse::<StoragePath>().unwrap();
    let (watched, inside) = (path("in"), path("in/out"));
    assert!(may_be_source(&path("in/a.mov"), &watched, Some(&inside)));
    assert!(may_be_source(&path("in/outside.mov"), &watched, Some(&inside)));
    // A destination that is the watched folder itself cannot bar the whole folder.
    assert!(may_be_source(&path("in/a.mov"), &watched, Some(&watched)));
    assert!(may_be_source(&path("in/a.mov"), &watched, Some(&path("elsewhere"))));
    for refused in ["in/out/a.mov", "in/out/deep/a.mov", "in/.beryl-1.part", "in/.trash/a.mov", "beside/a.mov"] {
        assert!(!may_be_source(&path(refused), &watched, Some(&inside)), "{refused}");
    }
}

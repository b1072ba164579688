//! The lives of runs and of files in watch folders.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::path::StoragePath;
use beryl_core::run::{RunEvent, RunState};
use beryl_core::units::ByteSize;
use beryl_core::watch::{Stamp, WatchState, WatchStep, look, may_be_source};
use proptest::prelude::*;

const EVENTS: [RunEvent; 10] = [
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

fn stamp(size: u64, modified: i128) -> Stamp {
    Stamp { size: ByteSize(size), modified }
}

#[test]
fn a_file_is_taken_up_only_when_it_has_settled() {
    let settle = 5_000;
    let (mut file, step) = look(None, stamp(0, 1), 0, settle);
    assert_eq!((file.state, step), (WatchState::Arriving, WatchStep::Wait));
    for second in 1..=8 {
        let step;
        (file, step) = look(Some(file), stamp(second * 1000, i128::from(second)), second * 1000, settle);
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
    let in_state = |state| beryl_core::watch::Watched { state, ..arrived };
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
fn outputs_and_hidden_files_are_no_sources() {
    let path = |text: &str| text.parse::<StoragePath>().unwrap();
    let outputs = [path("in/out")];
    assert!(may_be_source(&path("in/a.mov"), &outputs));
    assert!(may_be_source(&path("in/outside.mov"), &outputs));
    for refused in ["in/out/a.mov", "in/out/deep/a.mov", "in/.beryl-1.part", ".trash/a.mov"] {
        assert!(!may_be_source(&path(refused), &outputs), "{refused}");
    }
}

//! The lives of runs and of files in watch folders.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::flow::run::{Course, PassSoFar, Progress, RunEvent, RunState};
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

/// A pass in which the encoder takes in frames for `start` seconds before anything comes out, and then works at
/// `pace` seconds of the output in a second.
fn pass(number: u8, passes: u8, start: f64, pace: f64, earlier: f64, elapsed: f64) -> PassSoFar {
    let position = ((elapsed - start) * pace).max(0.0);
    let first_out = (position > 0.0).then_some((start, 0.0));
    let done = position / 100.0;
    PassSoFar { pass: number, passes, first_share: 0.25, position, done, duration: 100.0, elapsed, first_out, earlier }
}

proptest! {
    #[test]
    fn at_an_even_pace_the_time_left_is_exact_whatever_the_encoder_holds_back(
        start in 0.0..20.0_f64, pace in 0.1..50.0_f64, share in 0.02..0.99_f64,
    ) {
        let whole = start + 100.0 / pace;
        let elapsed = start + share * 100.0 / pace;
        let told = Progress::measure(&pass(1, 1, start, pace, 0.0, elapsed));
        prop_assert!((told.remaining.unwrap() - (whole - elapsed)).abs() < 1e-6 * whole, "{told:?}");
        prop_assert!((told.fraction - share).abs() < 1e-6);
        // Where the first of two passes takes the part that was expected, the time left is exact in both.
        let later = whole * 3.0;
        let told = Progress::measure(&pass(1, 2, start, pace, 0.0, elapsed));
        prop_assert!((told.remaining.unwrap() - (whole - elapsed + later)).abs() < 1e-6 * whole, "{told:?}");
        let told = Progress::measure(&pass(2, 2, 3.0 * start, pace / 3.0, whole, 3.0 * elapsed));
        prop_assert!((told.remaining.unwrap() - (later - 3.0 * elapsed)).abs() < 1e-6 * later, "{told:?}");
    }

    #[test]
    fn the_first_of_two_passes_shows_where_the_work_is(paces in prop::collection::vec(0.2..5.0_f64, 2..12), at in 0.0..1.0_f64) {
        // One stretch of ten seconds after the other, each at a pace of its own.
        let elapsed_at = |position: f64| -> f64 {
            paces.iter().enumerate().map(|(place, pace)| (position - place as f64 * 10.0).clamp(0.0, 10.0) / pace).sum()
        };
        let whole = paces.len() as f64 * 10.0;
        let mut course = Course::default();
        (1..=paces.len() * 20).map(|step| step as f64 / 2.0).for_each(|position| course.note(position, elapsed_at(position)));
        let part = course.part(at * whole, whole);
        prop_assert!((part - elapsed_at(at * whole) / elapsed_at(whole)).abs() < 1e-6, "{part}");
        prop_assert!((Course::default().part(at * whole, whole) - at).abs() < 1e-9);
    }

    #[test]
    fn what_was_expected_of_the_second_pass_gives_way_to_what_is_seen(pace in 0.1..50.0_f64, share in 0.9..0.99_f64) {
        // The second pass is twice as long as the share of the first foretold.
        let whole = 100.0 / pace;
        let told = Progress::measure(&pass(2, 2, 0.0, pace, whole / 6.0, share * whole));
        let nothing_yet = Progress::measure(&pass(2, 2, 1e9, pace, whole / 6.0, 0.0));
        prop_assert!((nothing_yet.remaining.unwrap() - whole / 2.0).abs() < 1e-6 * whole);
        prop_assert!(told.remaining.unwrap() <= whole * (1.0 - share) + 1e-6);
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

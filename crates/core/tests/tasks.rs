//! The tasks of a run: their order, and the time that is left.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::flow::tasks::{Course, Progress, Task, TaskGraph};
use beryl_core::formats::RateControl;
use beryl_core::plan::{Plan, plan};
use beryl_core::preset::builtin;
use beryl_core::units::BitRate;
use common::reading;
use proptest::prelude::*;
use serde_json::json;

/// A plan in one pass or two.
fn planned(passes: u8) -> Plan {
    let mut preset = builtin("web-1080").unwrap();
    preset.picture.as_mut().unwrap().rate = RateControl::Average { bits_per_second: BitRate(4_000_000), passes, peak: None };
    let own = serde_json::from_value(json!({ "picture": { "rate": { "passes": passes } } })).unwrap();
    plan(&reading(|_| ()), &preset, &own).unwrap()
}

/// A run of a hundred seconds of output.
fn course(passes: u8) -> Course {
    Course::new(TaskGraph::of(&planned(passes)), 100.0)
}

/// What is told at these times and places of a task that goes over the source.
fn told(course: &mut Course, reached: impl IntoIterator<Item = (f64, f64)>) -> Progress {
    let next = course.next_over_source().unwrap();
    course.begin(next);
    reached.into_iter().map(|(position, elapsed)| course.progress(position, elapsed)).last().unwrap()
}

/// A task in which the encoder takes in frames for `start` seconds before anything comes out, and works at an even pace
/// then, looked at twice.
fn even(start: f64, pace: f64, elapsed: f64) -> [(f64, f64); 2] {
    [(1e-12, start), (((elapsed - start) * pace).max(0.0), elapsed)]
}

#[test]
fn tasks_follow_each_other_as_they_need_each_other() {
    let tasks = |passes| TaskGraph::of(&planned(passes)).nodes().iter().map(|node| node.task).collect::<Vec<_>>();
    assert_eq!(tasks(1), [Task::Encode, Task::ReadBack]);
    assert_eq!(tasks(2), [Task::Analyse, Task::Encode, Task::ReadBack]);
    for passes in [1, 2] {
        let graph = TaskGraph::of(&planned(passes));
        let whole: f64 = graph.nodes().iter().map(|node| node.share).sum();
        assert!((whole - 1.0).abs() < 1e-9);
        // Whatever can begin is begun; all come to their turn, none before those that it waits for.
        let mut done = Vec::new();
        loop {
            let Some(next) = graph.ready(|place| done.contains(&place)).next() else { break };
            assert!(graph.nodes()[next].after.iter().all(|before| done.contains(before)));
            done.push(next);
        }
        assert_eq!(done.len(), graph.nodes().len());
        let encode = graph.nodes().iter().position(|node| node.task == Task::Encode).unwrap();
        assert_eq!(graph.has_notes(encode), passes == 2);
    }
    // Over the source goes what encodes, in the order of the graph, and nothing after that.
    let mut course = course(2);
    for task in [Task::Analyse, Task::Encode] {
        assert_eq!(told(&mut course, [(50.0, 5.0)]).task, task);
        course.end(10.0);
    }
    assert_eq!(course.next_over_source(), None);
}

proptest! {
    #[test]
    fn at_an_even_pace_the_time_left_is_exact_whatever_the_encoder_holds_back(
        start in 0.0..20.0_f64, pace in 0.1..50.0_f64, share in 0.02..0.99_f64,
    ) {
        let whole = start + 100.0 / pace;
        let elapsed = start + share * 100.0 / pace;
        let one = told(&mut course(1), even(start, pace, elapsed));
        prop_assert!((one.remaining.unwrap() - (whole - elapsed)).abs() < 1e-6 * whole, "{one:?}");
        prop_assert!((one.fraction - share).abs() < 1e-6);
        // Where the first of two passes takes the part that was expected, the time left is exact in both.
        let mut two = course(2);
        let first = planned(2).first_pass_share().unwrap();
        let (times, later) = ((1.0 - first) / first, whole * (1.0 - first) / first);
        let analysing = told(&mut two, even(start, pace, elapsed));
        prop_assert!((analysing.remaining.unwrap() - (whole - elapsed + later)).abs() < 1e-6 * whole, "{analysing:?}");
        let _at_its_end = two.progress(100.0, whole);
        two.end(whole);
        let encoding = told(&mut two, even(times * start, pace / times, times * elapsed));
        prop_assert!((encoding.remaining.unwrap() - (later - times * elapsed)).abs() < 1e-6 * later, "{encoding:?}");
        prop_assert!((encoding.fraction - (first + (1.0 - first) * elapsed / whole)).abs() < 1e-6, "{encoding:?}");
    }

    #[test]
    fn the_first_of_two_passes_shows_where_the_work_is(paces in prop::collection::vec(0.2..5.0_f64, 10), at in 0.0..1.0_f64) {
        // One stretch of ten seconds after the other, each at a pace of its own.
        let elapsed_at = |position: f64| -> f64 {
            paces.iter().enumerate().map(|(place, pace)| (position - place as f64 * 10.0).clamp(0.0, 10.0) / pace).sum()
        };
        let mut course = course(2);
        told(&mut course, (1..=200).map(|step| step as f64 / 2.0).map(|position| (position, elapsed_at(position))));
        course.end(elapsed_at(100.0));
        let first = planned(2).first_pass_share().unwrap();
        let encoding = told(&mut course, [(at * 100.0, 1.0)]);
        let part = (encoding.fraction - first) / (1.0 - first);
        prop_assert!((part - elapsed_at(at * 100.0) / elapsed_at(100.0)).abs() < 1e-6, "{part}");
    }

    #[test]
    fn what_was_expected_gives_way_to_what_is_seen(pace in 0.1..50.0_f64, share in 0.9..0.99_f64) {
        // The second pass is twice as long as the share of the first foretold.
        let whole = 100.0 / pace;
        let first = planned(2).first_pass_share().unwrap();
        let mut course = course(2);
        told(&mut course, [(100.0, 1.0)]);
        course.end(whole * first / (1.0 - first) / 2.0);
        let nothing_yet = told(&mut course, [(0.0, 0.0)]);
        prop_assert!((nothing_yet.remaining.unwrap() - whole / 2.0).abs() < 1e-6 * whole);
        let late = told(&mut course, even(0.0, pace, share * whole));
        prop_assert!(late.remaining.unwrap() <= whole * (1.0 - share) + 1e-6);
    }

    #[test]
    fn a_share_that_is_known_better_moves_the_others(better in 0.01..0.9_f64) {
        let mut course = course(2);
        told(&mut course, [(50.0, 5.0)]);
        course.weigh(better);
        let half = course.progress(50.0, 5.0);
        prop_assert!((half.fraction - better / 2.0).abs() < 1e-9);
        prop_assert!((course.graph().nodes().iter().map(|node| node.share).sum::<f64>() - 1.0).abs() < 1e-9);
    }
}

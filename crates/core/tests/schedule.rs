//! The forecast of the night, and what browsers can play.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::after::cost::{SubjectCost, cpu_cost, shares};
use beryl_core::after::forecast::forecast;
use beryl_core::facts::Content;
use beryl_core::facts::viewing::plays_in_browsers;
use beryl_core::flow::schedule::{Block, JobAtWork, WaitingRun, lay_out};
use beryl_core::picture::FieldOrder;
use beryl_core::plan::{Subject, plan_with as plan};
use beryl_core::preset::{builtin_presets, viewing_preset};
use beryl_core::reading::Reading;
use common::{reading, stereo, stream};
use proptest::prelude::*;
use serde_json::{Value, json};

fn waiting(runs: &[(u32, u32, f64)]) -> Vec<WaitingRun<u32, u32>> {
    runs.iter().map(|(run, source, cpu)| WaitingRun { run: *run, source: *source, cpu: *cpu }).collect()
}

#[test]
fn two_slots_share_the_cores_and_the_last_job_gets_them_all() {
    // Two jobs of 10 processor seconds on two cores run side by side for 10 s; the third, alone, takes 5 s.
    let blocks = lay_out(&[], &waiting(&[(1, 1, 10.0), (2, 2, 10.0), (3, 3, 10.0)]), 2, 2, 8);
    let expected = [(0, vec![1], 0.0, 10.0), (1, vec![2], 0.0, 10.0), (0, vec![3], 10.0, 15.0)];
    assert_eq!(blocks.len(), expected.len());
    for (block, (lane, runs, start, end)) in blocks.iter().zip(expected) {
        assert_eq!((block.lane, &block.runs), (lane, &runs));
        assert!((block.start - start).abs() < 1e-9 && (block.end - end).abs() < 1e-9, "{block:?}");
    }
}

#[test]
fn runs_of_one_source_are_one_job_and_what_is_at_work_keeps_its_slot() {
    let at_work = [JobAtWork { runs: vec![9], remaining: 4.0 }];
    let queue = waiting(&[(1, 7, 2.0), (2, 8, 6.0), (3, 7, 2.0), (4, 7, 1.0)]);
    let blocks = lay_out(&at_work, &queue, 2, 2, 2);
    let runs: Vec<_> = blocks.iter().map(|block| block.runs.clone()).collect();
    // At most two runs a job: the third of source 7 waits for another round.
    assert_eq!(runs, [vec![9], vec![1, 3], vec![2], vec![4]]);
    assert_eq!((blocks[0].lane, blocks[0].start), (0, 0.0));
}

proptest! {
    #[test]
    fn no_slot_does_two_things_at_once_and_nothing_is_forgotten(
        costs in prop::collection::vec((0_u32..6, 0.0_f64..100.0), 0..40),
        at_work in prop::collection::vec(0.0_f64..100.0, 0..3),
        lanes in 1_usize..5,
        cores in 1_usize..9,
    ) {
        let queue: Vec<_> = costs.iter().zip(0_u32..).map(|((source, cpu), run)| WaitingRun { run, source: *source, cpu: *cpu }).collect();
        let working: Vec<_> = at_work.iter().zip(1000_u32..).map(|(remaining, run)| JobAtWork { runs: vec![run], remaining: *remaining }).collect();
        let blocks = lay_out(&working, &queue, lanes, cores, 8);
        let mut runs: Vec<u32> = blocks.iter().flat_map(|block| block.runs.clone()).collect();
        runs.sort_unstable();
        let mut all: Vec<u32> = queue.iter().map(|run| run.run).chain(working.iter().flat_map(|job| job.runs.clone())).collect();
        all.sort_unstable();
        prop_assert_eq!(runs, all);
        let overlap = |one: &Block<u32>, other: &Block<u32>| one.lane == other.lane && one.start < other.end - 1e-6 && other.start < one.end - 1e-6;
        for (number, one) in blocks.iter().enumerate() {
            prop_assert!(one.end >= one.start);
            prop_assert!(!blocks.iter().skip(number + 1).any(|other| overlap(one, other)));
        }
        // The cores are never idle while something is left: the end is the sum of all work over them.
        let whole: f64 = queue.iter().map(|run| run.cpu).sum();
        if working.is_empty() {
            let end = blocks.iter().map(|block| block.end).fold(0.0, f64::max);
            prop_assert!((end - whole / cores as f64).abs() < 1e-6 * (1.0 + whole));
        }
    }
}

fn source(container: &str, codec: &str, pixel_format: &str, fields: FieldOrder, sounds: &[&str]) -> Reading {
    let mut source = reading(|picture| {
        picture.pixel_format = pixel_format.into();
        picture.field_order = fields;
    });
    source.facts.container = container.to_owned();
    source.facts.streams.truncate(1);
    source.facts.streams[0].codec = codec.to_owned();
    source.facts.streams.extend(sounds.iter().zip(1..).map(|(codec, index)| stream(index, codec, Content::Sound(stereo()))));
    source
}

#[test]
fn only_what_every_browser_plays_is_given_as_it_is() {
    const MP4: &str = "mov,mp4,m4a,3gp,3g2,mj2";
    let plays = |container, codec, format, fields, sounds: &[&str]| {
        plays_in_browsers(&source(container, codec, format, fields, sounds).facts)
    };
    assert!(plays(MP4, "h264", "yuv420p", FieldOrder::Progressive, &["aac"]));
    assert!(plays(MP4, "h264", "yuv420p", FieldOrder::Unknown, &[]));
    assert!(plays("matroska,webm", "vp9", "yuv420p", FieldOrder::Progressive, &["opus"]));
    for (container, codec, format, fields, sounds) in [
        (MP4, "hevc", "yuv420p10le", FieldOrder::Progressive, &["aac"][..]),
        (MP4, "prores", "yuv422p10le", FieldOrder::Progressive, &["pcm_s24le"]),
        (MP4, "h264", "yuv422p10le", FieldOrder::Progressive, &["aac"]),
        (MP4, "h264", "yuv420p", FieldOrder::TopFirst, &["aac"]),
        (MP4, "h264", "yuv420p", FieldOrder::Progressive, &["pcm_s16le"]),
        // Browsers play the first language alone: the copy says so at least.
        (MP4, "h264", "yuv420p", FieldOrder::Progressive, &["aac", "aac"]),
        ("mpegts", "h264", "yuv420p", FieldOrder::Progressive, &["aac"]),
        ("mpeg", "mpeg2video", "yuv420p", FieldOrder::Progressive, &["mp2"]),
    ] {
        assert!(!plays(container, codec, format, fields, sounds), "{container} {codec} {format} {fields:?} {sounds:?}");
        let source = source(container, codec, format, fields, sounds);
        assert!(plan(&source, &viewing_preset(true), &Value::Null).is_ok(), "no copy of {codec}");
    }
}

#[test]
fn each_kind_of_step_has_its_share_of_the_time_and_a_proof_takes_it_as_a_whole() {
    let source = reading(|_| ());
    let preset = builtin_presets().into_iter().find(|preset| preset.id == "web-1080").unwrap();
    let of = |own: Value| {
        let plan = plan(&source, &preset, &own).unwrap();
        let told = forecast(&plan, &source.facts, &[]);
        (shares(&plan, &told), plan, told)
    };
    let (plain, ..) = of(Value::Null);
    assert!(!plain.iter().any(|cost| matches!(cost.subject, Subject::Cleaning | Subject::Overlays)), "{plain:?}");
    let own = json!({ "picture": {
        "cleaning": { "denoise": "tape" }, "overlays": { "burn_in": { "timecode": true } }, "greyscale": true } });
    let (mended, plan, mut told) = of(own);
    let share = |costs: &[SubjectCost], subject| costs.iter().find(|cost| cost.subject == subject).map(|cost| cost.share);
    let [cleaning, colour, overlays] =
        [Subject::Cleaning, Subject::Colour, Subject::Overlays].map(|subject| share(&mended, subject).expect("a share"));
    assert!(cleaning > overlays && overlays > colour && colour > 0.0, "{mended:?}");
    assert!(mended.iter().map(|cost| cost.share).sum::<f64>() < 1.0);
    assert!(mended.is_sorted_by(|one, other| one.share >= other.share));
    // A proof that was quicker than the steps were thought to be leaves them no more than all of it.
    told.cpu_milliseconds = Some(1);
    let whole: f64 = shares(&plan, &told).iter().map(|cost| cost.share).sum();
    assert!((whole - 1.0).abs() < 1e-9, "{whole}");
}

#[test]
fn more_work_costs_more() {
    let source = reading(|_| ());
    let cost = |id: &str| {
        let preset = builtin_presets().into_iter().find(|preset| preset.id == id).unwrap();
        {
            let plan = plan(&source, &preset, &Value::Null).unwrap();
            cpu_cost(&plan, &forecast(&plan, &source.facts, &[]))
        }
    };
    assert!(cost("sound-only") < cost("review-small"));
    assert!(cost("review-small") < cost("web-720"));
    assert!(cost("web-720") < cost("web-1080"));
    assert!(cost("web-1080") < cost("delivery-hevc"));
}

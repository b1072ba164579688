//! Verdicts: a finished file against its plan, and the frame rate that time stamps show.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::check::{Measured, StreamMeasure, compare, judge, problem_of};
use beryl_core::pace;
use beryl_core::plan::{Plan, plan};
use beryl_core::preset::builtin;
use beryl_core::problem::ProblemKind;
use beryl_core::rational::Rational;
use beryl_core::reading::Content;
use beryl_core::units::ByteSize;
use common::reading;
use proptest::prelude::*;
use serde_json::json;

/// A plan for the web, and what a perfect file of it measures.
fn perfect() -> (Plan, Measured) {
    let source = reading(|_| ());
    let plan = plan(&source, &builtin("web-1080").unwrap(), &json!({})).unwrap();
    let mut made = source;
    made.container = "mov,mp4,m4a,3gp,3g2,mj2".to_owned();
    made.size = ByteSize(10_000_000);
    made.timecode.clone_from(&plan.timecode);
    made.streams[0].codec = "h264".to_owned();
    made.streams[1].codec = "aac".to_owned();
    let picture_plan = plan.picture.as_ref().unwrap();
    if let Content::Picture(picture) = &mut made.streams[0].content {
        picture.pixel_format.clone_from(&picture_plan.pixel_format);
        picture.colour = picture_plan.colour.clone();
    }
    let measure = |index, packets| StreamMeasure {
        index,
        packets,
        first: Rational::ZERO,
        end: Rational::whole(10),
        even: true,
        decodes: true,
        bytes: ByteSize(0),
        key_packets: 0,
        key_bytes: ByteSize(0),
    };
    let measured = Measured {
        reading: made,
        index_in_front: Some(true),
        streams: vec![measure(0, 250), measure(1, 469)],
        frames_encoded: Some(250),
        source_offset: Some(Rational::ZERO),
        decode_faults: 0,
        source_end: Some(Rational::whole(10)),
        cpu_milliseconds: None,
    };
    (plan, measured)
}

#[test]
fn a_perfect_file_passes_every_point() {
    let (plan, measured) = perfect();
    let report = judge(&plan, &measured);
    let failed: Vec<_> = report.items.iter().filter(|item| !item.passed).collect();
    assert!(report.passed && failed.is_empty(), "{failed:?}");
    assert!(report.items.len() > 15 && report.remarks.is_empty());
    assert_eq!(problem_of(&plan, &measured, &report), None);
}

#[test]
fn every_fault_is_found_and_named() {
    type Fault = (&'static str, fn(&mut Measured));
    fn picture(measured: &mut Measured) -> &mut beryl_core::reading::Picture {
        match &mut measured.reading.streams[0].content {
            Content::Picture(picture) => picture,
            _ => unreachable!("the first stream is the picture"),
        }
    }
    let faults: [Fault; 20] = [
        ("container", |file| file.reading.container = "matroska,webm".to_owned()),
        ("size", |file| file.reading.size = ByteSize(0)),
        ("index", |file| file.index_in_front = Some(false)),
        ("picture streams", |file| drop(file.reading.streams.remove(0))),
        ("picture codec", |file| file.reading.streams[0].codec = "hevc".to_owned()),
        ("frame size", |file| picture(file).width = 1918),
        ("pixel aspect", |file| picture(file).pixel_aspect = Rational::constant(16, 15)),
        ("pixel format", |file| picture(file).pixel_format = "yuv444p".to_owned()),
        ("frame rate", |file| picture(file).frame_rate = Some(Rational::whole(24))),
        ("distance of frames", |file| file.streams[0].even = false),
        ("first frame", |file| file.streams[0].decodes = false),
        ("frames written", |file| file.frames_encoded = Some(251)),
        ("frames", |file| file.streams[0].packets = 240),
        ("sound streams", |file| drop(file.reading.streams.pop())),
        ("sound codec", |file| file.reading.streams[1].codec = "mp3".to_owned()),
        ("sound", |file| file.streams[1].decodes = false),
        ("duration", |file| file.streams.iter_mut().for_each(|stream| stream.end = Rational::constant(98, 10))),
        ("first time stamp", |file| file.streams.iter_mut().for_each(|stream| stream.first = Rational::constant(1, 100))),
        ("picture after sound", |file| file.streams[1].first = Rational::constant(2, 1000)),
        ("timecode", |file| file.reading.timecode = None),
    ];
    for (name, fault) in faults {
        let (plan, mut measured) = perfect();
        fault(&mut measured);
        let report = judge(&plan, &measured);
        let failed: Vec<_> = report.items.iter().filter(|item| !item.passed).map(|item| item.what.as_str()).collect();
        assert!(!report.passed && failed.contains(&name), "{name} is not among {failed:?}");
        let problem = problem_of(&plan, &measured, &report).unwrap();
        assert_eq!(problem.kind, ProblemKind::CheckFailed, "{name}");
        assert!(problem.why.contains(name), "{name} is not named in {}", problem.why);
    }
    // A millisecond is no fault.
    let (plan, mut measured) = perfect();
    measured.streams[1].first = Rational::constant(1, 1000);
    assert!(judge(&plan, &measured).passed);
}

#[test]
fn a_source_that_ends_early_is_blamed_instead_of_the_file() {
    let (plan, mut measured) = perfect();
    measured.streams[0].packets = 100;
    measured.source_end = Some(Rational::whole(4));
    let report = judge(&plan, &measured);
    assert_eq!(problem_of(&plan, &measured, &report).unwrap().kind, ProblemKind::CutShort);
    // Faults on the way are told even where the file is as planned.
    let (plan, mut measured) = perfect();
    measured.decode_faults = 3;
    let report = judge(&plan, &measured);
    assert!(report.passed && report.remarks[0].contains("3 faults"));
}

#[test]
fn facts_stand_side_by_side_and_differences_are_marked() {
    let (_, measured) = perfect();
    let items = compare(&reading(|_| ()), &measured.reading);
    let item = |what: &str| items.iter().find(|item| item.what == what).unwrap();
    assert_eq!((item("Picture codec").expected.as_str(), item("Picture codec").found.as_str()), ("ProRes", "H.264"));
    assert!(!item("Picture codec").passed && !item("Size").passed && !item("Sound").passed);
    assert!(item("Frame size").passed && item("Frame rate").passed && item("Duration").passed);
    assert!(item("Sound").expected.starts_with("PCM 24 bit stereo 48 kHz"), "{}", item("Sound").expected);
}

/// Times of frames at `rate`, rounded to ticks of `clock`.
fn times(rate: Rational, clock: Rational, count: i64) -> Vec<i64> {
    let tick = (rate * clock).inverse().unwrap();
    (0..count).map(|frame| (Rational::whole(frame) * tick).round()).collect()
}

proptest! {
    #[test]
    fn a_constant_rate_is_known_through_any_clock_and_order(
        rate in prop::sample::select(vec!["24000/1001", "24", "25", "30000/1001", "30", "50", "60000/1001", "60"]),
        clock in prop::sample::select(vec!["1/1000", "1/12800", "1/90000", "1001/30000000"]),
        turned in any::<bool>(),
    ) {
        let (rate, clock): (Rational, Rational) = (rate.parse().unwrap(), clock.parse().unwrap());
        let mut times = times(rate, clock, 500);
        if turned {
            times.reverse();
        }
        let pace = pace::judge(&times, clock, None);
        prop_assert_eq!((pace.rate, pace.varies), (Some(rate), false));
    }
}

#[test]
fn a_rate_that_varies_is_told_and_one_hole_is_not() {
    let clock = Rational::constant(1, 1000);
    let mut steady = times(Rational::whole(25), clock, 300);
    steady.remove(100);
    assert!(!pace::judge(&steady, clock, Some(Rational::whole(25))).varies);
    let mut position = 0;
    let wild: Vec<i64> = (0..300)
        .map(|frame| {
            position += [16, 33, 100, 250][frame % 4];
            position
        })
        .collect();
    let pace = pace::judge(&wild, clock, Some(Rational::whole(60)));
    assert!(pace.varies);
    let mean = pace.rate.unwrap().to_f64();
    assert!((mean - 10.0).abs() < 0.1, "{mean}");
    assert_eq!(pace::judge(&[5], clock, Some(Rational::whole(25))).rate, Some(Rational::whole(25)));
}

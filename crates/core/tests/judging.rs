//! Verdicts: a finished file against its plan, and the frame rate that time stamps show.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::after::check;
use beryl_core::after::check::{CheckItem, CheckReport, Given, Grade, Look, LookAt, Measured, StreamMeasure, compare};
use beryl_core::facts::{Chapter, Content};
use beryl_core::formats::Level;
use beryl_core::picture::{FieldOrder, Hdr, MatrixCoefficients, Orientation, Primaries, Range, Transfer};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, pace};
use beryl_core::timeline::Remark;
use beryl_core::units::ByteSize;
use common::reading;
use proptest::prelude::*;
use serde_json::{Value, json};

/// The verdict on the one file of a plan.
fn judge(plan: &Plan, measured: &Measured) -> CheckReport {
    check::judge(plan, std::slice::from_ref(measured))
}

fn problem_of(plan: &Plan, measured: &Measured, report: &CheckReport) -> Option<Problem> {
    check::problem_of(plan, std::slice::from_ref(measured), report)
}

/// A plan, and what a perfect file of it measures. The source has HDR metadata, a language, a chapter and a title.
fn perfect_of(preset: &str, overrides: &Value) -> (Plan, Measured) {
    let mut source = reading(|picture| {
        picture.colour.primaries = Some(Primaries::Bt2020);
        picture.colour.transfer = Some(Transfer::Pq);
        picture.colour.matrix = Some(MatrixCoefficients::Bt2020);
        picture.hdr = Some(Hdr {
            primaries: Some([Rational::constant(1, 3); 8]),
            luminance: Some([Rational::constant(1, 100), Rational::whole(1000)]),
            light_level: Some([900, 300]),
        });
    });
    source.facts.streams[1].language = Some("fra".to_owned());
    source.facts.streams[1].roles = vec!["default".to_owned()];
    source.facts.chapters = vec![Chapter { start: Rational::ZERO, end: Rational::whole(4), title: "Clay".to_owned() }];
    source.facts.tags.insert("title".to_owned(), "Firing".to_owned());
    let plan = plan(&source, &builtin(preset).unwrap(), overrides).unwrap();
    let picture_plan = plan.picture.as_ref().unwrap();
    let mut made: Reading = source;
    made.facts.container = "mov,mp4,m4a,3gp,3g2,mj2".to_owned();
    made.facts.size = ByteSize(10_000_000);
    made.facts.timecode.clone_from(&plan.timecode);
    made.facts.streams[0].codec = picture_plan.format.codec().probe_name.to_owned();
    made.facts.streams[0].profile = Some(if preset == "delivery-hevc" { "Main 10" } else { "High" }.to_owned());
    made.facts.streams[0].level = Some(Level(41));
    made.facts.streams[1].codec = "aac".to_owned();
    made.facts.streams[1].roles = plan.sound[0].roles.clone();
    if let Content::Picture(picture) = &mut made.facts.streams[0].content {
        picture.pixel_format.clone_from(&picture_plan.pixel_format);
        picture.colour = picture_plan.colour;
        picture.hdr.clone_from(&picture_plan.hdr);
        picture.field_order = FieldOrder::Progressive;
    }
    let measure = |index, packets| StreamMeasure {
        index,
        packets,
        first: Rational::ZERO,
        end: Rational::whole(10),
        even: true,
        decodes: true,
        bytes: ByteSize(0),
        key_packets: 5,
        key_bytes: ByteSize(0),
        longest_group: 50,
        peak_second: ByteSize(1_000_000),
    };
    let given = |slot, count| Given { slot, count, end: Rational::whole(10) };
    let look = |at| Look { at, time: Rational::ONE, difference: Some(3) };
    let measured = Measured {
        facts: made.facts,
        index_in_front: Some(true),
        streams: vec![measure(0, 250), measure(1, 469)],
        frames_encoded: Some(250),
        given: vec![given(0, 250), given(1, 480_000)],
        looks: vec![look(LookAt::Source), look(LookAt::File)],
        remarks: Vec::new(),
        decode_faults: 0,
        source_end: Some(Rational::whole(10)),
        cpu_milliseconds: None,
    };
    (plan, measured)
}

fn perfect() -> (Plan, Measured) {
    perfect_of("web-1080", &json!({}))
}

#[test]
fn a_perfect_file_passes_every_point() {
    for (preset, overrides) in
        [("web-1080", json!({})), ("delivery-hevc", json!({"picture": {"colour": {"dynamic_range": "keep"}}}))]
    {
        let (plan, measured) = perfect_of(preset, &overrides);
        let report = judge(&plan, &measured);
        let other: Vec<_> = report.items.iter().filter(|item| item.grade != Grade::Fine).collect();
        assert!(report.passed && other.is_empty(), "{preset}: {other:#?}");
        assert!(report.items.len() > 28 && report.remarks.is_empty());
        assert_eq!(problem_of(&plan, &measured, &report), None);
    }
}

fn picture(measured: &mut Measured) -> &mut beryl_core::facts::Picture {
    match &mut measured.facts.streams[0].content {
        Content::Picture(picture) => picture,
        _ => unreachable!("the first stream is the picture"),
    }
}

fn sound(measured: &mut Measured) -> &mut beryl_core::facts::Sound {
    match &mut measured.facts.streams[1].content {
        Content::Sound(sound) => sound,
        _ => unreachable!("the second stream is the sound"),
    }
}

type Fault = (&'static str, fn(&mut Measured));

/// Plants each fault in a perfect file: its point, and no other cause, has the grade.
fn plant(faults: &[Fault], grade: Grade, preset: &str, overrides: &Value) {
    for (name, fault) in faults {
        let (plan, mut measured) = perfect_of(preset, overrides);
        fault(&mut measured);
        let report = judge(&plan, &measured);
        let graded: Vec<_> = report.items.iter().filter(|item| item.grade == grade).map(|item| item.what.as_str()).collect();
        assert!(graded.contains(name), "{name} is not among {graded:?}");
        assert_eq!(report.passed, grade == Grade::Noted, "{name}");
        match problem_of(&plan, &measured, &report) {
            Some(problem) => {
                assert_eq!(problem.kind, ProblemKind::CheckFailed, "{name}");
                assert!(problem.why.contains(name), "{name} is not named in {}", problem.why);
            }
            None => assert!(report.noted().all(|item| !item.why.is_empty()), "{name} is noted without a reason"),
        }
    }
}

#[test]
fn every_fault_is_found_and_named() {
    let faults: &[Fault] = &[
        ("container", |file| file.facts.container = "matroska,webm".to_owned()),
        ("size", |file| file.facts.size = ByteSize(0)),
        ("index", |file| file.index_in_front = Some(false)),
        ("picture streams", |file| drop(file.facts.streams.remove(0))),
        ("picture codec", |file| file.facts.streams[0].codec = "hevc".to_owned()),
        ("profile", |file| file.facts.streams[0].profile = Some("High 4:4:4 Predictive".to_owned())),
        ("frame size", |file| picture(file).width = 1918),
        ("pixel aspect", |file| picture(file).pixel_aspect = Rational::constant(16, 15)),
        ("pixel format", |file| picture(file).pixel_format = "yuv444p".into()),
        ("orientation", |file| picture(file).orientation = Orientation::turned(90)),
        ("colour primaries", |file| picture(file).colour.primaries = Some(Primaries::Bt2020)),
        ("transfer", |file| picture(file).colour.transfer = None),
        ("matrix", |file| picture(file).colour.matrix = Some(MatrixCoefficients::Bt601With625)),
        ("range", |file| picture(file).colour.range = Some(Range::Full)),
        ("fields", |file| picture(file).field_order = FieldOrder::TopFirst),
        ("frame rate", |file| picture(file).frame_rate = Some(Rational::whole(24))),
        ("distance of frames", |file| file.streams[0].even = false),
        ("first frame", |file| file.streams[0].decodes = false),
        ("frames written", |file| file.frames_encoded = Some(251)),
        ("frames between key frames", |file| file.streams[0].longest_group = 51),
        ("source looked at again", |file| file.looks[0].difference = Some(200)),
        ("pictures looked at again", |file| file.looks[1].difference = None),
        ("sound streams", |file| drop(file.facts.streams.pop())),
        ("sound codec", |file| file.facts.streams[1].codec = "mp3".to_owned()),
        ("channels", |file| sound(file).channels = 1),
        ("layout", |file| sound(file).layout = "5.1".to_owned()),
        ("sample rate", |file| sound(file).sample_rate = 44_100),
        ("language", |file| file.facts.streams[1].language = Some("deu".to_owned())),
        ("sound", |file| file.streams[1].decodes = false),
        ("picture begins", |file| file.streams[0].first = Rational::constant(2, 1000)),
        ("sound begins", |file| file.streams[1].first = Rational::constant(-2, 1000)),
        ("picture ends", |file| file.streams[0].end = Rational::constant(9998, 1000)),
        ("sound ends", |file| file.streams[1].end = Rational::constant(9998, 1000)),
        ("timecode", |file| file.facts.timecode = None),
        ("chapters", |file| drop(file.facts.chapters.pop())),
        ("places of chapters", |file| file.facts.chapters[0].start = Rational::constant(1, 10)),
    ];
    plant(faults, Grade::Wrong, "web-1080", &json!({}));
    let hdr: &[Fault] = &[
        ("mastering display", |file| picture(file).hdr.as_mut().unwrap().luminance = None),
        ("content light level", |file| picture(file).hdr.as_mut().unwrap().light_level = Some([900, 301])),
    ];
    plant(hdr, Grade::Wrong, "delivery-hevc", &json!({"picture": {"colour": {"dynamic_range": "keep"}}}));
    let level: &[Fault] = &[("level", |file| file.facts.streams[0].level = Some(Level(51)))];
    plant(level, Grade::Wrong, "web-1080", &json!({"picture": {"level": "4.1"}}));
    let fields: &[Fault] = &[("fields", |file| picture(file).field_order = FieldOrder::BottomFirst)];
    plant(fields, Grade::Wrong, "web-1080", &json!({}));
}

#[test]
fn what_is_only_different_is_noted_with_its_reason_and_keeps_no_file_back() {
    let differences: &[Fault] = &[
        ("frames", |file| {
            file.streams[0].packets = 240;
            file.frames_encoded = Some(240);
        }),
        ("duration", |file| {
            for (stream, given) in file.streams.iter_mut().zip(&mut file.given) {
                (stream.end, given.end) = (Rational::constant(97, 10), Rational::constant(97, 10));
            }
        }),
        ("level needed", |file| file.streams[0].peak_second = ByteSize(20_000_000)),
        ("title", |file| drop(file.facts.tags.remove("title"))),
        ("role", |file| file.facts.streams[1].roles.clear()),
    ];
    plant(differences, Grade::Noted, "web-1080", &json!({}));
    // The last packet of AAC is filled up, and a millisecond is no fault.
    let (plan, mut measured) = perfect();
    measured.streams[1].first = Rational::constant(1, 1000);
    measured.streams[1].end = Rational::whole(10) + Rational::constant(1000, 48_000);
    assert!(judge(&plan, &measured).items.iter().all(|item| item.grade == Grade::Fine));
    // What the source was like stands in the report.
    measured.remarks.push(Remark::SoundGap { stream: 1, at: Rational::constant(5, 2), length: Rational::constant(60, 1000) });
    let report = judge(&plan, &measured);
    assert_eq!(report.remarks, ["At 00:00:02.500 sound stream 1 lacks 60 ms; silence stands there."]);
    assert_eq!(report.notes(), 1);
}

#[test]
fn reports_of_earlier_versions_are_read() {
    let stored = json!([
        {"what": "frames", "expected": "250", "found": "250", "passed": true},
        {"what": "fields", "expected": "progressive", "found": "interlaced", "passed": false},
    ]);
    let items: Vec<CheckItem> = serde_json::from_value(stored).unwrap();
    assert_eq!(items.iter().map(|item| item.grade).collect::<Vec<_>>(), [Grade::Fine, Grade::Wrong]);
}

#[test]
fn a_source_that_ends_early_is_blamed_instead_of_the_file() {
    let (plan, mut measured) = perfect();
    let four = Rational::whole(4);
    for (stream, given) in measured.streams.iter_mut().zip(&mut measured.given) {
        (stream.end, given.end) = (four, four);
    }
    (measured.streams[0].packets, measured.frames_encoded) = (100, Some(100));
    (measured.given[0].count, measured.source_end) = (100, Some(four));
    // A header that lies is only noted: all that is there was made.
    let report = judge(&plan, &measured);
    assert!(report.passed && report.noted().any(|item| item.what == "frames"), "{report:#?}");
    // Damage, or a file that says itself that it was cut, is not.
    let broken = Measured { decode_faults: 1, ..measured.clone() };
    let cut = Plan { source_is_cut: true, ..plan.clone() };
    for (plan, measured) in [(&plan, &broken), (&cut, &measured)] {
        let report = judge(plan, measured);
        let problem = problem_of(plan, measured, &report).unwrap();
        assert_eq!(problem.kind, ProblemKind::CutShort);
        assert!(problem.next.contains("salvage"), "{}", problem.next);
        // Unless all that is there is wanted.
        assert!(judge(&Plan { salvage: true, ..plan.clone() }, measured).passed);
    }
    // A cut that took nothing of what was planned is told of.
    let (plan, whole) = perfect();
    let report = judge(&Plan { source_is_cut: true, ..plan }, &whole);
    assert!(report.passed && report.noted().any(|item| item.what == "source file"), "{report:#?}");
}

#[test]
fn facts_stand_side_by_side_and_differences_are_marked() {
    let (_, measured) = perfect();
    let items = compare(&reading(|_| ()).facts, &measured.facts);
    let item = |what: &str| items.iter().find(|item| item.what == what).unwrap();
    assert_eq!((item("Picture codec").expected.as_str(), item("Picture codec").found.as_str()), ("ProRes", "H.264 High"));
    for (what, grade) in [("Picture codec", Grade::Noted), ("Size", Grade::Noted), ("Sound", Grade::Noted)].into_iter().chain([
        ("Frame size", Grade::Fine),
        ("Frame rate", Grade::Fine),
        ("Duration", Grade::Fine),
    ]) {
        assert_eq!(item(what).grade, grade, "{what}");
    }
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
        let pace = pace::judge(&times, times.len(), clock, None);
        prop_assert_eq!((pace.rate, pace.varies), (Some(rate), false));
    }
}

#[test]
fn a_rate_that_varies_is_told_and_one_hole_is_not() {
    let clock = Rational::constant(1, 1000);
    let mut steady = times(Rational::whole(25), clock, 300);
    steady.remove(100);
    assert!(!pace::judge(&steady, steady.len(), clock, Some(Rational::whole(25))).varies);
    let mut position = 0;
    let wild: Vec<i64> = (0..300)
        .map(|frame| {
            position += [16, 33, 100, 250][frame % 4];
            position
        })
        .collect();
    let pace = pace::judge(&wild, wild.len(), clock, Some(Rational::whole(60)));
    assert!(pace.varies);
    let mean = pace.rate.unwrap().to_f64();
    assert!((mean - 10.0).abs() < 0.1, "{mean}");
    assert_eq!(pace::judge(&[5], 1, clock, Some(Rational::whole(25))).rate, Some(Rational::whole(25)));
}

//! Parts of a source: what comes out is what lies between the marks, to the frame and to the sample.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, encode, pictures, probe, scan};
use material::{First, THREE_TWO, lively, progressive, telecined, write};
use serde_json::{Value, json};
use uuid::Uuid;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

fn lossless(reading: &Reading, own: Value) -> Plan {
    let mut patch = json!({
        "container": "mkv",
        "sound": null,
        "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "pixel_aspect": "keep", "fields": "keep" },
    });
    json_patch::merge(&mut patch, &own);
    plan(reading, &builtin("web-1080").unwrap(), &patch).unwrap()
}

/// Makes all plans of a source in one job; each file is held against its plan.
fn made(folder: &Path, name: &str, plans: &[Plan]) -> Vec<SourceRef> {
    let outputs: Vec<SourceRef> = plans.iter().map(|_| source(folder, &Uuid::now_v7().to_string())).collect();
    let run = |(plan, output): (&Plan, &SourceRef)| EncodeRun {
        id: Uuid::now_v7(),
        plan: plan.clone(),
        outputs: vec![output.file.clone()],
        assets: Vec::new(),
    };
    let runs: Vec<EncodeRun> = plans.iter().zip(&outputs).map(run).collect();
    let events = Mutex::new(Vec::new());
    encode(&source(folder, name), &runs, folder, &Control::default(), &|event| events.lock().unwrap().push(event)).unwrap();
    for run in &runs {
        let of_run = events.lock().unwrap().iter().find_map(|event| match event {
            Event::Run { id, news: RunNews::Written { measured } } if *id == run.id => Some(judge(&run.plan, measured)),
            _ => None,
        });
        let report = of_run.unwrap_or_else(|| panic!("no file: {events:?}"));
        assert!(report.passed, "{:#?}", report.wrong().collect::<Vec<_>>());
    }
    outputs
}

/// The samples of a 16-bit or 24-bit WAV file, as its bytes.
fn sound(file: &SourceRef) -> Vec<u8> {
    let bytes = std::fs::read(file.file.folder().unwrap().join(file.file.path.to_string())).unwrap();
    let data = bytes.windows(4).position(|window| window == b"data").unwrap() + 8;
    bytes[data..].to_vec()
}

#[test]
fn parts_are_exact_to_the_frame_and_to_the_sample() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path.ends_with("openday-94_tape-2.mov")).unwrap();
    let name = clip.path;
    make(&Clip { seconds: 4, ..clip }, folder.path()).unwrap();
    let reading = probe(&source(folder.path(), name)).unwrap();
    // Long groups of pictures: the second part begins in the middle of one.
    let marks = json!([{ "from": "0.6", "to": "1.4" }, { "from": "2.36", "to": "3" }]);
    let wav = |parts: &Value| plan(&reading, &builtin("sound-only").unwrap(), &json!({ "parts": parts })).unwrap();
    let plans = [lossless(&reading, json!({})), lossless(&reading, json!({ "parts": marks })), wav(&json!([])), wav(&marks)];
    assert_eq!(plans[1].timecode.as_deref(), Some("00:00:00:15"), "the timecode goes on from the source's");
    let files = made(folder.path(), name, &plans);
    let (whole, cut) = (pictures(&files[0]).unwrap(), pictures(&files[1]).unwrap());
    let expected: Vec<_> = whole[15..35].iter().chain(&whole[59..75]).collect();
    assert_eq!(cut.len(), expected.len());
    assert!(cut.iter().zip(expected).all(|(cut, whole)| cut == whole), "each frame is the one that was marked");

    let (whole, cut) = (sound(&files[2]), sound(&files[3]));
    let bytes = whole.len() / 4 / 48_000;
    let at = |seconds: f64| (seconds * 48_000.0).round() as usize * bytes;
    let expected = [&whole[at(0.6)..at(1.4)], &whole[at(2.36)..at(3.0)]].concat();
    assert!(cut == expected, "{} and {} bytes of sound", cut.len(), expected.len());
}

#[test]
fn film_is_brought_back_from_a_part_as_from_the_whole() {
    let folder = tempfile::tempdir().unwrap();
    let film = progressive(96, 24_000.0 / 1001.0, lively);
    let video = telecined(&film, THREE_TWO, 0, First::Top);
    write(&folder.path().join("film.y4m"), &video, (30_000, 1001), 't', "");
    let (reading, _) = scan(&source(folder.path(), "film.y4m"), false, &Control::default(), &|_| {}).unwrap();
    // Frames 32 to 62 of the video: the cadence is entered in its middle.
    let own = json!({ "parts": [{ "from": "1.067733333", "to": "2.068733333" }], "picture": { "fields": "when_needed" } });
    let plan = lossless(&reading, own);
    let files = made(folder.path(), "film.y4m", &[plan]);
    let places: Vec<usize> = pictures(&files[0])
        .unwrap()
        .iter()
        .map(|made| film.iter().position(|frame| frame.luma == made.luma).expect("a film frame, not blended"))
        .collect();
    let first = places[0];
    assert!((25..=26).contains(&first), "{places:?}");
    assert_eq!(places, (first..first + places.len()).collect::<Vec<_>>(), "each film frame once");
    assert!((23..=25).contains(&places.len()), "{places:?}");
}

#[test]
fn a_picture_of_varying_rate_that_is_shown_when_a_part_begins_is_its_first() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path.ends_with("glaze-db_screen.mp4")).unwrap();
    let name = clip.path;
    make(&Clip { seconds: 4, ..clip }, folder.path()).unwrap();
    let reading = probe(&source(folder.path(), name)).unwrap();
    let rate = json!({ "rule": "constant", "rate": "50" });
    let own = |parts: Value| lossless(&reading, json!({ "parts": parts, "picture": { "frame_rate": rate } }));
    let files = made(folder.path(), name, &[own(json!([])), own(json!([{ "from": "1.5", "to": "2.5" }]))]);
    let (whole, cut) = (pictures(&files[0]).unwrap(), pictures(&files[1]).unwrap());
    assert!((49..=51).contains(&cut.len()), "{}", cut.len());
    // On the grid of the output, a change may fall on either side of a moment half way between two ticks.
    let same = (0..cut.len().min(50)).filter(|place| (74..=76).any(|shift| whole.get(place + shift) == cut.get(*place))).count();
    assert_eq!(same, cut.len().min(50));
}

#[test]
fn marks_are_read_as_timecode_and_wrong_ones_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path.ends_with("kiln-07_firing_cam-a.mov")).unwrap();
    let name = clip.path;
    make(&Clip { seconds: 1, ..clip }, folder.path()).unwrap();
    let reading = probe(&source(folder.path(), name)).unwrap();
    let moment = |text: &str| reading.facts.moment(text).map(|time| time.to_string()).map_err(|error| error.to_string());
    assert_eq!(moment("10:00:00:05").as_deref(), Ok("1/5"), "the source's own timecode begins at 10:00:00:00");
    assert_eq!(moment("00:00:00:05").as_deref(), Ok("1/5"));
    assert_eq!(moment("0.48s").as_deref(), Ok("12/25"));
    assert!(moment("00:00:00:25").is_err() && moment("soon").is_err());
    let refused =
        |parts: Value| plan(&reading, &builtin("web-720").unwrap(), &json!({ "parts": parts })).unwrap_err().to_string();
    assert!(refused(json!([{ "from": "2", "to": "3" }])).contains("begins at 2.000 s, but the source is only 1.000 s long"));
    assert!(refused(json!([{ "from": "0.5", "to": "0.5" }])).contains("part 1 must begin"));
    assert!(refused(json!([{ "from": "0.5", "to": "0.8" }, { "from": "0.7", "to": "0.9" }])).contains("part 2 must begin"));
}

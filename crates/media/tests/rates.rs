//! Rates: what is constant is constant, what is a mean has a peak, and a decoder with the buffer that was planned never
//! waits for a picture.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::formats::level::Peak;
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_media::{Control, coded_sizes, encode, probe, silence_libraries};
use material::{Picture, lively_of, progressive, write};
use serde_json::{Value, json};
use uuid::Uuid;

const FPS: f64 = 25.0;
const SECONDS: usize = 6;
const KINDS: [(&str, &str); 3] = [("h264", "mp4"), ("hevc", "mp4"), ("mpeg2", "mkv")];

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// Seconds of hardly anything between seconds of strong noise.
fn uneven() -> Vec<Picture> {
    (0..SECONDS * FPS as usize)
        .map(|frame| {
            let hard = frame / FPS as usize % 3 == 1;
            let plain = Picture::plain(320, 240, 90).map(|x, y, _| (60 + (x + y + frame) % 120) as u8);
            plain.noisy(if hard { 40.0 } else { 1.0 }, frame as u64)
        })
        .collect()
}

fn planned(reading: &Reading, codec: &str, container: &str, rate: &Value) -> Plan {
    let picture = json!({ "codec": codec, "profile": null, "rate": rate, "size": { "rule": "same" } });
    plan(reading, &builtin("web-1080").unwrap(), &json!({ "container": container, "sound": null, "picture": picture })).unwrap()
}

fn made(folder: &Path, plan: &Plan) -> Vec<u64> {
    let output = source(folder, &format!("{}.{}", Uuid::now_v7(), plan.container.extension()));
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets: Vec::new() };
    let told = Mutex::new(None);
    encode(&source(folder, "film.y4m"), &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => *told.lock().unwrap() = Some(judge(plan, &measured)),
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem} {}", problem.details),
        _ => {}
    })
    .unwrap();
    let report = told.into_inner().unwrap().unwrap();
    assert!(report.wrong().next().is_none(), "{:?}", report.wrong().collect::<Vec<_>>());
    coded_sizes(&output).unwrap()
}

/// By how many bits at most a picture comes late for a decoder whose buffer is filled at this rate and was full at first.
fn lacking(sizes: &[u64], Peak { bits_per_second, buffer }: Peak) -> f64 {
    let (mut filled, mut worst) = (buffer as f64, 0.0_f64);
    for size in sizes {
        filled -= (size * 8) as f64;
        worst = worst.max(-filled);
        filled = (filled.max(0.0) + bits_per_second.0 as f64 / FPS).min(buffer as f64);
    }
    worst
}

#[test]
fn a_decoder_with_the_planned_buffer_never_waits_and_what_is_constant_is_filled() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("film.y4m"), &uneven(), (25, 1), 'p', "");
    let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    let constant = json!({ "mode": "constant", "bits_per_second": 1_200_000 });
    let mean = |passes: u8| json!({ "mode": "average", "bits_per_second": 900_000, "passes": passes });
    let peaked = json!({ "mode": "average", "bits_per_second": 900_000, "passes": 2, "peak": 1_200_000 });
    let mut wrong = Vec::new();
    for (codec, container) in KINDS {
        for (name, rate) in [
            ("constant", constant.clone()),
            ("mean", mean(1)),
            ("mean in two passes", mean(2)),
            ("mean with a peak", peaked.clone()),
        ] {
            let plan = planned(&reading, codec, container, &rate);
            let peak = plan.picture.as_ref().unwrap().peak.expect("every rate has a peak");
            let sizes = made(folder.path(), &plan);
            let bits = sizes.iter().sum::<u64>() as f64 * 8.0 / SECONDS as f64;
            let seconds: Vec<f64> = sizes.chunks(FPS as usize).map(|second| second.iter().sum::<u64>() as f64 * 8.0).collect();
            let most = seconds.iter().copied().fold(0.0, f64::max) / peak.bits_per_second.0 as f64;
            let late = lacking(&sizes, peak) / peak.buffer as f64;
            println!(
                "{codec} {name}: {:.0} kb/s, fullest second {most:.2} of the highest rate, late by {:.1} % of the buffer",
                bits / 1000.0,
                late * 100.0
            );
            if late > 0.01 {
                wrong.push(format!("{codec} {name}: {:.1} % of the buffer late", late * 100.0));
            }
            // What comes is what was said, but for what may be left in the buffer at the end.
            if name == "constant" && codec != "hevc" && (bits / 1_200_000.0 - 1.0).abs() > 0.06 {
                wrong.push(format!("{codec} {name}: {bits} bits a second"));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn of_material_that_is_as_hard_throughout_every_second_has_the_constant_rate() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let film = progressive(SECONDS * FPS as usize, FPS, |time| lively_of(320, 240, time).noisy(6.0, (time * FPS) as u64));
    write(&folder.path().join("film.y4m"), &film, (25, 1), 'p', "");
    let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    for (codec, container) in KINDS {
        let rate = 1_500_000_u32;
        let plan = planned(&reading, codec, container, &json!({ "mode": "constant", "bits_per_second": rate }));
        let sizes = made(folder.path(), &plan);
        let seconds: Vec<f64> =
            sizes.chunks(FPS as usize).map(|second| second.iter().sum::<u64>() as f64 * 8.0 / f64::from(rate)).collect();
        println!("{codec}: {seconds:.2?} of the rate");
        // The first one has what is in the buffer before anything is known.
        assert!(seconds[1..].iter().all(|part| (0.8..1.25).contains(part)), "{codec}: {seconds:.2?}");
        assert!((0.6..1.5).contains(&seconds[0]), "{codec}: {seconds:.2?}");
    }
}

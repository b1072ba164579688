//! Ten minutes at 30 frames a second, mixed to 29.97: at the end, picture and sound are still where the
//! source has them, to the millisecond. Sound at another speed ends with the sample that it should.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::time::Rational;
use beryl_media::{
    Control, RecordedPicture, RecordedSound, Recorder, Recording, encode, heard, pictures, probe, silence_libraries,
};
use serde_json::json;
use uuid::Uuid;

const WIDTH: u32 = 480;
const HEIGHT: u32 = 16;
const SECONDS: i64 = 600;
/// Columns by which a bar grows with each frame; after sixty frames it begins anew.
const STEP: usize = 8;
const PERIOD: usize = WIDTH as usize / STEP;
const RATE: u32 = 48_000;
/// When a click is heard.
const CLICK: usize = 599 * RATE as usize;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

fn record(path: &Path, seconds: i64) {
    let recording = Recording {
        format: "matroska",
        picture: Some(RecordedPicture {
            encoder: "ffv1",
            options: vec![],
            pixel_format: "yuv420p",
            width: WIDTH,
            height: HEIGHT,
            pixel_aspect: Rational::ONE,
            clock: Rational::constant(1, 30),
            rate: Rational::whole(30),
            fields: FieldOrder::Progressive,
            colour: Colour::default(),
        }),
        sounds: vec![RecordedSound { encoder: "pcm_s16le", sample_rate: RATE, channels: 1, language: None }],
        ..Recording::default()
    };
    let mut recorder = Recorder::begin(path, &recording).unwrap();
    for frame in 0..seconds as usize * 30 {
        let bar = (frame % PERIOD) * STEP * 3;
        let line: Vec<u8> = (0..WIDTH as usize * 3).map(|place| if place < bar { 255 } else { 0 }).collect();
        recorder.picture(&line.repeat(HEIGHT as usize), frame as i64, 1).unwrap();
        let first = frame * RATE as usize / 30;
        let samples: Vec<f32> =
            (first..first + RATE as usize / 30).map(|sample| if sample == CLICK { 0.9 } else { 0.0 }).collect();
        recorder.sound(0, &samples).unwrap();
    }
    recorder.finish().unwrap();
}

/// Makes all of these of one source, each of which passes its check.
fn make(folder: &Path, name: &str, plans: &[Plan]) -> Vec<SourceRef> {
    let outputs: Vec<SourceRef> = plans.iter().map(|_| source(folder, &Uuid::now_v7().to_string())).collect();
    let runs: Vec<EncodeRun> = plans
        .iter()
        .zip(&outputs)
        .map(|(plan, output)| EncodeRun {
            id: Uuid::now_v7(),
            plan: plan.clone(),
            outputs: vec![output.file.clone()],
            assets: Vec::new(),
        })
        .collect();
    let reports = Mutex::new(Vec::new());
    encode(&source(folder, name), &runs, folder, &Control::default(), &|event| {
        if let Event::Run { id, news: RunNews::Written { measured } } = event {
            let plan = &runs.iter().find(|run| run.id == id).unwrap().plan;
            reports.lock().unwrap().push(judge(plan, &measured));
        }
    })
    .unwrap();
    let reports = reports.into_inner().unwrap();
    assert!(reports.len() == plans.len() && reports.iter().all(|report| report.passed), "{reports:#?}");
    outputs
}

#[test]
fn ten_minutes_mixed_to_2997_end_in_sync_to_the_millisecond() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    record(&folder.path().join("long.mkv"), SECONDS);
    let reading = probe(&source(folder.path(), "long.mkv")).unwrap();
    let own = json!({
        "container": "mkv",
        "picture": {
            "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" },
            "frame_rate": { "rule": "constant", "rate": "30000/1001", "by": "blend" },
        },
        "sound": { "codec": "pcm16", "bits_per_second": null, "channels": "same" },
    });
    let plans = [
        plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap(),
        plan(&reading, &builtin("sound-only").unwrap(), &json!({})).unwrap(),
    ];
    let outputs = make(folder.path(), "long.mkv", &plans);

    // How far the bar has grown tells the moment of the source to a fraction of a frame.
    let made = pictures(&outputs[0]).unwrap();
    let rate = 30_000.0 / 1001.0;
    let mut apart = Vec::new();
    for (frame, picture) in made.iter().enumerate().skip(made.len() - 1001) {
        let white: f64 = picture.luma.iter().map(|code| f64::from(code.saturating_sub(16)) / 219.0).sum();
        let grown = white / f64::from(HEIGHT) / STEP as f64;
        let expected = frame as f64 / rate * 30.0;
        let off = (grown - expected).rem_euclid(PERIOD as f64);
        let off = if off > PERIOD as f64 / 2.0 { off - PERIOD as f64 } else { off };
        // Where the bar begins anew, two frames that have nothing in common are mixed.
        if off.abs() < 2.0 {
            apart.push(off / 30.0);
        }
    }
    assert!(apart.len() > 900, "{} of 1001 frames tell", apart.len());
    let mean = apart.iter().sum::<f64>() / apart.len() as f64;
    assert!(mean.abs() < 0.001, "the picture is {:.2} ms off over the last half minute", mean * 1e3);

    let bytes = std::fs::read(folder.path().join(outputs[1].file.path.to_string())).unwrap();
    let data = bytes.windows(4).position(|window| window == b"data").unwrap() + 8;
    let width = if plans[1].sound[0].codec.id == "pcm24" { 3 } else { 2 };
    let heard = bytes[data..].chunks_exact(width).position(|sample| sample[width - 1] as i8 > 50).unwrap();
    let off = (heard as f64 - CLICK as f64) / f64::from(RATE);
    assert!(off.abs() <= 0.001, "the click is {:.2} ms off", off * 1e3);
}

#[test]
fn sound_at_another_speed_ends_with_the_sample_that_it_should() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let seconds = 20;
    record(&folder.path().join("short.mkv"), seconds);
    let reading = probe(&source(folder.path(), "short.mkv")).unwrap();
    let speeds = [("percent", "104"), ("percent", "62.5"), ("to_rate", "24"), ("to_rate", "30000/1001"), ("to_rate", "50")];
    let plans = speeds.map(|(rule, value)| {
        let field = if rule == "percent" { "percent" } else { "rate" };
        let own = json!({
            "container": "mkv",
            "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "speed": { "rule": rule, field: value } },
            "sound": { "codec": "pcm16", "bits_per_second": null, "channels": "same" },
        });
        plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap()
    });
    for (plan, output) in plans.iter().zip(make(folder.path(), "short.mkv", &plans)) {
        assert_ne!(plan.speed, Rational::ONE);
        let sound = heard(&output, 0).unwrap();
        let samples: usize = sound.frames.iter().map(|(_, samples)| samples.len()).sum();
        let wanted = (Rational::whole(seconds) * Rational::whole(RATE.into())).divided_by(plan.speed).unwrap();
        assert_eq!(samples as i64, wanted.round(), "at {} times the speed", plan.speed.to_f64());
    }
}

//! From a file to checked outputs, on the command line.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::path::Path;

use beryl_core::preset::builtin_presets;
use beryl_core::protocol::{FileRef, ShownField, SourceRef, Still};
use beryl_core::time::Rational;
use beryl_worker::Engine;
use common::{beryl, clip, encode, names};
use serde_json::Value;

fn assert_all_checked(report: &Value, whole: bool, count: usize) {
    let outputs = report["outputs"].as_array().unwrap();
    assert_eq!(outputs.len(), count);
    for output in outputs {
        let failed: Vec<_> =
            output["check"]["items"].as_array().into_iter().flatten().filter(|item| item["passed"] == false).collect();
        assert!(output["problem"].is_null() && failed.is_empty(), "{}: {} {failed:?}", output["preset"], output["problem"]);
        assert!(output["size_after"].as_u64().unwrap() > 0);
    }
    assert!(whole);
}

fn every_preset(name: &str) {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), name, 1);
    let presets: Vec<String> = builtin_presets().into_iter().map(|preset| preset.id).collect();
    let (report, whole) = encode(&source, &presets.join(","), &folder.path().join("out"), &[]);
    assert_all_checked(&report, whole, presets.len());
    let written = names(&folder.path().join("out"));
    assert_eq!(written.len(), presets.len(), "{written:?}");
    assert!(written.iter().all(|name| !name.starts_with('.')), "{written:?}");
}

#[test]
fn an_interlaced_tape_becomes_every_preset() {
    every_preset("openday-94_tape-2.mov");
}

#[test]
fn a_recording_of_varying_rate_becomes_every_preset() {
    every_preset("glaze-db_screen.mp4");
}

#[test]
fn a_ten_bit_clip_becomes_every_preset() {
    every_preset("clip-0001.mov");
}

#[test]
fn ten_bit_422_in_mov_keeps_its_own_headers() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "clip-0001.mov", 1);
    let more = ["--set", "picture.profile=high422", "--set", "container=mov"];
    let (report, whole) = encode(&source, "same-h264", &folder.path().join("out"), &more);
    assert_all_checked(&report, whole, 1);
    let output = beryl(&["probe", report["outputs"][0]["file"].as_str().unwrap(), "--json"]);
    let reading: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(reading["streams"][0]["codec_tag"], "avc1");
    assert_eq!(reading["streams"][0]["content"]["pixel_format"], "yuv422p10le");
}

/// The first picture of a file as an image, written by the engine.
fn still(file: &Path, image: &Path) {
    let reference = |path: &Path| {
        FileRef::within(
            path.parent().unwrap().display().to_string(),
            path.file_name().unwrap().to_str().unwrap().parse().unwrap(),
        )
    };
    let source = SourceRef::of(reference(file));
    let wish =
        Still { at: Rational::ZERO, width: 960, field: ShownField::Both, shape: None, scope: None, output: reference(image) };
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async { Engine::locate().unwrap().still(&source, wish).await }).unwrap();
}

#[test]
fn an_image_sequence_becomes_a_film_of_all_its_images() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clip(folder.path(), "kiln-07_firing_cam-a.mov", 1);
    // Pictures of different moments, as numbered images.
    let images = folder.path().join("images");
    std::fs::create_dir(&images).unwrap();
    for number in 0..6 {
        let at = format!("0.{number}s");
        let till = format!("0.{}s", number + 1);
        let (report, whole) = encode(&clip, "master-keeper", &images, &["--in", &at, "--out", &till]);
        assert!(whole, "{report}");
        still(Path::new(report["outputs"][0]["file"].as_str().unwrap()), &images.join(format!("kiln_{number:03}.png")));
    }
    let first = images.join("kiln_000.png");
    let (report, whole) = encode(&first, "same-h264", &folder.path().join("out"), &["--sequence", "5"]);
    assert_all_checked(&report, whole, 1);
    // Pictures were looked at again, each decoded by itself.
    let items = report["outputs"][0]["check"]["items"].as_array().unwrap();
    let looked = items.iter().find(|item| item["what"] == "source looked at again").unwrap();
    assert_eq!(looked["grade"], "fine");
    assert!(looked["found"].as_str().unwrap().ends_with(" alike"), "{looked}");
    let frames = items.iter().find(|item| item["what"] == "frames written").unwrap();
    assert_eq!(frames["found"], "6");
}

#[test]
fn languages_chapters_and_tags_arrive() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "interview_odile_en-fr.mkv", 2);
    let (report, whole) = encode(&source, "delivery-hevc", &folder.path().join("out"), &["--set", "picture.effort=quick"]);
    assert_all_checked(&report, whole, 1);
    let output = beryl(&["probe", report["outputs"][0]["file"].as_str().unwrap(), "--json"]);
    let reading: Value = serde_json::from_slice(&output.stdout).unwrap();
    let languages: Vec<_> =
        reading["streams"].as_array().unwrap().iter().filter_map(|stream| stream["language"].as_str()).collect();
    assert!(languages.contains(&"eng") && languages.contains(&"fra"), "{languages:?}");
    assert_eq!(reading["chapters"].as_array().unwrap().len(), 2);
    assert_eq!(reading["tags"]["title"], "Odile on glazes");
}

#[test]
fn a_taken_name_follows_the_rule() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "glaze-db_screen.mp4", 1);
    let out = folder.path().join("out");
    for expected in [1, 2] {
        let (_, whole) = encode(&source, "sound-only", &out, &[]);
        assert!(whole);
        assert_eq!(names(&out).len(), expected);
    }
    let (report, whole) = encode(&source, "sound-only", &out, &["--if-exists", "skip"]);
    assert!(whole && report["outputs"][0]["skipped"] == true);
    let (_, whole) = encode(&source, "sound-only", &out, &["--if-exists", "replace"]);
    assert!(whole);
    assert_eq!(names(&out), ["glaze-db_screen_sound-only.wav", "glaze-db_screen_sound-only_2.wav"]);
}

#[test]
fn settings_are_obeyed_and_faults_in_them_explained() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "openday-94_tape-2.mov", 1);
    let file = source.to_str().unwrap();
    let plan = beryl(&[
        "plan",
        file,
        "--preset",
        "web-720",
        "--set",
        "picture.rate.crf=20",
        "--set",
        "picture.rate.mode=constant_quality",
        "--json",
    ]);
    let plan: Value = serde_json::from_slice(&plan.stdout).unwrap();
    let rate = plan["decisions"].as_array().unwrap().iter().find(|decision| decision["subject"] == "rate").unwrap();
    assert_eq!(rate["what"], "constant quality, CRF 20");
    assert_eq!(rate["origin"], "editor");
    let refused = beryl(&["plan", file, "--preset", "web-720", "--set", "picture.codec=prores"]);
    assert!(!refused.status.success());
    let words = String::from_utf8(refused.stderr).unwrap();
    assert!(words.contains("ProRes cannot stand in MP4: choose MOV or MKV."), "{words}");
}

//! What the commands that make nothing say: to people, to programs, and to nobody.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::process::{Command, Stdio};

use beryl_core::after::quality::{Comparison, IDENTICAL};
use beryl_core::preset::{Preset, builtin_presets};
use beryl_core::reading::Reading;
use common::{beryl, clip, encode};
use serde_json::Value;

fn words(arguments: &[&str]) -> String {
    let output = beryl(arguments);
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn a_file_is_described_for_people_and_for_programs() {
    let folder = tempfile::tempdir().unwrap();
    let file = clip(folder.path(), "interview_odile_en-fr.mkv", 2);
    let file = file.to_str().unwrap();
    let text = words(&["inspect", file]);
    for line in
        ["1280×720 · 25p · 2 languages", "Matroska", "aac LC · stereo · 48 kHz · fra", "subrip · subtitles", "Ash and salt"]
    {
        assert!(text.contains(line), "{line} is missing in:\n{text}");
    }
    let reading: Reading = serde_json::from_str(&words(&["inspect", file, "--json"])).unwrap();
    assert_eq!((reading.facts.streams.len(), reading.facts.chapters.len(), reading.facts.sounds().count()), (4, 2, 2));
    assert_eq!(reading.facts.size.0, std::fs::metadata(file).unwrap().len());
    // One file that is none does not take the others with it, but is told of.
    let output = beryl(&["inspect", "nowhere.mov"]);
    let fault = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success() && fault.contains("nowhere.mov"), "{fault}");
}

#[test]
fn presets_are_listed_and_their_documents_are_presets() {
    let text = words(&["presets"]);
    let documents: Vec<Preset> = serde_json::from_str(&words(&["presets", "--json"])).unwrap();
    assert_eq!(documents, builtin_presets());
    for preset in &documents {
        assert!(text.contains(&preset.id) && text.contains(&preset.use_when), "{} is missing in:\n{text}", preset.id);
    }
}

#[test]
fn presets_of_the_house_are_known_by_id_and_reports_name_the_file_that_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let own =
        Preset { id: "house-web".to_owned(), name_pattern: "<name> 100% <preset>".to_owned(), ..builtin_presets().remove(0) };
    std::fs::create_dir_all(folder.path().join("state/presets")).unwrap();
    std::fs::write(folder.path().join("state/presets/house-web.json"), serde_json::to_string(&own).unwrap()).unwrap();
    let state = folder.path().join("state").display().to_string();
    assert!(words(&["presets", "--state", &state]).contains("house-web"));
    let file = clip(folder.path(), "glaze-db_screen.mp4", 1);
    let (report, whole) = encode(&file, "house-web", &folder.path().join("out"), &["--state", &state]);
    let output = &report["outputs"][0];
    let made = output["file"].as_str().unwrap();
    assert!(whole && made.ends_with("glaze-db_screen 100% house-web.mp4"), "{report}");
    assert!(std::path::Path::new(made).is_file(), "{made}");
    let unknown = beryl(&["plan", file.to_str().unwrap(), "--preset", "house-film", "--state", &state]);
    let fault = String::from_utf8(unknown.stderr).unwrap();
    assert!(!unknown.status.success() && fault.contains("house-web"), "{fault}");
}

#[test]
fn a_plan_says_every_decision_with_its_reason_in_both_forms() {
    let folder = tempfile::tempdir().unwrap();
    let file = clip(folder.path(), "openday-94_tape-2.mov", 1);
    let arguments = ["plan", file.to_str().unwrap(), "--preset", "web-720"];
    let text = words(&arguments);
    let plan: Value = serde_json::from_str(&words(&[&arguments[..], &["--json"]].concat())).unwrap();
    let decisions = plan["decisions"].as_array().unwrap();
    assert!(decisions.len() >= 8);
    for decision in decisions {
        let line = format!("{}, because {}", decision["what"].as_str().unwrap(), decision["because"].as_str().unwrap());
        assert!(text.contains(&line), "{line} is missing in:\n{text}");
    }
    // What is asked for wrongly is refused with what would be right.
    for (wrong, right) in
        [("web-721", "web-720"), ("web-720 --set picture.crf=20", "unknown field"), ("web-720 --set crf", "name=value")]
    {
        let wrong: Vec<&str> = wrong.split(' ').collect();
        let output = beryl(&[&arguments[..3], &wrong[..]].concat());
        let fault = String::from_utf8(output.stderr).unwrap();
        assert!(!output.status.success() && fault.contains(right), "{wrong:?}: {fault}");
    }
}

#[test]
fn a_part_that_is_marked_is_made_and_held_against_its_source() {
    let folder = tempfile::tempdir().unwrap();
    let file = clip(folder.path(), "kiln-07_firing_cam-a.mov", 2);
    let out = folder.path().join("made");
    // The file's own timecode begins at 10:00:00:00; the second pair is in seconds.
    let marks = ["--in", "10:00:00:10", "--out", "10:00:01:00", "--in", "1.2s", "--out", "1.6s"];
    let (report, whole) = encode(&file, "same-h264,light-proxy", &out, &marks);
    assert!(whole, "{report}");
    let plan = &report["outputs"][0]["plan"];
    assert_eq!((plan["duration"].as_str(), plan["timecode"].as_str()), (Some("1"), Some("10:00:00:10")));
    let said = words(&[&["plan", file.to_str().unwrap(), "--preset", "web-720"][..], &marks].concat());
    assert!(said.contains("In and out: 10:00:00:10 to 10:00:01:00, then 10:00:01:05 to 10:00:01:15"), "{said}");
    for (wrong, why) in [(["--in", "10:00:05:00"], "only 2.000 s long"), (["--in", "soon"], "soon")] {
        let output = beryl(&[&["plan", file.to_str().unwrap(), "--preset", "web-720"][..], &wrong].concat());
        let fault = String::from_utf8(output.stderr).unwrap();
        assert!(!output.status.success() && fault.contains(why), "{fault}");
    }

    // The same file is the same to the bit; another part of it is not near.
    let same: Comparison =
        serde_json::from_str(&words(&["compare", file.to_str().unwrap(), file.to_str().unwrap(), "--json", "--frames"])).unwrap();
    assert!(same.frames.len() == 50 && same.frames.iter().all(|frame| frame.psnr >= IDENTICAL));
    let (full, _) = encode(&file, "same-h264", &out, &[]);
    let copy = full["outputs"][0]["file"].as_str().unwrap();
    let near: Comparison = serde_json::from_str(&words(&["compare", file.to_str().unwrap(), copy, "--json"])).unwrap();
    assert!(near.frames.is_empty() && near.quality.ssim > 0.9 && near.quality.psnr > 30.0, "{}", near.words());
    let text = words(&["compare", file.to_str().unwrap(), copy]);
    assert!(text.starts_with("50 frames: SSIM 0.9") && text.contains("Lowest at:"), "{text}");
}

#[test]
fn nobody_has_to_read_to_the_end() {
    for arguments in [&["presets"][..], &["presets", "--json"], &["describe"]] {
        let mut process = Command::new(env!("CARGO_BIN_EXE_beryl"))
            .args(arguments)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // Closed before anything is written, as by a pager that is left.
        drop(process.stdout.take());
        let output = process.wait_with_output().unwrap();
        assert!(
            output.status.success() && output.stderr.is_empty(),
            "{arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
}

#[test]
fn a_file_is_proved_and_its_size_foretold_without_a_server() {
    let folder = tempfile::tempdir().unwrap();
    let file = clip(folder.path(), "kiln-07_firing_cam-b.mp4", 20);
    let kept = folder.path().join("kept");
    let prove =
        ["prove", file.to_str().unwrap(), "--preset", "review-small,sound-only", "--keep", kept.to_str().unwrap(), "--json"];
    let proved = words(&prove);
    let proved: Vec<Value> = proved.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let [review, sound] = &proved[..] else { panic!("{proved:?}") };
    assert!(review["quality"]["ssim"].as_f64().unwrap() > 0.8 && sound["quality"].is_null(), "{proved:?}");
    assert!(review["parts"].as_array().unwrap().len() > 3, "{review}");
    let (report, _) = encode(&file, "review-small", &folder.path().join("out"), &[]);
    let (told, came) =
        (review["whole"]["forecast"]["size"].as_f64().unwrap(), report["outputs"][0]["size_after"].as_f64().unwrap());
    assert!((told / came - 1.0).abs() < 0.25, "{told} was foretold, it came to {came}");
    let first = std::fs::read(review["file"].as_str().unwrap()).unwrap();
    assert!(!first.is_empty());
    // What was kept is not overwritten by the next proof.
    let again = beryl(&prove);
    let fault = String::from_utf8(again.stderr).unwrap();
    assert!(!again.status.success() && fault.contains("there is a file of this name"), "{fault}");
    assert_eq!(std::fs::read(review["file"].as_str().unwrap()).unwrap(), first);
}

#[test]
fn a_folder_is_encoded_under_names_of_ones_own() {
    let folder = tempfile::tempdir().unwrap();
    let media = folder.path().join("media");
    for name in ["day-1", "day-2/.hidden"] {
        std::fs::create_dir_all(media.join(name)).unwrap();
    }
    let file = clip(&media.join("day-1"), "glaze-db_screen.mp4", 1);
    std::fs::copy(&file, media.join("day-2/other.mp4")).unwrap();
    std::fs::copy(&file, media.join("day-2/.hidden/no.mp4")).unwrap();
    std::fs::write(media.join("day-2/notes.txt"), "no media").unwrap();
    let (report, whole) = encode(&media, "review-small", &folder.path().join("out"), &["--name", "{folder}/{source}-small"]);
    assert!(whole, "{report}");
    let made: Vec<&str> = report["outputs"].as_array().unwrap().iter().map(|output| output["file"].as_str().unwrap()).collect();
    assert!(
        made.len() == 2 && made[0].ends_with("day-1/glaze-db_screen-small.mp4") && made[1].ends_with("day-2/other-small.mp4"),
        "{made:?}"
    );
}

#[test]
fn shells_and_the_manual_know_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let script = words(&["completion", "bash"]);
    assert!(script.contains("complete -F _beryl") && script.contains("take-out"), "{script}");
    words(&["manual", folder.path().to_str().unwrap()]);
    let page = std::fs::read_to_string(folder.path().join("beryl-sheet-deliver.1")).unwrap();
    assert!(page.starts_with(".ie") && page.contains("name\\-pattern") | page.contains("pattern of names"), "{page}");
}

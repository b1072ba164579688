//! What cannot be read or written gives a clear error, and nothing is lost or left behind.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::io::BufRead;
use std::path::Path;

use common::{beryl, clip, encode, names};
use serde_json::Value;

/// The one output's problem, after making sure that nothing was left in the folder for outputs but a file that is
/// withheld, and told of.
fn problem(file: &Path, folder: &Path) -> Value {
    let out = folder.join("out");
    let (report, whole) = encode(file, "review-small", &out, &[]);
    assert!(!whole, "{} was taken", file.display());
    let withheld = report["outputs"][0]["withheld"].as_str().map(Path::new);
    let told: Vec<String> = withheld.iter().map(|file| file.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names(&out), told, "something was left behind");
    let problem = report["outputs"][0]["problem"].clone();
    if let Some(file) = withheld {
        assert!(
            file.to_string_lossy().ends_with(".withheld") && problem["next"].as_str().unwrap().contains(file.to_str().unwrap())
        );
        std::fs::remove_file(file).unwrap();
    }
    for part in ["what", "why", "next"] {
        assert!(problem[part].as_str().is_some_and(|text| text.len() > 5), "no {part} in {problem}");
    }
    problem
}

#[test]
fn files_that_are_no_media_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let empty = folder.path().join("empty.mov");
    std::fs::write(&empty, b"").unwrap();
    assert_eq!(problem(&empty, folder.path())["why"], "it is empty");
    let text = folder.path().join("letter.mp4");
    std::fs::write(&text, "Dear glazers,\nthe kilns are cold.\n".repeat(200)).unwrap();
    assert_eq!(problem(&text, folder.path())["kind"], "not_media");
    assert_eq!(problem(folder.path(), folder.path())["kind"], "not_media");
    assert_eq!(problem(&folder.path().join("gone.mov"), folder.path())["kind"], "missing");
}

#[test]
fn lists_of_other_files_are_never_followed() {
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("secret.mp4");
    std::fs::copy(clip(folder.path(), "glaze-db_screen.mp4", 1), &secret).unwrap();
    let lists = [
        ("a.m3u8", "#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:10,\n/etc/passwd\n#EXT-X-ENDLIST\n".to_owned()),
        ("b.m3u8", "#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:10,\nhttp://127.0.0.1:9/a.ts\n#EXT-X-ENDLIST\n".to_owned()),
        ("c.mp4", format!("ffconcat version 1.0\nfile '{}'\n", secret.display())),
        ("d.mov", format!("#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:1,\n{}\n#EXT-X-ENDLIST\n", secret.display())),
    ];
    for (name, text) in lists {
        let list = folder.path().join(name);
        std::fs::write(&list, text).unwrap();
        let problem = problem(&list, folder.path());
        assert_eq!(problem["kind"], "refers_elsewhere", "{name}: {problem}");
    }
}

#[test]
fn a_file_cut_short_at_any_place_is_told_of() {
    let folder = tempfile::tempdir().unwrap();
    // Its index stands in front, so that the file opens wherever it is cut after that.
    let (report, _) = encode(&clip(folder.path(), "glaze-db_screen.mp4", 2), "web-720", &folder.path().join("whole"), &[]);
    let whole = std::fs::read(report["outputs"][0]["file"].as_str().unwrap()).unwrap();
    for part in 1..=10 {
        let cut = folder.path().join(format!("cut-{part}.mp4"));
        std::fs::write(&cut, &whole[..whole.len() * part / 11]).unwrap();
        let problem = problem(&cut, folder.path());
        let kind = problem["kind"].as_str().unwrap();
        assert!(["cut_short", "not_media"].contains(&kind), "cut at {part}/11: {problem}");
        // All of the sound may lie before the cut.
        let (report, whole) = encode(&cut, "sound-only", &folder.path().join("sound"), &[]);
        let output = &report["outputs"][0];
        let told = if whole {
            output["check"]["items"].as_array().unwrap().iter().any(|item| item["what"] == "source file")
        } else {
            ["cut_short", "not_media"].contains(&output["problem"]["kind"].as_str().unwrap())
        };
        assert!(told, "sound, cut at {part}/11: {report}");
    }
    // Where the editor says so, all that is there is made.
    let (report, whole) =
        encode(&folder.path().join("cut-5.mp4"), "review-small", &folder.path().join("out"), &["--set", "salvage=true"]);
    assert!(whole, "{report}");
    let notes = report["outputs"][0]["check"]["items"].as_array().unwrap();
    let noted = notes.iter().find(|item| item["grade"] == "noted").unwrap();
    assert!(noted["why"].as_str().unwrap().contains("salvaged") || noted["what"] == "frames", "{noted}");
}

#[test]
fn a_file_that_vanishes_between_two_passes_is_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "kiln-07_firing_cam-b.mp4", 2);
    let out = folder.path().join("out");
    let mut running = std::process::Command::new(env!("CARGO_BIN_EXE_beryl"))
        .args(["encode", source.to_str().unwrap(), "--preset", "web-1080", "--into", out.to_str().unwrap(), "--json"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    // The first pass is under way when it tells how far it is.
    let mut told = std::io::BufReader::new(running.stdout.take().unwrap()).lines().map(Result::unwrap);
    told.find(|line| line.contains("\"progress\"")).unwrap();
    std::fs::remove_file(&source).unwrap();
    let report: Value = serde_json::from_str(&told.last().unwrap()).unwrap();
    assert!(!running.wait().unwrap().success());
    assert_eq!(report["outputs"][0]["problem"]["kind"], "missing", "{report}");
    assert_eq!(names(&out), Vec::<String>::new());
}

#[test]
fn a_full_disk_and_a_read_only_folder_are_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "openday-94_tape-2.mov", 2);
    let small = folder.path().join("small");
    std::fs::create_dir(&small).unwrap();
    let mounted =
        std::process::Command::new("mount").args(["-t", "tmpfs", "-o", "size=2m", "tmpfs"]).arg(&small).status().unwrap();
    assert!(mounted.success(), "a small disk is needed for this test, and only root can make one");
    let (report, whole) = encode(&source, "master-keeper", &small.join("out"), &[]);
    let left = names(&small.join("out"));
    assert!(std::process::Command::new("umount").arg(&small).status().unwrap().success());
    assert!(!whole);
    assert_eq!(report["outputs"][0]["problem"]["kind"], "disk_full", "{report}");
    assert_eq!(left, Vec::<String>::new());

    let locked = folder.path().join("locked");
    std::fs::create_dir(&locked).unwrap();
    let bound = std::process::Command::new("mount").args(["-t", "tmpfs", "-o", "ro", "tmpfs"]).arg(&locked).status().unwrap();
    assert!(bound.success());
    let output = encode(&source, "sound-only", &locked, &[]);
    assert!(std::process::Command::new("umount").arg(&locked).status().unwrap().success());
    assert!(!output.1);
    assert_eq!(output.0["outputs"][0]["problem"]["kind"], "denied", "{}", output.0);
}

#[test]
fn pipes_and_links_that_lead_outside_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let pipe = folder.path().join("pipe.mov");
    nix::unistd::mkfifo(&pipe, nix::sys::stat::Mode::S_IRWXU).unwrap();
    let refused = beryl(&["probe", pipe.to_str().unwrap()]);
    assert!(!refused.status.success());
    assert!(String::from_utf8_lossy(&refused.stderr).contains("it is a device or a pipe"));
    let link = folder.path().join("outside.mov");
    std::os::unix::fs::symlink("/etc/passwd", &link).unwrap();
    assert!(!beryl(&["probe", link.to_str().unwrap()]).status.success());
}

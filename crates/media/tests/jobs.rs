//! Jobs from inside the process: what is recorded is read again, what is made together equals what
//! is made alone, and whoever cancels finds nothing left.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use beryl_core::after::check::judge;
use beryl_core::after::memory::{self, Means};
use beryl_core::formats::iso::box_at;
use beryl_core::picture::FieldOrder;
use beryl_core::plan::{Plan, Step, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::problem::ProblemKind;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, Sequence, ShownField, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_core::units::ByteSize;
use beryl_demo::{Clip, clips, make};
use beryl_media::{Control, Outputs, StillWish, encode, encode_into, means_of_machine, probe, still};
use serde_json::json;
use uuid::Uuid;

fn file(folder: &Path, name: &str) -> FileRef {
    FileRef::within(folder.display().to_string(), name.parse().unwrap())
}

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(file(folder, name))
}

/// A demo clip of `seconds` in `folder`.
fn clip(folder: &Path, name: &str, seconds: i64) -> SourceRef {
    let clip = clips().into_iter().find(|clip| clip.path.ends_with(name)).unwrap();
    let path = clip.path;
    make(&Clip { seconds, ..clip }, folder).unwrap();
    source(folder, path)
}

fn run(folder: &Path, name: &str, plan: Plan) -> EncodeRun {
    EncodeRun { id: Uuid::now_v7(), plan, outputs: vec![file(folder, name)], assets: Vec::new() }
}

fn planned(reading: &Reading, preset: &str) -> Plan {
    plan(reading, &builtin(preset).unwrap(), &json!({})).unwrap()
}

#[test]
fn every_demo_clip_reads_as_it_was_recorded() {
    let folder = tempfile::tempdir().unwrap();
    let facts = |name: &str| {
        let reading = probe(&clip(folder.path(), name, 1)).unwrap();
        let (stream, picture) = reading.facts.picture().map(|(stream, picture)| (stream.clone(), picture.clone())).unwrap();
        (reading, stream, picture)
    };
    let (reading, stream, picture) = facts("kiln-07_firing_cam-a.mov");
    assert_eq!((stream.codec.as_str(), picture.depth, picture.width, picture.height), ("prores", 10, 1920, 1080));
    assert_eq!((reading.facts.timecode.as_deref(), reading.facts.reel.as_deref()), (Some("10:00:00:00"), Some("A007")));
    assert_eq!(reading.facts.tags.get("title").map(String::as_str), Some("Kiln 7, first firing"));

    let (_, stream, picture) = facts("openday-94_tape-2.mov");
    assert_eq!((stream.codec.as_str(), picture.field_order), ("mpeg2video", FieldOrder::TopFirst));
    assert_eq!((picture.width, picture.height, picture.pixel_aspect), (720, 576, Rational::constant(16, 15)));

    let (_, _, picture) = facts("works-film_1973_r1.mov");
    assert_eq!((picture.field_order, picture.frame_rate), (FieldOrder::BottomFirst, Some(Rational::constant(30_000, 1001))));

    let (_, _, picture) = facts("glaze-db_screen.mp4");
    assert!(picture.varies);

    let (reading, _, _) = facts("interview_odile_en-fr.mkv");
    let languages: Vec<_> = reading.facts.sounds().map(|(stream, _)| stream.language.clone().unwrap_or_default()).collect();
    assert_eq!(languages, ["eng", "fra"]);
    assert!(
        reading
            .facts
            .streams
            .iter()
            .any(|stream| stream.content == beryl_core::facts::Content::Subtitles { are_pictures: false })
    );
    assert!(!reading.facts.chapters.is_empty());
}

#[test]
fn outputs_made_together_equal_those_made_alone_to_the_byte() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "openday-94_tape-2.mov", 1);
    let reading = probe(&source).unwrap();
    // What the H.264 library itself makes the same every time: not all frame sizes, and no mean rate, which has a buffer
    // to hold, so that its threads look at each other's work.
    let presets = ["same-h264", "light-proxy", "edit-friendly", "sound-only"];
    let together: Vec<EncodeRun> =
        presets.iter().map(|preset| run(folder.path(), &format!("{preset}-together.part"), planned(&reading, preset))).collect();
    let failed = Mutex::new(Vec::new());
    let tell = |event: Event| {
        if let Event::Run { news: RunNews::Failed { problem }, .. } = event {
            failed.lock().unwrap().push(problem);
        }
    };
    encode(&source, &together, folder.path(), &Control::default(), &tell).unwrap();
    for preset in presets {
        let alone = run(folder.path(), &format!("{preset}-alone.part"), planned(&reading, preset));
        encode(&source, std::slice::from_ref(&alone), folder.path(), &Control::default(), &tell).unwrap();
        let read = |kind: &str| std::fs::read(folder.path().join(format!("{preset}-{kind}.part"))).unwrap();
        let (one, other) = (read("alone"), read("together"));
        assert!(one.len() > 1000 && one == other, "{preset}: {} and {} bytes differ", one.len(), other.len());
    }
    assert!(failed.lock().unwrap().is_empty(), "{failed:?}");
}

#[test]
fn what_does_not_fit_the_memory_together_is_made_one_after_the_other() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "openday-94_tape-2.mov", 1);
    let reading = probe(&source).unwrap();
    let presets = ["same-h264", "edit-friendly", "light-proxy"];
    let make = |means: Means, name: &str| -> Vec<Vec<u8>> {
        let names: Vec<String> = presets.iter().map(|preset| format!("{name}-{preset}.part")).collect();
        let runs: Vec<EncodeRun> =
            presets.iter().zip(&names).map(|(preset, name)| run(folder.path(), name, planned(&reading, preset))).collect();
        let written = Mutex::new(Vec::new());
        encode_into(&source, &runs, Outputs::create(&runs), folder.path(), means, &Control::default(), &|event| {
            if let Event::Run { news: RunNews::Written { .. }, id } = event {
                written.lock().unwrap().push(id);
            }
        })
        .unwrap();
        assert_eq!(written.into_inner().unwrap().len(), presets.len());
        names.iter().map(|name| std::fs::read(folder.path().join(name)).unwrap()).collect()
    };
    let wide = means_of_machine(1);
    let narrow = Means { memory: ByteSize(1), ..wide };
    let plans = presets.map(|preset| planned(&reading, preset));
    assert_eq!(memory::groups(&plans.each_ref(), narrow).len(), presets.len());
    assert_eq!(memory::groups(&plans.each_ref(), wide).len(), 1);
    for ((one, other), preset) in make(narrow, "narrow").into_iter().zip(make(wide, "wide")).zip(presets) {
        assert!(one == other, "{preset} differs by how it was made");
    }
}

#[test]
fn key_frames_are_never_farther_apart_than_planned() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "kiln-07_firing_cam-b.mp4", 3);
    let reading = probe(&source).unwrap();
    let small = json!({ "rule": "fit", "width": 320, "height": 180 });
    let mut runs = Vec::new();
    for codec in ["h264", "hevc", "mpeg2"] {
        for frames in [1, 2, 3, 12, 13, 50] {
            let seconds = Rational::new(frames, 25).unwrap();
            let own = json!({ "container": "mkv", "sound": null, "picture": {
                "codec": codec, "profile": null, "size": small, "key_interval": seconds, "effort": "quick",
                "frame_rate": { "rule": "same" } } });
            let plan = plan(&reading, &builtin("same-h264").unwrap(), &own).unwrap();
            runs.push(run(folder.path(), &format!("{codec}-{frames}.part"), plan));
        }
    }
    let wrong = Mutex::new(Vec::new());
    let seen = Mutex::new(0);
    encode(&source, &runs, folder.path(), &Control::default(), &|event| {
        let Event::Run { news: RunNews::Written { measured }, id } = event else { return };
        let plan = &runs.iter().find(|run| run.id == id).unwrap().plan;
        let planned = u64::from(plan.picture.as_ref().unwrap().key_interval_frames);
        let found = measured[0].streams[0].longest_group;
        *seen.lock().unwrap() += 1;
        // Nor much nearer: what cannot be entered in between is what makes files small.
        if found > planned || found + 2 < planned {
            wrong.lock().unwrap().push(format!("{}: {found} instead of {planned}", plan.codec_word()));
        }
    })
    .unwrap();
    assert_eq!((wrong.into_inner().unwrap(), seen.into_inner().unwrap()), (Vec::new(), runs.len()));
}

/// The boxes of a file, in their order.
fn boxes(file: &Path) -> Vec<(String, u64)> {
    let bytes = std::fs::read(file).unwrap();
    let mut read = |at: u64, length: usize| {
        let at = usize::try_from(at).unwrap().min(bytes.len());
        bytes[at..bytes.len().min(at + length)].to_vec()
    };
    let mut at = 0;
    let mut found = Vec::new();
    while let Some(one) = box_at(&mut read, at) {
        let end = one.end.unwrap_or(bytes.len() as u64);
        found.push((String::from_utf8_lossy(&one.kind).into_owned(), end - at));
        at = end;
    }
    assert_eq!(at, bytes.len() as u64, "{found:?}");
    found
}

#[test]
fn picture_and_sound_in_files_of_their_own_are_made_together_or_not_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path == "interview_odile_en-fr.mkv").unwrap();
    make(&Clip { seconds: 2, ..clip }.with_sound_repeated(2), folder.path()).unwrap();
    let source = source(folder.path(), "interview_odile_en-fr.mkv");
    let reading = probe(&source).unwrap();
    let own = json!({
        "picture": { "size": { "rule": "fit", "width": 192, "height": 108 }, "effort": "quick" },
        "sound": { "codec": "pcm24", "bits_per_second": null, "streams": "all", "files": "apart" },
    });
    let apart = plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap();
    let endings: Vec<String> = apart.artifacts().iter().map(|artifact| artifact.ending()).collect();
    assert_eq!(endings, [".mp4", "_A1.wav", "_A2.wav", "_A3.wav", "_A4.wav"]);
    let together = planned(&reading, "sound-only");
    let in_files = |prefix: &str, plan: &Plan| EncodeRun {
        outputs: endings.iter().map(|ending| file(folder.path(), &format!("{prefix}{ending}"))).collect(),
        ..run(folder.path(), "", plan.clone())
    };
    // The name of one file of the second run is taken: it leaves that file, and none of its own.
    std::fs::write(folder.path().join("taken_A3.wav"), "somebody's").unwrap();
    let runs = [in_files("made", &apart), in_files("taken", &apart), run(folder.path(), "alone.wav", together)];
    let (written, failed) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
    encode(&source, &runs, folder.path(), &Control::default(), &|event| match event {
        Event::Run { id, news: RunNews::Written { measured } } => written.lock().unwrap().push((id, measured)),
        Event::Run { id, news: RunNews::Failed { .. } } => failed.lock().unwrap().push(id),
        _ => {}
    })
    .unwrap();
    assert_eq!(failed.into_inner().unwrap(), [runs[1].id]);
    let written = written.into_inner().unwrap();
    assert_eq!(written.len(), 2);
    let (_, measured) = written.iter().find(|(id, _)| *id == runs[0].id).unwrap();
    assert_eq!(measured.len(), 5);
    let report = judge(&apart, measured);
    assert!(report.passed && report.notes() == 0, "{report:#?}");
    assert_eq!(report.size.0, measured.iter().map(|file| file.facts.size.0).sum::<u64>());
    assert!(report.items.iter().any(|item| item.what == "A4: sound codec" && item.found == "pcm_s24le"), "{report:#?}");
    // A missing file, or the wrong one in its place, is seen.
    assert!(!judge(&apart, &measured[..4]).passed);
    let mut mixed = measured.clone();
    mixed.swap(0, 1);
    assert!(!judge(&apart, &mixed).passed);
    let bytes = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    assert_eq!(bytes("taken_A3.wav"), b"somebody's");
    let names = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    assert_eq!(names.filter(|name| name.starts_with("taken")).collect::<Vec<_>>(), ["taken_A3.wav"]);
    // Beside the picture stands what a file of sound alone holds.
    assert!(bytes("made_A1.wav") == bytes("alone.wav") && bytes("made_A2.wav") != bytes("alone.wav"));
}

#[test]
fn an_index_goes_into_the_room_in_front_and_where_that_is_too_small_the_media_make_way() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "interview_odile_en-fr.mkv", 12);
    let reading = probe(&source).unwrap();
    let own = json!({ "picture": { "size": { "rule": "fit", "width": 192, "height": 108 }, "effort": "quick" } });
    let fitting = plan(&reading, &builtin("review-small").unwrap(), &own).unwrap();
    let mut wrong = fitting.clone();
    let picture = wrong.picture.as_mut().unwrap();
    (picture.frames, picture.frames_are_counted) = (None, false);
    wrong.duration = None;
    for (name, plan) in [("fitting.part", fitting), ("wrong.part", wrong)] {
        let runs = [run(folder.path(), name, plan)];
        let found = Mutex::new(None);
        encode(&source, &runs, folder.path(), &Control::default(), &|event| match event {
            Event::Run { news: RunNews::Written { measured }, .. } => *found.lock().unwrap() = Some(measured),
            Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem}"),
            _ => {}
        })
        .unwrap();
        let measured = found.into_inner().unwrap().unwrap();
        assert_eq!((measured[0].index_in_front, measured[0].streams[0].packets), (Some(true), 300), "{name}");
        let kinds: Vec<(String, u64)> = boxes(&folder.path().join(name));
        let order: Vec<&str> = kinds.iter().map(|(kind, _)| kind.as_str()).collect();
        println!("{name}: {kinds:?}");
        assert_eq!(order[..3], ["ftyp", "moov", "free"], "{name}");
        let (index, free) = (kinds[1].1, kinds[2].1);
        // The media lay behind too little room, which is left empty now.
        assert_eq!(name == "wrong.part", free + 64 < index, "{name}: {kinds:?}");
        assert!(free < index + 8192, "{name}: {free} bytes stay free behind an index of {index}");
    }
}

#[test]
fn a_step_that_cannot_be_done_fails_its_own_run_alone() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "kiln-07_firing_cam-b.mp4", 1);
    let reading = probe(&source).unwrap();
    let mut broken = planned(&reading, "light-proxy");
    let beyond = Step::Crop { x: 0, y: 0, width: 60_000, height: 60_000 };
    broken.picture.as_mut().unwrap().steps.push(beyond);
    let runs = [run(folder.path(), "broken.part", broken), run(folder.path(), "sound.part", planned(&reading, "light-proxy"))];
    let (failed, written) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
    encode(&source, &runs, folder.path(), &Control::default(), &|event| match event {
        Event::Run { id, news: RunNews::Failed { problem } } => failed.lock().unwrap().push((id, problem.what)),
        Event::Run { id, news: RunNews::Written { .. } } => written.lock().unwrap().push(id),
        _ => {}
    })
    .unwrap();
    let failed = failed.into_inner().unwrap();
    assert!(failed.len() == 1 && failed[0].0 == runs[0].id && failed[0].1.contains("picture steps"), "{failed:?}");
    assert_eq!(written.into_inner().unwrap(), [runs[1].id]);
    assert!(!folder.path().join("broken.part").exists());
}

#[test]
fn a_cancelled_job_ends_soon_and_leaves_nothing_and_one_run_goes_without_the_others() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "kiln-07_firing_cam-b.mp4", 3);
    let reading = probe(&source).unwrap();
    let work = |name: &str| run(folder.path(), name, planned(&reading, "delivery-hevc"));

    let (one, other) = (work("one.part"), run(folder.path(), "other.part", planned(&reading, "review-small")));
    let control = Control::default();
    let ends = Mutex::new(Vec::new());
    let told = |event: Event| match event {
        Event::Run { id, news: RunNews::Progress { progress } } if id == one.id && progress.frames > 0 => {
            control.cancel_run(one.id)
        }
        Event::Run { id, news: RunNews::Failed { problem } } => ends.lock().unwrap().push((id, Some(problem.kind))),
        Event::Run { id, news: RunNews::Written { .. } } => ends.lock().unwrap().push((id, None)),
        _ => {}
    };
    encode(&source, &[one.clone(), other.clone()], folder.path(), &control, &told).unwrap();
    let mut ends = ends.into_inner().unwrap();
    ends.sort_by_key(|(id, _)| *id != one.id);
    assert_eq!(ends, [(one.id, Some(ProblemKind::Cancelled)), (other.id, None)]);
    assert!(!folder.path().join("one.part").exists() && folder.path().join("other.part").exists());

    let all = work("all.part");
    let control = Control::default();
    let cancelled = Mutex::new(None);
    let told = |event: Event| {
        if matches!(event, Event::Run { news: RunNews::Progress { progress }, .. } if progress.frames > 0) {
            cancelled.lock().unwrap().get_or_insert_with(Instant::now);
            control.cancel();
        }
    };
    encode(&source, &[all], folder.path(), &control, &told).unwrap();
    let took = cancelled.into_inner().unwrap().unwrap().elapsed();
    // The engine ends the process after 0.7 s where a codec is slower; here nothing ends it.
    assert!(took < Duration::from_secs(10), "it took {took:?} to stop");
    assert!(!folder.path().join("all.part").exists());
}

fn wish(frame: i64, output: &FileRef) -> StillWish<'_> {
    StillWish { at: Rational::constant(frame, 25), width: 480, field: ShownField::Both, shape: None, scope: None, output }
}

#[test]
fn numbered_images_are_a_source_and_stills_come_from_their_moment() {
    let folder = tempfile::tempdir().unwrap();
    let film = clip(folder.path(), "reel-11_grey.mov", 1);
    for number in 0_i64..12 {
        let output = file(folder.path(), &format!("frame_{number:04}.jpg"));
        still(&film, wish(number, &output), folder.path()).unwrap();
    }
    // Pictures of different moments differ; the same moment twice is the same picture.
    let picture = |number: i32| std::fs::read(folder.path().join(format!("frame_{number:04}.jpg"))).unwrap();
    assert_ne!(picture(0), picture(11));
    still(&film, wish(11, &file(folder.path(), "again.jpg")), folder.path()).unwrap();
    assert!(std::fs::read(folder.path().join("again.jpg")).unwrap() == picture(11));

    let sequence = SourceRef {
        sequence: Some(Sequence { count: 12, rate: Rational::whole(25) }),
        ..SourceRef::of(file(folder.path(), "frame_0000.jpg"))
    };
    let reading = probe(&sequence).unwrap();
    let (_, facts) = reading.facts.picture().unwrap();
    assert_eq!((facts.width, facts.frames, facts.frame_rate), (480, Some(12), Some(Rational::whole(25))));
    let made = run(folder.path(), "sequence.part", planned(&reading, "review-small"));
    let frames = Mutex::new(None);
    encode(&sequence, std::slice::from_ref(&made), folder.path(), &Control::default(), &|event| {
        if let Event::Run { news: RunNews::Written { measured }, .. } = event {
            *frames.lock().unwrap() = Some(measured[0].streams[0].packets);
        }
    })
    .unwrap();
    assert_eq!(frames.into_inner().unwrap(), Some(12));
}

#[test]
fn notes_of_first_passes_go_where_they_are_told_whatever_the_folder_is_called() {
    let folder = tempfile::tempdir().unwrap();
    let source = clip(folder.path(), "glaze-db_screen.mp4", 1);
    let reading = probe(&source).unwrap();
    let notes = folder.path().join("it's: a\\folder");
    std::fs::create_dir(&notes).unwrap();
    let two_passes = |preset: &str| {
        let average = json!({ "picture": { "rate": { "mode": "average", "bits_per_second": 400_000, "passes": 2 } } });
        let plan = plan(&reading, &builtin(preset).unwrap(), &average).unwrap();
        assert_eq!(plan.passes(), 2);
        run(folder.path(), &format!("{preset}.part"), plan)
    };
    let runs = [two_passes("web-720"), two_passes("delivery-hevc")];
    let written = Mutex::new(0);
    encode(&source, &runs, &notes, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { .. }, .. } => *written.lock().unwrap() += 1,
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem}"),
        _ => {}
    })
    .unwrap();
    assert_eq!(written.into_inner().unwrap(), 2);
    let files = std::fs::read_dir(&notes).unwrap().count();
    assert!(files >= 3, "only {files} files of notes: two of H.264, one or more of HEVC");
}

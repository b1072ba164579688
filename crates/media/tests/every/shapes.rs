//! Pictures of every rate and shape in every codec and container: made as planned, or refused in the plan.

use std::io::Write as _;
use std::path::Path;

use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_core::timeline::Remark;
use beryl_media::{probe, silence_libraries};
use serde_json::{Value, json};

use crate::making::{Recorded, fault, made_with_remarks, source};

/// Six pictures in which a bright square moves.
fn write(path: &Path, (width, height): (usize, usize), rate: &str, aspect: &str) {
    let mut out = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
    writeln!(out, "YUV4MPEG2 W{width} H{height} F{rate} Ip A{aspect} C420jpeg").unwrap();
    for number in 0..6 {
        out.write_all(b"FRAME\n").unwrap();
        let bright = |place: usize| (place % width).abs_diff(number * width / 6) < 8 && (place / width) < height / 2;
        let luma: Vec<u8> = (0..width * height).map(|place| if bright(place) { 200 } else { 60 }).collect();
        out.write_all(&luma).unwrap();
        out.write_all(&vec![128; 2 * width.div_ceil(2) * height.div_ceil(2)]).unwrap();
    }
}

/// Settings of every codec in every container that holds it.
fn kinds() -> Vec<(String, Value)> {
    let codecs = [
        ("h264", json!({ "mode": "constant_quality", "crf": 20 }), vec!["mp4", "mov", "mkv"]),
        ("hevc", json!({ "mode": "constant_quality", "crf": 20 }), vec!["mp4", "mov", "mkv"]),
        ("mpeg2", json!({ "mode": "constant_quality", "crf": 4 }), vec!["mp4", "mov", "mkv"]),
        ("prores", json!({ "mode": "by_profile" }), vec!["mov", "mkv"]),
        ("ffv1", json!({ "mode": "by_profile" }), vec!["mov", "mkv"]),
    ];
    let settings = |(codec, rate, containers): (&'static str, Value, Vec<&'static str>)| {
        containers.into_iter().map(move |container| {
            let picture = json!({ "codec": codec, "profile": null, "rate": rate, "size": { "rule": "same" },
                "effort": "quick", "pixel_aspect": "keep" });
            (format!("{codec} {container}"), json!({ "container": container, "sound": null, "picture": picture }))
        })
    };
    codecs.into_iter().flat_map(settings).collect()
}

fn all_of(folder: &Path, reading: &Reading, name: &str, wrong: &mut Vec<String>, refused: &mut Vec<String>) {
    for (kind, own) in kinds() {
        match plan(reading, &builtin("web-1080").unwrap(), &own) {
            Ok(plan) => wrong.extend(fault(folder, "film.y4m", &plan).map(|fault| format!("{name} {kind}: {fault}"))),
            Err(error) => refused.push(format!("{name} {kind}: {error}")),
        }
    }
}

#[test]
fn every_rate_and_shape_is_made_in_every_codec_and_container_or_refused_in_the_plan() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let rates = [
        "1:10",
        "1:2",
        "1:1",
        "5:1",
        "15:2",
        "10:1",
        "12:1",
        "25:2",
        "15000:1001",
        "15:1",
        "24000:1001",
        "24:1",
        "25:1",
        "26777:1000",
        "30000:1001",
        "2997:100",
        "30:1",
        "48000:1001",
        "48:1",
        "50:1",
        "60000:1001",
        "60:1",
        "100:1",
        "120000:1001",
        "120:1",
        "3747:20",
        "240000:1001",
        "240:1",
        "1000:1",
        "1000000:33333",
        "19001:317",
        "90000:3003",
    ];
    let shapes = [
        ((720, 576), "16:15"),
        ((720, 576), "64:45"),
        ((720, 576), "12:11"),
        ((720, 480), "40:33"),
        ((720, 480), "10:11"),
        ((720, 480), "8:9"),
        ((160, 120), "213:160"),
        ((144, 108), "4:3"),
        ((352, 288), "128:117"),
        ((64, 64), "1:2"),
        ((64, 64), "2:1"),
        ((64, 64), "1000:999"),
        ((64, 64), "32767:32766"),
        ((64, 64), "100003:99991"),
        // Fewer than one line, and fewer than one column.
        ((64, 64), "255:1"),
        ((64, 64), "1:255"),
        ((64, 64), "0:0"),
        ((66, 50), "5:7"),
        ((17, 97), "1:1"),
        ((98, 64), "1:1"),
        ((811, 613), "1:1"),
        ((4096, 64), "1:1"),
        ((16, 2048), "1:1"),
    ];
    let (mut wrong, mut refused) = (Vec::new(), Vec::new());
    for rate in rates {
        write(&folder.path().join("film.y4m"), (64, 64), rate, "1:1");
        let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
        all_of(folder.path(), &reading, rate, &mut wrong, &mut refused);
    }
    for (size, aspect) in shapes {
        write(&folder.path().join("film.y4m"), size, "25:1", aspect);
        let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
        all_of(folder.path(), &reading, &format!("{size:?} {aspect}"), &mut wrong, &mut refused);
    }
    let untrue = |told: &&String| !told.contains("MPEG-2 has no frame rate of") && !told.contains("MPEG-2 cannot say 4096×64");
    assert_eq!(refused.iter().find(untrue), None);
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}

#[test]
fn a_part_that_lies_where_pictures_have_another_size_gets_the_planned_one() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let recorded = |size, stamps| Recorded {
        format: "mpegts",
        picture: "mpeg2video",
        sound: "mp2",
        size,
        stamps,
        sound_stamps: stamps,
        ..Recorded::default()
    };
    let whole = folder.path().join("film.y4m");
    recorded((64, 64), |time| time).record(&whole);
    let mut bytes = std::fs::read(&whole).unwrap();
    recorded((96, 48), |time| time + Rational::whole(2)).record(&whole);
    bytes.extend(std::fs::read(&whole).unwrap());
    std::fs::write(&whole, bytes).unwrap();
    let mut reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    reading.facts.duration = Some(Rational::whole(4));
    for (kind, mut own) in kinds() {
        own["parts"] = json!([{ "from": "2.6", "to": "3.4" }]);
        let plan = plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap();
        let made = made_with_remarks(folder.path(), "film.y4m", &plan);
        let (output, remarks) = made.unwrap_or_else(|told| panic!("{kind}: {told}"));
        let told = |remark: &Remark| matches!(remark, Remark::FormChange { from, to, .. } if (from.width, to.width) == (64, 96));
        assert!(remarks.iter().any(told), "{kind}: {remarks:?}");
        let reading = probe(&output).unwrap();
        let picture = reading.facts.picture().unwrap().1;
        assert_eq!((picture.width, picture.height, picture.frames), (64, 64, Some(20)), "{kind}");
    }
}

//! Comparing a file with what it was made from: the figures agree with a computation of their own, and
//! what is lossless behind the plan's steps is the same to the bit.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::quality::{Comparison, IDENTICAL};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, PairFilm, Reference, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_media::{Control, compare, encode, pictures, probe, scan};
use material::{First, Picture, interlaced, lively, progressive, write};
use serde_json::json;
use uuid::Uuid;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

fn made(folder: &Path, name: &str, plan: &Plan) -> SourceRef {
    let output = source(folder, &Uuid::now_v7().to_string());
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets: Vec::new() };
    let written = Mutex::new(false);
    encode(&source(folder, name), &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { .. }, .. } => *written.lock().unwrap() = true,
        Event::Run { news: RunNews::Failed { problem }, .. } => panic!("{problem} {}", problem.details),
        _ => {}
    })
    .unwrap();
    assert!(written.into_inner().unwrap());
    output
}

fn planned(reading: &Reading, own: serde_json::Value) -> Plan {
    plan(reading, &builtin("web-1080").unwrap(), &own).unwrap()
}

fn held(folder: &Path, name: &str, plan: &Plan, file: &SourceRef, film: Option<&PairFilm>) -> Comparison {
    let reference = Reference {
        source: source(folder, name),
        origin: plan.origin,
        parts: plan.parts.clone(),
        steps: plan.picture.as_ref().unwrap().steps.clone(),
        assets: Vec::new(),
    };
    compare(&reference, file, film, folder, &Control::default(), &|_| {}).unwrap()
}

/// PSNR over all planes by its definition, in dB.
fn psnr(one: &beryl_media::Planes, other: &Picture) -> f64 {
    let pairs = [(&one.luma, &other.luma), (&one.cb, &other.cb), (&one.cr, &other.cr)];
    let squares = |(one, other): &(&Vec<u8>, &Vec<u8>)| {
        one.iter().zip(*other).map(|(one, other)| f64::from(one.abs_diff(*other)).powi(2)).sum::<f64>()
    };
    let error = pairs.iter().map(squares).sum::<f64>() / pairs.iter().map(|pair| pair.0.len()).sum::<usize>() as f64;
    10.0 * (255.0_f64.powi(2) / error).log10()
}

#[test]
fn psnr_is_what_its_definition_gives_and_valleys_are_where_the_picture_suffers() {
    let folder = tempfile::tempdir().unwrap();
    let mut film: Vec<Picture> = progressive(50, 25.0, lively);
    // One frame is much noisier than all others: there the file comes least near.
    film[30] = film[30].clone().noisy(30.0, 7);
    write(&folder.path().join("film.y4m"), &film, (25, 1), 'p', "");
    let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    let rate = json!({ "mode": "constant_quality", "crf": 34 });
    let plan = planned(&reading, json!({ "sound": null, "picture": { "rate": rate, "size": { "rule": "same" } } }));
    let file = made(folder.path(), "film.y4m", &plan);
    let comparison = held(folder.path(), "film.y4m", &plan, &file, None);
    let decoded = pictures(&file).unwrap();
    assert_eq!((comparison.frames.len(), decoded.len()), (50, 50));
    for (place, frame) in comparison.frames.iter().enumerate() {
        let expected = psnr(&decoded[place], &film[place]);
        assert!((frame.psnr - expected).abs() < 0.01, "frame {place}: {} and by definition {expected}", frame.psnr);
        assert_eq!(frame.at, place as i64 * 40);
    }
    assert_eq!(comparison.quality.valleys.first(), Some(&30));
    assert!(
        comparison.quality.least_ssim < 0.9 && comparison.quality.ssim > comparison.quality.least_ssim,
        "{}",
        comparison.words()
    );
}

#[test]
fn a_lossless_proof_of_mended_parts_is_the_same_to_the_bit_and_its_film_shows_both() {
    let folder = tempfile::tempdir().unwrap();
    let tape = interlaced(60, 25.0, First::Top, lively);
    write(&folder.path().join("tape.y4m"), &tape, (25, 1), 't', "");
    let (reading, _) = scan(&source(folder.path(), "tape.y4m"), false, &Control::default(), &|_| {}).unwrap();
    let own = json!({
        "container": "mkv", "sound": null, "parts": [{ "from": "0.4", "to": "1.2" }, { "from": "1.6", "to": "2" }],
        "picture": {
            "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "pad", "width": 480, "height": 320 },
            "deinterlacing": { "per": "field" }, "cleaning": { "denoise": "tape" },
        },
    });
    let plan = planned(&reading, own);
    let file = made(folder.path(), "tape.y4m", &plan);
    let picture = plan.picture.as_ref().unwrap();
    let output = source(folder.path(), "both.mp4").file;
    let film = PairFilm { seen: picture.seen_steps(), width: 480, height: 320, output };
    let comparison = held(folder.path(), "tape.y4m", &plan, &file, Some(&film));
    assert_eq!(comparison.frames.len(), 60, "two frames for each of 30");
    assert!(comparison.frames.iter().all(|frame| frame.psnr == IDENTICAL), "{}", comparison.words());

    // Above is the source, combed as it is; below what was made, which is not.
    let both = pictures(&source(folder.path(), "both.mp4")).unwrap();
    assert_eq!(both.len(), 60);
    let torn = |luma: &[u8]| -> f64 {
        let lines: Vec<&[u8]> = luma.chunks_exact(480).collect();
        let of = |lines: &[&[u8]]| -> f64 {
            let column = |x: usize| {
                let [one, two, three] = [lines[0][x], lines[1][x], lines[2][x]].map(f64::from);
                (two - (one + three) / 2.0).abs()
            };
            (0..480).map(column).sum()
        };
        lines.windows(3).map(of).sum()
    };
    let (above, below): (f64, f64) = both
        .iter()
        .map(|both| (torn(&both.luma[..480 * 320]), torn(&both.luma[480 * 320..])))
        .fold((0.0, 0.0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
    assert!(above > 1.15 * below, "{above} above, {below} below");
}

#[test]
fn what_has_no_picture_is_named() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("no.y4m"), b"nothing of the kind").unwrap();
    write(&folder.path().join("film.y4m"), &progressive(3, 25.0, lively), (25, 1), 'p', "");
    let reference = Reference::of(source(folder.path(), "film.y4m"));
    let refused =
        compare(&reference, &source(folder.path(), "no.y4m"), None, folder.path(), &Control::default(), &|_| {}).unwrap_err();
    assert!(refused.what.contains("no.y4m"), "{refused}");
}

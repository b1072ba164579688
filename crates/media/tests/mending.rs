//! Mending, judged sample by sample against the pictures that the material was made from.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::plan::{FrameRatePlan, Plan, Subject, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_media::{Control, Planes, encode, pictures, scan, silence_libraries};
use material::{
    First, HEIGHT, Picture, THREE_TWO, TWO_THREE_THREE_TWO, TWO_TWO, WIDTH, interlaced, lively, lively_of, progressive,
    telecined, write,
};
use serde_json::{Value, json};
use uuid::Uuid;

const NTSC: (u32, u32) = (30_000, 1001);
const FILM: f64 = 24_000.0 / 1001.0;
const VIDEO: f64 = 30_000.0 / 1001.0;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// Scans material and plans a lossless output of it.
fn planned(folder: &Path, own: Value) -> (Reading, Plan) {
    silence_libraries();
    let (reading, _) = scan(&source(folder, "material.y4m"), false, &Control::default(), &|_| {}).unwrap();
    let mut patch = json!({
        "container": "mkv",
        "sound": null,
        "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" } },
    });
    json_patch::merge(&mut patch, &own);
    let plan = plan(&reading, &builtin("web-1080").unwrap(), &patch).unwrap();
    (reading, plan)
}

/// Runs a plan, holds the file against it, and reads its pictures.
fn made(folder: &Path, plan: &Plan) -> Vec<Planes> {
    let output = source(folder, &format!("{}.mkv", Uuid::now_v7())).file;
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.clone()], assets: Vec::new() };
    let events = Mutex::new(Vec::new());
    let told = |event| events.lock().unwrap().push(event);
    encode(&source(folder, "material.y4m"), &[run], folder, &Control::default(), &told).unwrap();
    let events = events.into_inner().unwrap();
    let measured = events.iter().find_map(|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => Some(measured),
        _ => None,
    });
    let report = judge(plan, measured.unwrap_or_else(|| panic!("no file: {events:?}")));
    assert!(report.passed, "{:#?}", report.wrong().collect::<Vec<_>>());
    pictures(&SourceRef::of(output)).unwrap()
}

fn is_same(planes: &Planes, picture: &Picture) -> bool {
    planes.luma == picture.luma && planes.cb == picture.cb && planes.cr == picture.cr
}

/// Which of `pictures` each of `made` is, sample by sample; nothing for one that is none of them.
fn places(made: &[Planes], pictures: &[Picture]) -> Vec<Option<usize>> {
    let mut from = 0;
    made.iter()
        .map(|planes| {
            let place = (from..pictures.len()).chain(0..from).find(|place| is_same(planes, &pictures[*place]));
            from = place.unwrap_or(from);
            place
        })
        .collect()
}

fn because(plan: &Plan, subject: Subject) -> String {
    plan.decisions
        .iter()
        .filter(|decision| decision.subject == subject)
        .map(|decision| format!("{}: {}", decision.what, decision.because))
        .collect()
}

/// A name, fields of each film frame, fields left out at the beginning, the first field, what the
/// header says of fields, and frames cut out.
type Telecined = (&'static str, &'static [usize], usize, First, char, &'static [(usize, usize)]);

#[test]
fn inverse_telecine_returns_each_film_frame_once_and_none_blended() {
    let film: Vec<Picture> = progressive(96, FILM, lively);
    let cases: [Telecined; 6] = [
        ("3:2", THREE_TWO, 0, First::Top, 't', &[]),
        ("3:2, bottom first, from the middle", THREE_TWO, 3, First::Bottom, 'b', &[]),
        ("2:3:3:2", TWO_THREE_THREE_TWO, 0, First::Top, 't', &[]),
        ("2:2", TWO_TWO, 1, First::Top, 't', &[]),
        ("3:2 over breaks", THREE_TWO, 0, First::Top, 't', &[(35, 5), (60, 2), (85, 4)]),
        ("2:3:3:2 over a break, the header lies", TWO_THREE_THREE_TWO, 0, First::Bottom, 'p', &[(52, 3)]),
    ];
    for (name, pattern, skip, first, header, cuts) in cases {
        let folder = tempfile::tempdir().unwrap();
        let mut video = telecined(&film, pattern, skip, first);
        // Film frames of which an edit leaves both fields, in one frame or in two that follow each other.
        let mut frames: Vec<(usize, usize)> = (0..film.len())
            .flat_map(|frame| vec![frame; pattern[frame % pattern.len()]])
            .skip(skip)
            .collect::<Vec<_>>()
            .chunks_exact(2)
            .map(|pair| (pair[0], pair[1]))
            .collect();
        for (from, count) in cuts.iter().rev() {
            video.drain(*from..from + count);
            frames.drain(*from..from + count);
        }
        let mut expected: Vec<usize> = (0..frames.len())
            .filter_map(|at| {
                let (early, late) = frames[at];
                let before = at.checked_sub(1).map(|before| frames[before]);
                let joined = before.is_some_and(|before| before.1 == early || before.0 == late && before.1 != late);
                match before {
                    _ if early == late => Some(early),
                    Some(before) if joined && before.1 == early => Some(early),
                    _ => None,
                }
            })
            .collect();
        expected.dedup();
        write(&folder.path().join("material.y4m"), &video, NTSC, header, "");
        let (_, plan) = planned(folder.path(), json!({}));
        let rate = if pattern == TWO_TWO { Rational::constant(30_000, 1001) } else { Rational::constant(24_000, 1001) };
        assert_eq!(plan.picture.as_ref().unwrap().frame_rate, FrameRatePlan::Constant { rate }, "{name}");
        let found = places(&made(folder.path(), &plan), &film);
        let whole: Vec<usize> = found
            .iter()
            .map(|place| place.unwrap_or_else(|| panic!("{name}: a frame is none of the film's: {found:?}")))
            .collect();
        assert_eq!(whole, expected, "{name}: each once, in order; {}", because(&plan, Subject::Fields));
    }
}

#[test]
fn selective_deinterlacing_leaves_frames_without_combing_as_they_are() {
    let folder = tempfile::tempdir().unwrap();
    // Still, moving, still, moving: only what moves is combed.
    let scene = |time: f64| {
        let moved = if time < 1.0 {
            0.0
        } else if time < 2.0 {
            time - 1.0
        } else if time < 3.0 {
            1.0
        } else {
            time - 2.0
        };
        lively(moved)
    };
    let video = interlaced(100, 25.0, First::Top, scene);
    write(&folder.path().join("material.y4m"), &video, (25, 1), 't', "");
    let (_, plan) = planned(folder.path(), json!({}));
    let made = made(folder.path(), &plan);
    assert_eq!(made.len(), 100);
    let whole = |frame: usize| scene(frame as f64 / 25.0) == scene((frame as f64 + 0.5) / 25.0);
    let untouched: Vec<usize> = (0..100).filter(|frame| is_same(&made[*frame], &video[*frame])).collect();
    let still: Vec<usize> = (0..100).filter(|frame| whole(*frame)).collect();
    assert!(still.len() > 45 && still.iter().all(|frame| untouched.contains(frame)), "untouched are {untouched:?}");
    // Fields that differ by next to nothing show no combing either.
    let differing = |frame: usize| {
        let (early, late) = (scene(frame as f64 / 25.0), scene((frame as f64 + 0.5) / 25.0));
        early.luma.iter().zip(&late.luma).filter(|(early, late)| early.abs_diff(**late) > 24).count()
    };
    let left: Vec<usize> = untouched.iter().copied().filter(|frame| differing(*frame) > 300).collect();
    assert!(left.is_empty(), "combed frames are mended: {left:?}");
    // What was combed is much nearer to the true whole frame than it was.
    let error = |luma: &[u8], truth: &Picture| -> u64 {
        luma.iter().zip(&truth.luma).map(|(left, right)| u64::from(left.abs_diff(*right)).pow(2)).sum()
    };
    let (mut before, mut after) = (0, 0);
    for frame in (0..100).filter(|frame| !whole(*frame)) {
        let truth = scene(frame as f64 / 25.0);
        before += error(&video[frame].luma, &truth);
        after += error(&made[frame].luma, &truth);
    }
    assert!(after * 5 < before, "{after} after, {before} before");
}

#[test]
fn film_and_video_in_one_source_come_out_at_the_rate_that_is_wanted() {
    let folder = tempfile::tempdir().unwrap();
    let film: Vec<Picture> = progressive(64, FILM, lively);
    let mut video = telecined(&film, THREE_TWO, 0, First::Top);
    video.extend(interlaced(80, VIDEO, First::Top, |time| lively(time + 9.0)));
    write(&folder.path().join("material.y4m"), &video, NTSC, 't', "");
    let rate = |own: Value| {
        let (_, plan) = planned(folder.path(), own);
        let picture = plan.picture.as_ref().unwrap().frame_rate;
        (picture, made(folder.path(), &plan))
    };
    let (at_video, pictures) = rate(json!({}));
    assert_eq!((at_video, pictures.len()), (FrameRatePlan::Constant { rate: Rational::constant(30_000, 1001) }, 160));
    let found = places(&pictures[..78], &film);
    assert!(found.iter().all(Option::is_some), "film frames stay whole: {found:?}");
    let (at_film, pictures) = rate(json!({ "picture": { "mixture": "film_rate" } }));
    assert_eq!((at_film, pictures.len()), (FrameRatePlan::Constant { rate: Rational::constant(24_000, 1001) }, 128));
    let found = places(&pictures[..62], &film);
    assert_eq!(found, (0..62).map(Some).collect::<Vec<_>>(), "each film frame once");
    let variable = json!({ "picture": { "mixture": "variable", "frame_rate": { "rule": "keep_variable" } } });
    let (own, pictures) = rate(variable);
    assert!(matches!(own, FrameRatePlan::Variable { .. }));
    assert_eq!(pictures.len(), 64 + 80);
}

#[test]
fn bars_are_cut_off_and_nothing_of_the_picture() {
    let folder = tempfile::tempdir().unwrap();
    let scene = |time: f64| lively_of(384, 216, time).boxed(28, 28, 48, 48);
    let video = progressive(50, 25.0, scene);
    write(&folder.path().join("material.y4m"), &video, (25, 1), 'p', "");
    let size = |own: Value| {
        let (_, plan) = planned(folder.path(), own);
        let picture = plan.picture.clone().unwrap();
        (picture.width, picture.height, made(folder.path(), &plan))
    };
    let (width, height, pictures) = size(json!({ "picture": { "crop": { "rule": "bars" } } }));
    assert_eq!((width, height), (288, 160));
    let inner: Vec<u8> = (28..188).flat_map(|line| video[7].luma[line * 384 + 48..line * 384 + 336].to_vec()).collect();
    assert_eq!(pictures[7].luma, inner);
    let (width, height, _) = size(json!({ "picture": { "crop": { "rule": "shape", "shape": "16/9" } } }));
    assert_eq!((width, height), (288, 162), "the smallest 16:9 that holds all of the picture");
    let by_hand = json!({ "picture": { "crop": { "rule": "by_hand", "left": 50, "top": 30, "right": 0, "bottom": 0 } } });
    assert_eq!(size(by_hand).0, 334);
}

#[test]
fn grey_is_without_colour_in_every_frame_and_levels_follow_their_formula() {
    let folder = tempfile::tempdir().unwrap();
    let video = progressive(30, 25.0, |time| lively(time).tinted(116, 140));
    write(&folder.path().join("material.y4m"), &video, (25, 1), 'p', "");
    let (_, plan) = planned(folder.path(), json!({ "picture": { "greyscale": true } }));
    for (made, source) in made(folder.path(), &plan).iter().zip(&video) {
        assert!(made.cb.iter().chain(&made.cr).all(|code| *code == 128));
        assert_eq!(made.luma, source.luma);
    }
    let own = json!({ "picture": { "adjustment": { "brightness": 5, "contrast": 120, "gamma": 150, "saturation": 50 } } });
    let (_, plan) = planned(folder.path(), own);
    let made = made(folder.path(), &plan);
    let luma = |code: u8| {
        let share = ((f64::from(code) - 16.0) / 219.0 - 0.5) * 1.2 + 0.55;
        16.0 + 219.0 * share.clamp(0.0, 1.0).powf(1.0 / 1.5)
    };
    for (made, source) in made[3].luma.iter().zip(&video[3].luma) {
        assert!((f64::from(*made) - luma(*source)).abs() <= 1.0, "{source} became {made}, not {}", luma(*source));
    }
    assert!(made[3].cb.iter().all(|code| *code == 122) && made[3].cr.iter().all(|code| *code == 134));
    assert_eq!(made[0].luma.len(), WIDTH * HEIGHT);
}

#[test]
fn a_change_of_rate_reaches_as_far_as_the_source_whichever_way_frames_are_made() {
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("material.y4m"), &progressive(14, 25.0, lively), (25, 1), 'p', "");
    for by in ["drop_repeat", "blend", "motion"] {
        for (rate, frames) in [("50", 28), ("30000/1001", 17), ("20", 11)] {
            let own = json!({ "picture": { "frame_rate": { "rule": "constant", "rate": rate, "by": by } } });
            let (_, plan) = planned(folder.path(), own);
            let made = made(folder.path(), &plan).len();
            assert!(made.abs_diff(frames) <= usize::from(rate != "50"), "{by} to {rate}: {made} frames, not {frames}");
        }
    }
}

/// Texture of two strengths that moves as a whole.
fn textured(time: f64) -> Picture {
    let (across, down) = (time * 82.0, time * 42.0);
    Picture::plain(WIDTH, HEIGHT, 0).map(|x, y, _| {
        let (x, y) = (x as f64 + across, y as f64 + down);
        let soft = 40.0 * (x * 0.08).sin() * (y * 0.06).cos();
        let fine = 14.0 * (x * 0.9 + y * 0.35).sin() + 10.0 * (y * 1.2 - x * 0.5).cos();
        let strength = if (x / 48.0).floor() as i64 % 2 == 0 { 1.0 } else { 0.15 };
        (124.0 + soft + fine * strength).round() as u8
    })
}

/// How near pictures come to clean ones, in dB of their luma.
fn psnr(made: &[Planes], clean: &[Picture]) -> f64 {
    let apart = made.iter().zip(clean).flat_map(|(made, clean)| made.luma.iter().zip(&clean.luma));
    let (sum, count) =
        apart.fold((0.0, 0.0), |(sum, count), (one, other)| (sum + (f64::from(*one) - f64::from(*other)).powi(2), count + 1.0));
    10.0 * (255.0 * 255.0 * count / sum.max(1e-9_f64)).log10()
}

#[test]
fn each_degree_takes_the_noise_that_it_is_suggested_for_and_leaves_the_detail() {
    let folder = tempfile::tempdir().unwrap();
    let cleaned = |pictures: &[Picture], degree: &str| {
        write(&folder.path().join("material.y4m"), pictures, (25, 1), 'p', "");
        let (_, plan) = planned(folder.path(), json!({ "picture": { "cleaning": { "denoise": degree } } }));
        made(folder.path(), &plan)
    };
    for speed in [1.0, 0.0] {
        let clean = progressive(12, 25.0, |time| textured(time * speed));
        // Degree, noise, and by how many dB at least it comes nearer to the clean picture.
        for (degree, noise, gain, kept) in [
            ("camera", 3.0, 4.0, 43.0),
            ("camera", 5.0, 4.0, 43.0),
            ("tape", 5.0, 6.0, 42.0),
            ("tape", 9.0, 4.0, 42.0),
            ("night", 9.0, 5.0, 41.0),
            ("night", 15.0, 3.0, 41.0),
        ] {
            let noisy: Vec<Picture> = clean.iter().zip(1..).map(|(picture, seed)| picture.clone().noisy(noise, seed)).collect();
            let (before, after) = (psnr(&cleaned(&noisy, "off"), &clean), psnr(&cleaned(&noisy, degree), &clean));
            assert!(after >= before + gain, "{degree}, noise of {noise}, speed {speed}: {before:.1} dB become {after:.1}");
            let detail = psnr(&cleaned(&clean, degree), &clean);
            assert!(detail >= kept, "{degree}, speed {speed}: clean pictures keep {detail:.1} dB");
        }
    }
}

#[test]
fn mpeg2_is_made_in_two_passes_with_every_picture_noted_in_the_first() {
    let folder = tempfile::tempdir().unwrap();
    // The last pictures come out of the encoder together, whichever number there is.
    for frames in [40, 41, 42] {
        write(&folder.path().join("material.y4m"), &progressive(frames, 25.0, lively), (25, 1), 'p', "");
        let rate = json!({ "mode": "average", "bits_per_second": 2_000_000, "passes": 2 });
        let (_, plan) = planned(folder.path(), json!({ "picture": { "codec": "mpeg2", "rate": rate } }));
        assert_eq!((plan.passes(), made(folder.path(), &plan).len()), (2, frames));
    }
}

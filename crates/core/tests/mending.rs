//! The arithmetic of mending: film frames and their times, parts of pictures, settings above settings,
//! and what plans say of it.

#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::after::suggestions::suggestions;
use beryl_core::findings::film::{FilmFrames, Made, TICKS_OF_VIDEO, film_frame_count};
use beryl_core::findings::{
    BarsFinding, BarsVerdict, Evidence, Extent, FieldsFinding, FieldsVerdict, Findings, HeaderTruth, LineLevel, Percent,
    Pulldown, Stretch, StretchKind, aspect_name, bars_of_lines,
};
use beryl_core::patch::Patch;
use beryl_core::picture::{FieldOrder, Frame, Rectangle, crop_to_shape};
use beryl_core::plan::{Origin, PlanError, Step, Subject, plan_with as plan, sizing};
use beryl_core::preset::{PixelAspectRule, PresetPatch, SizeRule, builtin};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use common::reading;
use proptest::prelude::*;
use serde_json::{Value, json};

const NTSC: Rational = Rational::constant(30_000, 1001);

fn stretch(first_frame: u64, end_frame: u64, kind: StretchKind) -> Stretch {
    let at = |frame: u64| Rational::new(i64::try_from(frame).unwrap() * 1001, 30_000).unwrap();
    Stretch { first_frame, end_frame, from: at(first_frame), to: at(end_frame), kind }
}

fn film(pulldown: Pulldown, phase: u8) -> StretchKind {
    StretchKind::Telecine { pulldown, first: FieldOrder::TopFirst, phase }
}

fn evidence() -> Evidence {
    Evidence { confidence: Percent(99), figures: vec!["1312 of 1440 frames".to_owned()], moments: vec![] }
}

fn scanned(source: Reading, verdict: FieldsVerdict, stretches: Vec<Stretch>, bars: Option<Rectangle>) -> Reading {
    let fields = FieldsFinding {
        verdict,
        header: HeaderTruth::True,
        stretches,
        breaks: vec![],
        evidence: evidence(),
        words: "what was found".to_owned(),
    };
    let bars = bars.map(|active| BarsFinding {
        verdict: BarsVerdict::Letterbox,
        active,
        aspect: "2.39".to_owned(),
        changes: vec![],
        evidence: evidence(),
        words: "bars above and below".to_owned(),
    });
    let findings = Findings {
        extent: Extent::Whole,
        fields: Some(fields),
        bars,
        rate: None,
        look: None,
        sounds: vec![],
        telling: vec![],
        unseen: vec![],
        anchors: vec![],
    };
    Reading { findings: Some(findings), ..source }
}

fn tape() -> Reading {
    reading(|picture| {
        (picture.width, picture.height, picture.frame_rate) = (720, 480, Some(NTSC));
        picture.field_order = FieldOrder::TopFirst;
    })
}

proptest! {
    #[test]
    fn every_film_frame_comes_once_in_order_and_at_most_one_frame_off_its_time(
        pulldown in prop::sample::select(Pulldown::ALL.to_vec()),
        parts in prop::collection::vec((10_u64..400, 0_u8..5), 1..12),
    ) {
        let mut from = 0;
        let stretches: Vec<Stretch> = parts.into_iter().map(|(frames, phase)| {
            let phase = if pulldown == Pulldown::TwoTwo { 0 } else { phase };
            let made = stretch(from, from + frames, film(pulldown, phase));
            from += frames;
            made
        }).collect();
        let mut frames = FilmFrames::new(&stretches);
        let mut last = None;
        for frame in 0..from {
            let Made::Film { tick, ticks, .. } = frames.take(frame) else { continue };
            prop_assert_eq!(tick % ticks, 0, "on the grid of the film");
            prop_assert!(last.is_none_or(|last| tick > last), "time runs forward");
            // A film frame is complete one frame after it began, and never more than its own length off.
            let seen = i64::try_from(frame).unwrap() * TICKS_OF_VIDEO;
            prop_assert!((tick - seen).abs() <= 2 * ticks, "frame {} is shown at {} of {}", frame, tick, seen);
            last = Some(tick);
        }
        let expected = i64::try_from(from).unwrap() * TICKS_OF_VIDEO / if pulldown == Pulldown::TwoTwo { 4 } else { 5 };
        let counted = i64::try_from(film_frame_count(&stretches)).unwrap();
        prop_assert!((counted - expected).abs() <= 2, "{} film frames in the time of {}", counted, expected);
    }

    #[test]
    fn a_crop_to_a_shape_loses_no_picture_that_it_could_keep(
        (width, height) in (64_u32..4000, 64_u32..2400),
        (left, top, right, bottom) in (0_u32..30, 0_u32..30, 0_u32..30, 0_u32..30),
        (across, down) in (1_i64..4, 1_i64..4),
    ) {
        let frame = Frame { width, height, pixel_aspect: Rational::ONE };
        let active = Rectangle { x: left, y: top, width: width - left - right, height: height - top - bottom };
        let shape = Rational::new(across, down).unwrap();
        let part = crop_to_shape(frame, active, shape);
        let lost = 10_000 - 10_000 * part.common(active).area() / active.area();
        prop_assert!(part.x + part.width <= width && part.y + part.height <= height, "{:?} lies in the frame", part);
        prop_assert_eq!((part.x % 2, part.y % 2, part.width % 2, part.height % 2), (0, 0, 0, 0));
        let wanted = f64::from(part.height) * shape.to_f64();
        prop_assert!((f64::from(part.width) - wanted).abs() <= 2.0 + 2.0 * shape.to_f64(), "{:?} has the shape {}", part, shape);
        // All of the picture is kept wherever the shape has room for it in the frame.
        let holds = f64::from(active.width).max(f64::from(active.height) * shape.to_f64());
        let room = holds + 4.0 < f64::from(width) && holds / shape.to_f64() + 4.0 < f64::from(height);
        let rounding = u64::from(10_000 * 4 / active.width.min(active.height).max(1));
        prop_assert!(!room || lost <= rounding + 1, "{:?} loses {} of {:?} in {:?}", part, lost, active, frame);
    }

    #[test]
    fn a_part_turned_four_times_is_where_it_was((x, y) in (0_u32..50, 0_u32..50), (width, height) in (1_u32..50, 1_u32..50)) {
        let (all_width, all_height) = (120, 100);
        let part = Rectangle { x, y, width, height };
        let quarter = part.turned(90, all_width, all_height);
        prop_assert_eq!(quarter.turned(90, all_height, all_width), part.turned(180, all_width, all_height));
        prop_assert_eq!(quarter.turned(270, all_height, all_width), part);
        let grown = part.even_outward(all_width, all_height);
        prop_assert_eq!(grown.common(part), part, "nothing of it is lost");
        prop_assert!(grown.width <= width + 2 && grown.height <= height + 2);
    }

    #[test]
    fn bars_are_found_to_the_line_whatever_the_noise(top in 2_usize..60, bottom in 2_usize..60, dark in 20_f32..60.0, noise in 0_f32..6.0) {
        let lines: Vec<LineLevel> = (0..240)
            .map(|line| {
                let inside = line >= top && line < 240 - bottom;
                let wobble = if line % 2 == 0 { 0.2 } else { -0.2 } * noise / 6.0;
                LineLevel { median: wobble + if inside { dark } else { 16.0 }, spread: noise * 1.3 + if inside { 9.0 } else { 0.0 } }
            })
            .collect();
        let columns = vec![LineLevel { median: dark, spread: 12.0 }; 320];
        let found = bars_of_lines(&lines, &columns).unwrap();
        prop_assert_eq!((found.top as usize, found.bottom as usize, found.left, found.right), (top, bottom, 0, 0));
    }
}

/// Levels of a frame whose lines have these medians, all of them textured.
fn textured(median: impl Fn(usize) -> f32) -> (Vec<LineLevel>, Vec<LineLevel>) {
    let lines = (0..240).map(|line| LineLevel { median: median(line), spread: 9.0 }).collect();
    (lines, vec![LineLevel { median: 90.0, spread: 40.0 }; 320])
}

#[test]
fn dark_pictures_are_no_bars() {
    let bars = |median: fn(usize) -> f32| {
        let (lines, columns) = textured(median);
        bars_of_lines(&lines, &columns).map(|bars| (bars.top, bars.bottom))
    };
    // Below, a floor in shadow that grows brighter by and by: nobody knows whether it hides a bar.
    assert_eq!(bars(|line| (18.0 + (239 - line) as f32 * 0.2).min(120.0)), None);
    // A dark texture at the level at which a picture may well be.
    assert_eq!(bars(|line| if line >= 206 { 42.0 } else { 120.0 }), Some((0, 0)));
    // A bar on one side has its edge.
    assert_eq!(bars(|line| if line >= 206 { 17.0 } else { 120.0 }), Some((0, 34)));
}

#[test]
fn aspects_have_their_names() {
    let name = |width, height, aspect| aspect_name(Rectangle::whole(width, height), aspect);
    assert_eq!(name(1920, 804, Rational::ONE), "2.39");
    assert_eq!(name(720, 576, Rational::constant(16, 15)), "1.33");
    assert_eq!(name(720, 576, Rational::constant(64, 45)), "1.78");
    assert_eq!(name(1998, 1080, Rational::ONE), "1.85");
    assert_eq!(name(1200, 800, Rational::ONE), "1.50");
}

#[test]
fn film_is_brought_back_by_policy_and_the_editor_stands_above_it() {
    let source = || {
        let verdict = FieldsVerdict::Telecine { pulldown: Pulldown::ThreeTwo, first: FieldOrder::TopFirst };
        scanned(tape(), verdict, vec![stretch(0, 300, film(Pulldown::ThreeTwo, 0))], None)
    };
    let made = |own: Value| plan(&source(), &builtin("web-1080").unwrap(), &own).unwrap();
    let film_plan = made(json!({}));
    let picture = film_plan.picture.as_ref().unwrap();
    assert_eq!((picture.frame_rate.rate(), picture.frames), (Rational::constant(24_000, 1001), Some(240)));
    assert!(matches!(picture.steps[0], Step::Film { .. }));
    let fields = |plan: &beryl_core::plan::Plan| {
        plan.decisions.iter().find(|decision| decision.subject == Subject::Fields).cloned().unwrap()
    };
    assert!(fields(&film_plan).what.contains("inverse telecine") && fields(&film_plan).because.contains("1312 of 1440"));
    let video = made(json!({ "picture": { "telecine": "never" } }));
    assert_eq!(video.picture.as_ref().unwrap().frame_rate.rate(), NTSC);
    assert!(matches!(video.picture.as_ref().unwrap().steps[0], Step::Deinterlace { .. }));
    let own = made(json!({ "picture": { "telecine": "when_needed" } }));
    assert_eq!(fields(&own).origin, Origin::Editor);
    let always = json!({ "picture": { "telecine": "always" } });
    assert!(
        matches!(plan(&tape(), &builtin("web-1080").unwrap(), &always), Err(PlanError::Impossible(why)) if why.words.contains("analyse"))
    );
}

#[test]
fn suggestions_follow_from_findings_and_do_what_they_say() {
    let first = FieldOrder::TopFirst;
    let active = Rectangle { x: 0, y: 59, width: 720, height: 362 };
    let source = scanned(tape(), FieldsVerdict::Interlaced { first }, vec![], Some(active));
    let made = suggestions(source.findings.as_ref().unwrap());
    assert_eq!(made.iter().map(|one| one.subject).collect::<Vec<_>>(), [Subject::Fields, Subject::Crop]);
    let keeper = builtin("master-keeper").unwrap();
    let both = made[0].settings.clone().under(made[1].settings.clone());
    let picture = beryl_core::plan::plan(&source, &keeper, &both).unwrap().picture.unwrap();
    // Grown to even lines, never into the picture.
    assert_eq!((picture.width, picture.height), (720, 364));
    assert!(picture.steps.contains(&Step::Crop { x: 0, y: 58, width: 720, height: 364 }));
    assert_eq!(picture.field_order, FieldOrder::Progressive);
    let untouched = plan(&source, &keeper, &json!({})).unwrap().picture.unwrap();
    assert_eq!((untouched.height, untouched.field_order), (480, first), "nothing happens by itself");
}

#[test]
fn settings_of_an_output_stand_above_those_of_its_source() {
    let of_source =
        json!({ "picture": { "crop": { "rule": "by_hand", "left": 2, "top": 2, "right": 2, "bottom": 2 }, "greyscale": true } });
    let of_output = json!({ "picture": { "crop": { "rule": "never" } } });
    let [of_source, of_output] = [of_source, of_output].map(|patch| PresetPatch::from_value(patch).unwrap());
    let joined = of_source.clone().under(of_output.clone());
    let written = serde_json::to_value(&joined).unwrap();
    assert_eq!(written, json!({ "picture": { "crop": { "rule": "never" }, "greyscale": true } }));
    assert_eq!(PresetPatch::default().under(of_output.clone()), of_output);
    assert_eq!(of_source.clone().under(PresetPatch::default()), of_source);
}

#[test]
fn sizes_by_one_side_and_other_speeds_come_out_as_asked() {
    let frame = Frame { width: 1920, height: 1080, pixel_aspect: Rational::ONE };
    let size = |rule| sizing(frame, rule, PixelAspectRule::Square).frame;
    assert_eq!((size(SizeRule::Width { width: 1280, enlarge: false }).height), 720);
    assert_eq!((size(SizeRule::Height { height: 540, enlarge: false }).width), 960);
    assert_eq!((size(SizeRule::Height { height: 2160, enlarge: false }).width), 1920, "never enlarged unless told");
    assert_eq!((size(SizeRule::Height { height: 2160, enlarge: true }).width), 3840);
    let source = reading(|_| {});
    let slower = json!({ "picture": { "speed": { "rule": "to_rate", "rate": "24" } } });
    let made = plan(&source, &builtin("web-1080").unwrap(), &slower).unwrap();
    let (picture, seconds) = (made.picture.unwrap(), source.facts.duration.unwrap());
    assert_eq!((picture.frame_rate.rate(), made.speed), (Rational::whole(24), Rational::constant(24, 25)));
    assert_eq!(made.duration, Some(seconds * Rational::constant(25, 24)));
    assert!(made.sound.iter().all(|sound| sound.speed == Rational::constant(24, 25)));
    let untouched = json!({ "picture": { "speed": { "rule": "percent", "percent": "104" } }, "sound": { "codec": "copy", "bits_per_second": null, "channels": "same", "sample_rate": null }, "container": "mov" });
    let refusal = plan(&source, &builtin("web-1080").unwrap(), &untouched).unwrap_err().to_string();
    assert!(refusal.contains("another speed"), "{refusal}");
}

//! Documents that nobody would write, through the doors of the planner: readings, presets and overrides of which a few
//! values were changed at random. Each is refused or planned, and nothing falls over.
//!
//! `BERYL_HOSTILE_SECONDS` says how long it goes on beyond what is tried every time.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation)]

mod common;

use std::time::{Duration, Instant};

use beryl_core::after::memory::{self, Means};
use beryl_core::after::stages::share_steps;
use beryl_core::facts::Content;
use beryl_core::picture::{FieldOrder, Primaries, Transfer};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::{Preset, PresetPatch, builtin_presets, with_overrides};
use beryl_core::reading::Reading;
use beryl_core::units::ByteSize;
use common::reading;
use proptest::prelude::*;
use proptest::test_runner::{RngSeed, TestRunner};
use serde_json::{Value, json};

/// A number, a text and a value of any kind: what stands where another of the same kind is expected, or mostly so.
#[derive(Debug, Clone)]
struct Odd {
    number: i64,
    text: String,
    any: Value,
    is_wild: bool,
}

fn odd() -> impl Strategy<Value = Odd> {
    let numbers = [0, 1, -1, 2, 3, 16, 17, 4095, 65_535, 65_536, 1 << 31, i64::MAX, i64::MIN, 4_294_967_295];
    let texts = [
        "",
        "0",
        "0/0",
        "1/0",
        "-1",
        "1/3",
        "25",
        "30000/1001",
        "9223372036854775807",
        "1/9223372036854775807",
        "9223372036854775807/2",
        "unknown",
        "gbr",
        "smpte2084",
        "ictcp",
        "log316",
        "yuv411p",
        "yuv440p",
        "pal8",
        "gbrpf32le",
        "nv12",
        "topleft",
        "pc",
        "5.1",
        "24 channels",
        "ambisonic 1",
        "\u{0}",
        "é",
        "01:00:00:00",
        "99:99:99;99",
    ];
    let wild = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<f64>().prop_map(Value::from),
        Just(json!([])),
        Just(json!({})),
        Just(json!(-1)),
        Just(json!("odd"))
    ];
    let number = prop_oneof![4 => proptest::sample::select(numbers.to_vec()), 1 => any::<i64>(), 4 => 0_i64..10_000];
    (number, proptest::sample::select(texts.to_vec()), wild, proptest::bool::weighted(0.05))
        .prop_map(|(number, text, any, is_wild)| Odd { number, text: text.to_owned(), any, is_wild })
}

/// The places of all values of a document.
fn places(document: &Value, at: &str, found: &mut Vec<String>) {
    found.push(at.to_owned());
    match document {
        Value::Object(fields) => fields.iter().for_each(|(name, value)| places(value, &format!("{at}/{name}"), found)),
        Value::Array(items) => items.iter().enumerate().for_each(|(place, value)| places(value, &format!("{at}/{place}"), found)),
        _ => {}
    }
}

/// The document with some of its values exchanged.
fn changed(mut document: Value, changes: &[(prop::sample::Index, Odd)]) -> Value {
    for (place, value) in changes {
        let mut found = Vec::new();
        places(&document, "", &mut found);
        if let Some(there) = document.pointer_mut(place.get(found.as_slice()).as_str()) {
            *there = match &*there {
                _ if value.is_wild => value.any.clone(),
                Value::Number(_) => value.number.into(),
                Value::String(_) => value.text.clone().into(),
                Value::Bool(is) => (!*is).into(),
                other => other.clone(),
            };
        }
    }
    document
}

fn changes(most: usize) -> impl Strategy<Value = Vec<(prop::sample::Index, Odd)>> {
    proptest::collection::vec((any::<prop::sample::Index>(), odd()), 0..=most)
}

/// Overrides that somebody might send.
fn wishes() -> impl Strategy<Value = Value> {
    let settings = [
        json!({}),
        json!({ "picture": { "size": { "rule": "fit", "width": 640, "height": 360 }, "adjustment": { "gamma": 120 }, "greyscale": true } }),
        json!({ "picture": { "cleaning": { "denoise": "tape" }, "frame_rate": { "rule": "constant", "rate": "50", "by": "motion" } } }),
        json!({ "picture": { "colour": { "space": "rec709", "range": "full" }, "overlays": { "burn_in": { "timecode": true } } } }),
        json!({ "sound": { "channels": "mono", "downmix": { "lfe": -6, "level": 3 }, "pitch": "follow" } }),
        json!({ "parts": [{ "from": "1", "to": "2.5" }], "picture": { "speed": { "rule": "to_rate", "rate": "25" } } }),
    ];
    proptest::sample::select(settings.to_vec())
}

#[test]
fn no_reading_preset_or_wish_makes_the_planner_fall_over() {
    let readings: Vec<Value> = [
        reading(|_| {}),
        reading(|picture| (picture.width, picture.height, picture.field_order) = (720, 576, FieldOrder::TopFirst)),
        reading(|picture| {
            picture.pixel_format = "yuv420p10le".into();
            picture.colour.transfer = Some(Transfer::Pq);
            picture.colour.primaries = Some(Primaries::Bt2020);
        }),
        reading(|picture| picture.pixel_format = "bgra".into()),
    ]
    .iter()
    .map(|reading| serde_json::to_value(reading).unwrap())
    .collect();
    let presets: Vec<Value> = builtin_presets().iter().map(|preset| serde_json::to_value(preset).unwrap()).collect();
    let seconds = std::env::var("BERYL_HOSTILE_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    let until = Instant::now() + Duration::from_secs(seconds);
    let strategy =
        (proptest::sample::select(readings), changes(5), proptest::sample::select(presets), changes(1), wishes(), changes(2));
    let means = Means { memory: ByteSize(4 << 30), processors: 2 };
    let (mut planned, mut refused, mut unread) = (0_u64, 0_u64, 0_u64);
    for round in 0_u64.. {
        let config = ProptestConfig {
            cases: 1500,
            failure_persistence: None,
            rng_seed: RngSeed::Fixed(round),
            ..ProptestConfig::default()
        };
        let counts = std::cell::RefCell::new((0_u64, 0_u64, 0_u64));
        let outcome = TestRunner::new(config).run(&strategy, |(reading, of_reading, preset, of_preset, wish, of_wish)| {
            let mut counts = counts.borrow_mut();
            let Ok(reading) = serde_json::from_value::<Reading>(changed(reading, &of_reading)) else {
                counts.2 += 1;
                return Ok(());
            };
            let Ok(preset) = Preset::from_value(changed(preset, &of_preset)) else {
                counts.2 += 1;
                return Ok(());
            };
            let wish = changed(wish, &of_wish);
            // What a later or an earlier version has stored can be read, whatever it is.
            drop(with_overrides(&preset, &PresetPatch::from_stored(wish.clone()).0));
            match plan(&reading, &preset, &wish) {
                Ok(plan) => {
                    counts.0 += 1;
                    // It can be stored and read again, shown, and arranged with others.
                    let text = serde_json::to_string(&plan).unwrap();
                    prop_assert_eq!(&serde_json::from_str::<Plan>(&text).unwrap(), &plan);
                    plan.steps().iter().for_each(|step| drop(step.words()));
                    drop(share_steps(&[plan.steps(), plan.steps()]));
                    let _ = (
                        plan.most_bytes(),
                        memory::groups(&[&plan, &plan], means),
                        plan.picture.as_ref().map(|picture| picture.seen_steps()),
                    );
                }
                Err(error) => {
                    counts.1 += 1;
                    prop_assert!(!error.to_string().is_empty());
                }
            }
            Ok(())
        });
        let (more, less, none) = counts.into_inner();
        (planned, refused, unread) = (planned + more, refused + less, unread + none);
        outcome.unwrap_or_else(|error| panic!("round {round}: {error}"));
        if Instant::now() >= until {
            break;
        }
    }
    println!("{planned} planned, {refused} refused, {unread} not read");
    assert!(planned > 100 && refused > 0, "{planned} {refused}");
}

/// What was found by chance once, and made the planner run out of numbers or of memory.
#[test]
fn sizes_that_no_file_has_are_planned_or_refused() {
    let mut reading = reading(|picture| (picture.width, picture.height, picture.frames) = (8192, 8192, Some(u64::MAX)));
    for preset in builtin_presets() {
        if let Ok(plan) = plan(&reading, &preset, &json!({})) {
            assert!(plan.most_bytes().is_some());
        }
    }
    for stream in &mut reading.facts.streams {
        if let Content::Sound(sound) = &mut stream.content {
            (sound.channels, sound.layout) = (u32::MAX, "4294967295 channels".to_owned());
        }
    }
    for preset in builtin_presets().iter().filter(|preset| preset.sound.is_some()) {
        let refused = plan(&reading, preset, &json!({})).unwrap_err().to_string();
        assert!(refused.contains("channels") || refused.contains("cannot be encoded"), "{refused}");
    }
}

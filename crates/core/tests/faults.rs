//! Every rule of validation: what a setting breaks it with, which setting is named for it, and as what.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::preset::{Preset, builtin};
use beryl_core::problem::FaultCode;
use beryl_core::problem::FaultCode::{Contradiction, Missing, NotInContainer, NotOfCodec, NotUnderstood, OutOfRange};
use json_patch::merge;
use serde_json::{Value, json};

/// A change to a preset that ships, and what it breaks.
type Row = (&'static str, Value, &'static str, FaultCode);

fn picture(change: &Value) -> Value {
    json!({ "picture": change })
}

fn sound(change: &Value) -> Value {
    json!({ "sound": change })
}

fn of_the_document() -> Vec<Row> {
    vec![
        ("web-1080", json!({ "id": "" }), "id", OutOfRange),
        ("web-1080", json!({ "id": "Web 1080" }), "id", OutOfRange),
        ("web-1080", json!({ "id": "a".repeat(65) }), "id", OutOfRange),
        ("web-1080", json!({ "name": "  " }), "name", Missing),
        ("web-1080", json!({ "name": "n".repeat(201) }), "name", OutOfRange),
        ("web-1080", json!({ "use_when": "u".repeat(2001) }), "use_when", OutOfRange),
        ("web-1080", json!({ "name_pattern": "<nobody>" }), "name_pattern", NotUnderstood),
        ("web-1080", json!({ "name_pattern": "x".repeat(501) }), "name_pattern", OutOfRange),
        ("web-1080", json!({ "picture": null, "sound": null }), "picture", Missing),
        ("web-1080", json!({ "parts": [{ "from": "5", "to": "4" }] }), "parts", Contradiction),
        ("web-1080", json!({ "parts": [{ "from": "0", "to": "9" }, { "from": "8", "to": "12" }] }), "parts", Contradiction),
        ("web-1080", json!({ "container": "wav", "sound": null }), "container", NotInContainer),
        ("master-keeper", json!({ "container": "mp4", "sound": null }), "container", NotInContainer),
    ]
}

fn of_rates() -> Vec<Row> {
    let rate = |change: Value| picture(&json!({ "rate": change }));
    vec![
        ("review-small", rate(json!({ "crf": 52 })), "picture.rate.crf", OutOfRange),
        ("review-small", rate(json!({ "crf": 0 })), "picture.rate.crf", NotOfCodec),
        ("review-small", rate(json!({ "mode": "by_profile", "crf": null })), "picture.rate.mode", NotOfCodec),
        ("web-1080", rate(json!({ "bits_per_second": 1000 })), "picture.rate.bits_per_second", OutOfRange),
        ("web-1080", rate(json!({ "bits_per_second": 3_000_000_000_u64 })), "picture.rate.bits_per_second", OutOfRange),
        ("web-1080", rate(json!({ "passes": 0 })), "picture.rate.passes", OutOfRange),
        ("web-1080", rate(json!({ "passes": 3 })), "picture.rate.passes", OutOfRange),
        ("web-1080", rate(json!({ "peak": 1_000_000 })), "picture.rate.peak", Contradiction),
        ("web-1080", rate(json!({ "peak": 3_000_000_000_u64 })), "picture.rate.peak", OutOfRange),
        ("master-keeper", rate(json!({ "mode": "constant_quality", "crf": 20 })), "picture.rate.mode", NotOfCodec),
        ("web-1080", picture(&json!({ "level": "1.0" })), "picture.level", Contradiction),
        ("web-1080", picture(&json!({ "key_interval": "0" })), "picture.key_interval", OutOfRange),
        ("web-1080", picture(&json!({ "key_interval": "61" })), "picture.key_interval", OutOfRange),
    ]
}

fn of_frames() -> Vec<Row> {
    let size = |change: Value| picture(&json!({ "size": change }));
    let constant = |rate: &str| picture(&json!({ "frame_rate": { "rule": "constant", "rate": rate } }));
    vec![
        ("web-1080", size(json!({ "width": 15 })), "picture.size.width", OutOfRange),
        ("web-1080", size(json!({ "width": 8194 })), "picture.size.width", OutOfRange),
        ("web-1080", size(json!({ "height": 1081 })), "picture.size.height", OutOfRange),
        ("light-proxy", size(json!({ "of": "0" })), "picture.size.of", OutOfRange),
        ("light-proxy", size(json!({ "of": "9/2" })), "picture.size.of", OutOfRange),
        ("web-1080", picture(&json!({ "pixel_aspect": { "set": "1/9" } })), "picture.pixel_aspect", OutOfRange),
        ("web-1080", picture(&json!({ "crop": { "rule": "shape", "shape": "9" } })), "picture.crop.shape", OutOfRange),
        ("web-1080", constant("0"), "picture.frame_rate.rate", OutOfRange),
        ("web-1080", constant("241"), "picture.frame_rate.rate", OutOfRange),
        ("web-1080", picture(&json!({ "speed": { "rule": "percent", "percent": "49" } })), "picture.speed.percent", OutOfRange),
        ("web-1080", picture(&json!({ "speed": { "rule": "to_rate", "rate": "-25" } })), "picture.speed.rate", OutOfRange),
        ("delivery-hevc", picture(&json!({ "fields": "keep" })), "picture.fields", NotOfCodec),
        (
            "web-1080",
            json!({ "container": "mkv", "picture": { "codec": "mpeg2", "profile": null, "frame_rate": { "rule": "keep_variable" } } }),
            "picture.frame_rate.rule",
            NotOfCodec,
        ),
    ]
}

fn of_looks() -> Vec<Row> {
    let adjustment = |name: &str, value: i32| picture(&json!({ "adjustment": { name: value } }));
    let mark = |change: Value| {
        let mut whole = json!({ "picture": "mark.png" });
        merge(&mut whole, &change);
        picture(&json!({ "overlays": { "watermark": whole } }))
    };
    vec![
        ("web-1080", adjustment("brightness", 101), "picture.adjustment.brightness", OutOfRange),
        ("web-1080", adjustment("contrast", 401), "picture.adjustment.contrast", OutOfRange),
        ("web-1080", adjustment("gamma", 9), "picture.adjustment.gamma", OutOfRange),
        ("web-1080", adjustment("saturation", 401), "picture.adjustment.saturation", OutOfRange),
        ("web-1080", mark(json!({ "width": 0 })), "picture.overlays.watermark.width", OutOfRange),
        ("web-1080", mark(json!({ "margin": 41 })), "picture.overlays.watermark.margin", OutOfRange),
        ("web-1080", mark(json!({ "opacity": 0 })), "picture.overlays.watermark.opacity", OutOfRange),
        ("web-1080", mark(json!({ "picture": " " })), "picture.overlays.watermark.picture", NotUnderstood),
        (
            "web-1080",
            picture(&json!({ "overlays": { "burn_in": { "height": 1 } } })),
            "picture.overlays.burn_in.height",
            OutOfRange,
        ),
        ("web-1080", picture(&json!({ "colour": { "lut": "" } })), "picture.colour.lut", NotUnderstood),
    ]
}

fn of_sound() -> Vec<Row> {
    vec![
        ("web-1080", sound(&json!({ "codec": "pcm24", "bits_per_second": null })), "sound.codec", NotInContainer),
        ("web-1080", sound(&json!({ "bits_per_second": null })), "sound.bits_per_second", Missing),
        ("web-1080", sound(&json!({ "bits_per_second": 1000 })), "sound.bits_per_second", OutOfRange),
        ("sound-only", sound(&json!({ "bits_per_second": 128_000 })), "sound.bits_per_second", NotOfCodec),
        ("web-1080", sound(&json!({ "sample_rate": 7999 })), "sound.sample_rate", OutOfRange),
        ("sound-only", sound(&json!({ "sample_rate": 400_000 })), "sound.sample_rate", OutOfRange),
        ("web-1080", sound(&json!({ "downmix": { "centre": 7 } })), "sound.downmix.centre", OutOfRange),
        ("web-1080", sound(&json!({ "downmix": { "surrounds": -61 } })), "sound.downmix.surrounds", OutOfRange),
        ("web-1080", sound(&json!({ "downmix": { "lfe": 7 } })), "sound.downmix.lfe", OutOfRange),
        ("web-1080", sound(&json!({ "downmix": { "level": 25 } })), "sound.downmix.level", OutOfRange),
        ("web-1080", sound(&json!({ "tracks": [{ "from": [] }] })), "sound.tracks", Missing),
        ("web-1080", sound(&json!({ "tracks": [{ "from": [{ "stream": 1 }], "matrix": [] }] })), "sound.tracks", OutOfRange),
        (
            "web-1080",
            sound(&json!({ "tracks": [{ "from": [{ "stream": 1 }], "matrix": [[0], [7]] }] })),
            "sound.tracks",
            OutOfRange,
        ),
        ("web-1080", sound(&json!({ "tracks": vec![json!({ "from": [{ "stream": 1 }] }); 65] })), "sound.tracks", OutOfRange),
        (
            "web-1080",
            sound(
                &json!({ "codec": "copy", "bits_per_second": null, "channels": "same", "sample_rate": null, "streams": "joined" }),
            ),
            "sound.codec",
            Contradiction,
        ),
        (
            "web-1080",
            sound(&json!({ "codec": "copy", "bits_per_second": null, "channels": "mono" })),
            "sound.codec",
            Contradiction,
        ),
    ]
}

/// What stands in the document is refused by a fault that names the setting, says what kind of fault it is, and helps.
fn check(rows: Vec<Row>) {
    for (id, change, field, code) in rows {
        let mut document = serde_json::to_value(builtin(id).unwrap()).unwrap();
        merge(&mut document, &change);
        let preset: Preset = serde_json::from_value(document).unwrap_or_else(|error| panic!("{change}: {error}"));
        let faults = preset.faults();
        let found: Vec<(&str, FaultCode)> = faults.iter().map(|fault| (fault.field.as_str(), fault.code)).collect();
        assert_eq!(found, [(field, code)], "{id} with {change}: {faults:?}");
        let words = &faults[0].words;
        assert!(
            words.ends_with('.') && words.starts_with(|first: char| first.is_uppercase() || !first.is_alphabetic()),
            "{words}"
        );
        assert!(!words.contains("  ") && words.split(' ').count() >= 5, "{words}");
        // As a document it is refused with the very same words, at the same place.
        let refusal = Preset::from_value(serde_json::to_value(&preset).unwrap()).unwrap_err().to_string();
        assert!(refusal.contains(words), "{refusal}");
    }
}

#[test]
fn names_and_parts_and_containers() {
    check(of_the_document());
}

#[test]
fn rates_levels_and_key_frames() {
    check(of_rates());
}

#[test]
fn sizes_shapes_and_times() {
    check(of_frames());
}

#[test]
fn levels_and_what_is_laid_over() {
    check(of_looks());
}

#[test]
fn codecs_rates_and_channels_of_sound() {
    check(of_sound());
}

#[test]
fn several_faults_are_told_together() {
    let mut document = serde_json::to_value(builtin("web-1080").unwrap()).unwrap();
    merge(&mut document, &json!({ "name": "", "picture": { "size": { "width": 15 }, "adjustment": { "gamma": 9 } } }));
    let preset: Preset = serde_json::from_value(document).unwrap();
    let fields: Vec<String> = preset.faults().into_iter().map(|fault| fault.field).collect();
    assert_eq!(fields, ["name", "picture.size.width", "picture.adjustment.gamma"]);
}

//! The catalogue of settings: complete, true to what documents hold, and held against what is refused.

mod common;

use std::collections::BTreeMap;

use beryl_core::catalogue::{Kind, Limits, Setting};
use beryl_core::facts::Content;
use beryl_core::formats::{PictureCodec, Rates};
use beryl_core::preset::catalogue::{catalogue, idle_settings, settings};
use beryl_core::preset::{Preset, PresetPatch, builtin, builtin_presets, with_overrides};
use common::reading;
use serde_json::{Value, json};

/// The places at which a document holds values, the insides of rules left out.
fn places(at: &str, value: &Value, rules: &[&str], places: &mut Vec<String>) {
    match value {
        Value::Object(fields) if at.is_empty() || !rules.contains(&at) => {
            for (name, value) in fields {
                let place = if at.is_empty() { name.clone() } else { format!("{at}.{name}") };
                self::places(&place, value, rules, places);
            }
        }
        _ => places.push(at.to_owned()),
    }
}

#[test]
fn every_field_of_a_document_stands_in_one_section_with_a_name() {
    let own = json!({ "picture": { "overlays": { "watermark": { "picture": "tile.png" } } }, "sound": { "codec": "pcm24", "bits_per_second": null, "downmix": { "lfe": -6, "level": 3 }, "pitch": "follow", "files": "apart", "tracks": [{ "from": [{ "stream": 1 }] }] } });
    let whole =
        with_overrides(&builtin("web-1080").expect("ships"), &PresetPatch::from_value(own).expect("sound")).expect("sound");
    let settings = settings();
    let rules: Vec<&str> = settings
        .iter()
        .filter(|one| matches!(one.kind, Kind::Rule { .. } | Kind::Tracks))
        .map(|one| one.place.as_str())
        .collect();
    let mut held = Vec::new();
    places("", &serde_json::to_value(whole).expect("writable"), &rules, &mut held);
    held.retain(|place| place != "schema");
    held.sort_unstable();
    let mut listed: Vec<String> = catalogue().into_iter().flat_map(|section| section.settings).map(|one| one.place).collect();
    listed.sort_unstable();
    assert_eq!(listed, held);
    assert!(settings.iter().all(|one| !one.name.is_empty() && one.says.ends_with('.')), "{settings:#?}");
}

/// A document that has `value` at a place, and whether it is taken.
fn takes(preset: &Preset, place: &str, value: Value) -> bool {
    let patch = place.rsplit('.').fold(value, |inner, name| json!({ name: inner }));
    PresetPatch::from_value(patch).is_ok_and(|patch| with_overrides(preset, &patch).is_ok())
}

/// Values at the ends of a setting that are taken, and values beyond them that are not.
fn ends(setting: &Setting) -> (Vec<Value>, Vec<Value>) {
    let limited = |limits: &Limits, written: fn(beryl_core::time::Rational) -> Value| {
        let ends = limits.least.into_iter().chain(limits.most).chain(limits.offers.iter().map(|offer| offer.value));
        let step = beryl_core::time::Rational::ONE;
        let beyond = limits.least.map(|least| least - step).into_iter().chain(limits.most.map(|most| most + step));
        (ends.map(written).collect(), beyond.map(written).collect())
    };
    match &setting.kind {
        Kind::Switch => (vec![json!(true), json!(false)], vec![json!("perhaps")]),
        Kind::Choice { of, .. } => (of.iter().map(|choice| choice.value.clone()).collect(), vec![json!("glaze")]),
        Kind::Number(limits) | Kind::BitRate(limits) => limited(limits, |value| json!(value.round())),
        Kind::Fraction(limits) => limited(limits, |value| json!(value.to_string())),
        Kind::Text
        | Kind::File { .. }
        | Kind::Language
        | Kind::Parts
        | Kind::Tracks
        | Kind::Pattern { .. }
        | Kind::Rule { .. } => (Vec::new(), Vec::new()),
    }
}

#[test]
fn what_is_offered_can_be_had_and_what_lies_beyond_is_refused() {
    // Some values go with some codecs only.
    let of_codec = |codec: PictureCodec| {
        let rate = match &codec.rates {
            Rates::Chosen { .. } => json!({ "mode": "constant_quality", "crf": 20 }),
            Rates::OfProfile => json!({ "mode": "by_profile" }),
        };
        let own = json!({ "codec": codec, "rate": rate, "overlays": { "watermark": { "picture": "tile.png" } } });
        let patch = PresetPatch::from_value(json!({ "picture": own, "container": "mkv" })).expect("sound");
        with_overrides(&builtin("web-1080").expect("ships"), &patch).expect("sound")
    };
    let uncompressed = PresetPatch::from_settings(&["sound.codec=pcm24", "sound.bits_per_second=null"]).expect("sound");
    let mut presets = PictureCodec::all().map(of_codec).to_vec();
    presets.push(with_overrides(&presets[0], &uncompressed).expect("sound"));
    let mut tried = 0;
    let mut faults = Vec::new();
    for setting in
        settings().iter().filter(|one| !["id", "sound.codec", "picture.codec", "container"].contains(&one.place.as_str()))
    {
        let (within, beyond) = ends(setting);
        tried += within.len() + beyond.len();
        let taken = |value: &Value| presets.iter().any(|preset| takes(preset, &setting.place, value.clone()));
        faults
            .extend(within.iter().filter(|value| !taken(value)).map(|value| format!("{} does not take {value}", setting.place)));
        faults.extend(beyond.iter().filter(|value| taken(value)).map(|value| format!("{} takes {value}", setting.place)));
        let Kind::Rule { tag, forms } = &setting.kind else { continue };
        for form in forms {
            let first = |setting: &Setting| ends(setting).0.first().cloned().unwrap_or(json!("eng"));
            let usual: BTreeMap<String, Value> = form.settings.iter().map(|own| (own.place.clone(), first(own))).collect();
            let with = |name: &str, value: Value| {
                let mut document = json!(usual);
                document[*tag] = json!(form.value);
                if !name.is_empty() {
                    document[name] = value;
                }
                document
            };
            for own in &form.settings {
                let name = own.place.clone();
                let (within, beyond) = ends(own);
                tried += within.len() + beyond.len();
                let place = format!("{} as {}", setting.place, form.value);
                // A mean rate may not lie above its peak, and what is cut off may not be all of it.
                if name != "peak" && name != "bits_per_second" {
                    faults.extend(
                        within
                            .iter()
                            .filter(|value| !taken(&with(&name, (*value).clone())))
                            .map(|value| format!("{place}: {name} does not take {value}")),
                    );
                }
                faults.extend(
                    beyond
                        .iter()
                        .filter(|value| taken(&with(&name, (*value).clone())))
                        .map(|value| format!("{place}: {name} takes {value}")),
                );
            }
        }
    }
    assert!(tried > 200, "{tried}");
    assert_eq!(faults, Vec::<String>::new());
}

#[test]
fn settings_that_mean_nothing_for_a_source_say_why() {
    let idle = |reading: &beryl_core::reading::Reading, preset: &str| idle_settings(reading, &builtin(preset).expect("ships"));
    let film = reading(|_| ());
    let web = idle(&film, "web-1080");
    assert_eq!(web["sound.downmix.centre"], "the source has no more than two channels");
    assert_eq!(web["picture.colour.dynamic_range"], "the source has no high dynamic range");
    assert!(!web.contains_key("picture.size") && !web.contains_key("picture.level"));
    assert_eq!(idle(&film, "master-keeper")["picture.level"], "ProRes has no levels");
    assert_eq!(idle(&film, "sound-only")["picture.size"], "the preset has no picture");
    let mut surround = film.clone();
    if let Content::Sound(sound) = &mut surround.facts.streams[1].content {
        (sound.channels, sound.layout) = (6, "5.1".to_owned());
    }
    assert!(!idle(&surround, "web-1080").contains_key("sound.downmix.centre"));
    let mut silent = film;
    silent.facts.streams.truncate(1);
    assert!(idle(&silent, "web-1080")["sound.channels"].contains("no sound"));
    for preset in builtin_presets() {
        assert!(idle_settings(&silent, &preset).values().all(|why| why.len() > 10), "{}", preset.id);
    }
}

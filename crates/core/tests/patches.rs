//! Patches: an editor's own settings over one another and over presets.

#![allow(clippy::unwrap_used)]

use beryl_core::formats::RateControl;
use beryl_core::patch::Patch;
use beryl_core::preset::{CropRule, Preset, PresetError, PresetPatch, SizeRule, apply, builtin, builtin_presets, with_overrides};
use beryl_core::problem::FaultCode;
use proptest::prelude::*;
use serde_json::{Value, json};

fn patch(value: Value) -> PresetPatch {
    PresetPatch::from_value(value).unwrap()
}

/// Settings that go with most presets, one or several at once.
fn any_patch() -> impl Strategy<Value = PresetPatch> {
    let settings = [
        json!({ "picture": { "crop": { "rule": "bars" } } }),
        json!({ "picture": { "crop": { "rule": "by_hand", "left": 2, "top": 4, "right": 6, "bottom": 8 } } }),
        json!({ "picture": { "size": { "rule": "fit", "width": 640, "height": 360 } } }),
        json!({ "picture": { "size": { "rule": "height", "height": 480, "enlarge": true } } }),
        json!({ "picture": { "greyscale": true, "colour": { "range": "full" } } }),
        json!({ "picture": { "colour": { "lut": "kiln.cube" } } }),
        json!({ "picture": { "colour": { "lut": null } } }),
        json!({ "picture": { "overlays": { "watermark": { "picture": "tile.png" } } } }),
        json!({ "picture": { "overlays": { "watermark": null, "burn_in": { "timecode": true } } } }),
        json!({ "picture": { "adjustment": { "gamma": 120 } } }),
        json!({ "picture": null }),
        json!({ "sound": { "channels": "mono" } }),
        json!({ "sound": null }),
        json!({ "sound": { "downmix": { "lfe": -6 } } }),
        json!({ "parts": [{ "from": "1", "to": "2" }], "salvage": true }),
    ];
    prop::collection::vec(prop::sample::select(settings.to_vec()), 0..4)
        .prop_map(|chosen| chosen.into_iter().map(patch).fold(PresetPatch::default(), Patch::under))
}

proptest! {
    #[test]
    fn patches_are_laid_over_one_another_as_over_a_preset(below in any_patch(), above in any_patch(), number in 0_usize..10) {
        let joined = below.clone().under(above.clone());
        prop_assert_eq!(joined.clone().under(above.clone()), joined.clone(), "what is set once is set");
        prop_assert_eq!(below.clone().under(PresetPatch::default()), below.clone());
        prop_assert_eq!(PresetPatch::default().under(above.clone()), above.clone());
        let written = serde_json::to_value(&joined).unwrap();
        prop_assert_eq!(&patch(written.clone()), &joined);
        prop_assert_eq!(PresetPatch::from_stored(written), (joined.clone(), Vec::new()));
        // One after the other or both at once: a picture that was taken away does not come back by halves.
        let preset = builtin_presets().remove(number);
        let at_once = with_overrides(&preset, &joined);
        let in_turn = with_overrides(&preset, &below).and_then(|preset| with_overrides(&preset, &above));
        if let (Ok(at_once), Ok(in_turn)) = (at_once, in_turn) {
            let taken_away = |patch: &PresetPatch| patch.picture == Some(None) || patch.sound == Some(None);
            if !taken_away(&below) {
                prop_assert_eq!(at_once, in_turn);
            }
        }
    }
}

#[test]
fn a_rule_keeps_its_fields_and_another_form_begins_anew() {
    let web = builtin("web-1080").unwrap();
    let made = |value: Value| with_overrides(&web, &patch(value)).unwrap().picture.unwrap();
    let faster = made(json!({ "picture": { "rate": { "bits_per_second": 12_000_000 } } }));
    assert!(matches!(faster.rate, RateControl::Average { passes: 2, bits_per_second, .. } if bits_per_second.0 == 12_000_000));
    let quality = made(json!({ "picture": { "rate": { "mode": "constant_quality", "crf": 20 }, "size": { "rule": "same" } } }));
    assert_eq!((quality.rate, quality.size), (RateControl::ConstantQuality { crf: 20 }, SizeRule::Same));
    let lacking = with_overrides(&web, &patch(json!({ "picture": { "rate": { "mode": "constant_quality" } } }))).unwrap_err();
    let PresetError::Impossible(faults) = &lacking else { panic!("{lacking}") };
    assert_eq!((faults[0].field.as_str(), faults[0].code), ("picture.rate", FaultCode::Missing), "{lacking}");
    let watermark =
        made(json!({ "picture": { "overlays": { "watermark": { "picture": "tile.png" } } } })).overlays.watermark.unwrap();
    assert_eq!((watermark.picture.as_str(), watermark.width), ("tile.png", 15));
}

#[test]
fn what_means_nothing_for_a_preset_is_left_out_and_told() {
    let left_out = |preset: &Preset, value: Value| {
        let (changed, left_out) = apply(preset, &patch(value)).unwrap();
        (changed, left_out.into_iter().map(|one| format!("{}: {}", one.setting, one.because)).collect::<Vec<_>>())
    };
    let (sound, words) = left_out(&builtin("sound-only").unwrap(), json!({ "picture": { "crop": { "rule": "bars" } } }));
    assert_eq!((sound.picture, words.as_slice()), (None, ["picture: the output has no picture".to_owned()].as_slice()));
    let (_, words) = left_out(&builtin("web-1080").unwrap(), json!({ "picture": { "rate": { "crf": 20 } } }));
    assert_eq!(words, ["picture.rate.crf: the rate is “average”"]);
    let all = json!({ "picture": { "codec": "h264", "rate": { "mode": "constant_quality", "crf": 20 } }, "container": "mov" });
    let (with_picture, words) = left_out(&builtin("sound-only").unwrap(), all);
    assert!(with_picture.picture.is_some() && words.is_empty(), "{words:?}");
}

#[test]
fn what_another_version_has_stored_loads_without_what_is_not_known() {
    let stored = json!({ "picture": { "crop": { "rule": "bars" }, "glaze": { "gloss": 9 }, "fields": "sideways" }, "kiln": 3 });
    let (loaded, left_out) = PresetPatch::from_stored(stored);
    assert_eq!(with_overrides(&builtin("web-1080").unwrap(), &loaded).unwrap().picture.unwrap().crop, CropRule::Bars);
    let mut places: Vec<&str> = left_out.iter().map(|one| one.setting.as_str()).collect();
    places.sort_unstable();
    assert_eq!(places, ["kiln", "picture.fields", "picture.glaze"]);
    assert_eq!(PresetPatch::from_stored(json!("nonsense")).0, PresetPatch::default());
}

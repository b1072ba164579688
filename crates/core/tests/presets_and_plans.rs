//! From preset and reading to plan: what is accepted, what is decided, and why.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::after::forecast::{Certainty, bytes_per_minute, forecast};
use beryl_core::after::memory::{self, Means};
use beryl_core::after::stages::share_steps;
use beryl_core::facts::{Content, Picture, Sound, Stream};
use beryl_core::formats::{RateControl, copies_into};
use beryl_core::naming::{NameFields, TOKENS, clean_part, name_for};
use beryl_core::path::StoragePath;
use beryl_core::picture::{FieldOrder, Frame, Orientation, Primaries, Range, Transfer};
use beryl_core::plan::{FrameRatePlan, FramesMeant, Origin, Plan, PlanError, Step, Subject, Track, plan_with as plan, sizing};
use beryl_core::preset::{
    PixelAspectRule, Preset, PresetError, PresetPatch, SizeRule, builtin, builtin_presets, preset_schema, with_overrides,
};
use beryl_core::problem::FaultCode;
use beryl_core::reading::Reading;
use beryl_core::sound::track::{TrackSource, TrackWish};
use beryl_core::time::Rational;
use beryl_core::units::{BitRate, ByteSize};
use common::{reading, stream};
use proptest::prelude::*;
use serde_json::{Value, json};

#[test]
fn the_built_in_presets_are_sound_and_survive_their_own_document() {
    let presets = builtin_presets();
    assert_eq!(presets.len(), 10);
    for preset in presets {
        assert_eq!(preset.faults(), Vec::new(), "{}", preset.id);
        let text = serde_json::to_string(&preset).unwrap();
        assert_eq!(Preset::from_json(&text).unwrap(), preset);
        assert!(bytes_per_minute(&preset) > Some(ByteSize(0)));
    }
    let mut second = builtin("web-1080").unwrap();
    second.sound.as_mut().unwrap().tracks = vec![TrackWish::of(TrackSource::all_of(2))];
    assert_eq!(bytes_per_minute(&second), None, "no figure for what a minute with one stream of sound does not have");
}

#[test]
fn red_green_and_blue_that_are_mixed_keep_their_light_whatever_transfer_they_have() {
    for transfer in [Transfer::Srgb, Transfer::Pq] {
        let reading = reading(|picture| {
            picture.pixel_format = "gbrp10le".into();
            picture.colour.transfer = Some(transfer);
        });
        let own = json!({ "container": "mkv", "sound": null, "picture": {
            "codec": "ffv1", "profile": null, "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "colour": { "dynamic_range": "keep" },
            "frame_rate": { "rule": "constant", "rate": "50", "by": "blend" },
        } });
        let plan = plan(&reading, &builtin("web-1080").unwrap(), &own).unwrap();
        assert!(!plan.steps().iter().any(|step| matches!(step, Step::Recolour { .. } | Step::Tone { .. })), "{:?}", plan.steps());
        assert_eq!(plan.picture.unwrap().colour.transfer, Some(transfer));
    }
}

#[test]
fn documents_that_cannot_be_are_refused_with_words_that_help() {
    let web = serde_json::to_value(builtin("web-1080").unwrap()).unwrap();
    for (patch, field, words) in [
        (json!({ "picture": { "crf": 20 } }), "picture.crf", "unknown field `crf`"),
        (json!({ "picture": { "rate": { "bits_per_second": "fast" } } }), "picture.rate.bits_per_second", "invalid type"),
        (json!({ "picture": { "codec": "glaze" } }), "picture.codec", "“glaze” is no codec of pictures: known are h264"),
        (json!({ "container": "wav" }), "container", "WAV holds sound alone"),
        (json!({ "picture": { "size": { "rule": "fit", "width": 1279, "height": 720 } } }), "picture.size.width", "1279 is odd"),
        (
            json!({ "picture": { "level": "3.0", "rate": { "bits_per_second": 40_000_000 } } }),
            "picture.level",
            "lower the rate or raise the level",
        ),
        (json!({ "picture": { "profile": "hq" } }), "picture.profile", "H.264 has no profile 422 HQ"),
        (json!({ "sound": { "bits_per_second": null } }), "sound.bits_per_second", "AAC needs a rate"),
        (json!({ "name_pattern": "<name>_<client>" }), "name_pattern", "unknown token “<client>”"),
        (json!({ "name_pattern": "<name>_<preset" }), "name_pattern", "an angle bracket without its partner"),
        (json!({ "name_pattern": "../<name>" }), "name_pattern", "stays inside the destination"),
        (json!({ "picture": null, "sound": null }), "picture", "neither picture nor sound"),
    ] {
        let refusal = PresetPatch::from_value(patch.clone())
            .and_then(|patch| with_overrides(&builtin("web-1080").unwrap(), &patch))
            .unwrap_err();
        assert!(refusal.to_string().contains(words), "{patch}: {refusal}");
        let at = match refusal {
            PresetError::Impossible(faults) => faults[0].field.clone(),
            PresetError::Field { at, .. } => at,
            other => panic!("{patch}: {other}"),
        };
        assert_eq!(at, field, "{patch}");
    }
    let mut later = web;
    later["schema"] = json!(9);
    assert_eq!(Preset::from_value(later), Err(PresetError::TooNew { found: 9 }));
    assert!(matches!(Preset::from_json("{"), Err(PresetError::NotJson(_))));
}

#[test]
fn the_published_schema_names_every_field_and_every_reference_leads_somewhere() {
    let schema = preset_schema();
    for field in ["schema", "id", "name", "use_when", "container", "picture", "sound", "carry", "name_pattern"] {
        assert!(schema["properties"][field].is_object(), "{field}");
    }
    let text = schema.to_string();
    for reference in text.split("\"$ref\":\"#/$defs/").skip(1) {
        let name = reference.split('"').next().unwrap();
        assert!(schema["$defs"][name].is_object(), "{name} is not defined");
    }
    assert!(!text.contains("#/components/"));
}

#[test]
fn one_pass_is_taken_where_it_comes_to_its_mean_rate_and_where_the_editor_says_so() {
    let mut preset = builtin("web-1080").unwrap();
    preset.picture.as_mut().unwrap().rate = RateControl::Average { bits_per_second: BitRate(4_000_000), passes: 1, peak: None };
    let mut source = reading(|_| ());
    let mut planned = |seconds: i64, own: Value| {
        source.facts.duration = Some(Rational::whole(seconds));
        source.facts.streams.iter_mut().for_each(|stream| stream.duration = source.facts.duration);
        let plan = plan(&source, &preset, &own).unwrap();
        let rate = plan.decisions.iter().find(|decision| decision.subject == Subject::Rate).unwrap();
        (plan.passes(), rate.origin, forecast(&plan, &source.facts, &[]).certainty)
    };
    assert_eq!(planned(60, json!({})), (2, Origin::Source, Certainty::Ceiling));
    assert_eq!(planned(299, json!({})), (2, Origin::Source, Certainty::Ceiling));
    assert_eq!(planned(300, json!({})), (1, Origin::Preset, Certainty::Ceiling));
    // The editor's own word stands, and the forecast says that it is less sure.
    let own = json!({ "picture": { "rate": { "passes": 1 } } });
    assert_eq!(planned(60, own), (1, Origin::Editor, Certainty::Modelled));
}

#[test]
fn an_interlaced_tape_is_deinterlaced_for_the_web_and_kept_for_the_master() {
    let tape = reading(|picture| {
        (picture.width, picture.height, picture.pixel_aspect) = (720, 576, Rational::constant(16, 15));
        picture.field_order = FieldOrder::TopFirst;
    });
    let web = plan(&tape, &builtin("web-1080").unwrap(), &Value::Null).unwrap();
    let picture = web.picture.unwrap();
    assert!(matches!(picture.steps[0], Step::Deinterlace { order: FieldOrder::TopFirst, frames: FramesMeant::Combed, .. }));
    assert_eq!((picture.width, picture.height, picture.pixel_aspect), (768, 576, Rational::ONE));
    assert_eq!(picture.field_order, FieldOrder::Progressive);
    let master = plan(&tape, &builtin("master-keeper").unwrap(), &Value::Null).unwrap().picture.unwrap();
    assert_eq!((master.width, master.pixel_aspect, master.field_order), (720, Rational::constant(16, 15), FieldOrder::TopFirst));
    assert!(!master.steps.iter().any(|step| matches!(step, Step::Deinterlace { .. })));
}

/// What a plan says of a subject, with the reasons.
fn said(plan: &Plan, subject: Subject) -> Vec<String> {
    let of_it = plan.decisions.iter().filter(|decision| decision.subject == subject);
    of_it.map(|decision| format!("{}: {}", decision.what, decision.because)).collect()
}

#[test]
fn fields_are_kept_where_the_lines_stay_whatever_rule_leaves_them_so() {
    let tape = |height: u32| {
        reading(|picture| {
            (picture.width, picture.height, picture.field_order) = (720, height, FieldOrder::TopFirst);
            picture.pixel_format = "yuv420p".into();
        })
    };
    let kept = |height: u32, own: Value| {
        let mut all = json!({ "picture": { "fields": "keep" } });
        all["picture"].as_object_mut().unwrap().extend(own.as_object().unwrap().clone());
        let plan = plan(&tape(height), &builtin("same-h264").unwrap(), &all).unwrap();
        (plan.picture.as_ref().unwrap().field_order, said(&plan, Subject::Fields).join("; "))
    };
    for own in [
        json!({}),
        json!({ "size": { "rule": "height", "height": 576 } }),
        json!({ "size": { "rule": "fit", "width": 1920, "height": 1080 } }),
        json!({ "crop": { "rule": "by_hand", "left": 8, "right": 8, "top": 0, "bottom": 0 } }),
    ] {
        assert_eq!(kept(576, own.clone()).0, FieldOrder::TopFirst, "{own}");
    }
    assert_eq!(kept(576, json!({ "size": { "rule": "height", "height": 480 } })).0, FieldOrder::Progressive);
    let (order, words) = kept(574, json!({}));
    assert_eq!(order, FieldOrder::Progressive);
    assert!(words.contains("a number of lines that 4 divides"), "{words}");
    // A single column or line that shall go goes, and says that its neighbour goes with it.
    let own = json!({ "picture": { "crop": { "rule": "by_hand", "left": 1, "right": 0, "top": 1, "bottom": 1 } } });
    let cut = plan(&reading(|_| ()), &builtin("same-h264").unwrap(), &own).unwrap();
    assert!(cut.steps().contains(&Step::Crop { x: 2, y: 2, width: 1918, height: 1076 }), "{:?}", cut.steps());
    assert!(said(&cut, Subject::Crop)[0].contains("to the next pair"));
}

#[test]
fn what_is_lost_and_what_is_assumed_is_said() {
    let planned = |format: &str, codec: Value| {
        let source = reading(|picture| picture.pixel_format = format.into());
        let plan = plan(&source, &builtin("same-h264").unwrap(), &json!({ "container": "mkv", "picture": codec })).unwrap();
        (plan.picture.clone().unwrap(), said(&plan, Subject::Colour).join("; "))
    };
    let ffv1 = || json!({ "codec": "ffv1", "rate": { "mode": "by_profile" }, "colour": { "range": "same" } });
    for (source, made, words) in [
        ("yuv422p10le", "yuv420p", "10 bits of a sample become 8, 4:2:2 becomes 4:2:0"),
        ("rgba", "yuv420p", "RGB becomes 4:2:0, alpha is left out"),
        ("yuv411p", "yuv420p", "tags assumed: BT.709"),
    ] {
        let (picture, said) = planned(source, json!({}));
        assert_eq!((picture.pixel_format.name(), said.contains(words)), (made, true), "{source}: {said}");
        assert_eq!(picture.colour.primaries, Some(Primaries::Bt709));
    }
    for (source, made) in [
        ("yuv411p", "yuv411p"),
        ("nv12", "yuv420p"),
        ("p010le", "yuv420p10le"),
        ("gray16be", "gray16le"),
        ("yuva420p", "yuva420p"),
        ("yuv422p12le", "yuv422p12le"),
        ("gbrp10le", "gbrp10le"),
        ("rgb24", "bgr0"),
        ("yuvj422p", "yuv422p"),
    ] {
        let (picture, said) = planned(source, ffv1());
        assert_eq!(picture.pixel_format, made, "{source}");
        assert!(!said.contains("become"), "{source}: {said}");
    }
    assert_eq!(planned("yuvj422p", ffv1()).0.colour.range, Some(Range::Full));
}

#[test]
fn a_level_means_its_peak_and_its_buffer() {
    let own = json!({ "picture": { "level": "4.0", "rate": { "mode": "constant_quality", "crf": 18 } } });
    let made = plan(&reading(|_| ()), &builtin("same-h264").unwrap(), &own).unwrap();
    // Table A-1 of H.264: 20 000 and 25 000 kb for Main, 1.25 times as much for High.
    let peak = made.picture.as_ref().unwrap().peak.unwrap();
    assert_eq!((peak.bits_per_second, peak.buffer), (BitRate(25_000_000), 31_250_000));
    assert!(said(&made, Subject::Rate).iter().any(|words| words.contains("level 4.0 of H.264 High allows no more")));
}

#[test]
fn subtitles_that_are_pictures_are_known_as_such_and_marks_past_the_end_say_so() {
    let mut source = reading(|_| ());
    source.facts.streams.push(common::stream(2, "dvd_subtitle", Content::Subtitles { are_pictures: true }));
    let own = json!({ "picture": { "overlays": { "subtitles": { "rule": "first" } } }, "parts": [{ "from": "8", "to": "20" }] });
    let made = plan(&source, &builtin("same-h264").unwrap(), &own).unwrap();
    assert!(said(&made, Subject::Overlays)[0].contains("the source has them as pictures"), "{:?}", made.decisions);
    assert!(said(&made, Subject::Parts)[0].contains("the source ends before 10:00:20:00"), "{:?}", made.decisions);
    assert_eq!(made.duration, Some(Rational::whole(2)));
}

#[test]
fn a_varying_rate_becomes_constant_unless_it_may_stay() {
    let recording = reading(|picture| {
        picture.varies = true;
        picture.frame_rate = Rational::new(1559, 100);
    });
    let rate = |preset| plan(&recording, &builtin(preset).unwrap(), &Value::Null).unwrap().picture.unwrap().frame_rate;
    assert_eq!(rate("web-720"), FrameRatePlan::Constant { rate: Rational::whole(15) });
    assert!(matches!(rate("same-h264"), FrameRatePlan::Variable { .. }));
    assert_eq!(rate("screen-page"), FrameRatePlan::Constant { rate: Rational::constant(15, 2) });
}

#[test]
fn the_editors_own_settings_win_and_are_marked() {
    let own = PresetPatch::from_settings(&["picture.size.rule=fraction", "picture.size.of=1/3"]).unwrap();
    let plan = beryl_core::plan::plan(&reading(|_| {}), &builtin("web-1080").unwrap(), &own).unwrap();
    let size = plan.decisions.iter().find(|decision| decision.subject == Subject::Size).unwrap();
    assert_eq!((size.what.as_str(), size.origin), ("640×360", Origin::Editor));
    assert!(plan.decisions.iter().all(|decision| !decision.because.is_empty()));
}

#[test]
fn what_cannot_be_made_is_said() {
    let mut silent = reading(|_| {});
    silent.facts.streams.truncate(1);
    assert_eq!(
        plan(&silent, &builtin("sound-only").unwrap(), &Value::Null),
        Err(PlanError::NothingToMake { missing: "no sound" })
    );
    let level = json!({ "picture": { "level": "3.0", "rate": { "bits_per_second": 4_000_000 } } });
    let refusal = plan(&reading(|_| {}), &builtin("web-1080").unwrap(), &level).unwrap_err().to_string();
    assert!(refusal.contains("1920×1080 at 25 fps is more than level 3.0"), "{refusal}");
    // Rates without timecode in ST 12 leave it out, and say so.
    let page = plan(&reading(|_| {}), &builtin("screen-page").unwrap(), &Value::Null).unwrap();
    assert_eq!(page.timecode, None);
    assert!(page.decisions.iter().any(|decision| decision.subject == Subject::Timecode && decision.what == "left out"));
}

#[test]
fn rated_forecasts_are_rate_times_duration() {
    let source = reading(|_| {});
    let web = forecast(&plan(&source, &builtin("web-1080").unwrap(), &Value::Null).unwrap(), &source.facts, &[]);
    assert_eq!((web.picture, web.sound), (ByteSize(10_000_000), ByteSize(240_000)));
    assert!(web.overhead < ByteSize(20_000));
}

/// Pictures of every shape and kind, the odd ones among them.
/// One stream of sound, as other people's files have it.
fn any_sound() -> impl Strategy<Value = (&'static str, Sound, Option<String>)> {
    let layouts = [
        (0, ""),
        (1, "mono"),
        (2, "stereo"),
        (2, "2 channels"),
        (6, "5.1(side)"),
        (8, "7.1"),
        (16, "16 channels"),
        (80, "80 channels"),
    ];
    let languages = prop::option::of(prop::sample::select(vec!["eng", "fra", "und", "kiln", ""]));
    (
        prop::sample::select(vec!["aac", "pcm_s24le", "pcm_f32le", "ac3", "opus", "nobodys"]),
        prop::sample::select(layouts.to_vec()),
        prop::sample::select(vec![0_u32, 8000, 22_050, 44_100, 48_000, 96_000, 192_000]),
        languages,
    )
        .prop_map(|(codec, (channels, layout), sample_rate, language)| {
            let sound = Sound { channels, layout: layout.to_owned(), sample_rate, bits: None };
            (codec, sound, language.map(str::to_owned))
        })
}

/// Sources of all shapes of picture, or without one, and up to five streams of sound.
fn any_source() -> impl Strategy<Value = Reading> {
    (any_picture(), any::<bool>(), prop::collection::vec(any_sound(), 0..5)).prop_map(|(mut source, has_picture, sounds)| {
        source.facts.streams.retain(|stream| has_picture && matches!(stream.content, Content::Picture(_)));
        for (index, (codec, sound, language)) in (1..).zip(sounds) {
            source.facts.streams.push(Stream { language, ..stream(index, codec, Content::Sound(sound)) });
        }
        source
    })
}

fn any_picture() -> impl Strategy<Value = Reading> {
    let pixel_aspects = [(1, 1), (16, 15), (64, 45), (8, 9), (32, 27), (4, 3), (2, 1), (1, 2)];
    let rates = ["12.5", "24000/1001", "24", "25", "30000/1001", "30", "50", "60000/1001", "120", "1", "1000"];
    let orders = [FieldOrder::Progressive, FieldOrder::TopFirst, FieldOrder::BottomFirst, FieldOrder::Unknown];
    (
        (1_u32..8200, 1_u32..4400),
        prop::sample::select(pixel_aspects.to_vec()),
        prop::sample::select(vec!["yuv420p", "yuv422p10le", "yuv444p12le", "gray", "rgb24", "pal8"]),
        prop::option::of(prop::sample::select(rates.to_vec())),
        prop::sample::select(orders.to_vec()),
        (any::<bool>(), prop::sample::select(vec![0_u16, 90, 180, 270]), prop::option::of(1_i64..100_000)),
    )
        .prop_map(|((width, height), aspect, format, rate, field_order, (varies, rotation, seconds))| {
            let mut source = reading(|picture| {
                (picture.width, picture.height) = (width, height);
                picture.pixel_aspect = Rational::constant(aspect.0, aspect.1);
                picture.pixel_format = format.into();
                picture.depth = if format.contains("10") { 10 } else { 8 };
                picture.frame_rate = rate.map(|rate| rate.parse().unwrap());
                picture.field_order = field_order;
                picture.orientation = Orientation::turned(rotation);
                picture.varies = varies;
            });
            source.facts.duration = seconds.map(|seconds| Rational::constant(seconds, 10));
            source
        })
}

/// Whether a refusal has its reason in the source: there is nothing to make, or a setting that is there cannot hold for it.
fn is_justified(error: &PlanError, source: &Reading, preset: &Preset) -> bool {
    let usable = source.facts.sounds().any(|(_, sound)| sound.channels > 0 && sound.sample_rate > 0);
    match error {
        PlanError::NothingToMake { missing: "no picture" } => source.facts.picture().is_none() && preset.picture.is_some(),
        PlanError::NothingToMake { .. } => !usable,
        // More channels than anything can be made of, a layout that the codec has no place for, sound that cannot be copied.
        PlanError::Impossible(fault) if fault.field.starts_with("sound.") => {
            usable
                && fault.code == FaultCode::NotOfSource
                && source
                    .facts
                    .sounds()
                    .any(|(_, sound)| sound.channels > 2 || preset.sound.as_ref().is_some_and(|sound| sound.codec.is_copy()))
        }
        PlanError::Impossible(fault) => {
            let (_, picture) = source.facts.picture().expect("a setting of the picture needs one");
            fault.code == FaultCode::NotOfSource && fault.field.starts_with("picture") && is_odd(picture)
        }
        PlanError::Parts(_) | PlanError::Overrides(_) => false,
    }
}

/// A picture that some codec cannot hold: too small, too large, or of no rate that can be.
fn is_odd(picture: &Picture) -> bool {
    let (least, most) = (picture.width.min(picture.height), picture.width.max(picture.height));
    let rate = picture.frame_rate.map_or(25.0, Rational::to_f64);
    least < 64 || most > 4096 || !(5.0..=120.0).contains(&rate) || picture.pixel_aspect != Rational::ONE
}

/// The channels of the source that tracks are made of, as stream and channel.
fn channels_of(tracks: &[Track], source: &Reading) -> Vec<(u32, u32)> {
    let of = |part: &TrackSource| {
        let (_, own) = source.facts.sounds().find(|(stream, _)| stream.index == part.stream).expect("a stream of the source");
        let all: Vec<u32> = (0..own.channels).collect();
        let taken = if part.channels.is_empty() { &all } else { &part.channels };
        taken.iter().map(|channel| (part.stream, *channel)).collect::<Vec<_>>()
    };
    tracks.iter().flat_map(|track| &track.from).flat_map(of).collect()
}

proptest! {
    #[test]
    fn taken_apart_or_joined_every_channel_of_a_source_comes_once(source in any_source(), joined in any::<bool>()) {
        let streams = if joined { "joined" } else { "channels" };
        let own = json!({ "container": "mov", "picture": null, "sound": { "codec": "pcm24", "bits_per_second": null, "streams": streams } });
        let sounds = source.facts.sounds().filter(|(_, own)| own.sample_rate > 0);
        let all: Vec<(u32, u32)> = sounds.flat_map(|(stream, own)| (0..own.channels).map(|channel| (stream.index, channel))).collect();
        match plan(&source, &builtin("sound-only").expect("a preset"), &own) {
            Ok(made) => {
                prop_assert_eq!(channels_of(&made.sound, &source), all.clone());
                let counted: u32 = made.sound.iter().map(|track| track.channels).sum();
                prop_assert_eq!(counted as usize, all.len());
                prop_assert_eq!(made.sound.len(), if joined { 1 } else { all.len() });
            }
            Err(error) => prop_assert!(all.is_empty() || all.len() > 64, "{error:?} of {} channels", all.len()),
        }
    }

    #[test]
    fn every_source_becomes_a_plan_that_can_be_encoded_or_is_refused_in_words(source in any_source(), number in 0_usize..10) {
        let preset = builtin_presets().remove(number);
        let made = match plan(&source, &preset, &json!({})) {
            Ok(made) => made,
            Err(error) => {
                prop_assert!(is_justified(&error, &source, &preset), "{error:?} of {source:?}");
                return Ok(());
            }
        };
        prop_assert!(made.picture.is_some() || !made.sound.is_empty(), "nothing would be made");
        prop_assert!(made.sound.len() <= made.container.traits().most_sounds);
        for sound in &made.sound {
            let of = source.facts.sounds().find(|(stream, _)| Some(stream.index) == sound.whole_stream());
            let (stream, own) = of.expect("a stream of the source");
            prop_assert!(sound.channels > 0 && sound.sample_rate > 0 && own.channels > 0, "{sound:?}");
            if sound.codec.is_copy() {
                prop_assert_eq!((sound.channels, sound.sample_rate, &sound.layout), (own.channels, own.sample_rate, &own.layout));
                prop_assert!(copies_into(made.container, &stream.codec));
            }
            if let Some(blocks) = sound.codec.blocks() {
                prop_assert_eq!(blocks.sample_rate_for(sound.sample_rate), sound.sample_rate);
                prop_assert!(blocks.layouts.contains(&sound.layout.as_str()), "{}", sound.layout);
                prop_assert!(sound.bit_rate.is_none_or(|rate| rate.0 >= *blocks.rates.start()));
            }
        }
        let forecast = forecast(&made, &source.facts, &[]);
        prop_assert_eq!(forecast.size.0, forecast.picture.0 + forecast.sound.0 + forecast.overhead.0);
        prop_assert!(made.decisions.iter().all(|decision| !decision.what.is_empty() && !decision.because.is_empty()));
        if let Some(picture) = &made.picture {
            prop_assert!(picture.width > 0 && picture.height > 0);
            if picture.pixel_format.name().contains("420") {
                prop_assert!(picture.width % 2 == 0 && picture.height % 2 == 0, "{}x{}", picture.width, picture.height);
            }
            if picture.pixel_format.name().contains("422") {
                prop_assert!(picture.width % 2 == 0, "{}", picture.width);
            }
            prop_assert!(picture.frame_rate.rate().is_positive());
            prop_assert!(picture.pixel_aspect.is_positive());
            prop_assert!(picture.key_interval_frames > 0);
            prop_assert!(!picture.field_order.is_interlaced() || picture.height % 2 == 0, "fields of unequal height: {}", picture.height);
        }
        // The same question has the same answer, and the answer survives its way to the engine.
        prop_assert_eq!(&plan(&source, &preset, &json!({})).unwrap(), &made);
        let sent = serde_json::to_string(&made).unwrap();
        prop_assert_eq!(serde_json::from_str::<beryl_core::plan::Plan>(&sent).unwrap(), made);
    }

    #[test]
    fn sizes_are_even_inside_their_box_and_keep_their_shape(width in 16_u32..4096, height in 16_u32..4096, box_width in 32_u32..2048, box_height in 32_u32..2048, enlarge in any::<bool>()) {
        let source = Frame { width, height, pixel_aspect: Rational::ONE };
        let (box_width, box_height) = (box_width * 2, box_height * 2);
        let fit = sizing(source, SizeRule::Fit { width: box_width, height: box_height, enlarge }, PixelAspectRule::Square);
        let (columns, lines) = fit.scaled;
        prop_assert!(columns % 2 == 0 && lines % 2 == 0 && columns >= 2 && lines >= 2);
        prop_assert!(columns <= box_width.max(width + 1) && lines <= box_height.max(height + 1));
        let wanted = f64::from(width) / f64::from(height);
        let slack = 2.0 * (1.0 / f64::from(columns) + 1.0 / f64::from(lines));
        prop_assert!((f64::from(columns) / f64::from(lines) / wanted - 1.0).abs() <= slack);
        let pad = sizing(source, SizeRule::Pad { width: box_width, height: box_height, enlarge }, PixelAspectRule::Square);
        prop_assert_eq!((pad.frame.width, pad.frame.height), (box_width, box_height));
        // Nothing is enlarged but where it is told.
        prop_assert!(enlarge || pad.scaled.0 <= width + 1 && pad.scaled.1 <= height + 1);
        if let Some(place) = pad.pad {
            prop_assert!(place.x + pad.scaled.0 <= box_width && place.y + pad.scaled.1 <= box_height);
        }
        let fill = sizing(source, SizeRule::Fill { width: box_width, height: box_height, enlarge }, PixelAspectRule::Square);
        let is_small = width < box_width - 2 && height < box_height - 2;
        prop_assert!(!enlarge || fill.scaled == (box_width, box_height));
        prop_assert!(fill.scaled.0 <= box_width && fill.scaled.1 <= box_height);
        prop_assert!(enlarge || !is_small || fill.scaled.0 <= width + 1 && fill.scaled.1 <= height + 1);
        if let Some(part) = fill.crop {
            prop_assert!(part.x + part.width <= width && part.y + part.height <= height);
        }
    }

    #[test]
    fn shared_stages_work_off_every_chain_and_nothing_twice(chains in prop::collection::vec(prop::collection::vec(0_u32..3, 0..5), 1..6)) {
        let chains: Vec<Vec<Step>> = chains.iter().map(|chain| chain.iter().map(|x| Step::Pad { width: 2, height: 2, x: *x, y: 0, full_range: false }).collect()).collect();
        let slices: Vec<&[Step]> = chains.iter().map(Vec::as_slice).collect();
        let stages = share_steps(&slices);
        for (output, chain) in chains.iter().enumerate() {
            let mut place = stages.iter().position(|stage| stage.outputs.contains(&output));
            let mut steps = Vec::new();
            while let Some(at) = place {
                steps.splice(0..0, stages[at].steps.iter().cloned());
                place = stages[at].parent;
            }
            prop_assert_eq!(&steps, chain);
        }
        // Siblings differ in their first step, or they would be one stage.
        for (place, stage) in stages.iter().enumerate() {
            for other in &stages[place + 1..] {
                prop_assert!(stage.parent != other.parent || stage.steps.first() != other.steps.first());
            }
        }
    }

    #[test]
    fn names_are_safe_whatever_the_source_is_called(source in "\\PC{0,300}") {
        let fields = NameFields { name: &source, folders: "a/../b", ..named() };
        let name = name_for("<folders>/<name>_<lines>_<sheet>", &fields).unwrap();
        let path = StoragePath::from_bytes(name.as_bytes());
        prop_assert!(path.is_ok(), "{}", name);
        prop_assert!(!name.contains(['<', '>', ':', '"', '|', '?', '*', '\\']));
    }

    #[test]
    fn paths_survive_their_text_and_never_leave(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
        if let Ok(path) = StoragePath::from_bytes(&bytes) {
            prop_assert_eq!(path.to_string().parse::<StoragePath>().unwrap(), path.clone());
            prop_assert!(!path.as_bytes().split(|byte| *byte == b'/').any(|part| part == b".." || part == b"."));
        }
    }
}

/// What stands in names of an ordinary output.
fn named() -> NameFields<'static> {
    NameFields {
        name: "clip",
        folders: "",
        preset: "web-1080",
        columns: Some(1920),
        lines: Some(1080),
        codec: "h264",
        fps: Some("25"),
        day: chrono::NaiveDate::from_ymd_opt(2031, 5, 28).unwrap(),
        number: 7,
        reel: Some("C014"),
        timecode: Some("10:00:00;02"),
        sheet: Some("Kiln: film/1"),
    }
}

#[test]
fn patterns_have_tokens_and_those_of_before_their_own_words() {
    for (pattern, name) in [
        ("<name>_<preset>", "clip_web-1080"),
        ("<columns>x<lines>_<fps>_<codec>", "1920x1080_25_h264"),
        ("<day>/<number>_<name>", "2031-05-28/007_clip"),
        ("<sheet>/<reel>_<timecode>", "Kiln- film-1/C014_10-00-00-02"),
        // Earlier versions had braces and other words.
        ("{date}/{source}_{preset}_{width}x{height}_{rate}_{codec}_{counter}", "2031-05-28/clip_web-1080_1920x1080_25_h264_007"),
        // Braces are letters like others now.
        ("<name>{1}", "clip{1}"),
    ] {
        assert_eq!(name_for(pattern, &named()).unwrap(), name, "{pattern}");
    }
    let bare = NameFields { columns: None, lines: None, fps: None, reel: None, timecode: None, sheet: None, ..named() };
    assert_eq!(name_for("<name>_<lines>_<reel>_<timecode>_<sheet>", &bare).unwrap(), "clip_sound_no-reel_no-timecode_no-sheet");
    for token in TOKENS {
        assert!(name_for(&format!("<{}>", token.word), &named()).is_ok(), "{}", token.word);
    }
    let document = json!({ "id": "own", "name": "Own", "name_pattern": "{source}_own" });
    let mut whole = serde_json::to_value(builtin("web-1080").unwrap()).unwrap();
    whole.as_object_mut().unwrap().extend(document.as_object().unwrap().clone());
    assert_eq!(Preset::from_value(whole).unwrap().name_pattern, "<name>_own");
}

#[test]
fn names_that_systems_reserve_are_changed() {
    for (name, clean) in
        [("CON", "_CON"), ("lpt1.mov", "_lpt1.mov"), ("a:b?c", "a-b-c"), ("...", "unnamed"), (" x. ", "x"), ("é", "é")]
    {
        assert_eq!(clean_part(name), clean);
    }
}

#[test]
fn outputs_are_grouped_so_that_each_group_fits_its_memory() {
    let source = reading(|picture| {
        (picture.width, picture.height, picture.pixel_format) = (3840, 2160, "yuv420p10le".into());
    });
    let plans: Vec<Plan> = builtin_presets().iter().filter_map(|preset| plan(&source, preset, &json!({})).ok()).collect();
    let plans: Vec<&Plan> = plans.iter().collect();
    let means = |gigabytes: u64, processors: u32| Means { memory: ByteSize(gigabytes << 30), processors };
    let alone = |place: usize, means: Means| memory::of_job(&[plans[place]], means);
    // The most that one of them needs is what an encoder looks ahead at.
    assert!((0..plans.len()).any(|place| alone(place, means(1, 2)).0 > 2 << 30));
    for (gigabytes, processors) in [(1, 1), (2, 2), (4, 2), (8, 8), (64, 64), (1000, 1)] {
        let means = means(gigabytes, processors);
        let groups = memory::groups(&plans, means);
        let mut places: Vec<usize> = groups.iter().flatten().copied().collect();
        places.sort_unstable();
        assert_eq!(places, (0..plans.len()).collect::<Vec<_>>(), "each is made once");
        for group in &groups {
            let needs = memory::of_job(&group.iter().map(|place| plans[*place]).collect::<Vec<_>>(), means);
            assert!(needs <= means.memory || group.len() == 1, "{group:?} needs {needs} of {gigabytes} GiB");
        }
        assert_eq!(
            memory::planned(&plans, means),
            groups
                .iter()
                .map(|group| memory::of_job(&group.iter().map(|place| plans[*place]).collect::<Vec<_>>(), means))
                .max()
                .unwrap()
        );
    }
    // More threads hold more pictures, and one decode serves all that is made of it.
    assert!(alone(0, means(1, 8)) > alone(0, means(1, 1)));
    let apart: u64 = (0..plans.len()).map(|place| alone(place, means(1, 2)).0).sum();
    assert!(memory::of_job(&plans, means(1, 2)).0 < apart);
}

#[test]
fn tracks_that_cannot_be_made_of_a_source_are_refused_and_say_why() {
    let source = reading(|_| {});
    let refused = |tracks: Value| {
        let own = json!({ "sound": { "tracks": tracks } });
        plan(&source, &builtin("web-1080").expect("a preset"), &own).expect_err("no plan").to_string()
    };
    for (tracks, words) in [
        (json!([{ "from": [{ "stream": 0 }] }]), "stream 1 of the source is no sound"),
        (json!([{ "from": [{ "stream": 7 }] }]), "stream 8 of the source is no sound"),
        (json!([{ "from": [{ "stream": 1, "channels": [0, 2] }] }]), "there is no channel 3 of stream 2: it has 2"),
        (
            json!([{ "from": [{ "stream": 1 }], "matrix": [[0, 0, 0]] }]),
            "a matrix for 3 channels does not fit the 2 of its track",
        ),
        (json!([{ "from": [] }]), "Track 1 is made of nothing"),
        (json!([{ "from": [{ "stream": 1 }], "matrix": [[0], [0, 0]] }]), "all rows of a matrix are equally long"),
    ] {
        let said = refused(tracks);
        assert!(said.contains(words), "{said}");
    }
}

#[test]
fn each_channel_has_a_file_of_its_own_where_that_is_asked_for() {
    let source = reading(|_| {});
    let own = json!({ "container": "mov", "sound": { "codec": "pcm24", "bits_per_second": null, "channels": "same",
        "streams": "channels", "files": "apart" } });
    let made = plan(&source, &builtin("web-1080").expect("a preset"), &own).expect("a plan");
    let artifacts = made.artifacts();
    let endings: Vec<String> = artifacts.iter().map(|artifact| artifact.ending()).collect();
    assert_eq!(endings, [".mov", "_A1.wav", "_A2.wav"]);
    for (artifact, channel) in artifacts[1..].iter().zip(0..) {
        let file = artifact.plan(&made);
        assert!(file.picture.is_none());
        let [track] = file.sound.as_slice() else { panic!("one track a file: {:?}", file.sound) };
        assert_eq!(track.from, [TrackSource { stream: 1, channels: vec![channel] }]);
        assert_eq!((track.channels, track.layout.as_str(), track.whole_stream()), (1, "mono", None));
    }
    // What is decided about each is told with where it comes from.
    let told: Vec<&str> = made.decisions.iter().map(|decision| decision.because.as_str()).collect();
    assert!(told.iter().any(|because| because.contains("channel 2 of stream 2")), "{told:?}");
}

#[test]
fn tracks_of_earlier_versions_name_one_stream() {
    let source = reading(|_| {});
    let made = plan(&source, &builtin("web-1080").expect("a preset"), &json!({})).expect("a plan");
    let mut written = serde_json::to_value(&made).expect("a document");
    let track = written["sound"][0].as_object_mut().expect("a track");
    track.remove("from");
    track.insert("source_stream".to_owned(), json!(1));
    let read: Plan = serde_json::from_value(written).expect("a plan of before");
    assert_eq!(read, made);
}

//! A codec is one declaration: this one is nobody's, and everything in core knows what to do with it.

mod common;

use beryl_core::after::cost::modelled_cost;
use beryl_core::after::forecast::{Certainty, forecast};
use beryl_core::after::memory::{Means, of_job};
use beryl_core::formats::{
    Container, FieldsIn, FrameRates, Groups, PictureCodec, PictureDeclaration, ProfileDeclaration, RateControl, Rates, SizeModel,
    Stores,
};
use beryl_core::plan::{PlanError, plan_with as plan};
use beryl_core::preset::{FieldsRule, FrameRateRule, Preset, builtin};
use beryl_core::problem::FaultCode;
use beryl_core::time::Rational;
use beryl_core::units::ByteSize;
use common::reading;
use serde_json::Value;

static RATES: [Rational; 2] = [Rational::whole(25), Rational::whole(50)];

/// Glaze, a codec of tile works: a quality from 1 to 9, long groups, 4:2:2 in ten bits, whole frames, in MKV alone.
static GLAZE: PictureDeclaration = PictureDeclaration {
    id: "glaze",
    words: "Glaze",
    probe_name: "glaze",
    profiles: &[ProfileDeclaration {
        fields: FieldsIn::Never,
        ..ProfileDeclaration::of("matt", "Matt", &["Matt"], Stores::As("yuv422p10le"))
    }],
    usual_profile: "matt",
    rates: Rates::Chosen { quality: 1..=9, unit: "gloss" },
    groups: Groups::Long { least: 3 },
    containers: &[Container::Mkv],
    frame_rates: FrameRates::These(&RATES),
    size: SizeModel::Quality { at: 5, bits_per_pixel: 0.1, to_halve: 2.0 },
    ..PictureDeclaration::PLAIN
};

fn glaze(change: impl FnOnce(&mut Preset)) -> Preset {
    let mut preset = builtin("web-1080").expect("a preset that ships");
    preset.container = Container::Mkv;
    let picture = preset.picture.as_mut().expect("a preset with a picture");
    picture.codec = PictureCodec::declared(&GLAZE);
    picture.rate = RateControl::ConstantQuality { crf: 5 };
    change(&mut preset);
    preset
}

fn picture(change: impl FnOnce(&mut beryl_core::preset::PictureSettings)) -> Preset {
    glaze(|preset| change(preset.picture.as_mut().expect("a preset with a picture")))
}

#[test]
fn what_its_declaration_rules_out_is_refused_at_its_setting() {
    assert_eq!(glaze(|_| ()).faults(), Vec::new());
    let refused = [
        (glaze(|preset| preset.container = Container::Mp4), "container", FaultCode::NotInContainer, "MKV"),
        (picture(|own| own.rate = RateControl::ConstantQuality { crf: 12 }), "picture.rate.crf", FaultCode::OutOfRange, "1 to 9"),
        (picture(|own| own.rate = RateControl::ByProfile), "picture.rate.mode", FaultCode::NotOfCodec, "Glaze"),
        (picture(|own| own.level = Some(beryl_core::formats::Level(41))), "picture.level", FaultCode::NotOfCodec, "no level 4.1"),
        (picture(|own| own.fields = FieldsRule::Keep), "picture.fields", FaultCode::NotOfCodec, "whole frames"),
        (
            picture(|own| own.frame_rate = FrameRateRule::AtMost { rate: Rational::whole(30) }),
            "picture.frame_rate.rate",
            FaultCode::NotOfCodec,
            "25, 50",
        ),
        (
            picture(|own| own.frame_rate = FrameRateRule::KeepVariable),
            "picture.frame_rate.rule",
            FaultCode::NotOfCodec,
            "constant",
        ),
    ];
    for (preset, field, code, words) in refused {
        let faults = preset.faults();
        let [fault] = faults.as_slice() else { panic!("{field}: {faults:?}") };
        assert_eq!((fault.field.as_str(), fault.code), (field, code), "{fault}");
        assert!(fault.words.contains(words), "{fault}");
    }
}

#[test]
fn it_is_planned_weighed_and_costed_by_its_declaration() {
    let source = reading(|_| ());
    let made = plan(&source, &glaze(|_| ()), &Value::Null).unwrap();
    let own = made.picture.as_ref().unwrap();
    assert_eq!(
        (own.format.words().as_str(), own.pixel_format.name(), made.codec_word().as_str()),
        ("Glaze Matt", "yuv422p10le", "glaze")
    );
    assert!(made.decisions.iter().any(|decision| decision.what == "constant quality, gloss 5"), "{:?}", made.decisions);
    let close = plan(&source, &picture(|own| own.key_interval = Rational::constant(1, 25)), &Value::Null).unwrap();
    assert_eq!(close.picture.unwrap().key_interval_frames, 3);
    // 0.1 bit for each of the pixels of ten seconds, and half of it two steps of quality further.
    let weight = |quality: u8| {
        let plan = plan(&source, &picture(|own| own.rate = RateControl::ConstantQuality { crf: quality }), &Value::Null).unwrap();
        let forecast = forecast(&plan, &source.facts, &[]);
        assert_eq!(forecast.certainty, Certainty::Modelled);
        forecast.picture.0
    };
    assert_eq!((weight(5), weight(7)), (6_480_000, 3_240_000));
    // Ten nanoseconds for each pixel, beside what it costs to handle and to store it.
    let cost = modelled_cost(&made);
    assert!((5.0..15.0).contains(&cost), "{cost}");
    let means = Means { memory: ByteSize(8 << 30), processors: 2 };
    assert!(of_job(&[&made], means) > of_job(&[], means));
    let other_rate = reading(|picture| picture.frame_rate = Some(Rational::constant(24_000, 1001)));
    let refusal = plan(&other_rate, &glaze(|_| ()), &Value::Null).unwrap_err();
    assert!(matches!(&refusal, PlanError::Impossible(fault) if fault.field == "picture.frame_rate"), "{refusal}");
}

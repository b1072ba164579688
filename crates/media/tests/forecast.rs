//! What proofs foretell: the size of the whole at constant quality, from short stretches of it.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::Measured;
use beryl_core::after::forecast::{Certainty, Outlook};
use beryl_core::after::proof::sample_parts;
use beryl_core::after::sample::Sample;
use beryl_core::formats::RateControl;
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{EncodeRun, Event, FileRef, RunNews, SourceRef};
use beryl_core::time::{Rational, total};
use beryl_core::units::BitRate;
use beryl_media::{Control, encode, probe, silence_libraries};
use material::{film_of_shots, write};
use serde_json::{Value, json};
use uuid::Uuid;

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

fn made(folder: &Path, plans: &[Plan]) -> Vec<Measured> {
    let run = |plan: &Plan| EncodeRun {
        id: Uuid::now_v7(),
        plan: plan.clone(),
        outputs: vec![source(folder, &Uuid::now_v7().to_string()).file],
        assets: Vec::new(),
    };
    let runs: Vec<EncodeRun> = plans.iter().map(run).collect();
    let measures = Mutex::new(Vec::new());
    encode(&source(folder, "film.y4m"), &runs, folder, &Control::default(), &|event| {
        if let Event::Run { id, news: RunNews::Written { measured } } = event {
            measures.lock().unwrap().push((id, measured));
        }
    })
    .unwrap();
    let mut measures = measures.into_inner().unwrap();
    measures.sort_by_key(|(id, _)| runs.iter().position(|run| run.id == *id));
    measures.into_iter().flat_map(|(_, measured): (Uuid, Vec<Measured>)| measured).collect()
}

#[test]
fn a_sample_foretells_the_size_of_the_whole_to_twelve_percent() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("film.y4m"), &film_of_shots(1050), (25, 1), 'p', "");
    let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    let quality =
        |crf: u8| json!({ "picture": { "rate": { "mode": "constant_quality", "crf": crf }, "size": { "rule": "same" } } });
    let mut samples: Vec<Sample> = Vec::new();
    for (preset, crf) in [("web-1080", 23), ("delivery-hevc", 24)] {
        let own = quality(crf);
        let preset = builtin(preset).unwrap();
        let outlook =
            |own: &Value, samples: &[Sample]| Outlook::of(plan(&reading, &preset, own).unwrap(), &reading.facts, samples);
        let before = outlook(&own, &[]);
        assert_eq!(before.forecast.certainty, Certainty::Modelled);
        let parts = sample_parts(&reading, &[]);
        let sampled = total(&parts);
        assert!(parts.len() == 14 && sampled == Rational::constant(84, 5), "{} parts, {sampled} s", parts.len());
        let proofs = [plan(&reading, &preset, &json!({ "picture": own["picture"], "parts": parts })).unwrap()];
        let measured = made(folder.path(), &proofs);
        let shown = proofs.iter().zip(&measured).filter_map(|(plan, measured)| Sample::of(plan, measured, 8.4));
        samples = shown.collect();

        let whole = outlook(&own, &samples);
        let actual = made(folder.path(), std::slice::from_ref(&whole.plan))[0].facts.size.0 as f64;
        let (modelled, foretold) = (before.forecast.size.0 as f64 / actual, whole.forecast.size.0 as f64 / actual);
        println!("{}: modelled {modelled:.3}, foretold {foretold:.3} of the actual size", preset.id);
        assert_eq!(whole.forecast.certainty, Certainty::Sampled);
        assert!((foretold - 1.0).abs() <= 0.12, "{}: {foretold:.3} of the actual size", preset.id);
        // 8.4 s of processor time for 16.8 s: 21 for 42.
        assert_eq!(whole.forecast.cpu_milliseconds, Some(21_000));
        // Other settings of the same source are likened to these.
        let other = outlook(&quality(crf + 4), &samples);
        let ratio = other.forecast.size.0 as f64 / made(folder.path(), std::slice::from_ref(&other.plan))[0].facts.size.0 as f64;
        println!("{}: four steps of CRF away {ratio:.3} of the actual size", preset.id);
        assert!((0.6..=1.8).contains(&ratio), "{ratio:.3}");
    }
    // Where a mean rate is asked for it is the forecast, also where one pass would be too few for it.
    let mut preset = builtin("web-1080").unwrap();
    preset.picture.as_mut().unwrap().rate = RateControl::Average { bits_per_second: BitRate(900_000), passes: 1, peak: None };
    let whole = plan(&reading, &preset, &json!({ "picture": { "size": { "rule": "same" } } })).unwrap();
    let whole = Outlook::of(whole, &reading.facts, &samples);
    let actual = made(folder.path(), std::slice::from_ref(&whole.plan))[0].facts.size.0 as f64;
    let ratio = whole.forecast.size.0 as f64 / actual;
    println!("900 kb/s on average: foretold {ratio:.3} of the actual size");
    assert_eq!(whole.forecast.certainty, Certainty::Ceiling);
    assert!((ratio - 1.0).abs() <= 0.03, "{ratio:.3}");
}

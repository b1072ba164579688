//! Suggestions of many sources, as one list.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::after::suggestions::{Suggestion, gathered};
use beryl_core::plan::Subject;
use beryl_core::preset::PresetPatch;
use proptest::prelude::*;
use serde_json::json;

fn suggestion(subject: Subject, what: &str, because: &str, settings: serde_json::Value) -> Suggestion {
    Suggestion {
        subject,
        what: what.to_owned(),
        because: because.to_owned(),
        settings: PresetPatch::from_value(settings).unwrap(),
    }
}

fn bars(to: &str, because: &str) -> Suggestion {
    suggestion(
        Subject::Crop,
        &format!("Cut the bars off, to {to}"),
        because,
        json!({ "picture": { "crop": { "rule": "bars" } } }),
    )
}

fn grey() -> Suggestion {
    suggestion(Subject::Colour, "Take the colour out", "it is grey", json!({ "picture": { "greyscale": true } }))
}

#[test]
fn what_is_set_alike_is_one_suggestion_that_says_what_all_have_in_common() {
    let all = [
        (1, bars("1920×800", "140 lines")),
        (1, grey()),
        (2, bars("1920×804", "138 lines")),
        (3, grey()),
        (4, bars("720×432", "x")),
    ];
    let groups = gathered(all);
    let told: Vec<_> = groups.iter().map(|(one, ids)| (one.what.as_str(), one.because.as_str(), ids.clone())).collect();
    assert_eq!(
        told,
        [("Cut the bars off", "each for reasons of its own", vec![1, 2, 4]), ("Take the colour out", "it is grey", vec![1, 3])]
    );
    // One alone keeps its own words, and so do several that are the same.
    assert_eq!(gathered([(1, bars("1920×800", "a")), (2, bars("1920×800", "a"))])[0].0, bars("1920×800", "a"));
}

#[test]
fn other_settings_are_another_suggestion_whatever_the_words() {
    let slower = |rate: &str| {
        let settings = json!({ "picture": { "frame_rate": { "rule": "constant", "rate": rate } } });
        suggestion(Subject::FrameRate, "Leave repeated frames out", "it repeats", settings)
    };
    assert_eq!(gathered([(1, slower("24")), (2, slower("25")), (3, slower("24"))]).len(), 2);
}

proptest! {
    #[test]
    fn each_source_stands_once_with_each_of_its_suggestions(of in prop::collection::vec((0_u32..50, 0_usize..4), 0..80)) {
        let kinds = [bars("2×2", "a"), bars("4×4", "b"), grey(), suggestion(Subject::Speed, "Slow down", "c", json!({}))];
        let groups = gathered(of.iter().map(|(id, kind)| (*id, kinds[*kind].clone())));
        prop_assert_eq!(groups.iter().map(|(_, ids)| ids.len()).sum::<usize>(), of.len());
        prop_assert!(groups.len() <= 3);
        for (one, ids) in &groups {
            let own = |kind: usize| kinds[kind].settings == one.settings && kinds[kind].subject == one.subject;
            let expected: Vec<u32> = of.iter().filter(|(_, kind)| own(*kind)).map(|(id, _)| *id).collect();
            prop_assert_eq!(ids, &expected);
        }
    }
}

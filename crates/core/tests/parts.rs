//! Parts of a source: laws of their arithmetic.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::time::{FromFirst, OutputTime, Rational, SourceTime, Span, TimeMap, check_order, total};
use proptest::prelude::*;

fn ordered() -> impl Strategy<Value = Vec<Span>> {
    prop::collection::vec((0_i64..500, 1_i64..500), 1..6).prop_map(|steps| {
        let mut end = 0;
        let part = |(gap, length): (i64, i64)| {
            let from = end + gap;
            end = from + length;
            Span { from: Rational::constant(from, 25), to: Rational::constant(end, 25) }
        };
        steps.into_iter().map(part).collect()
    })
}

fn speeds() -> impl Strategy<Value = Rational> {
    prop::sample::select(vec![
        Rational::ONE,
        Rational::constant(25, 24),
        Rational::constant(1000, 1001),
        Rational::constant(1, 2),
    ])
}

proptest! {
    #[test]
    fn all_of_a_source_comes_to_the_length_of_the_parts(parts in ordered(), speed in speeds()) {
        prop_assert!(check_order(&parts).is_ok());
        let map = TimeMap::new(&parts, speed);
        let all = Span { from: Rational::ZERO, to: parts.last().unwrap().to };
        let whole = total(&parts).divided_by(speed).unwrap();
        prop_assert_eq!(map.shown(all), vec![Span { from: Rational::ZERO, to: whole }]);
        prop_assert_eq!(map.whole(), Some(whole));
    }

    #[test]
    fn what_is_shown_comes_from_where_it_was_taken(parts in ordered(), speed in speeds(), share in 0_i64..1000) {
        let map = TimeMap::new(&parts, speed);
        let at = map.whole().unwrap() * Rational::constant(share, 1000);
        let FromFirst(moment) = map.source(OutputTime(at));
        prop_assert!(parts.iter().any(|part| part.from <= moment && moment < part.to));
        let instant = Span { from: moment, to: moment + Rational::constant(1, 1_000_000) };
        prop_assert_eq!(map.shown(instant)[0].from, at);
    }

    #[test]
    fn all_of_a_source_keeps_its_moments_at_its_speed(speed in speeds(), at in 0_i64..10_000, zero in -500_i64..500) {
        let map = TimeMap::new(&[], speed);
        let at = Rational::constant(at, 25);
        let FromFirst(moment) = map.source(OutputTime(at));
        prop_assert_eq!(moment, at * speed);
        prop_assert_eq!(map.shown(Span { from: moment, to: moment + Rational::ONE })[0].from, at);
        let zero = SourceTime(Rational::constant(zero, 100));
        prop_assert_eq!(FromFirst(moment).on_clock(zero).from_first(zero), FromFirst(moment));
    }

    #[test]
    fn parts_out_of_order_are_named(parts in ordered(), place in 0_usize..6) {
        let place = place % parts.len();
        let mut wrong = parts.clone();
        wrong[place].to = wrong[place].from;
        let refusal = check_order(&wrong).unwrap_err().to_string();
        prop_assert!(refusal.starts_with(&format!("part {} must", place + 1)), "{}", refusal);
    }
}

//! Parts of a source: laws of their arithmetic.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::plan::{source_time, taken};
use beryl_core::time::{Rational, Span, check_order, total};
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

proptest! {
    #[test]
    fn all_of_a_source_comes_to_the_length_of_the_parts(parts in ordered()) {
        prop_assert!(check_order(&parts).is_ok());
        let all = Span { from: Rational::ZERO, to: parts.last().unwrap().to };
        prop_assert_eq!(taken(&parts, all), vec![Span { from: Rational::ZERO, to: total(&parts) }]);
    }

    #[test]
    fn what_is_shown_comes_from_where_it_was_taken(parts in ordered(), share in 0_i64..1000) {
        let at = total(&parts) * Rational::constant(share, 1000);
        let moment = source_time(&parts, at);
        prop_assert!(parts.iter().any(|part| part.from <= moment && moment < part.to));
        let instant = Span { from: moment, to: moment + Rational::constant(1, 1_000_000) };
        prop_assert_eq!(taken(&parts, instant)[0].from, at);
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

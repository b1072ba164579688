//! Streams brought into one order of time.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::formats::interleave::Interleaver;
use beryl_core::time::Rational;
use proptest::prelude::*;

fn seconds(milliseconds: i64) -> Rational {
    Rational::constant(1, 1000) * Rational::whole(milliseconds)
}

fn taken<T>(interleaver: &mut Interleaver<T>) -> Vec<T> {
    std::iter::from_fn(|| interleaver.next_item()).collect()
}

#[test]
fn a_stream_that_has_ended_holds_nothing_back_and_one_that_lags_no_more_than_it_may() {
    // A second of sound beside twenty seconds of picture.
    let mut both = Interleaver::new([0, 1], 1 << 20);
    for frame in 0..25 {
        both.push(0, seconds(frame * 40), 10_000, ("picture", frame));
    }
    assert_eq!(taken(&mut both), [], "sound may still come earlier");
    for portion in 0..47 {
        both.push(1, seconds(portion * 1024 / 48), 100, ("sound", portion));
    }
    let first = taken(&mut both);
    assert!(first.len() > 60 && first.last().unwrap().0 == "picture", "{:?}", first.last());
    both.end(1);
    drop(taken(&mut both));
    for frame in 25..500 {
        both.push(0, seconds(frame * 40), 10_000, ("picture", frame));
        assert_eq!(taken(&mut both).last(), Some(&("picture", frame)), "nothing waits for what has ended");
    }
    both.end(0);
    assert_eq!(taken(&mut both), []);

    // A stream of which nothing comes: what waits stays bounded.
    let mut lagging = Interleaver::new([0, 1], 100_000);
    let out: usize = (0..1000_i64)
        .map(|frame| {
            lagging.push(0, seconds(frame * 40), 10_000, frame);
            taken(&mut lagging).len()
        })
        .sum();
    assert_eq!(out, 990);
    lagging.end_all();
    assert_eq!(taken(&mut lagging).len(), 10, "nothing is lost");
}

proptest! {
    #[test]
    fn everything_comes_out_once_and_in_order_of_time(times in proptest::collection::vec((0_usize..4, 0_i64..50), 1..200)) {
        let mut interleaver = Interleaver::new(0..4, u64::MAX);
        let mut at = [0_i64; 4];
        let mut out = Vec::new();
        for (stream, step) in &times {
            at[*stream] += step;
            interleaver.push(*stream, seconds(at[*stream]), 1, (at[*stream], *stream));
            out.extend(taken(&mut interleaver));
        }
        interleaver.end_all();
        out.extend(taken(&mut interleaver));
        prop_assert_eq!(out.len(), times.len());
        prop_assert!(out.windows(2).all(|pair| pair[0] <= pair[1]), "{:?}", out);
    }
}

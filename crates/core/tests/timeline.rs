//! One timeline for a source: jumps, order, gaps, drift, leads and parts.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation)]

mod common;

use beryl_core::facts::Content;
use beryl_core::time::{Rational, Span};
use beryl_core::timeline::{Continuity, PictureTrack, PlacedPicture, SoundPiece, SoundTrack, Takes, origin};
use common::{reading, stereo, stream};
use proptest::prelude::*;

const MS: Rational = Rational::constant(1, 1000);

fn seconds(value: f64) -> Rational {
    Rational::new((value * 1e6).round() as i64, 1_000_000).unwrap()
}

/// Places of pictures with these stamps, each lasting 40 ticks of a millisecond.
fn placed(takes: &Takes, depth: usize, stamps: &[Option<i64>]) -> Vec<(usize, i64, i64, bool)> {
    let mut track = PictureTrack::new(takes.clone(), MS, 40, depth);
    let mut out: Vec<PlacedPicture<usize>> = track.begin(0);
    for (number, stamp) in stamps.iter().enumerate() {
        out.extend(track.take(number, *stamp, 0));
    }
    out.extend(track.end());
    out.into_iter().map(|picture| (picture.frame, picture.time, picture.length, picture.leads)).collect()
}

fn some(stamps: &[i64]) -> Vec<Option<i64>> {
    stamps.iter().copied().map(Some).collect()
}

#[test]
fn pictures_lie_where_their_stamps_say_and_last_until_the_next() {
    let whole = Takes::whole(Rational::whole(600));
    let plain = placed(&whole, 0, &some(&[600_000, 600_040, 600_120, 600_160]));
    assert_eq!(plain, [(0, 0, 40, false), (1, 40, 80, false), (2, 120, 40, false), (3, 160, 40, false)]);
    // Stamps that are missing follow; those that stand still are spread over the time to the next.
    let missing = placed(&whole, 0, &[Some(600_000), None, None, Some(600_120)]);
    assert_eq!(missing.iter().map(|picture| picture.1).collect::<Vec<_>>(), [0, 40, 80, 120]);
    let still = placed(&whole, 0, &some(&[600_000, 600_040, 600_040, 600_040, 600_160]));
    assert_eq!(still.iter().map(|picture| picture.1).collect::<Vec<_>>(), [0, 40, 80, 120, 160]);
    // Time never runs backward, and nothing is lost by it.
    let back = placed(&whole, 0, &some(&[600_000, 600_040, 600_020, 600_120]));
    assert!(back.windows(2).all(|pair| pair[0].1 < pair[1].1) && back.len() == 4, "{back:?}");
}

#[test]
fn stamps_in_the_order_of_decoding_are_put_in_the_order_of_showing() {
    let whole = Takes::whole(Rational::ZERO);
    // Decoded 0 2 1 4 3, stamped as decoded: what is shown second bears the third stamp.
    let jumbled = placed(&whole, 1, &some(&[0, 80, 40, 160, 120]));
    assert_eq!(
        jumbled.iter().map(|picture| (picture.0, picture.1)).collect::<Vec<_>>(),
        [(0, 0), (1, 40), (2, 80), (3, 120), (4, 160)]
    );
}

#[test]
fn a_picture_that_begins_late_stands_from_the_beginning_on() {
    let whole = Takes::whole(Rational::ZERO);
    let late = placed(&whole, 0, &some(&[120, 160]));
    assert_eq!(late, [(0, 0, 120, true), (0, 120, 40, false), (1, 160, 40, false)]);
    // Less than half a frame is the coarseness of a clock.
    assert_eq!(placed(&whole, 0, &some(&[10, 50]))[0], (0, 0, 50, false));
}

#[test]
fn parts_take_frames_by_the_half_and_lie_one_behind_the_other() {
    let spans = [Span { from: Rational::ONE, to: Rational::whole(2) }, Span { from: Rational::whole(3), to: Rational::whole(4) }];
    let takes = Takes::parts(Rational::whole(100), &spans);
    let mut track = PictureTrack::new(takes.clone(), MS, 40, 0);
    let mut out = track.begin(0);
    let stamps: Vec<i64> = (0..150).map(|frame| 100_000 + frame * 40).collect();
    for stamp in &stamps {
        out.extend(track.take(*stamp, Some(*stamp), 40));
    }
    out.extend(track.begin(1));
    for stamp in &stamps {
        out.extend(track.take(*stamp, Some(*stamp), 40));
    }
    out.extend(track.end());
    assert_eq!(out.len(), 50);
    assert_eq!((out[0].frame, out[0].time, out[24].frame, out[25].frame, out[25].time), (101_000, 0, 101_960, 103_000, 1000));
    assert!(
        takes.holds(1, Rational::whole(103)) && !takes.holds(1, Rational::whole(104)) && takes.is_behind(0, Rational::whole(102))
    );
}

/// What comes of frames of 1024 samples at 48 kHz with these stamps, in seconds: the places of silence and sound.
fn sounded(takes: &Takes, clock: Rational, stamps: &[f64]) -> (Vec<SoundPiece<usize>>, SoundTrack<usize>) {
    let mut track = SoundTrack::new(takes.clone(), clock, 48_000);
    let mut pieces = track.begin(0);
    for (number, stamp) in stamps.iter().enumerate() {
        pieces.extend(track.take(number, Some(seconds(*stamp)), 1024));
    }
    pieces.extend(track.end());
    (pieces, track)
}

const FRAME: f64 = 1024.0 / 48_000.0;

fn silences(pieces: &[SoundPiece<usize>]) -> Vec<(i64, i64)> {
    let silent = pieces.iter().filter_map(|piece| match piece {
        SoundPiece::Silence { at, samples } => Some((*at, *samples)),
        SoundPiece::Sound { .. } => None,
    });
    silent.collect()
}

/// No sample is left out between pieces and none is there twice, but for what is to be stretched.
fn assert_seamless(pieces: &[SoundPiece<usize>], slack: i64) {
    let mut end = 0;
    for piece in pieces {
        let (at, samples) = match piece {
            SoundPiece::Silence { at, samples } | SoundPiece::Sound { at, samples, .. } => (*at, *samples),
        };
        assert!((at - end).abs() <= slack, "{at} follows {end}");
        end = at + samples;
    }
}

#[test]
fn sound_that_begins_late_or_early_begins_at_nought_all_the_same() {
    let whole = Takes::whole(Rational::ZERO);
    let (late, _) = sounded(&whole, MS, &[2.5, 2.5 + FRAME]);
    assert_eq!(silences(&late), [(0, 120_000)]);
    assert_seamless(&late, 0);
    let (early, track) = sounded(&whole, MS, &[-0.01, FRAME - 0.01, 2.0 * FRAME - 0.01]);
    assert!(silences(&early).is_empty());
    assert_eq!(
        (early[0].clone(), track.made()),
        (SoundPiece::Sound { frame: 0, first: 480, samples: 544, at: 0, stretch: 0 }, 3 * 1024 - 480)
    );
}

#[test]
fn a_gap_is_filled_and_an_overlap_left_out_sample_for_sample() {
    let whole = Takes::whole(Rational::ZERO);
    let stamps =
        |from: usize, shift: f64| (0..60).map(move |frame| frame as f64 * FRAME + if frame >= from { shift } else { 0.0 });
    for missing in [0.005, 0.060, 0.4, 3.0] {
        let (pieces, track) = sounded(&whole, MS, &stamps(20, missing).collect::<Vec<_>>());
        let filled = (missing * 48_000.0).round() as i64;
        let silence = silences(&pieces);
        assert!(silence.len() == 1 && silence[0].0 == 20 * 1024 && (silence[0].1 - filled).abs() <= 1, "{missing}: {silence:?}");
        assert_seamless(&pieces, 0);
        assert_eq!(track.gaps().len(), 1);
        assert!((track.gaps()[0].length.to_f64() - missing).abs() < 1e-4);
    }
    let (pieces, track) = sounded(&whole, MS, &stamps(20, -0.060).collect::<Vec<_>>());
    assert!(silences(&pieces).is_empty() && (track.made() - (60 * 1024 - 2880)).abs() <= 1, "{}", track.made());
    assert_seamless(&pieces, 0);
}

#[test]
fn stamps_that_jump_to_and_fro_change_nothing() {
    let whole = Takes::whole(Rational::ZERO);
    // A recorder that stamps by the clock of its calls: up to 12 ms late, now and then.
    let jumpy = |frame: usize| frame as f64 * FRAME + [0.0, 0.0, 0.012, 0.0, 0.0, 0.003, 0.0][frame % 7];
    let (pieces, track) = sounded(&whole, MS, &(0..300).map(jumpy).collect::<Vec<_>>());
    assert!(silences(&pieces).is_empty() && track.gaps().is_empty());
    let drawn = (track.made() - 300 * 1024).abs();
    assert!(drawn <= 96, "{drawn} samples");
}

proptest! {
    /// A coarse clock is no drift: sound comes through sample for sample.
    #[test]
    fn rounding_changes_nothing(clock in prop::sample::select(vec![1000_i64, 90_000, 44_100, 600]), floor in any::<bool>()) {
        let whole = Takes::whole(Rational::ZERO);
        let rounded = |frame: usize| {
            let exact = frame as f64 * FRAME * clock as f64;
            (if floor { exact.floor() } else { exact.round() }) / clock as f64
        };
        let tick = Rational::new(1, clock).unwrap();
        let (pieces, track) = sounded(&whole, tick, &(0..2000).map(rounded).collect::<Vec<_>>());
        prop_assert!(track.gaps().is_empty());
        prop_assert_eq!(track.made(), 2000 * 1024);
        prop_assert!(pieces.len() == 2000);
    }

    /// A drift of up to three in a thousand is followed to within a millisecond, at every moment.
    #[test]
    fn drift_is_followed(per_mille in -3.0_f64..3.0, noise in prop::sample::select(vec![0.0, 0.0005])) {
        let whole = Takes::whole(Rational::ZERO);
        let stamps: Vec<f64> = (0..2000)
            .map(|frame| frame as f64 * FRAME * (1.0 + per_mille / 1000.0) + noise * [0.3, -0.8, 0.9, -0.2, 0.6][frame % 5])
            .collect();
        let (pieces, track) = sounded(&whole, MS, &stamps);
        prop_assert!(track.gaps().is_empty());
        for piece in &pieces {
            if let SoundPiece::Sound { frame, first, at, .. } = piece {
                let should = *frame as f64 * FRAME * (1.0 + per_mille / 1000.0) + *first as f64 / 48_000.0;
                let error = *at as f64 / 48_000.0 - should;
                prop_assert!(error.abs() < 0.001, "{per_mille}: {error} at frame {frame}");
            }
        }
    }

    /// Whatever a file says, pictures go forward, each lasts, and there are not more than came.
    #[test]
    fn hostile_stamps_do_no_harm(stamps in prop::collection::vec(prop::option::of(any::<i64>()), 1..80), depth in 0_usize..4) {
        let whole = Takes::whole(Rational::ZERO);
        let out = placed(&whole, depth, &stamps);
        prop_assert!(out.len() <= stamps.len() + 1);
        prop_assert!(out.windows(2).all(|pair| pair[0].1 + pair[0].2 <= pair[1].1));
        prop_assert!(out.iter().all(|picture| picture.2 > 0 && picture.1 >= 0));
        let mut continuity = Continuity::new(true);
        for (place, stamp) in stamps.iter().enumerate() {
            let time = Rational::whole(stamp.unwrap_or(0)) * MS;
            continuity.shift(place % 3, time, Rational::constant(1, 25));
        }
    }
}

#[test]
fn a_jump_of_the_clock_moves_all_streams_alike() {
    let mut continuity = Continuity::new(true);
    let (frame, packet) = (Rational::constant(1, 25), Rational::constant(24, 1000));
    let mut placed: Vec<(usize, Rational)> = Vec::new();
    // Ten seconds, a second recording that begins at 400 s, and a third back at nought; sound is stored late.
    for (begins, number) in [(0, 0_i64), (400, 1), (0, 2)] {
        for place in 0..250_i64 {
            let time = Rational::whole(begins) + frame * Rational::whole(place);
            placed.push((0, time + continuity.shift(0, time, frame) - Rational::whole(number * 10)));
            let late = time - Rational::constant(1, 2);
            if place >= 13 {
                placed.push((1, late + continuity.shift(1, late, packet) - Rational::whole(number * 10)));
            }
        }
    }
    assert_eq!(continuity.jumps().len(), 2);
    let off = |stream: usize| {
        let times = placed.iter().filter(|(number, _)| *number == stream).map(|(_, time)| *time);
        times.map(Rational::to_f64).fold((f64::MAX, f64::MIN), |(least, most), time| (least.min(time), most.max(time)))
    };
    // Each recording lies behind the one before, sound as far from picture as it was.
    let (picture, sound) = (off(0), off(1));
    assert!(picture.0.abs() < 0.05 && (picture.1 - 9.96).abs() < 0.05, "{picture:?}");
    assert!(sound.0 > -0.05 && sound.1 < 9.55, "{sound:?}");
    assert!((continuity.jumps()[0].by.to_f64() - 390.0).abs() < 0.1 && (continuity.jumps()[1].by.to_f64() + 410.0).abs() < 0.1);
    // A long pause in a format whose clock does not jump is one.
    let mut pausing = Continuity::new(false);
    pausing.shift(0, Rational::ZERO, frame);
    assert_eq!(pausing.shift(0, Rational::whole(60), frame), Rational::ZERO);
}

#[test]
fn nought_lies_on_the_grid_of_the_picture() {
    let begins = |sound: Option<Rational>, picture: Rational| {
        let mut source = reading(|_| ());
        source.facts.streams[0].start = Some(picture);
        source.facts.streams[1].start = sound;
        origin(&source.facts)
    };
    let zero = Rational::ZERO;
    assert_eq!(begins(Some(zero), zero).at, zero);
    // Late sound is filled with silence from the first picture on.
    assert_eq!(begins(Some(Rational::whole(2)), zero).at, zero);
    // Early sound gets as many whole frames before the picture as it needs.
    let early = begins(Some(Rational::constant(-5, 2)), zero);
    assert_eq!((early.at, early.lead_frames), (Rational::constant(-63, 25), 63));
    // Less than a frame is cut off: no frame is added for it.
    let little = begins(Some(Rational::constant(-21, 1000)), zero);
    assert_eq!((little.at, little.lead_frames, little.sound_cut), (zero, 0, Rational::constant(21, 1000)));
    // A start that is not known counts for nothing, nor does one by another clock.
    assert_eq!(begins(None, Rational::whole(600)).at, Rational::whole(600));
    assert_eq!(begins(Some(zero), Rational::whole(90_000)).at, Rational::whole(90_000));
    // Without a picture it is the first sound.
    let mut sound = reading(|_| ());
    sound.facts.streams = vec![stream(0, "aac", Content::Sound(stereo()))];
    sound.facts.streams[0].start = Some(Rational::ONE);
    assert_eq!(origin(&sound.facts).at, Rational::ONE);
}

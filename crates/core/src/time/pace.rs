//! The frame rate as the time stamps show it.

use super::rates::{near_standard, standard_rates};
use super::rational::Rational;

/// What time stamps say of the rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pace {
    /// Frames a second: exact where it is constant, the mean where it varies.
    pub rate: Option<Rational>,
    /// Whether the distance of frames varies.
    pub varies: bool,
    /// Frames a second by the distance that most frames have, where the rate varies and there is such a distance.
    pub dominant: Option<Rational>,
}

/// A mean of varying distances is no standard rate where it is further from one than this.
const SURE: Rational = Rational::constant(1, 1000);

/// The same where not all frames bear a time, and those that do may be a frame off.
const UNSTAMPED: Rational = Rational::constant(1, 100);

/// Nearer to a standard rate than this, a rate is that one: 24 and 23.976 are five times as far apart.
const SNAP: Rational = Rational::constant(2, 10_000);

/// Judges the times (in ticks of `clock`, in any order) of frames that follow each other. `frames` is how many there
/// are from the first of these to the last, where not all bear a time.
///
/// A distance counts as different when it is more than two ticks and a twentieth off the usual
/// one; a rate varies when more than one in a hundred, and at least two, distances are.
#[must_use]
pub fn judge(times: &[i64], frames: usize, clock: Rational, declared: Option<Rational>) -> Pace {
    let mut times = times.to_vec();
    times.sort_unstable();
    times.dedup();
    let mut distances: Vec<i64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
    if distances.is_empty() {
        return Pace { rate: declared.map(snap), varies: false, dominant: None };
    }
    distances.sort_unstable();
    let usual = distances[distances.len() / 2];
    let tolerance = (usual / 20).max(2);
    let different = distances.iter().filter(|distance| (*distance - usual).abs() > tolerance).count();
    let varies = different >= 2 && different * 100 > distances.len();
    let span = times[times.len() - 1] - times[0];
    let count = i64::try_from(distances.len().max(frames.saturating_sub(1))).unwrap_or(i64::MAX);
    let measured = Rational::whole(count).divided_by(Rational::whole(span) * clock);
    let rate = if varies {
        // The distance at either end decides how well a mean is known: film with repeated fields has one of two.
        let unsure = Rational::new(distances[distances.len() - 1] - distances[0], 2 * span).unwrap_or(Rational::ZERO);
        let unsure = if frames > times.len() { UNSTAMPED } else { unsure.min(SURE) };
        measured.map(|rate| standard_of_steps(rate, unsure, most_frequent(&distances), clock).unwrap_or(rate))
    } else {
        // A hole makes the mean slower and no frame longer; where not all bear a time, there is only the mean.
        let shown = if frames > times.len() { measured } else { usual_rate(&distances, usual, tolerance, clock) };
        let believed = declared.filter(|declared| shown.is_none_or(|shown| is_told_truly(*declared, shown)));
        believed.map(snap).or_else(|| shown.map(|rate| near_standard(rate, SURE).unwrap_or(rate)))
    };
    let dominant = if varies { dominant(&distances, usual, tolerance, clock) } else { None };
    Pace { rate, varies, dominant }
}

/// Whether a declared rate can be that of frames with a measured one: a twentieth apart is a lie, but for packets that
/// hold a field each, of which there are twice as many.
fn is_told_truly(declared: Rational, measured: Rational) -> bool {
    let near = |rate: Rational| (rate - declared).abs() <= declared * Rational::constant(1, 20);
    near(measured) || near(measured * Rational::constant(1, 2))
}

/// The standard rate behind the distance that at least half of all have: a screen that stands still, or a camera that
/// leaves frames out, gives fewer frames and not slower ones.
fn dominant(distances: &[i64], usual: i64, tolerance: i64, clock: Rational) -> Option<Rational> {
    let near = distances.iter().filter(|distance| (**distance - usual).abs() <= tolerance).count();
    if near * 2 < distances.len() {
        return None;
    }
    near_standard(usual_rate(distances, usual, tolerance, clock)?, Rational::constant(2, 100))
}

/// Frames a second by the distances that are near the usual one. Ticks that are too coarse for it alternate: their mean
/// is the distance.
fn usual_rate(distances: &[i64], usual: i64, tolerance: i64, clock: Rational) -> Option<Rational> {
    let near: Vec<i64> = distances.iter().copied().filter(|distance| (distance - usual).abs() <= tolerance).collect();
    let sum: i64 = near.iter().sum();
    Rational::whole(i64::try_from(near.len()).ok()?).divided_by(Rational::whole(sum) * clock)
}

/// Well below the thousandth by which 60 and 60000/1001 are apart.
const FAMILY: Rational = Rational::constant(4, 10_000);

fn most_frequent(sorted: &[i64]) -> i64 {
    let runs = sorted.chunk_by(|one, other| one == other);
    runs.max_by_key(|run| run.len()).map_or(0, |run| run[0])
}

/// The standard rate near a mean of distances that are whole numbers of fields. Means of a few seconds do not tell 24
/// from 24000/1001, but a single distance on a fine clock does.
fn standard_of_steps(mean: Rational, tolerance: Rational, distance: i64, clock: Rational) -> Option<Rational> {
    const FIELDS: Rational = Rational::whole(60);
    let distance = Rational::whole(distance) * clock;
    let fields = (distance * FIELDS).round();
    let field_rate = Rational::whole(fields).divided_by(distance).filter(|_| fields > 0);
    let family = field_rate.and_then(|rate| {
        let is_fine = clock < distance * FAMILY;
        near_standard(rate, FAMILY).filter(|_| is_fine).map(Rational::denominator)
    });
    let near = |standard: &Rational| (*standard - mean).abs() <= *standard * tolerance;
    let of_family = |standard: &Rational| family.is_none_or(|family| standard.denominator() == family);
    standard_rates().filter(near).filter(of_family).min_by_key(|standard| (*standard - mean).abs())
}

/// The standard rate that this one is meant to be, or itself.
fn snap(rate: Rational) -> Rational {
    standard_rates().find(|standard| (rate - *standard).abs() <= *standard * SNAP).unwrap_or(rate)
}

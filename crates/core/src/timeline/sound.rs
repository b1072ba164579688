//! The track of a sound stream: each sample at its place.

use std::collections::VecDeque;

use super::{Takes, ticks};
use crate::time::Rational;

/// A step of the stamps by more than this may be a gap or an overlap: less is the coarseness of clocks.
const STEP: Rational = Rational::constant(4, 1000);
/// So many frames in a row must agree before a step is believed: stamps of some recorders jump to and fro.
const WITNESSES: usize = 8;
/// A mean deviation of the stamps by more than this (in seconds) is drift: less may be the rounding of clocks.
const DRIFTED: f64 = 0.000_6;
/// The same in ticks of coarser clocks. One that cuts off what is less than a tick is half of one late on the average.
const DRIFTED_TICKS: f64 = 0.75;
/// A drift is followed until it is smaller than this.
const CAUGHT_UP: f64 = 0.000_02;
/// A clock that is wrong by less than this, in seconds a second, does not drift.
const STEADY: f64 = 0.000_02;
/// Deviations are averaged over so many seconds before and behind a frame.
const WINDOW: f64 = 0.4;
/// A clock is never made faster or slower by more than this.
const STEEPEST: f64 = 0.02;

/// What comes of frames of sound, one after the other without a gap.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SoundPiece<F> {
    /// Silence.
    Silence {
        /// Where it begins, in samples from the beginning of what is made.
        at: i64,
        /// How many samples.
        samples: i64,
    },
    /// Sound of a frame.
    Sound {
        /// The frame.
        frame: F,
        /// The first of its samples that is taken.
        first: i64,
        /// How many.
        samples: i64,
        /// Where it begins, in samples from the beginning of what is made. Where the sound drifts, this does
        /// not follow exactly from what came before: what lies between is to be stretched.
        at: i64,
        /// By how many millionths the sound is made longer here, to follow a drift.
        stretch: i64,
    },
}

/// Brings the samples of one stream to their places.
///
/// Samples follow each other by count. Their stamps are held against that count: a step that lasts is a
/// gap, filled with silence sample for sample, or an overlap, of which the later part is left out; a slow
/// deviation is drift, which is followed; stamps that only jump to and fro mean nothing.
#[derive(Debug)]
pub struct SoundTrack<F> {
    takes: Takes,
    part: usize,
    rate: i64,
    /// Where the next frame that comes lies by count, in seconds of the source's clock.
    counted: Option<Rational>,
    /// Where what is made has come to, in samples.
    made: i64,
    /// Frames whose stamps have stepped, until it is known what that means.
    doubtful: VecDeque<Counted<F>>,
    /// Frames that wait until it is known how stamps behind them deviate.
    ahead: VecDeque<Counted<F>>,
    drift: Drift,
    gaps: Vec<Gap>,
}

/// A frame with its stamp and its place by count, in seconds of the source's clock.
#[derive(Debug)]
struct Counted<F> {
    frame: F,
    stamp: Option<Rational>,
    at: Rational,
    samples: i64,
}

impl<F> Counted<F> {
    fn deviation(&self) -> Option<f64> {
        self.stamp.map(|stamp| (stamp - self.at).to_f64())
    }

    /// Whether it deviates otherwise than is usual.
    fn is_off(&self, usual: f64) -> bool {
        self.deviation().is_some_and(|deviation| (deviation - usual).abs() > STEP.to_f64())
    }
}

/// A place at which sound was missing, or was there twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gap {
    /// Seconds of the source's clock.
    pub at: Rational,
    /// Seconds that are missing; below nought where there were too many.
    pub length: Rational,
}

/// How far the stamps have drifted from the count, and how far that is followed.
#[derive(Debug)]
struct Drift {
    /// Deviations of the frames before, with their lengths, latest last.
    behind: VecDeque<(f64, f64)>,
    /// A mean deviation above this is drift.
    drifted: f64,
    /// Seconds by which the count is moved already, and how fast that grows, in seconds a second.
    followed: f64,
    growth: f64,
    follows: bool,
}

impl Drift {
    fn new(drifted: f64) -> Self {
        Self { behind: VecDeque::new(), drifted, followed: 0.0, growth: 0.0, follows: false }
    }

    /// Nothing is known any more.
    fn forget(&mut self) {
        self.behind.clear();
        (self.followed, self.growth, self.follows) = (0.0, 0.0, false);
    }

    /// By how many seconds a frame of this length is moved that deviates so much, those behind it as given.
    fn follow(&mut self, own: f64, length: f64, ahead: impl Iterator<Item = (f64, f64)>) -> f64 {
        let within = |seconds: &mut f64, length: f64| {
            *seconds += length;
            *seconds <= WINDOW
        };
        let (mut before, mut after) = (0.0, 0.0);
        let mut points = vec![(0.0, own)];
        for (deviation, length) in self.behind.iter().rev() {
            if !within(&mut before, *length) {
                break;
            }
            points.push((-before, *deviation));
        }
        for (deviation, length) in ahead {
            if !within(&mut after, length) {
                break;
            }
            points.push((after, deviation));
        }
        let (middle, slope) = line(&points);
        self.behind.push_back((own, length));
        while self.behind.iter().map(|(_, length)| length).sum::<f64>() > 2.0 * WINDOW {
            self.behind.pop_front();
        }
        // At an end of the sound the middle of what is known lies elsewhere.
        let level = if self.follows { middle.1 - slope * middle.0 } else { middle.1 };
        let off = level - self.followed;
        self.follows = if self.follows { off.abs() > CAUGHT_UP || slope.abs() > STEADY } else { off.abs() > self.drifted };
        let moved = if self.follows { off.clamp(-STEEPEST * length, STEEPEST * length) } else { 0.0 };
        self.followed += moved;
        self.growth = if self.follows { slope.clamp(-STEEPEST, STEEPEST) } else { 0.0 };
        self.followed
    }
}

impl<F> SoundTrack<F> {
    /// For sound with so many samples a second, whose stamps count by this clock (seconds of a tick).
    #[must_use]
    pub fn new(takes: Takes, clock: Rational, rate: u32) -> Self {
        Self {
            takes,
            part: 0,
            rate: i64::from(rate).max(1),
            counted: None,
            made: 0,
            doubtful: VecDeque::new(),
            ahead: VecDeque::new(),
            drift: Drift::new(DRIFTED.max(DRIFTED_TICKS * clock.to_f64())),
            gaps: Vec::new(),
        }
    }

    /// Samples a second.
    #[must_use]
    pub fn rate(&self) -> u32 {
        u32::try_from(self.rate).unwrap_or(1)
    }

    /// From now on sound has so many samples a second; what it says of places counts by them.
    pub fn set_rate(&mut self, rate: u32) -> Vec<SoundPiece<F>> {
        let left = self.end();
        let seconds = self.seconds(self.made);
        self.rate = i64::from(rate).max(1);
        self.made = (seconds * Rational::whole(self.rate)).round();
        left
    }

    /// From now on frames of this part come. What is left of the one before comes out; what it lacks is
    /// filled with silence when the next frame comes.
    pub fn begin(&mut self, part: usize) -> Vec<SoundPiece<F>> {
        let left = self.end();
        (self.part, self.counted) = (part, None);
        self.drift.forget();
        left
    }

    /// Takes a frame as it was decoded, with its stamp (seconds of the source's continuous clock). Frames come
    /// out somewhat later, when it is known what followed them.
    pub fn take(&mut self, frame: F, stamp: Option<Rational>, samples: i64) -> Vec<SoundPiece<F>> {
        let at = *self.counted.get_or_insert_with(|| stamp.unwrap_or_else(|| self.takes.part(self.part).from));
        self.counted = Some(at + self.seconds(samples));
        let counted = Counted { frame, stamp, at, samples };
        if !self.doubtful.is_empty() || counted.is_off(self.usual()) {
            self.doubtful.push_back(counted);
            return if self.doubtful.len() >= WITNESSES { self.settle() } else { Vec::new() };
        }
        self.ahead.push_back(counted);
        self.lay_ready(Rational::constant(4, 10))
    }

    /// No frame comes any more in this part.
    pub fn end(&mut self) -> Vec<SoundPiece<F>> {
        let mut left = self.settle();
        left.extend(self.lay_ready(Rational::ZERO));
        left
    }

    /// The gaps that were filled and the overlaps that were left out so far.
    #[must_use]
    pub fn gaps(&self) -> &[Gap] {
        &self.gaps
    }

    /// Samples of what is made so far.
    #[must_use]
    pub fn made(&self) -> i64 {
        self.made
    }

    fn seconds(&self, samples: i64) -> Rational {
        Rational::new(samples, self.rate).unwrap_or(Rational::ZERO)
    }

    /// The usual deviation of late: the middle one of the last that were no steps.
    fn usual(&self) -> f64 {
        let ahead = self.ahead.iter().rev().filter_map(Counted::deviation);
        let behind = self.drift.behind.iter().rev().map(|(deviation, _)| *deviation);
        let mut late: Vec<f64> = ahead.chain(behind).take(WITNESSES + 1).collect();
        late.sort_by(f64::total_cmp);
        late.get(late.len() / 2).copied().unwrap_or(0.0)
    }

    /// Decides what a step of the stamps means, by those that followed it.
    fn settle(&mut self) -> Vec<SoundPiece<F>> {
        let usual = self.usual();
        let mut doubtful = std::mem::take(&mut self.doubtful);
        let Some(first) = doubtful.front().map(|frame| frame.at) else { return Vec::new() };
        let mut pieces = Vec::new();
        if let Some(step) = step_in(&doubtful, usual) {
            // What was before the step has no more to learn of what comes behind it.
            pieces = self.lay_ready(Rational::ZERO);
            self.gaps.push(Gap { at: first, length: step });
            let followed = fine(self.drift.followed);
            self.drift.forget();
            for frame in &mut doubtful {
                frame.at = frame.at + step + followed;
            }
            self.counted = self.counted.map(|counted| counted + step + followed);
        } else {
            // Stamps that stand alone mean nothing.
            doubtful.iter_mut().filter(|frame| frame.is_off(usual)).for_each(|frame| frame.stamp = None);
        }
        self.ahead.append(&mut doubtful);
        pieces.extend(self.lay_ready(Rational::constant(4, 10)));
        pieces
    }

    /// Lays the frames behind which at least so many seconds are known.
    fn lay_ready(&mut self, known: Rational) -> Vec<SoundPiece<F>> {
        let mut pieces = Vec::new();
        while let (Some(first), Some(last)) = (self.ahead.front(), self.ahead.back()) {
            if last.at - first.at < known {
                break;
            }
            let Some(frame) = self.ahead.pop_front() else { break };
            let length = self.seconds(frame.samples).to_f64();
            let rate = self.rate as f64;
            let moved = match frame.deviation() {
                Some(own) => {
                    let ahead = self.ahead.iter().filter_map(|next| Some((next.deviation()?, next.samples as f64 / rate)));
                    self.drift.follow(own, length, ahead)
                }
                None => self.drift.followed,
            };
            self.lay(frame.frame, frame.at + fine(moved), frame.samples, &mut pieces);
        }
        pieces
    }

    /// Lays a frame at a moment of the source's clock.
    fn lay(&mut self, frame: F, begins: Rational, samples: i64, pieces: &mut Vec<SoundPiece<F>>) {
        let end = begins + self.seconds(samples);
        let span = self.takes.part(self.part);
        let place = |time: Rational| ticks(time + self.takes.shift(self.part), self.seconds(1));
        // What lies outside of the part, or where something lies already, is left out.
        let before = ticks(span.from - begins, self.seconds(1)).max(0);
        let behind = ticks(end - span.to, self.seconds(1)).max(0);
        let at = place(begins) + before;
        // What drifts moves by a few samples at a time, which is neither a gap nor an overlap.
        let drifts = self.drift.follows && (at - self.made).abs() <= 2 + samples / 16;
        let overlap = if drifts { 0 } else { (self.made - at).max(0) };
        let first = (before + overlap).min(samples);
        let taken = samples - first - behind;
        if taken <= 0 {
            return;
        }
        let at = at + overlap;
        if !drifts {
            self.fill_to(at, pieces);
        }
        self.made = at + taken;
        // A hundredth is ten thousand millionths.
        #[allow(clippy::cast_possible_truncation)]
        let stretch = (self.drift.growth * 1e6).round() as i64;
        pieces.push(SoundPiece::Sound { frame, first, samples: taken, at, stretch });
    }

    /// Silence up to a place.
    fn fill_to(&mut self, at: i64, pieces: &mut Vec<SoundPiece<F>>) {
        if at > self.made {
            pieces.push(SoundPiece::Silence { at: self.made, samples: at - self.made });
            self.made = at;
        }
    }
}

/// The step that most of the stamps agree on, against the usual deviation, where it is one.
fn step_in<F>(doubtful: &VecDeque<Counted<F>>, usual: f64) -> Option<Rational> {
    let mut deviations: Vec<Rational> = doubtful.iter().filter_map(|frame| Some(frame.stamp? - frame.at - fine(usual))).collect();
    deviations.sort_unstable();
    let middle = deviations.get(deviations.len() / 2).copied()?;
    let agree = deviations.iter().filter(|deviation| (**deviation - middle).abs() <= STEP).count();
    (middle.abs() > STEP && agree * 2 > deviations.len()).then_some(middle)
}

/// The middle of points and the slope of the line that lies nearest to them.
fn line(points: &[(f64, f64)]) -> ((f64, f64), f64) {
    let count = points.len() as f64;
    let sum = points.iter().fold((0.0, 0.0), |sum, point| (sum.0 + point.0, sum.1 + point.1));
    let middle = (sum.0 / count, sum.1 / count);
    let spread = points.iter().fold((0.0, 0.0), |sum, point| {
        let across = point.0 - middle.0;
        (sum.0 + across * (point.1 - middle.1), sum.1 + across * across)
    });
    (middle, if spread.1 > 0.0 { spread.0 / spread.1 } else { 0.0 })
}

/// Seconds far finer than a sample.
fn fine(seconds: f64) -> Rational {
    // Drifts are followed for as long as files last: far below what 64 bits hold.
    #[allow(clippy::cast_possible_truncation)]
    Rational::new((seconds * 1e8).round() as i64, 100_000_000).unwrap_or(Rational::ZERO)
}

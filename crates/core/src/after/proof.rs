//! Proofs: a few seconds made by the real plan, to look at before the whole is made.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::after::quality::{FrameQuality, Quality};
use crate::findings::Moment;
use crate::plan::{FrameRatePlan, Plan};
use crate::reading::Reading;
use crate::time::{FromFirst, OutputTime, Rational, Span, TimeMap, total};
use crate::units::ByteSize;

/// How far a proof is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProofState {
    /// Others come first.
    Waiting,
    /// It is being made, or held against its source.
    Running,
    /// It can be looked at.
    Done,
    /// It could not be made.
    Failed,
}

impl ProofState {
    /// The word that is stored and shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
        }
    }
}

/// What came out of a proof.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ProofResult {
    /// Bytes of the file.
    pub size: ByteSize,
    /// Seconds of processor time that it took.
    pub cpu_seconds: f64,
    /// How near it comes to its source behind the plan's steps; nothing where there is no picture.
    pub quality: Option<Quality>,
    /// Frames that were compared.
    pub frames: usize,
}

/// So many moments are offered.
const MOST_MOMENTS: usize = 8;
/// So many of them are spread evenly over the source.
const SPREAD: i64 = 4;

/// Moments at which a proof is worth most: spread over all that is taken, and those that the findings
/// name, in the order of time. Each can be followed by `seconds`.
#[must_use]
pub fn moments(reading: &Reading, taken: &[Span], seconds: Rational) -> Vec<Moment> {
    let whole = [Span { from: Rational::ZERO, to: reading.facts.duration.unwrap_or(Rational::ZERO) }];
    let taken = if taken.is_empty() { &whole } else { taken };
    let last = taken.iter().map(|span| span.to).max().unwrap_or(Rational::ZERO) - seconds;
    let fitted = |at: Rational| at.min(last).max(Rational::ZERO);
    let mut offered: Vec<Moment> = Vec::new();
    let mut offer = |at: Rational, shows: &str| {
        let at = fitted(at);
        if offered.len() < MOST_MOMENTS && offered.iter().all(|other| (other.at - at).abs() >= Rational::ONE) {
            offered.push(Moment { at, shows: shows.to_owned() });
        }
    };
    let half = seconds * Rational::constant(1, 2);
    for place in 0..SPREAD {
        let middle = total(taken) * Rational::constant(2 * place + 1, 2 * SPREAD);
        let FromFirst(at) = TimeMap::new(taken, Rational::ONE).source(OutputTime(middle));
        offer(at - half, "spread over the whole");
    }
    let is_taken = |at: Rational| taken.iter().any(|span| span.from <= at && at < span.to);
    let telling = || reading.findings.iter().flat_map(|findings| &findings.telling).filter(|moment| is_taken(moment.at));
    for moment in telling() {
        offer(moment.at - Rational::constant(1, 2), &moment.shows);
    }
    // What the findings name in a spread one says more than that it is one of several.
    for moment in &mut offered {
        if let Some(told) = telling().find(|told| moment.at <= told.at && told.at < moment.at + seconds) {
            moment.shows.clone_from(&told.shows);
        }
    }
    offered.sort_by_key(|moment| moment.at);
    offered
}

/// Seconds of each stretch of a sample of the size.
const SAMPLE_STRETCH: Rational = Rational::constant(6, 5);
/// Seconds of the source for each stretch.
const SAMPLE_EVERY: Rational = Rational::whole(3);
/// Stretches of a sample at least and at most.
const SAMPLE_STRETCHES: std::ops::RangeInclusive<i64> = 8..=48;

/// Many short stretches of all that is taken, for one proof that foretells the size: what a source weighs
/// changes from shot to shot, so that a few long ones say little. Each lies in a part of its own of the
/// source, at another place in it, so that nothing that comes again and again is met again and again.
#[must_use]
pub fn sample_parts(reading: &Reading, taken: &[Span]) -> Vec<Span> {
    let whole = [Span { from: Rational::ZERO, to: reading.facts.duration.unwrap_or(Rational::ZERO) }];
    let taken = if taken.is_empty() { &whole } else { taken };
    let length = total(taken);
    let count =
        length.divided_by(SAMPLE_EVERY).map_or(1, Rational::floor).clamp(*SAMPLE_STRETCHES.start(), *SAMPLE_STRETCHES.end());
    let stratum = length * Rational::new(1, count).unwrap_or(Rational::ONE);
    if stratum <= SAMPLE_STRETCH {
        return taken.to_vec();
    }
    let mut parts: Vec<Span> = Vec::new();
    for place in 0..count {
        // The golden section spreads places evenly, however many there are.
        let share = Rational::constant((place * 618 + 309) % 1000, 1000);
        let at = stratum * Rational::whole(place) + (stratum - SAMPLE_STRETCH) * share;
        let FromFirst(from) = TimeMap::new(taken, Rational::ONE).source(OutputTime(at));
        // A stretch does not go beyond the part of the source in which it begins.
        let end = taken.iter().find(|span| span.from <= from && from < span.to).map_or(from, |span| span.to);
        let to = (from + SAMPLE_STRETCH).min(end);
        if from < to && parts.last().is_none_or(|last| last.to <= from) {
            parts.push(Span { from, to });
        }
    }
    parts
}

/// Which of these go, given the newest first, so that those that stay weigh no more than `most` together. The
/// newest always stays, and so does what weighs nothing.
#[must_use]
pub fn beyond<Id: Copy>(weighed: &[(Id, ByteSize)], most: ByteSize) -> Vec<Id> {
    let mut whole = ByteSize(0);
    let weigh = |(place, (id, size)): (usize, &(Id, ByteSize))| {
        whole = whole + *size;
        (place > 0 && size.0 > 0 && whole > most).then_some(*id)
    };
    weighed.iter().enumerate().filter_map(weigh).collect()
}

/// Seconds at which a frame of a proof is shown in it; nothing behind its end.
#[must_use]
pub fn frame_time(plan: &Plan, frames: &[FrameQuality], frame: usize) -> Option<Rational> {
    let measured = frames.get(frame)?;
    match plan.picture.as_ref()?.frame_rate {
        FrameRatePlan::Constant { rate } => Rational::whole(i64::try_from(frame).ok()?).divided_by(rate),
        FrameRatePlan::Variable { .. } => Rational::new(measured.at, 1000),
    }
}

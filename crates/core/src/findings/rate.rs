//! The true frame rate against the declared one.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Evidence, Extent, FrameMeasure, Measurements, Moment, Percent, count};
use crate::facts::Picture;
use crate::time::{Rational, near_standard, rate_text};

/// What is known of the frame rate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RateFinding {
    /// The verdict.
    pub verdict: RateVerdict,
    /// Frames a second over the whole source, by its time stamps; a standard rate where it is one.
    pub mean: Option<Rational>,
    /// How often which distance from one frame to the next occurs, most frequent first; in seconds.
    pub histogram: Vec<(Rational, u64)>,
    /// Frames that repeat the one before while the picture moves.
    pub duplicated: u64,
    /// Frames that are missing, by their time stamps.
    pub missing: u64,
    /// The rate of different pictures, where every so many frames is a repetition.
    pub pictures: Option<Rational>,
    /// What stands behind it.
    pub evidence: Evidence,
    /// In a sentence.
    pub words: String,
}

/// Whether the declared rate is true.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RateVerdict {
    /// Too few frames to tell.
    Unknown,
    /// Constant, and as declared.
    AsDeclared,
    /// Constant, and not as declared.
    OtherThanDeclared,
    /// The distance of frames varies.
    Variable,
}

/// Rates that differ by less, relatively, are the same: 30 and 29.97 are one thousandth apart.
const SAME_RATE: Rational = Rational::constant(4, 10_000);
/// The mean of distances that differ is no standard rate where it is further from one than this.
const SURE_MEAN: Rational = Rational::constant(1, 1000);

/// A frame that differs by less than this from the one before is the same picture.
const SAME_PICTURE: f32 = 0.6;

pub(super) fn find(measured: &Measurements, picture: &Picture) -> RateFinding {
    let frames = &measured.frames;
    let steps: Vec<(Rational, Rational)> =
        frames.windows(2).filter(|pair| pair[1].follows).map(|pair| (pair[0].at, pair[1].at - pair[0].at)).collect();
    let shown: Rational = steps.iter().fold(Rational::ZERO, |sum, step| sum + step.1);
    let steps_count = i64::try_from(steps.len()).unwrap_or(i64::MAX);
    let mean = Rational::whole(steps_count).divided_by(shown).filter(|_| steps.len() >= 4);
    let Some(mean) = mean else { return unknown() };
    // Where distances differ, the one at either end decides how well their mean is known.
    let longest = steps.iter().map(|step| step.1).max().unwrap_or(Rational::ZERO);
    let shortest = steps.iter().map(|step| step.1).min().unwrap_or(Rational::ZERO);
    let unsure = (longest - shortest).divided_by(shown + shown).unwrap_or(Rational::ZERO);
    let mean = near_standard(mean, unsure.clamp(SAME_RATE, SURE_MEAN)).unwrap_or(mean);
    let histogram = histogram(&steps);
    let usual = histogram.first().map_or(Rational::ZERO, |(step, _)| *step);
    // Coarse clocks (milliseconds in Matroska, 90 kHz in MPEG) make equal steps differ by a tick.
    let slack = (usual * Rational::constant(1, 20)).max(Rational::constant(11, 10_000));
    let uneven = steps.iter().filter(|step| (step.1 - usual).abs() > slack).count();
    let missing_at: Vec<(Rational, i64)> =
        steps.iter().filter_map(|step| Some((step.0, step.1.divided_by(usual)?.round() - 1))).filter(|gap| gap.1 > 0).collect();
    let missing: u64 = missing_at.iter().map(|gap| u64::try_from(gap.1).unwrap_or(0)).sum();
    let gaps_only = uneven == missing_at.len();
    let variable = uneven > 0 && !(gaps_only && missing_at.len() * 50 <= steps.len());
    let mean = if variable || missing == 0 {
        mean
    } else {
        usual.inverse().map_or(mean, |rate| near_standard(rate, SAME_RATE).unwrap_or(rate))
    };
    let declared = picture.frame_rate;
    let verdict = match declared {
        _ if variable => RateVerdict::Variable,
        Some(declared) if (declared - mean).abs() <= mean * SAME_RATE => RateVerdict::AsDeclared,
        Some(_) | None => RateVerdict::OtherThanDeclared,
    };
    let missing = if variable { 0 } else { missing };
    let duplicates = duplicates(frames);
    let pictures = different_pictures(frames, &duplicates, mean);
    let duplicated = duplicates.len() as u64;
    let words = words(verdict, mean, declared, pictures, missing, duplicated);
    let figures = figures(&histogram, steps.len(), missing, duplicated);
    let gaps = missing_at
        .iter()
        .take(4)
        .map(|gap| Moment { at: gap.0, shows: format!("{} missing", count(u64::try_from(gap.1).unwrap_or(0), "frame")) });
    let repeated =
        duplicates.iter().take(4).map(|frame| Moment { at: frames[*frame].at, shows: "the picture before, repeated".to_owned() });
    let confidence = if measured.extent == Extent::Whole { Percent(99) } else { Percent(80) };
    RateFinding {
        verdict,
        mean: Some(mean),
        pictures,
        missing,
        duplicated,
        evidence: Evidence { confidence, figures, moments: gaps.filter(|_| !variable).chain(repeated).collect() },
        histogram,
        words,
    }
}

fn unknown() -> RateFinding {
    RateFinding {
        verdict: RateVerdict::Unknown,
        mean: None,
        histogram: Vec::new(),
        duplicated: 0,
        missing: 0,
        pictures: None,
        evidence: Evidence { confidence: Percent(0), figures: Vec::new(), moments: Vec::new() },
        words: "the frame rate cannot be known: there are too few frames".to_owned(),
    }
}

fn histogram(steps: &[(Rational, Rational)]) -> Vec<(Rational, u64)> {
    let mut counts: BTreeMap<Rational, u64> = BTreeMap::new();
    for (_, step) in steps {
        *counts.entry(*step).or_default() += 1;
    }
    let mut histogram: Vec<(Rational, u64)> = counts.into_iter().collect();
    histogram.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
    histogram.truncate(24);
    histogram
}

/// Frames that are the same as the one before, while the picture moves shortly before and after: a
/// still picture has none.
fn duplicates(frames: &[FrameMeasure]) -> Vec<usize> {
    let same = |frame: &FrameMeasure| frame.follows && frame.change_peak < SAME_PICTURE;
    let moves = |near: &[FrameMeasure]| near.iter().any(|frame| frame.follows && frame.change_peak > 4.0 * SAME_PICTURE);
    (1..frames.len())
        .filter(|&place| {
            let behind = &frames[place + 1..(place + 5).min(frames.len())];
            same(&frames[place]) && moves(&frames[place.saturating_sub(4)..place]) && moves(behind)
        })
        .collect()
}

/// The rate of different pictures, where repetitions are spread so evenly that they bring one
/// standard rate to another.
fn different_pictures(frames: &[FrameMeasure], duplicates: &[usize], mean: Rational) -> Option<Rational> {
    const PART: usize = 24;
    if duplicates.len() * 10 < frames.len() || frames.len() < 2 * PART {
        return None;
    }
    let mut repeated = vec![false; frames.len()];
    for place in duplicates {
        repeated[*place] = true;
    }
    let share = duplicates.len() as f64 / frames.len() as f64;
    let even = repeated.chunks_exact(PART).filter(|part| {
        let expected = share * PART as f64;
        (part.iter().filter(|repeated| **repeated).count() as f64 - expected).abs() <= 2.5
    });
    if even.count() * 10 < frames.len() / PART * 8 {
        return None;
    }
    let (first, last) = (*duplicates.first()?, *duplicates.last()?);
    let whole = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
    let repeated = Rational::new(whole(duplicates.len() - 1), whole(last - first))?;
    near_standard(mean * (Rational::ONE - repeated), Rational::constant(1, 100))
}

fn words(
    verdict: RateVerdict,
    mean: Rational,
    declared: Option<Rational>,
    pictures: Option<Rational>,
    missing: u64,
    duplicated: u64,
) -> String {
    let mut text = match (verdict, declared) {
        (RateVerdict::Unknown, _) => "the frame rate cannot be known".to_owned(),
        (RateVerdict::AsDeclared, _) => format!("{} fps throughout, as declared", rate_text(mean)),
        (RateVerdict::OtherThanDeclared, Some(declared)) => {
            format!("{} fps, not {} as declared", rate_text(mean), rate_text(declared))
        }
        (RateVerdict::OtherThanDeclared, None) => format!("{} fps; none is declared", rate_text(mean)),
        (RateVerdict::Variable, _) => format!("variable, {} fps on average", rate_text(mean)),
    };
    match pictures {
        Some(rate) => text.push_str(&format!("; only {} of them differ, the others repeat", rate_text(rate))),
        None if duplicated > 0 => text.push_str(&format!("; {} repeated", count(duplicated, "frame"))),
        None => {}
    }
    if missing > 0 && verdict != RateVerdict::Variable {
        text.push_str(&format!("; {} missing", count(missing, "frame")));
    }
    text
}

fn figures(histogram: &[(Rational, u64)], steps: usize, missing: u64, duplicated: u64) -> Vec<String> {
    let mut figures: Vec<String> = histogram
        .iter()
        .take(4)
        .map(|(step, times)| format!("{times} of {steps} distances are {:.2} ms", step.to_f64() * 1000.0))
        .collect();
    figures.extend((missing > 0).then(|| format!("{} missing by the time stamps", count(missing, "frame"))));
    figures.extend((duplicated > 0).then(|| format!("{} the same as the one before", count(duplicated, "frame"))));
    figures
}

//! Noise, blockiness, colour, levels, black and frozen stretches, and where to look first.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Evidence, FrameMeasure, LookMeasure, Measurements, Moment, Percent, count};
use crate::facts::Picture;
use crate::time::{Rational, Span};

/// What is known of the look of the picture.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LookFinding {
    /// Standard deviation of noise in tenths of an 8-bit code value; nothing where no part is flat.
    pub noise_tenths: Option<u32>,
    /// How much more uneven the picture is at the borders of 8 by 8 blocks, in percent.
    pub blockiness: Percent,
    /// Whether there is colour.
    pub colour: ColourContent,
    /// Whether the declared range is true.
    pub range: RangeVerdict,
    /// The share of all pixels beyond the levels that EBU R 103 allows, in ten-thousandths.
    pub illegal: u32,
    /// Black stretches of half a second or more.
    pub black: Vec<Span>,
    /// Stretches of a second or more in which nothing moves at all.
    pub frozen: Vec<Span>,
    /// What stands behind it.
    pub evidence: Evidence,
    /// Each point in a sentence.
    pub words: Vec<String>,
}

/// Whether there is colour in the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "is", rename_all = "snake_case")]
pub enum ColourContent {
    /// It cannot be known: everything is black.
    Unknown,
    /// Colours.
    Colour,
    /// Black and white, stored as such.
    Grey,
    /// Black and white with one and the same tint all over.
    GreyWithCast {
        /// Mean of Cb, 128 for none.
        cb: u8,
        /// Mean of Cr, 128 for none.
        cr: u8,
    },
}

/// Whether the declared range of luma is true.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RangeVerdict {
    /// The picture has too little contrast to tell.
    Unknown,
    /// As declared.
    AsDeclared,
    /// Limited is declared (or nothing), and the picture uses the full range.
    FullMarkedLimited,
    /// Full is declared, and the picture keeps within limited range from end to end.
    LimitedMarkedFull,
}

/// Below this mean distance from their mean, colour planes hold one colour only: noise and rounding.
const ONE_COLOUR: f64 = 1.6;
/// A tint farther than this from none is one.
const CAST: f64 = 2.5;
/// The lowest and the highest luma that EBU R 103 allows, -1 % and 103 %, in 8 bit.
const LEGAL: std::ops::RangeInclusive<usize> = 14..=241;

pub(super) fn find(measured: &Measurements, picture: &Picture) -> LookFinding {
    let looks = &measured.looks;
    let noise = middle(looks.iter().filter_map(|look| look.noise).map(f64::from));
    let blockiness = middle(looks.iter().map(|look| f64::from(look.blockiness))).unwrap_or(0.0);
    let colour = colour_content(looks);
    let luma = add_up(looks);
    let full_declared = picture.colour.is_full() || picture.pixel_format.range() == Some(crate::picture::Range::Full);
    let rgb = looks.iter().all(|look| look.colour.is_none()) && picture.pixel_format.form().shared().is_some();
    let range = if rgb { RangeVerdict::AsDeclared } else { range(&luma, full_declared) };
    let total: u64 = luma.iter().sum::<u64>().max(1);
    let beyond: u64 = luma.iter().enumerate().filter(|(code, _)| !LEGAL.contains(code)).map(|(_, times)| *times).sum();
    let illegal = if full_declared || rgb { 0 } else { u32::try_from(beyond * 10_000 / total).unwrap_or(0) };
    let black = spans(&measured.frames, |frame| frame.luma < 20.0 && frame.lit < 0.003, Rational::constant(1, 2));
    let still = |frame: &FrameMeasure| frame.follows && frame.change_peak < 0.6 && frame.lit >= 0.003;
    let frozen = spans(&measured.frames, still, Rational::ONE);
    let mut finding = LookFinding {
        noise_tenths: noise.map(tenths),
        blockiness: Percent::of_share(blockiness),
        colour,
        range,
        illegal,
        black,
        frozen,
        evidence: Evidence { confidence: Percent(95), figures: Vec::new(), moments: Vec::new() },
        words: Vec::new(),
    };
    finding.words = words(&finding);
    finding.evidence.figures = figures(&finding, looks.len() as u64);
    finding.evidence.moments = moments(&finding);
    finding
}

fn tenths(value: f64) -> u32 {
    (0..2550).find(|tenth| f64::from(*tenth) + 0.5 > value * 10.0).unwrap_or(2550)
}

fn middle(values: impl Iterator<Item = f64>) -> Option<f64> {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied()
}

fn add_up(looks: &[LookMeasure]) -> [u64; 256] {
    let mut sum = [0; 256];
    for look in looks {
        for (sum, times) in sum.iter_mut().zip(look.luma.iter()) {
            *sum += u64::from(*times);
        }
    }
    sum
}

/// Black frames say nothing of colour.
fn colour_content(looks: &[LookMeasure]) -> ColourContent {
    let bright = |look: &&LookMeasure| {
        let lit: u64 = look.luma[40..].iter().map(|times| u64::from(*times)).sum();
        lit * 50 > look.luma.iter().map(|times| u64::from(*times)).sum()
    };
    let seen: Vec<_> = looks.iter().filter(bright).collect();
    if seen.is_empty() {
        return ColourContent::Unknown;
    }
    let planes: Vec<_> = seen.iter().filter_map(|look| look.colour).collect();
    if planes.is_empty() {
        return ColourContent::Colour;
    }
    // A few coloured frames in a grey reel are colour; single ones may be damage.
    let coloured = planes.iter().filter(|colour| colour.spread.iter().any(|spread| *spread > ONE_COLOUR)).count();
    if coloured * 50 > planes.len() {
        return ColourContent::Colour;
    }
    let mean = |plane: usize| middle(planes.iter().map(|colour| colour.mean[plane])).unwrap_or(128.0);
    let (cb, cr) = (mean(0), mean(1));
    if (cb - 128.0).abs() <= CAST && (cr - 128.0).abs() <= CAST {
        return ColourContent::Grey;
    }
    let code = |value: f64| (0..=255).find(|code| f64::from(*code) + 0.5 >= value).unwrap_or(255);
    ColourContent::GreyWithCast { cb: code(cb), cr: code(cr) }
}

fn range(luma: &[u64; 256], full_declared: bool) -> RangeVerdict {
    let total: u64 = luma.iter().sum();
    let share = |codes: std::ops::Range<usize>| luma[codes].iter().sum::<u64>() as f64 / total.max(1) as f64;
    if total == 0 {
        return RangeVerdict::Unknown;
    }
    if full_declared {
        let inside = share(0..14) + share(238..256) < 1e-4;
        let to_the_ends = share(14..20) > 1e-3 && share(228..238) > 1e-3;
        let contrast = share(0..40) > 1e-3 && share(200..256) > 1e-3;
        return match (inside && to_the_ends, contrast) {
            (true, _) => RangeVerdict::LimitedMarkedFull,
            (false, true) => RangeVerdict::AsDeclared,
            (false, false) => RangeVerdict::Unknown,
        };
    }
    // Overshoots reach beyond the ends of limited range too, but rarely to the ends of the scale.
    let (below, above) = (share(0..12), share(244..256));
    let ends = share(0..4) > 5e-4 && share(252..256) > 5e-4;
    match (below > 2e-3 && above > 2e-3 && ends, share(0..40) > 1e-3 || share(200..256) > 1e-3) {
        (true, _) => RangeVerdict::FullMarkedLimited,
        (false, true) => RangeVerdict::AsDeclared,
        (false, false) => RangeVerdict::Unknown,
    }
}

/// Stretches of frames that are so, and no shorter than `least` seconds.
fn spans(frames: &[FrameMeasure], is: impl Fn(&FrameMeasure) -> bool, least: Rational) -> Vec<Span> {
    let mut spans: Vec<Span> = Vec::new();
    let mut open: Option<Span> = None;
    for frame in frames {
        if is(frame) && (open.is_none() || frame.follows) {
            open = Some(Span { from: open.map_or(frame.at, |span| span.from), to: frame.at });
        } else {
            spans.extend(open.take().map(|span| Span { to: frame.at, ..span }));
        }
    }
    spans.extend(open);
    spans.retain(|span| span.to - span.from >= least);
    spans
}

fn words(finding: &LookFinding) -> Vec<String> {
    let mut words = Vec::new();
    match finding.noise_tenths {
        Some(0..=9) | None => {}
        Some(10..=24) => words.push("a little noise".to_owned()),
        Some(25..=49) => words.push("visible noise".to_owned()),
        Some(_) => words.push("strong noise".to_owned()),
    }
    if finding.blockiness.0 >= 100 {
        words.push("visible borders of coding blocks".to_owned());
    }
    match finding.colour {
        ColourContent::Colour | ColourContent::Unknown => {}
        ColourContent::Grey => words.push("black and white".to_owned()),
        ColourContent::GreyWithCast { .. } => words.push("black and white with a colour cast".to_owned()),
    }
    match finding.range {
        RangeVerdict::AsDeclared | RangeVerdict::Unknown => {}
        RangeVerdict::FullMarkedLimited => words.push("full range, although limited range is declared".to_owned()),
        RangeVerdict::LimitedMarkedFull => words.push("limited range, although full range is declared".to_owned()),
    }
    if finding.illegal >= 100 && finding.range != RangeVerdict::FullMarkedLimited {
        words.push("levels beyond what EBU R 103 allows".to_owned());
    }
    if !finding.black.is_empty() {
        words.push(format!("black for a while, {}", count(finding.black.len() as u64, "time")));
    }
    if !finding.frozen.is_empty() {
        words.push(format!("frozen for a second or more, {}", count(finding.frozen.len() as u64, "time")));
    }
    words
}

fn figures(finding: &LookFinding, samples: u64) -> Vec<String> {
    let noise = finding.noise_tenths.map_or("not measurable".to_owned(), |noise| format!("{}.{}", noise / 10, noise % 10));
    let mut figures = vec![
        format!("noise of {noise} code values of 8 bit, over {}", count(samples, "frame")),
        format!("borders of coding blocks {} more uneven than the rest", finding.blockiness),
        format!("{}.{:02} % of the picture beyond legal levels", finding.illegal / 100, finding.illegal % 100),
    ];
    if let ColourContent::GreyWithCast { cb, cr } = finding.colour {
        figures.push(format!("Cb {cb} and Cr {cr} all over, where 128 is no colour"));
    }
    figures
}

fn moments(finding: &LookFinding) -> Vec<Moment> {
    let black = finding.black.iter().take(4).map(|span| Moment { at: span.from, shows: "black from here".to_owned() });
    let frozen = finding.frozen.iter().take(4).map(|span| Moment { at: span.from, shows: "frozen from here".to_owned() });
    black.chain(frozen).collect()
}

/// What makes a moment worth proving, and how much of it a frame has.
type Quality = (&'static str, fn(&FrameMeasure) -> f32);

/// The moments that ask most of an encoder or of a mending, each from another part of the source.
pub(super) fn telling_moments(frames: &[FrameMeasure]) -> Vec<Moment> {
    const QUALITIES: [Quality; 4] = [
        ("most motion", |frame| if frame.follows { frame.change } else { 0.0 }),
        ("most combing", |frame| frame.combed),
        ("most detail", |frame| frame.detail),
        ("the darkest", |frame| if frame.lit > 0.02 { 256.0 - frame.luma } else { 0.0 }),
    ];
    // Cuts are no motion: what counts is the least of three frames in a row.
    let lasting = |place: usize, quality: fn(&FrameMeasure) -> f32| {
        frames[place.saturating_sub(1)..(place + 2).min(frames.len())].iter().map(quality).fold(f32::MAX, f32::min)
    };
    let apart = frames.len() / 12;
    let mut taken: Vec<(usize, &str)> = Vec::new();
    for (what, quality) in QUALITIES {
        let free = (0..frames.len()).filter(|place| taken.iter().all(|(other, _)| other.abs_diff(*place) >= apart));
        let best = free.max_by(|left, right| lasting(*left, quality).total_cmp(&lasting(*right, quality)));
        taken.extend(best.filter(|place| lasting(*place, quality) > 0.0).map(|place| (place, what)));
    }
    taken.sort_unstable();
    taken.into_iter().map(|(place, what)| Moment { at: frames[place].at, shows: what.to_owned() }).collect()
}

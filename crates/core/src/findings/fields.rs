//! Fields and cadences.
//!
//! Every way of sampling time (whole frames, fields with either one first, each phase of each
//! pulldown) foretells which fields of neighbouring frames lie how far apart, and so which weaves of
//! them are even and which are torn. The most plausible succession of such ways through the whole
//! source is found by dynamic programming (Viterbi): staying costs nothing, every change does, so
//! noise changes nothing and breaks and mixtures come out with their ranges.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::cadence::{Pulldown, sample_times};
use super::{Evidence, FrameMeasure, Moment, Percent, count};
use crate::facts::Picture;
use crate::picture::FieldOrder;
use crate::time::{Rational, clock_text};

/// What is known of the fields of a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldsFinding {
    /// The verdict.
    pub verdict: FieldsVerdict,
    /// Whether the header says the same.
    pub header: HeaderTruth,
    /// The parts of the source, one after the other without a gap.
    pub stretches: Vec<Stretch>,
    /// Moments at which a cadence breaks, in seconds.
    pub breaks: Vec<Rational>,
    /// What stands behind it.
    pub evidence: Evidence,
    /// In a sentence.
    pub words: String,
}

/// How the frames of a source came to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "is", rename_all = "snake_case")]
pub enum FieldsVerdict {
    /// It cannot be known, since nothing moves enough.
    Unknown,
    /// Whole frames.
    Progressive,
    /// Two moments a frame.
    Interlaced {
        /// Which field comes first.
        first: FieldOrder,
    },
    /// Film spread over fields.
    Telecine {
        /// How.
        pulldown: Pulldown,
        /// Which field comes first.
        first: FieldOrder,
    },
    /// Whole film frames with flags that ask a player to repeat fields.
    SoftTelecine,
    /// Some of this and some of that.
    Mixed,
}

/// What the header's word is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HeaderTruth {
    /// It declares nothing, or nothing can be known.
    Silent,
    /// It is right.
    True,
    /// It declares fields where there are whole frames.
    FieldsDeclaredFramesFound,
    /// It declares whole frames where there are fields.
    FramesDeclaredFieldsFound,
    /// It names the wrong field as the first.
    WrongOrder,
}

/// A part of a source that was made in one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct Stretch {
    /// Its first frame, counted from nought.
    pub first_frame: u64,
    /// The frame behind its last one.
    pub end_frame: u64,
    /// Seconds of its first frame.
    pub from: Rational,
    /// Seconds of the end.
    pub to: Rational,
    /// How it was made.
    pub kind: StretchKind,
}

/// How a part of a source was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "is", rename_all = "snake_case")]
pub enum StretchKind {
    /// Whole frames.
    Progressive,
    /// Two moments a frame.
    Interlaced {
        /// Which field comes first.
        first: FieldOrder,
    },
    /// Film spread over fields.
    Telecine {
        /// How.
        pulldown: Pulldown,
        /// Which field comes first.
        first: FieldOrder,
        /// The place in the cycle of frame nought of the source.
        phase: u8,
    },
}

impl StretchKind {
    /// The same way without its phase: what a person would call the same.
    const fn family(self) -> Self {
        match self {
            Self::Telecine { pulldown, first, .. } => Self::Telecine { pulldown, first, phase: 0 },
            other => other,
        }
    }

    const fn words(self) -> &'static str {
        match self {
            Self::Progressive => "whole frames",
            Self::Interlaced { .. } => "video",
            Self::Telecine { .. } => "film",
        }
    }
}

/// Weaves differ by their distance in time, but not in proportion: far ones are as torn as can be.
const FAR: f64 = 0.7;
/// What a change from one way to another costs, in frames of plain contradiction.
const CHANGE: f64 = 6.0;
/// What a change of the phase of the same pulldown costs: an edit.
const EDIT: f64 = 3.0;
/// A frame with more combing than this share of it is torn.
const TORN: f32 = 0.008;
/// So many telling frames are needed for a verdict.
const LEAST_EVIDENCE: f64 = 4.0;
/// One of so many telling frames, at least, follows a way with fields or film in it.
const LEAST_FOLLOWING: u64 = 3;

/// A frame's word, reduced to what it says of time.
struct Witness {
    weave: [f64; 3],
    repeat: [f64; 2],
    weight: f64,
    repeat_weight: f64,
    /// Whether the frame is torn by itself, 0 or 1, where that tells anything.
    torn: Option<f64>,
}

fn witness(frame: &FrameMeasure, floor: f64, tells: bool) -> Witness {
    let weave = frame.weave.map(f64::from);
    let (low, high) = (weave.iter().copied().fold(f64::MAX, f64::min), weave.iter().copied().fold(0.0, f64::max));
    let reach = high - low;
    let blocks = (f64::from(frame.moving_blocks) / 3.0).min(1.0);
    let weight = if frame.follows { blocks * ((reach - 0.4) / 1.2).clamp(0.0, 1.0) } else { 0.0 };
    let change = frame.field_change.map(|change| (f64::from(change) - floor).max(0.0));
    let most = change[0].max(change[1]);
    Witness {
        weave: weave.map(|energy| if reach > 0.0 { (energy - low) / reach } else { 0.0 }),
        repeat: change.map(|change| if most > 0.0 { change / most } else { 1.0 }),
        weight,
        torn: tells.then_some(if frame.combed > TORN { 1.0 } else { 0.0 }),
        repeat_weight: if frame.follows { blocks * (most / (floor + 1.5)).min(1.0) } else { 0.0 },
    }
}

/// What one way foretells of a frame.
#[derive(Clone, Copy)]
struct Forecast {
    weave: [f64; 3],
    repeat: [f64; 2],
    torn: f64,
}

fn foretell(kind: StretchKind, place: i64) -> Forecast {
    let (top, bottom) = sample_times(place, kind);
    let (top_before, bottom_before) = sample_times(place - 1, kind);
    let far = |from: i64, to: i64| f64::from(i32::try_from((from - to).abs()).unwrap_or(i32::MAX)).powf(FAR);
    let distances = [far(top, bottom), far(top, bottom_before), far(top_before, bottom)];
    let (low, high) = (distances.iter().copied().fold(f64::MAX, f64::min), distances.iter().copied().fold(0.0, f64::max));
    let still = |from: i64, to: i64| f64::from(u8::from(from != to));
    Forecast {
        weave: distances.map(|distance| (distance - low) / (high - low).max(f64::MIN_POSITIVE)),
        repeat: [still(top, top_before), still(bottom, bottom_before)],
        torn: still(top, bottom),
    }
}

/// All ways of sampling time.
fn ways() -> Vec<StretchKind> {
    let orders = [FieldOrder::TopFirst, FieldOrder::BottomFirst];
    let telecine = Pulldown::ALL.into_iter().flat_map(|pulldown| {
        let cycle = u8::try_from(pulldown.cycle()).unwrap_or(u8::MAX);
        orders.into_iter().flat_map(move |first| (0..cycle).map(move |phase| StretchKind::Telecine { pulldown, first, phase }))
    });
    std::iter::once(StretchKind::Progressive)
        .chain(orders.into_iter().map(|first| StretchKind::Interlaced { first }))
        .chain(telecine)
        .collect()
}

/// By how much a frame by itself contradicts a way, whatever came before it.
fn own_contradiction(witness: &Witness, forecast: Forecast) -> f64 {
    witness.torn.map_or(0.0, |torn| 0.25 * witness.weight * (torn - forecast.torn).abs())
}

/// By how much a frame contradicts a way, from 0 to its weight.
fn contradiction(witness: &Witness, forecast: Forecast) -> f64 {
    let apart = |seen: &[f64], told: &[f64]| seen.iter().zip(told).map(|(seen, told)| (seen - told).abs()).sum::<f64>();
    let weave = witness.weight * (apart(&witness.weave, &forecast.weave) / 1.5).min(1.0);
    let repeat = witness.repeat_weight * apart(&witness.repeat, &forecast.repeat).min(1.0);
    0.5 * weave + 0.25 * repeat + own_contradiction(witness, forecast)
}

/// The most plausible way of each frame, and how plausible each family of ways is on its own.
struct Path {
    ways: Vec<StretchKind>,
    chosen: Vec<usize>,
    costs: Vec<Vec<f64>>,
}

fn trace(frames: &[FrameMeasure], witnesses: &[Witness]) -> Path {
    let ways = ways();
    // Every cycle is one or five frames long.
    let forecasts: Vec<[Forecast; 5]> = ways.iter().map(|way| [0, 1, 2, 3, 4].map(|place| foretell(*way, place))).collect();
    let mut costs = Vec::with_capacity(frames.len());
    let mut best_so_far = vec![0.0_f64; ways.len()];
    let mut came_from: Vec<Vec<usize>> = Vec::with_capacity(frames.len());
    for (frame, witness) in frames.iter().zip(witnesses) {
        let place = usize::try_from(frame.place % 5).unwrap_or(0);
        let cost: Vec<f64> = forecasts.iter().map(|way| contradiction(witness, way[place])).collect();
        let mut from = Vec::with_capacity(ways.len());
        let mut next = Vec::with_capacity(ways.len());
        for (to, way) in ways.iter().enumerate() {
            let mut choice = (to, best_so_far[to]);
            for (other, past) in best_so_far.iter().enumerate() {
                let step = if ways[other].family() == way.family() { EDIT } else { CHANGE };
                if other != to && past + step < choice.1 {
                    choice = (other, past + step);
                }
            }
            // Behind an edit, what the frame has in common with the one before says nothing.
            let own = if choice.0 == to { cost[to] } else { own_contradiction(witness, forecasts[to][place]) };
            from.push(choice.0);
            next.push(choice.1 + own);
        }
        best_so_far = next;
        came_from.push(from);
        costs.push(cost);
    }
    let mut at = least(&best_so_far);
    let mut chosen = vec![at; frames.len()];
    for (place, from) in came_from.iter().enumerate().rev() {
        chosen[place] = at;
        at = from[at];
    }
    Path { ways, chosen, costs }
}

fn least(values: &[f64]) -> usize {
    (0..values.len()).min_by(|left, right| values[*left].total_cmp(&values[*right])).unwrap_or(0)
}

/// The level of change that is noise alone: what the quietest field of moving blocks shows.
fn noise_floor(frames: &[FrameMeasure]) -> f64 {
    let mut quietest: Vec<f64> = frames
        .iter()
        .filter(|frame| frame.follows && frame.moving_blocks > 0)
        .map(|frame| f64::from(frame.field_change[0].min(frame.field_change[1])))
        .collect();
    quietest.sort_by(f64::total_cmp);
    quietest.get(quietest.len() / 20).copied().unwrap_or(0.0).min(8.0)
}

/// Judges fields. What looks like combing in frames that turn out whole is fine detail: it is taken back.
pub(super) fn find(frames: &mut [FrameMeasure], picture: &Picture) -> FieldsFinding {
    let floor = noise_floor(frames);
    let moving: Vec<&FrameMeasure> = frames.iter().filter(|frame| frame.follows && frame.moving_blocks > 0).collect();
    // Where every frame looks torn, that may be fine detail, and tells no frame from another.
    let tells = moving.iter().filter(|frame| frame.combed > TORN).count() * 10 < moving.len() * 9;
    let witnesses: Vec<Witness> = frames.iter().map(|frame| witness(frame, floor, tells)).collect();
    let evidence: f64 = witnesses.iter().map(|witness| witness.weight).sum();
    let declared = declared_order(frames, picture);
    if evidence < LEAST_EVIDENCE {
        let frames = count(frames.len() as u64, "frame");
        return unknown(vec![format!("{evidence:.1} frames' worth of telling motion in {frames}")], "nothing moves enough");
    }
    let path = trace(frames, &witnesses);
    let telling = witnesses.iter().filter(|witness| witness.weight > 0.5).count() as u64;
    let follow = follows(&path, &witnesses);
    let is_whole = path.chosen.iter().all(|chosen| path.ways[*chosen] == StretchKind::Progressive);
    if !is_whole && follow * LEAST_FOLLOWING < telling {
        // Dithered drawings, say, whose pattern is another in every frame: the least contradiction is no proof.
        let figures = vec![format!("{follow} of {telling} telling frames follow the way that contradicts them least")];
        return unknown(figures, "no way of sampling time explains what moves");
    }
    for (frame, chosen) in frames.iter_mut().zip(&path.chosen) {
        if path.ways[*chosen] == StretchKind::Progressive {
            frame.combed = 0.0;
        }
    }
    let frames = &*frames;
    let stretches = stretches(frames, &path, picture);
    let mut families: Vec<(StretchKind, u64, f64)> = Vec::new();
    for (frame, chosen) in path.chosen.iter().enumerate() {
        let family = path.ways[*chosen].family();
        match families.iter_mut().find(|known| known.0 == family) {
            Some(known) => (known.1, known.2) = (known.1 + 1, known.2 + witnesses[frame].weight),
            None => families.push((family, 1, witnesses[frame].weight)),
        }
    }
    families.sort_by_key(|family| std::cmp::Reverse(family.1));
    let soft = frames.iter().filter(|frame| frame.repeats_field).count() * 3 >= frames.len();
    let verdict = match families.as_slice() {
        [(StretchKind::Progressive, ..)] if soft => FieldsVerdict::SoftTelecine,
        [(StretchKind::Progressive, ..)] => FieldsVerdict::Progressive,
        [(StretchKind::Interlaced { first }, ..)] => FieldsVerdict::Interlaced { first: *first },
        [(StretchKind::Telecine { pulldown, first, .. }, ..)] => FieldsVerdict::Telecine { pulldown: *pulldown, first: *first },
        _ => FieldsVerdict::Mixed,
    };
    let breaks: Vec<Rational> =
        stretches.windows(2).filter(|pair| pair[0].kind.family() == pair[1].kind.family()).map(|pair| pair[1].from).collect();
    let confidence = confidence(&path, evidence);
    let header = header_truth(verdict, declared, &stretches);
    let words = words(verdict, header, declared, &stretches, &breaks);
    let total = frames.len() as u64;
    let combed = frames.iter().filter(|frame| frame.combed > 0.0).count() as u64;
    let mut figures = vec![
        format!("{telling} of {} move enough to tell", count(total, "frame")),
        format!("{} with combing", count(combed, "frame")),
    ];
    if let FieldsVerdict::Telecine { pulldown, .. } = verdict {
        figures.insert(0, format!("{follow} of {telling} telling frames follow the {} cadence", pulldown.words()));
    }
    if soft {
        let repeated = frames.iter().filter(|frame| frame.repeats_field).count();
        figures.push(format!("{repeated} of {} ask for a repeated field", count(total, "frame")));
    }
    FieldsFinding {
        verdict,
        header,
        stretches,
        evidence: Evidence { confidence, figures, moments: moments(frames, &breaks) },
        breaks,
        words,
    }
}

fn unknown(figures: Vec<String>, why: &str) -> FieldsFinding {
    FieldsFinding {
        verdict: FieldsVerdict::Unknown,
        header: HeaderTruth::Silent,
        stretches: Vec::new(),
        breaks: Vec::new(),
        evidence: Evidence { confidence: Percent(0), figures, moments: Vec::new() },
        words: format!("whether there are fields cannot be known: {why}"),
    }
}

/// What most frames declare; the header's word where they declare nothing.
fn declared_order(frames: &[FrameMeasure], picture: &Picture) -> FieldOrder {
    let count = |order| frames.iter().filter(|frame| frame.declared == order).count();
    let most = [FieldOrder::TopFirst, FieldOrder::BottomFirst].into_iter().max_by_key(|order| count(*order));
    match most {
        Some(order) if count(order) * 2 > frames.len() => order,
        Some(_) | None if picture.field_order.is_interlaced() => picture.field_order,
        Some(_) | None => FieldOrder::Progressive,
    }
}

fn stretches(frames: &[FrameMeasure], path: &Path, picture: &Picture) -> Vec<Stretch> {
    let length = picture.frame_rate.and_then(Rational::inverse).unwrap_or(Rational::constant(1, 25));
    let mut stretches: Vec<Stretch> = Vec::new();
    for (frame, chosen) in frames.iter().zip(&path.chosen) {
        let kind = path.ways[*chosen];
        match stretches.last_mut() {
            Some(last) if last.kind == kind => (last.end_frame, last.to) = (frame.place + 1, frame.at + length),
            last => {
                if let Some(last) = last {
                    (last.end_frame, last.to) = (frame.place, frame.at);
                }
                stretches.push(Stretch {
                    first_frame: frame.place,
                    end_frame: frame.place + 1,
                    from: frame.at,
                    to: frame.at + length,
                    kind,
                });
            }
        }
    }
    stretches
}

/// How much worse the best other family explains the frames of each family.
fn confidence(path: &Path, evidence: f64) -> Percent {
    let mut margin = 0.0;
    let mut families: Vec<StretchKind> = path.chosen.iter().map(|chosen| path.ways[*chosen].family()).collect();
    families.dedup();
    families.sort_unstable();
    families.dedup();
    for family in families {
        let frames: Vec<usize> =
            (0..path.chosen.len()).filter(|frame| path.ways[path.chosen[*frame]].family() == family).collect();
        let own: f64 = frames.iter().map(|frame| path.costs[*frame][path.chosen[*frame]]).sum();
        let others = (0..path.ways.len()).filter(|way| path.ways[*way].family() != family);
        let other = others.map(|way| frames.iter().map(|frame| path.costs[*frame][way]).sum::<f64>()).fold(f64::MAX, f64::min);
        margin += (other - own).max(0.0);
    }
    Percent::of_share(1.0 - (-18.0 * margin / evidence - margin / 20.0).exp()).min(Percent(99))
}

fn follows(path: &Path, witnesses: &[Witness]) -> u64 {
    let agree = |frame: &usize| path.costs[*frame][path.chosen[*frame]] < 0.4 * witnesses[*frame].weight;
    (0..witnesses.len()).filter(|frame| witnesses[*frame].weight > 0.5).filter(agree).count() as u64
}

fn header_truth(verdict: FieldsVerdict, declared: FieldOrder, stretches: &[Stretch]) -> HeaderTruth {
    let first = match verdict {
        FieldsVerdict::Unknown => return HeaderTruth::Silent,
        FieldsVerdict::Progressive | FieldsVerdict::SoftTelecine => None,
        FieldsVerdict::Interlaced { first } | FieldsVerdict::Telecine { first, .. } => Some(first),
        FieldsVerdict::Mixed => stretches.iter().find_map(|stretch| match stretch.kind {
            StretchKind::Interlaced { first } | StretchKind::Telecine { first, .. } => Some(first),
            StretchKind::Progressive => None,
        }),
    };
    match (first, declared.is_interlaced()) {
        (None, false) => HeaderTruth::True,
        (None, true) => HeaderTruth::FieldsDeclaredFramesFound,
        (Some(_), false) => HeaderTruth::FramesDeclaredFieldsFound,
        (Some(first), true) if first == declared => HeaderTruth::True,
        (Some(_), true) => HeaderTruth::WrongOrder,
    }
}

fn words(
    verdict: FieldsVerdict,
    header: HeaderTruth,
    declared: FieldOrder,
    stretches: &[Stretch],
    breaks: &[Rational],
) -> String {
    let mut text = match verdict {
        FieldsVerdict::Unknown => "whether there are fields cannot be known".to_owned(),
        FieldsVerdict::Progressive if header == HeaderTruth::FieldsDeclaredFramesFound => {
            "progressive, stored as interlaced".to_owned()
        }
        FieldsVerdict::Progressive => "progressive".to_owned(),
        FieldsVerdict::Interlaced { first } => first.words().to_owned(),
        FieldsVerdict::Telecine { pulldown, .. } => format!("film, telecined by {} pulldown", pulldown.words()),
        FieldsVerdict::SoftTelecine => "film, with flags that ask for repeated fields".to_owned(),
        FieldsVerdict::Mixed => {
            let mut parts: Vec<(StretchKind, Rational, Rational)> = Vec::new();
            for stretch in stretches {
                match parts.last_mut() {
                    Some(last) if last.0 == stretch.kind.family() => last.2 = stretch.to,
                    _ => parts.push((stretch.kind.family(), stretch.from, stretch.to)),
                }
            }
            let shown =
                parts.iter().take(6).map(|part| format!("{} {}–{}", part.0.words(), clock_text(part.1), clock_text(part.2)));
            let more = if parts.len() > 6 { format!(" and {} more parts", parts.len() - 6) } else { String::new() };
            format!("mixed: {}{more}", shown.collect::<Vec<_>>().join(", "))
        }
    };
    if !breaks.is_empty() {
        text.push_str(&format!("; the cadence breaks {}", times(breaks.len())));
    }
    match header {
        HeaderTruth::FramesDeclaredFieldsFound => text.push_str("; the header declares no fields"),
        HeaderTruth::WrongOrder => text.push_str(&format!("; the header is wrong, it declares {}", declared.words())),
        HeaderTruth::Silent | HeaderTruth::True | HeaderTruth::FieldsDeclaredFramesFound => {}
    }
    text
}

fn times(number: usize) -> String {
    match number {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        more => format!("{more} times"),
    }
}

/// The frames with most combing, spread over the source, and the first breaks.
fn moments(frames: &[FrameMeasure], breaks: &[Rational]) -> Vec<Moment> {
    let part = frames.len().div_ceil(3).max(1);
    let worst = frames.chunks(part).filter_map(|part| part.iter().max_by(|left, right| left.combed.total_cmp(&right.combed)));
    let combed = worst
        .filter(|frame| frame.combed > 0.0)
        .map(|frame| Moment { at: frame.at, shows: format!("combing in {:.0} % of the picture", frame.combed * 100.0) });
    let broken = breaks.iter().take(4).map(|at| Moment { at: *at, shows: "the cadence breaks".to_owned() });
    combed.chain(broken).collect()
}

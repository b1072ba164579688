//! Loudness, silence, clipping, and how two channels belong together.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Evidence, Moment, Percent, SoundMeasure, count};
use crate::facts::Facts;
use crate::time::{Rational, Span};

/// What is known of one sound stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SoundFinding {
    /// The stream.
    pub stream: u32,
    /// Integrated loudness in hundredths of LUFS (EBU R 128).
    pub integrated: Option<i32>,
    /// Loudness range in hundredths of LU (EBU Tech 3342).
    pub range: Option<i32>,
    /// True peak in hundredths of dBTP (ITU-R BS.1770).
    pub true_peak: Option<i32>,
    /// Stretches of two seconds or more without sound, each to a tenth of a second.
    pub silent: Vec<Span>,
    /// How often three samples or more in a row stand at full scale.
    pub clipped: u64,
    /// How the first two channels belong together.
    pub channels: ChannelRelation,
    /// Seconds from the beginning of the picture to that of the sound.
    pub offset: Option<Rational>,
    /// What stands behind it.
    pub evidence: Evidence,
    /// Each point in a sentence.
    pub words: Vec<String>,
}

/// How the first two channels of a stream belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ChannelRelation {
    /// One channel, or silence: nothing to compare.
    Single,
    /// Different, and in phase.
    Stereo,
    /// The same twice.
    DualMono,
    /// The same twice, one turned round: a mono receiver would hear nothing.
    OutOfPhase,
    /// Only the first one sounds.
    OnlyFirst,
    /// Only the second one sounds.
    OnlySecond,
}

/// Where the highest sample stays below this (−60 dBFS), there is silence. Loudness would not tell where it begins
/// and ends: its momentary value looks back over 400 ms.
const SILENCE: f64 = 0.001;
/// Momentary loudness in LUFS above which a moment is loud enough to be shown.
const SOUNDS: f64 = -60.0;

pub(super) fn find(measured: &SoundMeasure, facts: &Facts) -> SoundFinding {
    let silent = silent(measured);
    let channels = relation(measured);
    let picture_start = facts.picture().and_then(|(stream, _)| stream.start);
    let offset = picture_start.map(|start| measured.start - start);
    let mut words = Vec::new();
    match measured.integrated {
        Some(integrated) => words.push(format!("{integrated:.1} LUFS")),
        None => words.push("silent throughout".to_owned()),
    }
    words.extend(measured.true_peak.filter(|peak| *peak > -1.0).map(|peak| format!("true peak of {peak:.1} dBTP")));
    words.extend((measured.clipped > 0).then(|| format!("clipped {}", count(measured.clipped, "time"))));
    words.extend(match channels {
        ChannelRelation::Single | ChannelRelation::Stereo => None,
        ChannelRelation::DualMono => Some("the same sound on both channels".to_owned()),
        ChannelRelation::OutOfPhase => Some("one channel turned round in phase: in mono they cancel out".to_owned()),
        ChannelRelation::OnlyFirst => Some("sound on the first channel only".to_owned()),
        ChannelRelation::OnlySecond => Some("sound on the second channel only".to_owned()),
    });
    let longest = silent.iter().map(|span| (span.to - span.from).to_f64()).fold(0.0, f64::max);
    if measured.integrated.is_some() && !silent.is_empty() {
        words.push(match silent.len() {
            1 => format!("silent once, for {longest:.1} s"),
            times => format!("silent {times} times, for {longest:.1} s at most"),
        });
    }
    let late = offset.filter(|offset| offset.abs() > Rational::constant(1, 1000) && !is_priming(*offset, measured, facts));
    words.extend(late.map(|offset| {
        let direction = if offset.is_positive() { "later" } else { "earlier" };
        format!("begins {:.0} ms {direction} than the picture", offset.abs().to_f64() * 1000.0)
    }));
    SoundFinding {
        stream: measured.stream,
        integrated: measured.integrated.map(hundredths),
        range: measured.range.map(hundredths),
        true_peak: measured.true_peak.map(hundredths),
        clipped: measured.clipped,
        channels,
        offset,
        evidence: Evidence { confidence: Percent(99), figures: figures(measured), moments: moments(measured, &silent) },
        silent,
        words,
    }
}

/// Coded sound begins with samples that fill the encoder, before the sound itself; Matroska keeps them
/// as sound. AAC, MP3 and Opus have 2112 of them at most.
fn is_priming(offset: Rational, measured: &SoundMeasure, facts: &Facts) -> bool {
    let coded = facts.sounds().any(|(stream, _)| stream.index == measured.stream && !stream.codec.starts_with("pcm"));
    coded && !offset.is_positive() && offset.abs() <= Rational::constant(2112, 44_100)
}

fn hundredths(value: f64) -> i32 {
    format!("{:.0}", (value * 100.0).clamp(-1e8, 1e8)).parse().unwrap_or(0)
}

fn silent(measured: &SoundMeasure) -> Vec<Span> {
    let mut spans: Vec<Span> = Vec::new();
    let step = Rational::constant(1, 10);
    for moment in measured.moments.iter().filter(|moment| moment.peak < SILENCE) {
        match spans.last_mut() {
            Some(span) if moment.at - span.to < step => span.to = moment.at + step,
            _ => spans.push(Span { from: moment.at, to: moment.at + step }),
        }
    }
    // Two seconds hold nineteen whole tenths, wherever they begin.
    spans.retain(|span| span.to - span.from >= Rational::constant(19, 10));
    spans
}

fn relation(measured: &SoundMeasure) -> ChannelRelation {
    let (Some((product, difference)), [first, second, ..]) = (measured.stereo, measured.energy.as_slice()) else {
        return ChannelRelation::Single;
    };
    let samples = measured.samples.max(1) as f64;
    // Below -70 dBFS a channel is silent.
    let sounds = |energy: f64| energy / samples > 1e-7;
    match (sounds(*first), sounds(*second)) {
        (false, false) => ChannelRelation::Single,
        (true, false) => ChannelRelation::OnlyFirst,
        (false, true) => ChannelRelation::OnlySecond,
        (true, true) => {
            let correlation = product / (first * second).sqrt();
            let residue = difference / (first + second);
            if residue < 1e-4 {
                ChannelRelation::DualMono
            } else if correlation < -0.5 {
                ChannelRelation::OutOfPhase
            } else {
                ChannelRelation::Stereo
            }
        }
    }
}

fn figures(measured: &SoundMeasure) -> Vec<String> {
    let mut figures = Vec::new();
    figures.extend(measured.integrated.map(|value| format!("integrated loudness {value:.1} LUFS")));
    figures.extend(measured.range.map(|value| format!("loudness range {value:.1} LU")));
    figures.extend(measured.true_peak.map(|value| format!("true peak {value:.1} dBTP")));
    if let (Some((product, _)), [first, second, ..]) = (measured.stereo, measured.energy.as_slice())
        && *first > 0.0
        && *second > 0.0
    {
        figures.push(format!("correlation of the channels {:.2}", product / (first * second).sqrt()));
    }
    figures
}

fn moments(measured: &SoundMeasure, silent: &[Span]) -> Vec<Moment> {
    let clipped = measured.first_clipped.map(|at| Moment { at, shows: "clipped for the first time".to_owned() });
    let loudest = measured
        .moments
        .iter()
        .max_by(|left, right| left.loudness.total_cmp(&right.loudness))
        .filter(|moment| moment.loudness > SOUNDS)
        .map(|moment| Moment { at: moment.at, shows: "the loudest".to_owned() });
    let silence = silent.iter().take(4).map(|span| Moment { at: span.from, shows: "silent from here".to_owned() });
    clipped.into_iter().chain(loudest).chain(silence).collect()
}

//! Findings: what decoding a source shows of it, judged from the engine's [`Measurements`].
//!
//! Each finding has a verdict, a confidence, the figures behind it, and the moments that show it
//! best. A verdict that cannot be known says so, and why.

mod bars;
mod cadence;
mod curves;
mod fields;
pub mod film;
mod lengths;
mod look;
mod measurements;
mod rate;
mod sound;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::Facts;
use crate::time::Rational;
use crate::timeline::Anchor;

pub use bars::{Bars, BarsFinding, BarsVerdict, LineLevel, aspect_name, bars_of_lines};
pub use cadence::{FieldMatch, Pulldown};
pub use curves::Curves;
pub use fields::{FieldsFinding, FieldsVerdict, HeaderTruth, Stretch, StretchKind};
pub use look::{ColourContent, LookFinding, RangeVerdict};
pub use measurements::{ColourMeasure, FrameMeasure, LookMeasure, Measurements, SoundMeasure, SoundMoment, StreamMeasure};
pub use rate::{RateFinding, RateVerdict};
pub use sound::{ChannelRelation, SoundFinding};

/// What decoding a source showed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Findings {
    /// How much of the source was looked at.
    pub extent: Extent,
    /// Fields and cadences, where there is a moving picture.
    pub fields: Option<FieldsFinding>,
    /// Black bars.
    pub bars: Option<BarsFinding>,
    /// The true frame rate.
    pub rate: Option<RateFinding>,
    /// Noise, colour, levels, black and frozen stretches.
    pub look: Option<LookFinding>,
    /// Each sound stream.
    pub sounds: Vec<SoundFinding>,
    /// Moments at which a proof is worth most.
    pub telling: Vec<Moment>,
    /// What could not be looked at, and why.
    #[serde(default)]
    pub unseen: Vec<String>,
    /// Places from which reading can begin, where the clock of the file jumps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub anchors: Vec<Anchor>,
}

impl Findings {
    /// What is remarkable, in a few words each.
    #[must_use]
    pub fn remarkable(&self) -> Vec<String> {
        let mut words = Vec::new();
        if let Some(fields) = &self.fields {
            match fields.verdict {
                FieldsVerdict::Progressive if fields.header != HeaderTruth::FieldsDeclaredFramesFound => {}
                FieldsVerdict::Unknown => {}
                _ => words.push(fields.words.clone()),
            }
        }
        if let Some(bars) = &self.bars {
            match bars.verdict {
                BarsVerdict::None | BarsVerdict::Unknown => {}
                BarsVerdict::OneSided => words.push(bars.words.clone()),
                _ => words.push(format!("{} inside bars", bars.aspect)),
            }
        }
        if let Some(rate) = &self.rate {
            match rate.verdict {
                RateVerdict::Unknown | RateVerdict::AsDeclared if rate.pictures.is_none() => {}
                _ => words.push(rate.words.clone()),
            }
        }
        words.extend(self.look.iter().flat_map(|look| look.words.iter().cloned()));
        words.extend(self.unseen.iter().cloned());
        for sound in &self.sounds {
            // The first point is the loudness, which every sound has.
            words.extend(sound.words.iter().skip(1).cloned());
        }
        words
    }
}

/// How much of a source was looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "of", rename_all = "snake_case")]
pub enum Extent {
    /// All of it.
    Whole,
    /// Evenly spread parts, for a first answer.
    Windows {
        /// How many.
        count: u32,
        /// Seconds of each.
        seconds: Rational,
    },
}

/// How sure a verdict is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct Percent(pub u8);

impl Percent {
    /// From a share between 0 and 1; what lies outside is taken as the nearer end.
    #[must_use]
    pub fn of_share(share: f64) -> Self {
        Self((0..=100).rev().find(|percent| f64::from(*percent) <= share * 100.0 + 0.5).unwrap_or(0))
    }
}

impl std::fmt::Display for Percent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} %", self.0)
    }
}

/// A moment that shows something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Moment {
    /// Seconds from the first frame.
    pub at: Rational,
    /// What is to be seen there.
    pub shows: String,
}

/// What stands behind a verdict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Evidence {
    /// How sure the verdict is.
    pub confidence: Percent,
    /// The figures, each a short phrase such as “1 312 of 1 440 frames follow the cadence”.
    pub figures: Vec<String>,
    /// The moments that show it best.
    pub moments: Vec<Moment>,
}

/// Judges what was measured in a source with these facts; the curves go with it.
#[must_use]
pub fn find(mut measured: Measurements, facts: &Facts) -> (Findings, Curves) {
    let picture = facts.picture().map(|(_, picture)| picture).filter(|_| !measured.frames.is_empty());
    let fields = picture.map(|picture| fields::find(&mut measured.frames, picture));
    let findings = Findings {
        extent: measured.extent,
        fields,
        bars: picture.map(|picture| bars::find(&measured.bars, picture)),
        rate: picture.map(|picture| rate::find(&measured, picture)),
        look: picture.map(|picture| look::find(&measured, picture)),
        sounds: measured.sounds.iter().map(|sound| sound::find(sound, facts)).collect(),
        telling: look::telling_moments(&measured.frames),
        unseen: unseen(&measured, facts),
        anchors: measured.anchors.clone(),
    };
    (findings, Curves::of(&measured))
}

/// What a source has and the scan got nothing of.
fn unseen(measured: &Measurements, facts: &Facts) -> Vec<String> {
    let why = if facts.missing.is_some() {
        "the file was cut, and what is left begins with nothing that can be decoded"
    } else {
        "nothing in it can be decoded: it is damaged, encrypted, or begins behind its first key frame"
    };
    let mut unseen = Vec::new();
    if facts.picture().is_none() && facts.sounds().count() == 0 {
        unseen.push("it has neither picture nor sound".to_owned());
    }
    if facts.picture().is_some() && measured.frames.is_empty() {
        unseen.push(format!("nothing is known of its picture: {why}"));
    }
    for (stream, _) in facts.sounds() {
        if !measured.sounds.iter().any(|sound| sound.stream == stream.index && sound.samples > 0) {
            unseen.push(format!("nothing is known of the sound in stream {}: {why}", stream.index));
        }
    }
    unseen
}

/// A number of things with its noun.
fn count(number: u64, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

//! Samples: what a proof has shown of how much the pictures of a source weigh, and what that foretells
//! for the whole of it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::after::check::Measured;
use crate::facts::Content;
use crate::plan::{PicturePlan, Plan, Step};
use crate::units::{BitRate, ByteSize};

/// What one proof has shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sample {
    /// The settings it was made with, without all that goes by the length.
    #[schema(value_type = Object)]
    pub settings: PicturePlan,
    /// Stretches of the source that it is made of, which are cut together.
    pub stretches: u64,
    /// Frames.
    pub frames: u64,
    /// How many of them are key frames.
    pub key_frames: u64,
    /// Bytes of the key frames.
    pub key_bytes: ByteSize,
    /// Bytes of the others.
    pub other_bytes: ByteSize,
    /// Milliseconds of processor time that the whole output took, for a second of it.
    pub cpu_milliseconds: u64,
}

impl PicturePlan {
    /// What decides how its pictures are made, without all that goes by the length of what is taken.
    #[must_use]
    pub fn settings(&self) -> Self {
        let mut settings = Self { duration: None, frames: None, ..self.clone() };
        for step in &mut settings.steps {
            if let Step::Film { stretches, .. } = step {
                stretches.clear();
            }
        }
        settings
    }
}

impl Sample {
    /// What a proof that was made by `plan` has shown; nothing where it has no picture.
    #[must_use]
    pub fn of(plan: &Plan, measured: &Measured, cpu_seconds: f64) -> Option<Self> {
        let settings = plan.picture.as_ref()?.settings();
        let stream = measured.facts.streams.iter().find(|stream| matches!(stream.content, Content::Picture(_)))?;
        let packets = measured.streams.iter().find(|packets| packets.index == stream.index)?;
        let seconds = plan.known_duration().to_f64();
        if packets.packets == 0 || seconds <= 0.0 {
            return None;
        }
        // Whole milliseconds between nought and hours.
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
        let cpu_milliseconds = (cpu_seconds.max(0.0) * 1000.0 / seconds).round() as u64;
        Some(Self {
            settings,
            stretches: (plan.parts.len() as u64).max(1),
            frames: packets.packets,
            key_frames: packets.key_packets,
            key_bytes: packets.key_bytes,
            other_bytes: ByteSize(packets.bytes.0.saturating_sub(packets.key_bytes.0)),
            cpu_milliseconds,
        })
    }

    /// Key frames that scene changes have brought, beyond those with which stretches begin and those that
    /// the distance asks for.
    fn extra_keys(&self) -> f64 {
        let stretches = self.stretches.max(1);
        let within = (self.frames / stretches).saturating_sub(1) / u64::from(self.settings.key_interval_frames.max(1));
        self.key_frames.saturating_sub(stretches * (1 + within)) as f64
    }

    /// Bits a second of its own pictures.
    fn rate(&self) -> f64 {
        rate(&[self]).unwrap_or(0.0)
    }
}

/// Bits a second that samples of the same settings foretell for a long stretch: a short one has more
/// than its share of key frames, so these are counted apart.
fn rate(samples: &[&Sample]) -> Option<f64> {
    let first = samples.first()?;
    let sum = |of: fn(&Sample) -> u64| samples.iter().map(|sample| of(sample)).sum::<u64>() as f64;
    let frames = sum(|sample| sample.frames);
    let keys = sum(|sample| sample.key_frames);
    let per_second = first.settings.frame_rate.rate().to_f64();
    let others = frames - keys;
    if keys < 1.0 || others < 1.0 {
        let bytes = sum(|sample| sample.key_bytes.0) + sum(|sample| sample.other_bytes.0);
        return (frames > 0.0).then(|| bytes * 8.0 / frames * per_second);
    }
    let extra: f64 = samples.iter().map(|sample| sample.extra_keys()).sum();
    let key_share = (1.0 / f64::from(first.settings.key_interval_frames.max(1)) + extra / frames).min(1.0);
    let key = sum(|sample| sample.key_bytes.0) / keys;
    let other = sum(|sample| sample.other_bytes.0) / others;
    Some((key * key_share + other * (1.0 - key_share)) * 8.0 * per_second)
}

/// What samples foretell for a picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Foretold {
    /// There are samples of these very settings.
    Measured {
        /// Bits a second.
        rate: BitRate,
        /// Milliseconds of processor time for a second.
        cpu_milliseconds: u64,
    },
    /// There are samples of other settings: so many times what the model says of each.
    Likened {
        /// The factor.
        factor: f64,
    },
}

/// What the samples of a source foretell for `picture`; `model` is what is thought of settings without any.
#[must_use]
pub fn foretell(samples: &[Sample], picture: &PicturePlan, model: impl Fn(&PicturePlan) -> Option<f64>) -> Option<Foretold> {
    if samples.is_empty() {
        return None;
    }
    let settings = picture.settings();
    let same: Vec<&Sample> = samples.iter().filter(|sample| sample.settings == settings).collect();
    if let Some(rate) = rate(&same) {
        let cpu_milliseconds = same.iter().map(|sample| sample.cpu_milliseconds).sum::<u64>() / (same.len() as u64).max(1);
        // Within 2^53: rates of files that were made.
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
        return Some(Foretold::Measured { rate: BitRate(rate as u64), cpu_milliseconds });
    }
    let ratios: Vec<f64> = samples
        .iter()
        .filter(|sample| sample.frames > 0)
        .filter_map(|sample| Some(sample.rate() / model(&sample.settings).filter(|model| *model > 0.0)?))
        .filter(|ratio| *ratio > 0.0)
        .collect();
    if ratios.is_empty() {
        return None;
    }
    let mean = ratios.iter().map(|ratio| ratio.ln()).sum::<f64>() / ratios.len() as f64;
    Some(Foretold::Likened { factor: mean.exp() })
}

/// Samples of each source that are kept: the newest.
pub const MOST_SAMPLES: usize = 64;

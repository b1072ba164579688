//! What findings were judged from, reduced to what can be drawn.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Bars, Measurements};
use crate::time::Rational;

/// Measurements over time, for the lanes below a picture. Times are milliseconds from the first frame.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Curves {
    /// When each frame is shown.
    pub frames: Vec<u32>,
    /// The share of each frame that shows combing, 0 to 255.
    pub combing: Vec<u8>,
    /// By how much each frame differs from the one before, in quarters of code values of 8 bit.
    pub motion: Vec<u8>,
    /// Mean luma of each frame, in code values of 8 bit.
    pub luma: Vec<u8>,
    /// Bars at moments spread evenly.
    pub bars: Vec<(u32, Bars)>,
    /// Of each sound stream, ten times a second: the moment, and momentary loudness in LUFS, -70 and below as -70.
    pub loudness: Vec<Vec<(u32, i8)>>,
}

impl Curves {
    /// The curves of a scan.
    pub(super) fn of(measured: &Measurements) -> Self {
        let frames = &measured.frames;
        Self {
            frames: frames.iter().map(|frame| milliseconds(frame.at)).collect(),
            combing: frames.iter().map(|frame| code(frame.combed * 255.0)).collect(),
            motion: frames.iter().map(|frame| code(frame.change * 4.0)).collect(),
            luma: frames.iter().map(|frame| code(frame.luma)).collect(),
            bars: measured.bars.iter().map(|(at, bars)| (milliseconds(*at), *bars)).collect(),
            loudness: measured
                .sounds
                .iter()
                .map(|sound| sound.moments.iter().map(|moment| (milliseconds(moment.at), level(moment.loudness))).collect())
                .collect(),
        }
    }
}

fn milliseconds(time: Rational) -> u32 {
    u32::try_from((time * Rational::whole(1000)).round().max(0)).unwrap_or(u32::MAX)
}

/// The nearest code; what lies beyond the ends is taken as the end.
fn code(value: f32) -> u8 {
    (0..=254).find(|code| f32::from(*code) + 0.5 > value).unwrap_or(255)
}

fn level(loudness: f64) -> i8 {
    (-70..=19).find(|level| f64::from(*level) + 0.5 > loudness).unwrap_or(20)
}

//! What the engine measures while it scans; plain values, judged by the rest of this module.
//!
//! Code values are those of 8 bit, whatever the depth of the source: 16 is black and 235 white in
//! limited range.

use crate::picture::FieldOrder;
use crate::time::Rational;
use crate::timeline::{Anchor, Jump};

use super::{Bars, Extent};

/// Everything that a scan measures.
#[derive(Debug, Clone, PartialEq)]
pub struct Measurements {
    /// How much of the source was looked at.
    pub extent: Extent,
    /// All frames that were looked at, in the order in which they are shown.
    pub frames: Vec<FrameMeasure>,
    /// Bars, at moments spread evenly.
    pub bars: Vec<(Rational, Bars)>,
    /// Noise, colour and levels, at the same moments.
    pub looks: Vec<LookMeasure>,
    /// Each sound stream.
    pub sounds: Vec<SoundMeasure>,
    /// What was there of each stream that was decoded.
    pub streams: Vec<StreamMeasure>,
    /// The jumps of the file's clock.
    pub jumps: Vec<Jump>,
    /// Places from which reading can begin, where the clock jumps.
    pub anchors: Vec<Anchor>,
}

/// How much of a stream was there, in seconds of the source's clock, made continuous.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StreamMeasure {
    /// Its place in the file.
    pub stream: u32,
    /// Where its first frame begins.
    pub from: Rational,
    /// Where its last frame ends.
    pub to: Rational,
    /// How many frames were decoded.
    pub frames: u64,
    /// Whether packets behind the last frame could not be decoded, or the file could not be read on: there may be more.
    pub ends_in_damage: bool,
}

/// One frame.
///
/// Combing and change are looked at in blocks of 32 columns and 16 lines; *moving* blocks are those
/// that change more than noise does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FrameMeasure {
    /// Seconds from the first frame.
    pub at: Rational,
    /// Its place among all frames of the source, counted from nought.
    pub place: u64,
    /// Whether the frame before it was looked at; where not, it can be compared with nothing.
    pub follows: bool,
    /// What the stream says of its fields.
    pub declared: FieldOrder,
    /// Whether the stream asks to show its first field once more.
    pub repeats_field: bool,
    /// How many blocks move.
    pub moving_blocks: u32,
    /// How uneven moving blocks are from line to line (mean absolute difference of each line of the
    /// top field to the lines around it) in three weaves: the frame's own fields; its top field with
    /// the bottom field of the frame before; its bottom field with the top field of the frame before.
    pub weave: [f32; 3],
    /// By how much top and bottom field of moving blocks differ from those of the frame before.
    pub field_change: [f32; 2],
    /// The share of blocks that show combing.
    pub combed: f32,
    /// By how much the frame differs from the one before: mean, and the block that differs most.
    pub change: f32,
    /// The block that differs most.
    pub change_peak: f32,
    /// Mean luma.
    pub luma: f32,
    /// The share of the picture that is not black.
    pub lit: f32,
    /// How uneven the picture is, as a measure of its detail.
    pub detail: f32,
}

/// Noise, colour and levels of one frame.
#[derive(Debug, Clone, PartialEq)]
pub struct LookMeasure {
    /// Seconds from the first frame.
    pub at: Rational,
    /// Standard deviation of noise in flat parts; nothing where no part is flat.
    pub noise: Option<f32>,
    /// How much more uneven columns are at the borders of 8 by 8 blocks than inside them.
    pub blockiness: f32,
    /// Colour, where the picture has any planes for it.
    pub colour: Option<ColourMeasure>,
    /// How often each luma code occurs.
    pub luma: Box<[u32; 256]>,
}

/// The colour planes of one frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ColourMeasure {
    /// Mean of Cb and Cr, 128 for none.
    pub mean: [f64; 2],
    /// Mean distance from the mean, of Cb and Cr.
    pub spread: [f64; 2],
}

/// One sound stream.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundMeasure {
    /// The stream.
    pub stream: u32,
    /// Seconds of the first sample on the source's clock.
    pub start: Rational,
    /// Integrated loudness in LUFS (EBU R 128); nothing below the gate.
    pub integrated: Option<f64>,
    /// Loudness range in LU (EBU Tech 3342).
    pub range: Option<f64>,
    /// True peak in dBTP (ITU-R BS.1770); nothing for digital silence.
    pub true_peak: Option<f64>,
    /// Moments, ten a second.
    pub moments: Vec<SoundMoment>,
    /// How often three samples or more in a row stand at full scale.
    pub clipped: u64,
    /// Seconds of the first such place.
    pub first_clipped: Option<Rational>,
    /// Sum of squares of each channel.
    pub energy: Vec<f64>,
    /// Of the first two channels: the sum of their products, and the sum of squares of their difference.
    pub stereo: Option<(f64, f64)>,
    /// Samples of one channel.
    pub samples: u64,
}

/// A tenth of a second of sound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SoundMoment {
    /// Seconds from the first sample.
    pub at: Rational,
    /// Momentary loudness in LUFS.
    pub loudness: f64,
    /// The highest sample, from 0 to 1 and beyond.
    pub peak: f64,
}

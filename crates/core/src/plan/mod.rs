//! The plan: the exact settings of one output, each with its reason.
//!
//! A plan is a pure function of the source's [reading](crate::reading), a [preset](crate::preset)
//! and the editor's own overrides. The interface shows it, the engine obeys it, the
//! [check](crate::check) holds the file against it.

mod build;
mod picture;
mod sound;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::forecast::Forecast;
use crate::geometry::Rectangle;
use crate::preset::{Container, Effort, Level, PictureCodec, Profile, SoundCodec};
use crate::rational::Rational;
use crate::reading::{Chapter, Colour, FieldOrder, Hdr};
use crate::units::BitRate;

pub use build::plan;

/// The exact settings of one output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// The id of the preset it comes from.
    pub preset: String,
    /// The preset's name for people.
    pub preset_name: String,
    /// The file format.
    pub container: Container,
    /// The picture, or nothing.
    pub picture: Option<PicturePlan>,
    /// The sound streams in their order.
    pub sound: Vec<SoundPlan>,
    /// Seconds that the output lasts, where the source tells.
    pub duration: Option<Rational>,
    /// The timecode of the first frame.
    pub timecode: Option<String>,
    /// The reel name that goes with it.
    pub reel: Option<String>,
    /// Chapters to write.
    pub chapters: Vec<Chapter>,
    /// Tags to write.
    pub tags: BTreeMap<String, String>,
    /// What it will weigh.
    pub forecast: Forecast,
    /// Each setting in words, with its reason.
    pub decisions: Vec<Decision>,
}

/// What a decision is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Subject {
    /// The file format.
    Container,
    /// Codec and profile.
    Codec,
    /// Quality or bit rate.
    Rate,
    /// Columns and lines.
    Size,
    /// Frames a second.
    FrameRate,
    /// Interlacing.
    Fields,
    /// Colour tags, range and depth.
    Colour,
    /// A picture stored turned.
    Rotation,
    /// Sound.
    Sound,
    /// Start timecode.
    Timecode,
    /// Chapters and tags.
    Extras,
}

impl Subject {
    /// As a heading.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Container => "Container",
            Self::Codec => "Codec",
            Self::Rate => "Rate",
            Self::Size => "Size",
            Self::FrameRate => "Frame rate",
            Self::Fields => "Fields",
            Self::Colour => "Colour",
            Self::Rotation => "Rotation",
            Self::Sound => "Sound",
            Self::Timecode => "Timecode",
            Self::Extras => "Extras",
        }
    }
}

/// Where a decision comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Origin {
    /// The preset says so.
    Preset,
    /// The source asks for it.
    Source,
    /// The editor's own setting for this output.
    Editor,
}

/// One setting in words, with its reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// What it is about.
    pub subject: Subject,
    /// What is done: “deinterlaced, one frame for each frame”.
    pub what: String,
    /// Why: “the header declares fields, top field first”.
    pub because: String,
    /// Who decided.
    pub origin: Origin,
}

/// Exact settings of the picture.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PicturePlan {
    /// The stream of the source.
    pub source_stream: u32,
    /// The codec.
    pub codec: PictureCodec,
    /// Its profile.
    pub profile: Profile,
    /// The highest level allowed.
    pub level: Option<Level>,
    /// The pixel format in the library's short name.
    pub pixel_format: String,
    /// How many bits it gets.
    pub rate: crate::preset::RateControl,
    /// How hard the encoder works.
    pub effort: Effort,
    /// Frames from one key frame to the next at most.
    pub key_interval_frames: u32,
    /// Columns.
    pub width: u32,
    /// Lines.
    pub height: u32,
    /// Width of a pixel over its height.
    pub pixel_aspect: Rational,
    /// The frame rate.
    pub frame_rate: FrameRatePlan,
    /// Fields in the output.
    pub field_order: FieldOrder,
    /// Colour tags of the output.
    pub colour: Colour,
    /// HDR metadata of the output.
    pub hdr: Option<Hdr>,
    /// Seconds that the picture lasts, where the source tells; sound may last longer.
    pub duration: Option<Rational>,
    /// How many frames, where it can be known beforehand.
    pub frames: Option<u64>,
    /// What is done to each picture, in this order.
    pub steps: Vec<Step>,
}

/// The frame rate of an output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum FrameRatePlan {
    /// Exactly this, to the tick.
    Constant {
        /// Frames a second.
        rate: Rational,
    },
    /// Each frame keeps its own time.
    Variable {
        /// The mean of the source, for rates and key frames.
        mean: Rational,
    },
}

impl FrameRatePlan {
    /// The rate, or the mean of a varying one.
    #[must_use]
    pub const fn rate(self) -> Rational {
        match self {
            Self::Constant { rate } => rate,
            Self::Variable { mean } => mean,
        }
    }
}

/// One step of the way from the source's picture to the output's.
///
/// The order is fixed by [`plan`]: fields before anything that mixes lines, turning and cropping
/// before scaling (fewer pixels to scale), frames dropped before the costly steps, bars last.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "step", rename_all = "snake_case")]
pub enum Step {
    /// Two fields become one frame.
    Deinterlace {
        /// Which field comes first.
        order: FieldOrder,
    },
    /// Turned clockwise by 90, 180 or 270 degrees.
    Turn {
        /// Degrees.
        degrees: u16,
    },
    /// Cut to a part.
    Crop {
        /// Columns to the left of what is kept.
        x: u32,
        /// Lines above what is kept.
        y: u32,
        /// Columns kept.
        width: u32,
        /// Lines kept.
        height: u32,
    },
    /// Every frame on the grid of a constant rate; frames are dropped or repeated where it differs
    /// from the source's, and gaps in damaged sources are filled.
    ConstantRate {
        /// Frames a second.
        rate: Rational,
    },
    /// Brought to a size, a pixel format and a range.
    Scale {
        /// Columns.
        width: u32,
        /// Lines.
        height: u32,
        /// Pixel format in the library's short name.
        pixel_format: String,
        /// Whether fields are scaled apart.
        fields_apart: bool,
        /// Matrix to convert to, where the source is RGB.
        to_matrix: Option<String>,
        /// Range to convert to, where it changes.
        to_range: Option<String>,
    },
    /// Put on a black ground.
    Pad {
        /// Columns of the whole.
        width: u32,
        /// Lines of the whole.
        height: u32,
        /// Place of the picture from the left.
        x: u32,
        /// Place of the picture from the top.
        y: u32,
    },
}

impl From<Rectangle> for Step {
    /// The step that cuts to this part.
    fn from(part: Rectangle) -> Self {
        Self::Crop { x: part.x, y: part.y, width: part.width, height: part.height }
    }
}

/// Exact settings of one sound stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SoundPlan {
    /// The stream of the source.
    pub source_stream: u32,
    /// The codec.
    pub codec: SoundCodec,
    /// Of this stream, where the codec has a rate of its own.
    pub bit_rate: Option<BitRate>,
    /// How many channels.
    pub channels: u32,
    /// Their layout in the library's words.
    pub layout: String,
    /// Samples a second.
    pub sample_rate: u32,
    /// ISO 639 code.
    pub language: Option<String>,
    /// Title of the stream.
    pub title: Option<String>,
    /// Roles of the stream.
    pub roles: Vec<String>,
}

/// Why there is no plan.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// The preset wants a picture or sound alone, and the source has none.
    #[error("the source has {missing}")]
    NothingToMake {
        /// “no picture” or “no sound”.
        missing: &'static str,
    },
    /// A setting cannot hold for this source.
    #[error("{0}")]
    Impossible(String),
    /// The overrides make no sound preset.
    #[error(transparent)]
    Overrides(#[from] crate::preset::PresetError),
}

impl Plan {
    /// The length of time that decides about rates: the output's, or nought where it is not known.
    #[must_use]
    pub fn known_duration(&self) -> Rational {
        self.duration.unwrap_or(Rational::ZERO)
    }

    /// The codec's short name, for file names.
    #[must_use]
    pub fn codec_word(&self) -> String {
        match (&self.picture, self.sound.first()) {
            (Some(picture), _) => picture.codec.probe_name().trim_end_matches("video").to_owned(),
            (None, Some(sound)) => match sound.codec {
                SoundCodec::Aac => "aac".to_owned(),
                SoundCodec::Pcm16 | SoundCodec::Pcm24 => "pcm".to_owned(),
                SoundCodec::Copy => "sound".to_owned(),
            },
            (None, None) => "none".to_owned(),
        }
    }

    /// How many passes over the source it takes.
    #[must_use]
    pub fn passes(&self) -> u8 {
        match self.picture.as_ref().map(|picture| picture.rate) {
            Some(crate::preset::RateControl::Average { passes, .. }) => passes.max(1),
            Some(_) | None => 1,
        }
    }
}

//! The plan: the exact settings of one output, each with its reason.
//!
//! A plan is a pure function of the source's [reading](crate::reading), a [preset](crate::preset)
//! and the editor's own overrides. The interface shows it, the engine obeys it, the
//! [check](crate::after::check) holds the file against it.

mod artifacts;
mod build;
mod colour;
mod crop;
mod fields;
mod overlays;
mod pace;
mod parts;
mod picture;
mod sizing;
mod sound;
mod way;

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::Chapter;
use crate::findings::Stretch;
use crate::formats::level::Peak;
use crate::formats::{Container, PictureFormat, RateControl, SoundCodec};
use crate::picture::{Colour, FieldOrder, Hdr, PixelFormat, Primaries, Rectangle, Samples, Transfer, even};
use crate::preset::{Adjustment, Deblocking, DeinterlaceDegree, DeinterlacePer, Denoising, Lead, Pitch, RateConversion};
use crate::problem::{Fault, FaultCode};
use crate::sound::downmix::Downmix;
use crate::sound::track::{Matrix, TrackSource, sources};
use crate::time::{Rational, Span, TimeMap, rate_text};
use crate::units::{BitRate, ByteSize};

pub use artifacts::{Artifact, Division, Role};
pub use build::{plan, plan_with};
pub use crop::{Crop, crop_of};
pub use overlays::{BurnText, WatermarkPlan};
pub use sizing::{Sizing, sizing};
pub use way::steps_between;

/// The exact settings of one output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// The id of the preset it comes from.
    pub preset: String,
    /// The preset's name for people.
    pub preset_name: String,
    /// The file format.
    pub container: Container,
    /// How its streams are shared out over files.
    #[serde(default, skip_serializing_if = "Division::is_together")]
    #[schema(required = false)]
    pub division: Division,
    /// The picture, or nothing.
    pub picture: Option<PicturePlan>,
    /// The tracks of sound in their order.
    pub sound: Vec<Track>,
    /// The moment of the source's clock, in seconds, from which parts count and which becomes nought where all of
    /// it is taken; plans of earlier versions have none and go by the header.
    #[serde(default)]
    pub origin: Option<Rational>,
    /// The parts of the source that are taken, in seconds from its first frame; all of it where there are none.
    #[serde(default)]
    pub parts: Vec<Span>,
    /// Seconds that the output lasts, where the source tells.
    pub duration: Option<Rational>,
    /// By what factor it plays faster than the source.
    #[serde(default = "unchanged_speed")]
    pub speed: Rational,
    /// Whether all that can be decoded is made, although the source is broken.
    #[serde(default)]
    pub salvage: bool,
    /// Whether the source's own structure says that a part of it is missing.
    #[serde(default)]
    pub source_is_cut: bool,
    /// The timecode of the first frame.
    pub timecode: Option<String>,
    /// The reel name that goes with it.
    pub reel: Option<String>,
    /// Chapters to write.
    pub chapters: Vec<Chapter>,
    /// Tags to write.
    pub tags: BTreeMap<String, String>,
    /// Each setting in words, with its reason.
    pub decisions: Vec<Decision>,
}

const fn unchanged_speed() -> Rational {
    Rational::ONE
}

/// What a decision is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Subject {
    /// The file format.
    Container,
    /// What is taken of the source.
    Parts,
    /// Where it begins, where streams do not begin together.
    Start,
    /// Codec and profile.
    Codec,
    /// Quality or bit rate.
    Rate,
    /// Columns and lines.
    Size,
    /// Frames a second.
    FrameRate,
    /// Interlacing and film.
    Fields,
    /// Faster or slower.
    Speed,
    /// What is cut off.
    Crop,
    /// Noise and coding blocks.
    Cleaning,
    /// Colour tags, range and depth.
    Colour,
    /// What is laid over the picture.
    Overlays,
    /// A picture stored turned.
    Rotation,
    /// Sound.
    Sound,
    /// Start timecode.
    Timecode,
    /// Chapters and tags.
    Extras,
    /// Own settings that mean nothing for this output.
    Settings,
}

impl Subject {
    /// As a heading.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Container => "Container",
            Self::Parts => "In and out",
            Self::Start => "Start",
            Self::Codec => "Codec",
            Self::Rate => "Rate",
            Self::Size => "Size",
            Self::FrameRate => "Frame rate",
            Self::Fields => "Fields",
            Self::Speed => "Speed",
            Self::Crop => "Crop",
            Self::Cleaning => "Cleaning",
            Self::Colour => "Colour",
            Self::Overlays => "Overlays",
            Self::Rotation => "Rotation",
            Self::Sound => "Sound",
            Self::Timecode => "Timecode",
            Self::Extras => "Extras",
            Self::Settings => "Settings",
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
    /// Columns and lines of the source's picture, as it is stored; plans of earlier versions do not say.
    #[serde(default)]
    pub source_size: Option<(u32, u32)>,
    /// How it is coded: codec, profile, level, rate, effort.
    #[serde(flatten)]
    pub format: PictureFormat,
    /// The pixel format.
    pub pixel_format: PixelFormat,
    /// What its level leaves it at most, where one is asked for.
    #[serde(default)]
    pub peak: Option<Peak>,
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
    /// Whether that is their exact number: the source's frames were counted, and each becomes one.
    #[serde(default)]
    pub frames_are_counted: bool,
    /// What stands where the source's picture begins later than what is made.
    #[serde(default)]
    pub lead: Lead,
    /// What is done to each picture, in this order. What an earlier version has written and this one does not know
    /// becomes [`Step::Earlier`].
    #[serde(deserialize_with = "known_steps")]
    pub steps: Vec<Step>,
}

fn known_steps<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Vec<Step>, D::Error> {
    let steps = Vec::<serde_json::Value>::deserialize(from)?;
    Ok(steps.into_iter().map(|step| serde_json::from_value(step).unwrap_or(Step::Earlier)).collect())
}

/// Another file that a step needs, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum AssetName<'a> {
    /// A look-up table.
    Lut(&'a str),
    /// A picture.
    Picture(&'a str),
}

impl Step {
    /// The other file that it needs.
    #[must_use]
    pub fn asset(&self) -> Option<AssetName<'_>> {
        match self {
            Self::LookUp { name } => Some(AssetName::Lut(name)),
            Self::Watermark(mark) => Some(AssetName::Picture(&mark.picture)),
            _ => None,
        }
    }
}

impl PicturePlan {
    /// Columns and lines of its picture in square pixels, made smaller to be no wider than `widest`.
    #[must_use]
    pub fn shown_within(&self, widest: u32) -> (u32, u32) {
        let (width, height) = (Rational::whole(self.width.into()) * self.pixel_aspect, Rational::whole(self.height.into()));
        let columns = width.min(Rational::whole(widest.into()));
        let lines = height * columns.divided_by(width).unwrap_or(Rational::ONE);
        (even(columns), even(lines))
    }

    /// Its steps in a few words each, without those that only store the same samples for the next one.
    #[must_use]
    pub fn step_words(&self) -> Vec<String> {
        let last = self.steps.iter().rposition(|step| matches!(step, Step::Resample { .. }));
        let is_told = |(place, step): &(usize, &Step)| match step {
            Step::Rearrange { .. } => false,
            Step::Resample { .. } => Some(*place) == last,
            _ => true,
        };
        self.steps.iter().enumerate().filter(is_told).map(|(_, step)| step.words()).collect()
    }

    /// The steps that bring the source's pictures to the shape and pace of the output's and leave what
    /// they show as it is: for looking at both at the same moment.
    #[must_use]
    pub fn seen_steps(&self) -> Vec<Step> {
        let first = self.steps.iter().find_map(|step| if let Step::Resample { from, .. } = step { Some(from) } else { None });
        let seen = |(place, step): (usize, &Step)| match step {
            Step::Speed { .. } | Step::Mirror | Step::Turn { .. } | Step::Crop { .. } | Step::Pad { .. } => Some(step.clone()),
            Step::ConstantRate { rate, .. } => Some(Step::ConstantRate { rate: *rate, by: RateConversion::DropRepeat }),
            Step::EvenFilm { rate } => Some(Step::EvenFilm { rate: *rate }),
            Step::Resample { width, height, fields_apart, .. } => first.map(|form| Step::Resample {
                from: form.clone(),
                to: form.clone(),
                width: *width,
                height: *height,
                fields_apart: *fields_apart,
            }),
            // What the decoder gives is brought into planes.
            Step::Rearrange { .. } => (place == 0).then(|| step.clone()),
            Step::Film { .. }
            | Step::Deinterlace { .. }
            | Step::Deblock { .. }
            | Step::Denoise { .. }
            | Step::Adjust { .. }
            | Step::Tone { .. }
            | Step::Recolour { .. }
            | Step::LookUp { .. }
            | Step::Subtitles { .. }
            | Step::BurnIn(_)
            | Step::Watermark(_)
            | Step::Grey
            | Step::Earlier => None,
        };
        self.steps.iter().enumerate().filter_map(seen).collect()
    }
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

/// Which frames a deinterlacer works on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FramesMeant {
    /// Every one.
    #[default]
    All,
    /// Those that show combing when they are looked at.
    Combed,
    /// Those that a step before has marked.
    Marked,
}

/// The times of film frames that were brought back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FilmTiming {
    /// One after the other on the grid of the film.
    Grid,
    /// Each at the time at which it was shown, between frames of video.
    Own,
}

/// One step of the way from the source's picture to the output's.
///
/// The order is fixed by [`plan`], for these reasons: fields come before anything that mixes lines;
/// speed before anything that counts time; turning and cropping before all that costs time for each
/// pixel; frames are dropped before the costly steps, but mixed or drawn anew after scaling; noise
/// and coding blocks are cleaned before scaling spreads them; whatever computes new samples does so in
/// 16 bits, and only the last step of all has fewer; a dynamic range and a table are worked off at the
/// source's size, so that outputs of any size share them; what is laid over the picture comes behind
/// everything that would blur it; colour is taken out last, so that nothing brings it back.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "step", rename_all = "snake_case")]
pub enum Step {
    /// Film frames are brought back from the fields they were spread over.
    Film {
        /// How each part of the source was made.
        stretches: Vec<Stretch>,
        /// Frames a second of the video.
        video: Rational,
        /// The times of what comes out.
        timing: FilmTiming,
    },
    /// Film frames that are shown for different times, since a player repeats fields of some, get their own length.
    EvenFilm {
        /// Frames a second of the film.
        rate: Rational,
    },
    /// Two fields become one frame.
    Deinterlace {
        /// Which field comes first.
        order: FieldOrder,
        /// Which frames.
        #[serde(default)]
        frames: FramesMeant,
        /// How many come out.
        #[serde(default)]
        per: DeinterlacePer,
        /// How.
        #[serde(default)]
        degree: DeinterlaceDegree,
    },
    /// Faster or slower.
    Speed {
        /// By what factor it plays faster.
        factor: Rational,
    },
    /// Left and right exchanged.
    Mirror,
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
        /// How.
        #[serde(default)]
        by: RateConversion,
    },
    /// Borders of coding blocks smoothed.
    Deblock {
        /// How much.
        degree: Deblocking,
    },
    /// Noise taken out.
    Denoise {
        /// How much.
        degree: Denoising,
    },
    /// Brightness, contrast, gamma and saturation.
    Adjust {
        /// How much.
        adjustment: Adjustment,
        /// The luma codes of black and white.
        levels: (u32, u32),
        /// The colour code of no colour.
        neutral: u32,
    },
    /// Red, green and blue of a high dynamic range (PQ or HLG), as fractions, brought to those of the standard range of
    /// Rec. 709 in 16 bits, as [`crate::picture::tone`] has it.
    Tone {
        /// Transfer of what goes in.
        transfer: Transfer,
        /// Primaries of what goes in.
        primaries: Primaries,
        /// The brightest light in cd/m².
        peak: u32,
    },
    /// Red, green and blue, as fractions, brought to other primaries and to a standard display, as [`crate::picture::light`] has it.
    Recolour {
        /// Transfer of what goes in.
        transfer: Transfer,
        /// Primaries of what goes in.
        primaries: Primaries,
        /// Primaries of what comes out.
        to: Primaries,
    },
    /// Red, green and blue looked up in a table, whose output is Rec. 709.
    LookUp {
        /// The table's name.
        name: String,
    },
    /// The same samples in another order: packed or in planes.
    Rearrange {
        /// Pixel format of what goes in.
        from: PixelFormat,
        /// Pixel format of what comes out.
        to: PixelFormat,
    },
    /// Subtitles written into the picture.
    Subtitles {
        /// The stream of the source.
        stream: u32,
        /// The parts of the source that are taken, in seconds from its first frame; all where there are none.
        parts: Vec<Span>,
        /// By what factor it plays faster.
        speed: Rational,
        /// The form of the pictures.
        onto: Samples,
    },
    /// Text written into the picture, which goes by the source's time.
    BurnIn(BurnText),
    /// A picture laid over.
    Watermark(WatermarkPlan),
    /// All colour taken out.
    Grey,
    /// Brought to another size, other samples or another colour space, in one.
    Resample {
        /// The form of what goes in.
        from: Samples,
        /// The form of what comes out.
        to: Samples,
        /// Columns.
        width: u32,
        /// Lines.
        height: u32,
        /// Whether each field is brought to it by itself.
        fields_apart: bool,
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
        /// Whether the codes use the full range, which decides what is black.
        #[serde(default)]
        full_range: bool,
    },
    /// A step that an earlier version of the program has planned: its plan can be shown, and no more.
    Earlier,
}

impl From<Rectangle> for Step {
    /// The step that cuts to this part.
    fn from(part: Rectangle) -> Self {
        Self::Crop { x: part.x, y: part.y, width: part.width, height: part.height }
    }
}

/// Exact settings of one track of sound.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Track {
    /// What of the source it is made of, in the order of its channels.
    #[serde(alias = "source_stream", deserialize_with = "sources")]
    pub from: Vec<TrackSource>,
    /// How loud each of these channels is in each of its own, where that is said; else they are mixed by their places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(required = false)]
    pub matrix: Option<Matrix>,
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
    /// By what factor it plays faster.
    #[serde(default = "unchanged_speed")]
    pub speed: Rational,
    /// What becomes of its pitch then.
    #[serde(default)]
    pub pitch: Pitch,
    /// How more channels become as many as it has.
    #[serde(default)]
    pub downmix: Downmix,
}

impl Track {
    /// The stream that it is, where it is all of one.
    #[must_use]
    pub fn whole_stream(&self) -> Option<u32> {
        match self.from.as_slice() {
            [TrackSource { stream, channels }] if channels.is_empty() => Some(*stream),
            _ => None,
        }
    }

    /// What it is made of, in words.
    #[must_use]
    pub fn from_words(&self) -> String {
        self.from.iter().map(TrackSource::words).collect::<Vec<_>>().join(" and ")
    }

    /// The streams of the source that it needs, each once.
    #[must_use]
    pub fn streams(&self) -> BTreeSet<u32> {
        self.from.iter().map(|source| source.stream).collect()
    }
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
    #[error(transparent)]
    Impossible(#[from] Fault),
    /// The marks are none of this source's.
    #[error(transparent)]
    Parts(#[from] crate::time::PartsError),
    /// The overrides make no sound preset.
    #[error(transparent)]
    Overrides(#[from] crate::preset::PresetError),
}

impl PlanError {
    /// A setting that cannot hold for the source, and why.
    fn of_source(field: &str, words: impl Into<String>) -> Self {
        Self::Impossible(Fault::new(field, FaultCode::NotOfSource, words))
    }
}

impl Step {
    /// In a few words, for the chain that is shown.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Film { .. } => "inverse telecine".to_owned(),
            Self::EvenFilm { rate } => format!("film evened to {} fps", rate_text(*rate)),
            Self::Deinterlace { frames: FramesMeant::Combed, .. } => "combed frames deinterlaced".to_owned(),
            Self::Deinterlace { frames: FramesMeant::Marked, .. } => "video frames deinterlaced".to_owned(),
            Self::Deinterlace { frames: FramesMeant::All, .. } => "deinterlaced".to_owned(),
            Self::Speed { factor } => format!("played at {:.2} %", factor.to_f64() * 100.0),
            Self::Mirror => "mirrored".to_owned(),
            Self::Turn { degrees } => format!("turned by {degrees}°"),
            Self::Crop { width, height, .. } => format!("cropped to {width}×{height}"),
            Self::ConstantRate { rate, by: RateConversion::DropRepeat } => format!("{} fps", rate_text(*rate)),
            Self::ConstantRate { rate, by: RateConversion::Blend } => format!("blended to {} fps", rate_text(*rate)),
            Self::ConstantRate { rate, by: RateConversion::Motion } => {
                format!("motion-compensated to {} fps", rate_text(*rate))
            }
            Self::Deblock { .. } => "deblocked".to_owned(),
            Self::Denoise { .. } => "denoised".to_owned(),
            Self::Adjust { .. } => "levels adjusted".to_owned(),
            Self::Tone { .. } => "HDR tone-mapped to SDR".to_owned(),
            Self::Recolour { to, .. } => format!("converted to the primaries of {to}"),
            Self::LookUp { name } => format!("LUT {name}"),
            Self::Rearrange { to, .. } => format!("stored as {to}"),
            Self::Subtitles { .. } => "subtitles burnt in".to_owned(),
            Self::BurnIn(_) => "text burnt in".to_owned(),
            Self::Watermark(_) => "watermark".to_owned(),
            Self::Grey => "black and white".to_owned(),
            Self::Resample { from, to, width, height, .. } => {
                let form = format!("{}, {} bit", to.form().words(), to.form().depth);
                let dithered = if from.is_dithered_in(to) { ", dithered" } else { "" };
                format!("scaled to {width}×{height}, {form}{dithered}")
            }
            Self::Pad { width, height, .. } => format!("padded to {width}×{height}"),
            Self::Earlier => "planned by an earlier version".to_owned(),
        }
    }
}

impl Plan {
    /// What is done to each picture.
    #[must_use]
    pub fn steps(&self) -> &[Step] {
        self.picture.as_ref().map_or(&[], |picture| &picture.steps)
    }

    /// The length of time that decides about rates: the output's, or nought where it is not known.
    #[must_use]
    pub fn known_duration(&self) -> Rational {
        self.duration.unwrap_or(Rational::ZERO)
    }

    /// What the output can never weigh, whatever its material: four times its pictures and sound with sixteen bits
    /// for each of four planes and thirty-two for each sample, and a gigabyte. Nothing where it is not known how
    /// long it gets.
    #[must_use]
    pub fn most_bytes(&self) -> Option<ByteSize> {
        let pictures = match &self.picture {
            Some(picture) => (u64::from(picture.width) * u64::from(picture.height) * 8).saturating_mul(picture.frames?),
            None => 0,
        };
        let seconds = u64::try_from(self.duration?.ceil()).ok()?;
        let of_sound = |sound: &Track| {
            u64::from(sound.channels).saturating_mul(u64::from(sound.sample_rate)).saturating_mul(4).saturating_mul(seconds)
        };
        let sound = self.sound.iter().map(of_sound).fold(0, u64::saturating_add);
        Some(ByteSize(pictures.saturating_add(sound).saturating_mul(4).saturating_add(1 << 30)))
    }

    /// How the time of the source becomes its own.
    #[must_use]
    pub fn time_map(&self) -> TimeMap<'_> {
        TimeMap::new(&self.parts, self.speed)
    }

    /// The codec's short name, for file names.
    #[must_use]
    pub fn codec_word(&self) -> String {
        match (&self.picture, self.sound.first()) {
            (Some(picture), _) => picture.format.codec().probe_name.trim_end_matches("video").to_owned(),
            (None, Some(sound)) => sound.codec.file_word.to_owned(),
            (None, None) => "none".to_owned(),
        }
    }

    /// The part of its time that a first pass over the source is expected to take, where there is to be one.
    #[must_use]
    pub fn first_pass_share(&self) -> Option<f64> {
        let format = self.picture.as_ref()?.format;
        matches!(format.rate(), RateControl::Average { passes: 2.., .. }).then(|| format.effects().first_pass)
    }

    /// How many passes over the source it takes.
    #[must_use]
    pub fn passes(&self) -> u8 {
        if self.first_pass_share().is_some() { 2 } else { 1 }
    }
}

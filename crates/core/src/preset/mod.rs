//! What an output shall become: a document that can be saved, exchanged and versioned.
//!
//! A preset says *policy* (“1080 lines at most”, “as the source”); the [plan](crate::plan) turns it
//! into exact figures for one source.

mod builtin;
mod document;
mod mend;
mod sound;
mod validate;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::formats::{Container, Effort, Level, PictureCodec, PictureFormat, ProfileName, RateControl};
use crate::problem::Fault;
use crate::time::{Rational, Span, rate_text};

pub(crate) use validate::{LARGEST_SIDE, SMALLEST_SIDE};

pub use builtin::{builtin, builtin_presets, viewing_preset};
pub use document::{LeftOut, PresetError, apply, joined_overrides, overrides_from_settings, preset_schema, with_overrides};
pub use mend::{
    Adjustment, BurnIn, BurntSubtitles, Cleaning, ColourSettings, ColourSpaceRule, Corner, CropRule, Deblocking,
    DeinterlaceDegree, DeinterlacePer, DeinterlacedFrames, Deinterlacing, Denoising, DynamicRangeRule, MixtureRule, Overlays,
    RangeRule, RateConversion, SpeedRule, TelecineRule, Watermark,
};
pub use sound::{ChannelRule, Pitch, SoundSettings, SoundStreams};

/// The version of the document that this program writes; older ones are read.
pub const SCHEMA_VERSION: u32 = 1;

/// What an output shall become.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Preset {
    /// The version of this document's form, now 1.
    pub schema: u32,
    /// Short name for the command line and for file names: lower-case letters, figures, hyphens.
    pub id: String,
    /// Name for people.
    pub name: String,
    /// One sentence: when to use it.
    pub use_when: String,
    /// The file format.
    pub container: Container,
    /// The picture, or nothing for sound alone.
    #[serde(default)]
    pub picture: Option<PictureSettings>,
    /// The sound, or nothing for a silent file.
    #[serde(default)]
    pub sound: Option<SoundSettings>,
    /// What else is taken over from the source.
    #[serde(default)]
    pub carry: Carry,
    /// The parts of the source that are taken, one after the other, in seconds from its first frame;
    /// all of it where there are none.
    #[serde(default)]
    pub parts: Vec<Span>,
    /// Whether all that can be decoded is made of a source that is broken or cut. Otherwise an output that lacks
    /// what its source promised is withheld.
    #[serde(default)]
    pub salvage: bool,
    /// How files are named, unless the deliverable says otherwise.
    #[serde(default = "default_name_pattern")]
    pub name_pattern: String,
}

fn default_name_pattern() -> String {
    "{source}_{preset}".to_owned()
}

/// The picture's settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PictureSettings {
    /// The codec.
    pub codec: PictureCodec,
    /// Its profile; left out, the codec's usual one.
    #[serde(default)]
    pub profile: Option<ProfileName>,
    /// The highest level the file may need, such as `4.1`; left out, whatever is needed.
    #[serde(default)]
    pub level: Option<Level>,
    /// How many bits it gets.
    pub rate: RateControl,
    /// How hard the encoder works.
    #[serde(default)]
    pub effort: Effort,
    /// Seconds from one key frame to the next at most; nothing to do with intra-frame codecs.
    #[serde(default = "default_key_interval")]
    pub key_interval: Rational,
    /// The size.
    #[serde(default)]
    pub size: SizeRule,
    /// What becomes of pixels that are not square.
    #[serde(default)]
    pub pixel_aspect: PixelAspectRule,
    /// The frame rate.
    #[serde(default)]
    pub frame_rate: FrameRateRule,
    /// What stands where the source's sound begins before its picture.
    #[serde(default)]
    pub lead: Lead,
    /// What becomes of interlaced material.
    #[serde(default)]
    pub fields: FieldsRule,
    /// How it is deinterlaced, where it is.
    #[serde(default)]
    pub deinterlacing: Deinterlacing,
    /// What becomes of film that was spread over fields.
    #[serde(default)]
    pub telecine: TelecineRule,
    /// The rate of sources that are partly film and partly video.
    #[serde(default)]
    pub mixture: MixtureRule,
    /// What is cut off.
    #[serde(default)]
    pub crop: CropRule,
    /// How fast it plays.
    #[serde(default)]
    pub speed: SpeedRule,
    /// What is cleaned.
    #[serde(default)]
    pub cleaning: Cleaning,
    /// Brightness, contrast, gamma and saturation.
    #[serde(default)]
    pub adjustment: Adjustment,
    /// Colour space, range, look-up table.
    #[serde(default)]
    pub colour: ColourSettings,
    /// What is laid over the picture.
    #[serde(default)]
    pub overlays: Overlays,
    /// Whether all colour is taken out: casts and coloured scratches vanish, the bits go to the picture.
    #[serde(default)]
    pub greyscale: bool,
}

fn default_key_interval() -> Rational {
    Rational::whole(2)
}

/// The size of the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum SizeRule {
    /// As the source.
    #[default]
    Same,
    /// Whole inside a box, with its own shape.
    Fit {
        /// Columns of the box.
        width: u32,
        /// Lines of the box.
        height: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        enlarge: bool,
    },
    /// The box filled, what stands over cut off evenly.
    Fill {
        /// Columns of the box.
        width: u32,
        /// Lines of the box.
        height: u32,
        /// Whether smaller sources are enlarged to it; they get its shape alone where not.
        #[serde(default)]
        enlarge: bool,
    },
    /// Whole inside a box, the rest filled with black.
    Pad {
        /// Columns of the box.
        width: u32,
        /// Lines of the box.
        height: u32,
        /// Whether smaller sources are enlarged to it; black stands all around them where not.
        #[serde(default)]
        enlarge: bool,
    },
    /// This width, the height following from the shape.
    Width {
        /// Columns.
        width: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        enlarge: bool,
    },
    /// This height, the width following from the shape.
    Height {
        /// Lines.
        height: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        enlarge: bool,
    },
    /// A fraction of the source.
    Fraction {
        /// Such as 1/2.
        of: Rational,
    },
}

/// What becomes of pixels that are not square.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PixelAspectRule {
    /// The picture is stretched so that pixels become square.
    #[default]
    Square,
    /// Pixels keep their shape, which is written into the file.
    Keep,
    /// Pixels get this shape, width over height: for headers that are wrong. The picture is not stretched.
    Set(Rational),
}

/// The frame rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum FrameRateRule {
    /// As the source; a varying rate is made constant at its nominal rate.
    #[default]
    Same,
    /// As the source, and a varying rate stays varying.
    KeepVariable,
    /// This rate.
    Constant {
        /// Frames a second.
        rate: Rational,
        /// How frames of another rate are brought to it.
        #[serde(default)]
        by: RateConversion,
    },
    /// No more than this rate: faster sources are brought down to it.
    AtMost {
        /// Frames a second.
        rate: Rational,
    },
}

/// What stands where a picture begins later than the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Lead {
    /// Its first frame.
    #[default]
    Hold,
    /// Black.
    Black,
}

/// What becomes of interlaced material.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FieldsRule {
    /// Fields stay fields, and are marked so. The number of lines cannot change then.
    Keep,
    /// Deinterlaced where a scan found fields or, where there was none, where the header declares them.
    #[default]
    WhenNeeded,
    /// Deinterlaced in any case.
    Always,
}

/// What else is taken over from the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Carry {
    /// The start timecode and the reel name.
    pub timecode: bool,
    /// Chapters.
    pub chapters: bool,
    /// Title, date and other tags.
    pub tags: bool,
}

impl Default for Carry {
    fn default() -> Self {
        Self { timecode: true, chapters: true, tags: true }
    }
}

impl PictureSettings {
    /// How it is coded.
    ///
    /// # Errors
    /// Everything that does not go together.
    pub fn format(&self) -> Result<PictureFormat, Vec<Fault>> {
        PictureFormat::of(self.codec, self.profile, self.level, self.rate, self.effort)
    }
}

impl Preset {
    /// What decides about the file: all but its id, its names and its words.
    #[must_use]
    pub fn settings(&self) -> Self {
        let empty = String::new;
        Self { id: empty(), name: empty(), use_when: empty(), name_pattern: empty(), ..self.clone() }
    }

    /// One line for the head of a column: `H.264 · 8 Mb/s`.
    #[must_use]
    pub fn headline(&self) -> String {
        let Some(picture) = &self.picture else {
            return match &self.sound {
                Some(sound) => format!("{} · {}", self.container.words(), sound.codec.words),
                None => self.container.words().to_owned(),
            };
        };
        let codec = picture.codec.words;
        match picture.rate {
            RateControl::ConstantQuality { crf } => format!("{codec} · CRF {crf}"),
            RateControl::Average { bits_per_second, passes: 2, .. } => format!("{codec} · {bits_per_second}, 2 passes"),
            RateControl::Average { bits_per_second, .. } => format!("{codec} · {bits_per_second}"),
            RateControl::Constant { bits_per_second } => format!("{codec} · {bits_per_second} constant"),
            RateControl::ByProfile => {
                format!("{codec} {}", picture.codec.profile(picture.profile).map_or("", |profile| profile.words))
            }
        }
    }

    /// The frame and rate in a few words, for the table that compares presets.
    #[must_use]
    pub fn frame_words(&self) -> String {
        let Some(picture) = &self.picture else { return "no picture".to_owned() };
        let size = match picture.size {
            SizeRule::Same => "as the source".to_owned(),
            SizeRule::Fit { width, height, .. } => format!("inside {width}×{height}"),
            SizeRule::Fill { width, height, .. } => format!("fills {width}×{height}"),
            SizeRule::Pad { width, height, .. } => format!("{width}×{height} with bars"),
            SizeRule::Width { width, .. } => format!("{width} wide"),
            SizeRule::Height { height, .. } => format!("{height} high"),
            SizeRule::Fraction { of } => format!("{of} of the source"),
        };
        match picture.frame_rate {
            FrameRateRule::Same => size,
            FrameRateRule::KeepVariable => format!("{size}, rate may vary"),
            FrameRateRule::Constant { rate, .. } => format!("{size}, {} fps", rate_text(rate)),
            FrameRateRule::AtMost { rate } => format!("{size}, up to {} fps", rate_text(rate)),
        }
    }
}

//! What an output shall become: a document that can be saved, exchanged and versioned.
//!
//! A preset says *policy* (“1080 lines at most”, “as the source”); the [plan](crate::plan) turns it
//! into exact figures for one source.

mod builtin;
pub mod catalogue;
mod document;
mod mend;
mod patch;
mod sound;
mod validate;

use beryl_settings::{Choices, Settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::catalogue::{Choice, Kind, Offer, Valued, offers};
use crate::formats::{Container, Effort, Level, PictureCodec, PictureFormat, ProfileName, RateControl, RateControlPatch};
use crate::naming;
use crate::problem::Fault;
use crate::time::{Rational, Span, rate_text, usual_rates};

pub(crate) use validate::{FASTEST_RATE, LARGEST_SIDE, LONGEST_GROUP, SMALLEST_SIDE};

pub use builtin::{builtin, builtin_presets, viewing_preset};
pub use document::{PresetError, preset_schema};
pub use mend::{
    Adjustment, AdjustmentPatch, BurnIn, BurnInPatch, BurntSubtitles, BurntSubtitlesPatch, Cleaning, CleaningPatch,
    ColourSettings, ColourSettingsPatch, ColourSpaceRule, Corner, CropRule, CropRuleForm, CropRulePatch, Deblocking,
    DeinterlaceDegree, DeinterlacePer, DeinterlacedFrames, Deinterlacing, DeinterlacingPatch, Denoising, DynamicRangeRule,
    MixtureRule, Overlays, OverlaysPatch, RangeRule, RateConversion, SpeedRule, SpeedRuleForm, SpeedRulePatch, TelecineRule,
    Watermark, WatermarkPatch,
};
pub use patch::{apply, with_overrides};
pub use sound::{ChannelRule, MOST_TRACKS, Pitch, SoundFiles, SoundSettings, SoundSettingsPatch, SoundStreams};

/// The version of the document that this program writes; older ones are read.
pub const SCHEMA_VERSION: u32 = 1;

/// What an output shall become.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields)]
pub struct Preset {
    /// The version of this document's form, now 1.
    #[setting(skip)]
    pub schema: u32,
    /// Short name for the command line and for file names: lower-case letters, figures, hyphens.
    #[setting(name = "Short name")]
    pub id: String,
    /// Name for people.
    #[setting(name = "Name")]
    pub name: String,
    /// One sentence: when to use it.
    #[setting(name = "When to use it")]
    pub use_when: String,
    /// The file format.
    #[setting(name = "Container")]
    pub container: Container,
    /// The picture, or nothing for sound alone.
    #[serde(default)]
    #[setting(nested)]
    pub picture: Option<PictureSettings>,
    /// The sound, or nothing for a silent file.
    #[serde(default)]
    #[setting(nested)]
    pub sound: Option<SoundSettings>,
    /// What else is taken over from the source.
    #[serde(default)]
    #[setting(nested)]
    pub carry: Carry,
    /// The parts of the source that are taken, one after the other, in seconds from its first frame;
    /// all of it where there are none.
    #[serde(default)]
    #[setting(name = "Parts")]
    pub parts: Vec<Span>,
    /// Whether all that can be decoded is made of a source that is broken or cut. Otherwise an output that lacks
    /// what its source promised is withheld.
    #[serde(default)]
    #[setting(name = "Salvage damaged sources")]
    pub salvage: bool,
    /// How files are named, unless the deliverable says otherwise.
    #[serde(default = "default_name_pattern", deserialize_with = "name_pattern")]
    #[setting(name = "Name pattern", kind = Kind::pattern())]
    pub name_pattern: String,
}

impl Preset {
    /// The format of the files in which its sound is.
    #[must_use]
    pub fn sound_container(&self) -> Container {
        let is_apart = self.sound.as_ref().is_some_and(|sound| sound.files == SoundFiles::Apart);
        if is_apart && self.picture.is_some() { Container::Wav } else { self.container }
    }
}

fn default_name_pattern() -> String {
    "<name>_<preset>".to_owned()
}

/// Documents of earlier versions have other tokens.
fn name_pattern<'de, D: serde::Deserializer<'de>>(from: D) -> Result<String, D::Error> {
    String::deserialize(from).map(|pattern| naming::in_tokens(&pattern))
}

/// The picture's settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields)]
pub struct PictureSettings {
    /// The codec.
    #[setting(name = "Video codec")]
    pub codec: PictureCodec,
    /// Its profile; left out, the codec's usual one.
    #[serde(default)]
    #[setting(name = "Profile")]
    pub profile: Option<ProfileName>,
    /// The highest level the file may need, such as `4.1`; left out, whatever is needed.
    #[serde(default)]
    #[setting(name = "Highest level")]
    pub level: Option<Level>,
    /// How many bits it gets.
    #[setting(nested, name = "Rate control")]
    pub rate: RateControl,
    /// How hard the encoder works.
    #[serde(default)]
    #[setting(name = "Encoder effort")]
    pub effort: Effort,
    /// Seconds from one key frame to the next at most; nothing to do with intra-frame codecs.
    #[serde(default = "default_key_interval")]
    #[setting(name = "Key frame distance", term = "GOP length", unit = "s", most = LONGEST_GROUP, offers = offers(&[2, 1, 5, 10], " s"))]
    pub key_interval: Rational,
    /// The size.
    #[serde(default)]
    #[setting(nested, name = "Frame size")]
    pub size: SizeRule,
    /// What becomes of pixels that are not square.
    #[serde(default)]
    #[setting(name = "Pixel aspect ratio", term = "PAR")]
    pub pixel_aspect: PixelAspectRule,
    /// The frame rate.
    #[serde(default)]
    #[setting(nested, name = "Frame rate")]
    pub frame_rate: FrameRateRule,
    /// What stands where the source's sound begins before its picture.
    #[serde(default)]
    #[setting(name = "Before the first picture")]
    pub lead: Lead,
    /// What becomes of interlaced material.
    #[serde(default)]
    #[setting(name = "Fields")]
    pub fields: FieldsRule,
    /// How it is deinterlaced, where it is.
    #[serde(default)]
    #[setting(nested)]
    pub deinterlacing: Deinterlacing,
    /// What becomes of film that was spread over fields.
    #[serde(default)]
    #[setting(name = "Inverse telecine")]
    pub telecine: TelecineRule,
    /// The rate of sources that are partly film and partly video.
    #[serde(default)]
    #[setting(name = "Film and video mixed")]
    pub mixture: MixtureRule,
    /// What is cut off.
    #[serde(default)]
    #[setting(nested, name = "Crop")]
    pub crop: CropRule,
    /// How fast it plays.
    #[serde(default)]
    #[setting(nested, name = "Speed")]
    pub speed: SpeedRule,
    /// What is cleaned.
    #[serde(default)]
    #[setting(nested)]
    pub cleaning: Cleaning,
    /// Brightness, contrast, gamma and saturation.
    #[serde(default)]
    #[setting(nested)]
    pub adjustment: Adjustment,
    /// Colour space, range, look-up table.
    #[serde(default)]
    #[setting(nested)]
    pub colour: ColourSettings,
    /// What is laid over the picture.
    #[serde(default)]
    #[setting(nested)]
    pub overlays: Overlays,
    /// Whether all colour is taken out: casts and coloured scratches vanish, the bits go to the picture.
    #[serde(default)]
    #[setting(name = "Greyscale")]
    pub greyscale: bool,
}

fn default_key_interval() -> Rational {
    Rational::whole(2)
}

/// The size of the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum SizeRule {
    /// As the source.
    #[default]
    #[setting(name = "as the source")]
    Same,
    /// Whole inside a box, with its own shape.
    #[setting(name = "fit")]
    Fit {
        /// Columns of the box.
        #[setting(name = "Width", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1920, 640, 960, 1280, 3840], " px"))]
        width: u32,
        /// Lines of the box.
        #[setting(name = "Height", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1080, 360, 540, 720, 2160], " px"))]
        height: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        #[setting(name = "Enlarge smaller sources")]
        enlarge: bool,
    },
    /// The box filled, what stands over cut off evenly.
    #[setting(name = "fill")]
    Fill {
        /// Columns of the box.
        #[setting(name = "Width", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1920, 640, 960, 1280, 3840], " px"))]
        width: u32,
        /// Lines of the box.
        #[setting(name = "Height", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1080, 360, 540, 720, 2160], " px"))]
        height: u32,
        /// Whether smaller sources are enlarged to it; they get its shape alone where not.
        #[serde(default)]
        #[setting(name = "Enlarge smaller sources")]
        enlarge: bool,
    },
    /// Whole inside a box, the rest filled with black.
    #[setting(name = "fit, with bars")]
    Pad {
        /// Columns of the box.
        #[setting(name = "Width", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1920, 640, 960, 1280, 3840], " px"))]
        width: u32,
        /// Lines of the box.
        #[setting(name = "Height", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1080, 360, 540, 720, 2160], " px"))]
        height: u32,
        /// Whether smaller sources are enlarged to it; black stands all around them where not.
        #[serde(default)]
        #[setting(name = "Enlarge smaller sources")]
        enlarge: bool,
    },
    /// This width, the height following from the shape.
    #[setting(name = "by width")]
    Width {
        /// Columns.
        #[setting(name = "Width", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1920, 640, 960, 1280, 3840], " px"))]
        width: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        #[setting(name = "Enlarge smaller sources")]
        enlarge: bool,
    },
    /// This height, the width following from the shape.
    #[setting(name = "by height")]
    Height {
        /// Lines.
        #[setting(name = "Height", unit = "px", least = SMALLEST_SIDE, most = LARGEST_SIDE, offers = offers(&[1080, 360, 540, 720, 2160], " px"))]
        height: u32,
        /// Whether smaller sources are enlarged to it.
        #[serde(default)]
        #[setting(name = "Enlarge smaller sources")]
        enlarge: bool,
    },
    /// A fraction of the source.
    #[setting(name = "fraction of the source")]
    Fraction {
        /// Such as 1/2.
        #[setting(name = "Fraction", most = 4, offers = fractions())]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum FrameRateRule {
    /// As the source; a varying rate is made constant at its nominal rate.
    #[default]
    #[setting(name = "as the source, constant")]
    Same,
    /// As the source, and a varying rate stays varying.
    #[setting(name = "as the source, variable kept")]
    KeepVariable,
    /// This rate.
    #[setting(name = "constant")]
    Constant {
        /// Frames a second.
        #[setting(name = "Rate", unit = "fps", most = FASTEST_RATE, offers = rates())]
        rate: Rational,
        /// How frames of another rate are brought to it.
        #[serde(default)]
        #[setting(name = "Conversion")]
        by: RateConversion,
    },
    /// No more than this rate: faster sources are brought down to it.
    #[setting(name = "at most")]
    AtMost {
        /// Frames a second.
        #[setting(name = "Rate", unit = "fps", most = FASTEST_RATE, offers = rates())]
        rate: Rational,
    },
}

/// What stands where a picture begins later than the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Lead {
    /// Its first frame.
    #[default]
    #[setting(name = "first frame held")]
    Hold,
    /// Black.
    #[setting(name = "black")]
    Black,
}

/// What becomes of interlaced material.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum FieldsRule {
    /// Fields stay fields, and are marked so. The number of lines cannot change then.
    #[setting(name = "kept")]
    Keep,
    /// Deinterlaced where a scan found fields or, where there was none, where the header declares them.
    #[default]
    #[setting(name = "deinterlaced when needed")]
    WhenNeeded,
    /// Deinterlaced in any case.
    #[setting(name = "deinterlaced always")]
    Always,
}

/// What else is taken over from the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Carry {
    /// The start timecode and the reel name.
    #[setting(name = "Timecode and reel")]
    pub timecode: bool,
    /// Chapters.
    #[setting(name = "Chapters")]
    pub chapters: bool,
    /// Title, date and other tags.
    #[setting(name = "Tags")]
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

/// Frame rates that are often taken.
fn rates() -> Vec<Offer> {
    let mut rates: Vec<Rational> = usual_rates().collect();
    rates.sort_by_key(|rate| *rate != Rational::whole(25));
    rates.into_iter().map(|rate| Offer { value: rate, words: rate_text(rate) }).collect()
}

/// Parts of a frame's sides that are often taken.
fn fractions() -> Vec<Offer> {
    let offer = |(part, words): (i64, &str)| Offer { value: Rational::constant(1, part), words: words.to_owned() };
    [(2, "half"), (3, "a third"), (4, "a quarter")].into_iter().map(offer).collect()
}

impl Valued for PixelAspectRule {
    fn kind() -> Kind {
        let of = vec![
            Choice::new(Self::Square, "square pixels", "The picture is stretched so that pixels become square."),
            Choice::new(Self::Keep, "kept", "Pixels keep their shape, which is written into the file."),
        ];
        Kind::Choice { of, or_fraction: Some("set") }
    }
}

//! How material is mended: fields, film, bars, cleaning, speed. Policies for every source; an editor's
//! own settings for one source stand above them.

use beryl_settings::{Choices, Settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{FASTEST_RATE, rates};
use crate::catalogue::{Kind, Offer, offers};
use crate::time::Rational;

/// How interlaced frames become whole ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Deinterlacing {
    /// Which frames.
    #[setting(name = "Frames to deinterlace")]
    pub frames: DeinterlacedFrames,
    /// How many come out.
    #[setting(name = "Frames per field pair")]
    pub per: DeinterlacePer,
    /// How much work each is worth.
    #[setting(name = "Deinterlacing quality")]
    pub degree: DeinterlaceDegree,
}

/// Which frames are deinterlaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlacedFrames {
    /// Those that show combing; the others come through bit by bit as they are.
    #[default]
    #[setting(name = "those that show combing")]
    Combed,
    /// All of them.
    #[setting(name = "all")]
    All,
}

/// How many frames come of one interlaced frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlacePer {
    /// One, as many as the source has.
    #[default]
    #[setting(name = "one")]
    Frame,
    /// Two, each field its own: motion stays as smooth as it was.
    #[setting(name = "one for each field")]
    Field,
}

/// How much work deinterlacing is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlaceDegree {
    /// For proxies and looks: missing lines are drawn from their neighbours.
    #[setting(name = "fast, for proxies")]
    Proxy,
    /// For delivery: lines that stand still are kept, moving ones are drawn along edges.
    #[default]
    #[setting(name = "along edges, for delivery")]
    Delivery,
}

/// What becomes of film that was spread over fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum TelecineRule {
    /// It is treated as video.
    #[setting(name = "never")]
    Never,
    /// The film frames are brought back where a scan found a cadence.
    #[default]
    #[setting(name = "when detected")]
    WhenNeeded,
    /// The film frames are brought back, and sources without a cadence are refused.
    #[setting(name = "always")]
    Always,
}

/// The rate of sources that are partly film and partly video.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum MixtureRule {
    /// The video's: film frames are repeated.
    #[default]
    #[setting(name = "at the rate of the video")]
    VideoRate,
    /// The film's: frames of video are left out.
    #[setting(name = "at the rate of the film")]
    FilmRate,
    /// Each its own.
    #[setting(name = "each at its own rate")]
    Variable,
}

/// What is cut off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum CropRule {
    /// Nothing.
    #[default]
    #[setting(name = "none")]
    Never,
    /// Black bars, where a scan of the whole source found any.
    #[setting(name = "bars off")]
    Bars,
    /// All but the part of this shape that loses the least picture.
    #[setting(name = "to a shape")]
    Shape {
        /// Width over height as seen, such as 16/9.
        #[setting(name = "Shape", least = Rational::constant(1, 8), most = 8, offers = shapes())]
        shape: Rational,
    },
    /// So many columns and lines of the picture as it is seen.
    #[setting(name = "by hand")]
    ByHand {
        /// Columns.
        #[setting(name = "Left", unit = "px")]
        left: u32,
        /// Lines.
        #[setting(name = "Top", unit = "px")]
        top: u32,
        /// Columns.
        #[setting(name = "Right", unit = "px")]
        right: u32,
        /// Lines.
        #[setting(name = "Bottom", unit = "px")]
        bottom: u32,
    },
}

/// How fast it plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum SpeedRule {
    /// As the source.
    #[default]
    #[setting(name = "as the source")]
    Same,
    /// So that its frames fall on this rate, each once.
    #[setting(name = "conform to a rate")]
    ToRate {
        /// Frames a second.
        #[setting(name = "Rate", unit = "fps", most = FASTEST_RATE, offers = rates())]
        rate: Rational,
    },
    /// By a percentage: 104 is four percent faster.
    #[setting(name = "by percent")]
    Percent {
        /// Percent of the source's speed.
        #[setting(name = "Speed", unit = "%", least = 50, most = 200, offers = offers(&[104, 96], " %"))]
        percent: Rational,
    },
}

/// How frames of one rate become frames of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum RateConversion {
    /// Frames are left out or repeated: each stays sharp, motion may stutter.
    #[default]
    #[setting(name = "frames repeated or dropped")]
    DropRepeat,
    /// Neighbouring frames are mixed: motion is even, edges double.
    #[setting(name = "frame blending")]
    Blend,
    /// Frames in between are drawn along the motion: even and sharp, wrong where motion is hard to follow.
    #[setting(name = "motion-compensated")]
    Motion,
}

/// What is cleaned. All of it costs detail and time, and is off unless asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Cleaning {
    /// Borders of coding blocks.
    #[setting(name = "Deblocking")]
    pub deblock: Deblocking,
    /// Noise.
    #[setting(name = "Noise reduction")]
    pub denoise: Denoising,
}

/// Smoothing the borders of coding blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Deblocking {
    /// Nothing is done.
    #[default]
    #[setting(name = "off")]
    Off,
    /// For borders that show in flat parts only; fine texture keeps nearly all of its detail.
    #[setting(name = "flat parts")]
    FlatParts,
    /// For borders that show everywhere; fine texture is softened.
    #[setting(name = "whole picture")]
    WholePicture,
}

/// Taking noise out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Denoising {
    /// Nothing is done.
    #[default]
    #[setting(name = "off")]
    Off,
    /// For the fine noise of cameras, up to about 5 code values of 8 bit: it falls by 5 dB, and detail keeps 45 dB.
    #[setting(name = "camera noise")]
    Camera,
    /// For tapes and film grain, about 5 to 12 code values: it falls by 5 to 7 dB, and detail keeps 43 dB.
    #[setting(name = "tape noise and grain")]
    Tape,
    /// For dark and strongly noisy pictures, 12 code values and more: it falls by 3 to 6 dB, and detail keeps 41 dB.
    #[setting(name = "strong noise")]
    Night,
}

/// Brightness, contrast, gamma and saturation, in hundredths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Adjustment {
    /// Added to luma: -100 to 100 hundredths of the way from black to white; 0 changes nothing.
    #[setting(name = "Brightness", unit = "%", least = -100, most = 100, offers = offers(&[0, -20, -10, 10, 20], " %"))]
    pub brightness: i16,
    /// Spread around middle grey: 0 to 400 percent; 100 changes nothing.
    #[setting(name = "Contrast", unit = "%", least = 0, most = 400, offers = offers(&[100, 80, 90, 110, 120], " %"))]
    pub contrast: u16,
    /// Lifts the middle tones: 10 to 500 percent; 100 changes nothing.
    #[setting(name = "Gamma", unit = "%", least = 10, most = 500, offers = offers(&[100, 80, 90, 110, 120], " %"))]
    pub gamma: u16,
    /// Strength of colour: 0 to 400 percent; 100 changes nothing.
    #[setting(name = "Saturation", unit = "%", least = 0, most = 400, offers = offers(&[100, 0, 80, 120], " %"))]
    pub saturation: u16,
}

impl Default for Adjustment {
    fn default() -> Self {
        Self { brightness: 0, contrast: 100, gamma: 100, saturation: 100 }
    }
}

/// What becomes of colour.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct ColourSettings {
    /// What becomes of pictures with a high dynamic range.
    #[setting(name = "High dynamic range", term = "HDR")]
    pub dynamic_range: DynamicRangeRule,
    /// A LUT (`.cube`) by its name; what comes out of it is Rec. 709.
    #[setting(name = "LUT", kind = Kind::File { holds: "lut" })]
    pub lut: Option<String>,
    /// The colour space.
    #[setting(name = "Colour space")]
    pub space: ColourSpaceRule,
    /// The range of the codes.
    #[setting(name = "Range")]
    pub range: RangeRule,
}

/// What becomes of pictures with a high dynamic range (PQ and HLG, ITU-R BT.2100).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum DynamicRangeRule {
    /// They keep it where the output has 10 bits or more, and are brought to the standard range where it has 8.
    #[default]
    #[setting(name = "kept from 10 bit on")]
    WhenNeeded,
    /// They keep it, with its metadata.
    #[setting(name = "kept")]
    Keep,
    /// They are brought to the standard range of Rec. 709; what is brighter than white is compressed.
    #[setting(name = "to standard")]
    Standard,
}

/// The colour space: primaries, transfer and matrix.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum ColourSpaceRule {
    /// As the source.
    #[default]
    #[setting(name = "as the source")]
    Same,
    /// ITU-R BT.709.
    #[setting(name = "Rec. 709")]
    Rec709,
    /// ITU-R BT.601 with 625 lines.
    #[serde(rename = "rec601_625")]
    #[setting(name = "Rec. 601, 625 lines")]
    Rec601With625,
    /// ITU-R BT.601 with 525 lines.
    #[serde(rename = "rec601_525")]
    #[setting(name = "Rec. 601, 525 lines")]
    Rec601With525,
}

/// The range of luma and colour codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum RangeRule {
    /// 16 to 235 and 240 (in 8 bit), as players and broadcasters expect.
    #[default]
    #[setting(name = "limited")]
    Limited,
    /// All codes.
    #[setting(name = "full")]
    Full,
    /// As the source.
    #[setting(name = "as the source")]
    Same,
}

/// What is laid over the picture.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Overlays {
    /// A picture, such as a mark of the house.
    #[setting(nested, name = "Watermark")]
    pub watermark: Option<Watermark>,
    /// Text: timecode, name, frame number.
    #[setting(nested, name = "Burn-in")]
    pub burn_in: BurnIn,
    /// Subtitles of the source that become part of the picture.
    #[setting(nested, name = "Burnt-in subtitles")]
    pub subtitles: BurntSubtitles,
}

/// A picture over the picture.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields)]
pub struct Watermark {
    /// The picture (PNG) by its name.
    #[setting(name = "Watermark", kind = Kind::File { holds: "picture" })]
    pub picture: String,
    /// Where it stands.
    #[serde(default)]
    #[setting(name = "Place")]
    pub place: Corner,
    /// Its width in percent of the output's, 1 to 100.
    #[serde(default = "usual_watermark_width")]
    #[setting(name = "Width", unit = "%", least = 1, most = 100)]
    pub width: u8,
    /// Its distance from the borders in percent of the output's width, 0 to 40.
    #[serde(default = "usual_watermark_margin")]
    #[setting(name = "Margin", unit = "%", least = 0, most = 40)]
    pub margin: u8,
    /// How much of it covers the picture, in percent, 1 to 100.
    #[serde(default = "usual_watermark_opacity")]
    #[setting(name = "Opacity", unit = "%", least = 1, most = 100)]
    pub opacity: u8,
}

const fn usual_watermark_width() -> u8 {
    15
}

const fn usual_watermark_margin() -> u8 {
    3
}

const fn usual_watermark_opacity() -> u8 {
    70
}

/// A corner of the picture, or its middle.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Corner {
    /// Above on the left.
    #[setting(name = "top left")]
    TopLeft,
    /// Above on the right.
    #[setting(name = "top right")]
    TopRight,
    /// Below on the left.
    #[setting(name = "bottom left")]
    BottomLeft,
    /// Below on the right.
    #[default]
    #[setting(name = "bottom right")]
    BottomRight,
    /// In the middle.
    #[setting(name = "middle")]
    Middle,
}

/// Text in the picture. Nothing is written unless one of the three is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct BurnIn {
    /// The source's timecode, counted from 00:00:00:00 where it has none.
    #[setting(name = "Timecode")]
    pub timecode: bool,
    /// The source's name.
    #[setting(name = "Source name")]
    pub name: bool,
    /// The number of the source's frame, from 1.
    #[setting(name = "Frame number")]
    pub frame: bool,
    /// Whether it stands above; below otherwise.
    #[setting(name = "At the top")]
    pub above: bool,
    /// Its height in percent of the output's, 2 to 20.
    #[setting(name = "Text height", unit = "%", least = 2, most = 20)]
    pub height: u8,
}

impl Default for BurnIn {
    fn default() -> Self {
        Self { timecode: false, name: false, frame: false, above: false, height: 5 }
    }
}

impl BurnIn {
    /// Whether anything is written.
    #[must_use]
    pub const fn is_wanted(self) -> bool {
        self.timecode || self.name || self.frame
    }
}

/// Subtitles that become part of the picture.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum BurntSubtitles {
    /// None.
    #[default]
    #[setting(name = "none")]
    Never,
    /// The source's first.
    #[setting(name = "first track")]
    First,
    /// The source's in a language.
    #[setting(name = "by language")]
    Language {
        /// ISO 639 code, such as `eng`.
        #[setting(name = "Language", kind = Kind::Language)]
        language: String,
    },
}

impl Deblocking {
    /// What it does and what it costs, as the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Off => "coding blocks left as they are",
            Self::FlatParts => "deblocked in flat areas; texture keeps nearly all its detail",
            Self::WholePicture => "deblocked everywhere; fine texture is softened",
        }
    }
}

impl Denoising {
    /// The degree for noise of so many tenths of a code value of 8 bit: the weakest that takes most of it; none where
    /// it would take more detail than noise.
    #[must_use]
    pub const fn for_noise(tenths: u32) -> Option<Self> {
        match tenths {
            0..=24 => None,
            25..=49 => Some(Self::Camera),
            50..=119 => Some(Self::Tape),
            120.. => Some(Self::Night),
        }
    }

    /// What it does and what it costs, as the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Off => "noise left as it is",
            Self::Camera => "fine camera noise removed: about 5 dB less of it, and detail keeps 45 dB",
            Self::Tape => "tape noise and grain taken out: 5 to 7 dB less of it, and detail keeps 43 dB",
            Self::Night => "strong noise removed: 3 to 6 dB less of it, and detail keeps 41 dB",
        }
    }
}

/// Shapes of pictures that are often taken.
fn shapes() -> Vec<Offer> {
    let offer =
        |(width, height, words): (i64, i64, &str)| Offer { value: Rational::constant(width, height), words: words.to_owned() };
    [(16, 9, "16:9"), (4, 3, "4:3"), (37, 20, "1.85:1"), (239, 100, "2.39:1"), (1, 1, "1:1"), (9, 16, "9:16")].map(offer).to_vec()
}

//! How material is mended: fields, film, bars, cleaning, speed. Policies for every source; an editor's
//! own settings for one source stand above them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;

/// How interlaced frames become whole ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Deinterlacing {
    /// Which frames.
    pub frames: DeinterlacedFrames,
    /// How many come out.
    pub per: DeinterlacePer,
    /// How much work each is worth.
    pub degree: DeinterlaceDegree,
}

/// Which frames are deinterlaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlacedFrames {
    /// Those that show combing; the others come through bit by bit as they are.
    #[default]
    Combed,
    /// All of them.
    All,
}

/// How many frames come of one interlaced frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlacePer {
    /// One, as many as the source has.
    #[default]
    Frame,
    /// Two, each field its own: motion stays as smooth as it was.
    Field,
}

/// How much work deinterlacing is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeinterlaceDegree {
    /// For proxies and looks: missing lines are drawn from their neighbours.
    Proxy,
    /// For delivery: lines that stand still are kept, moving ones are drawn along edges.
    #[default]
    Delivery,
}

/// What becomes of film that was spread over fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TelecineRule {
    /// It is treated as video.
    Never,
    /// The film frames are brought back where a scan found a cadence.
    #[default]
    WhenNeeded,
    /// The film frames are brought back, and sources without a cadence are refused.
    Always,
}

/// The rate of sources that are partly film and partly video.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MixtureRule {
    /// The video's: film frames are repeated.
    #[default]
    VideoRate,
    /// The film's: frames of video are left out.
    FilmRate,
    /// Each its own.
    Variable,
}

/// What is cut off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum CropRule {
    /// Nothing.
    #[default]
    Never,
    /// Black bars, where a scan of the whole source found any.
    Bars,
    /// All but the part of this shape that loses the least picture.
    Shape {
        /// Width over height as seen, such as 16/9.
        shape: Rational,
    },
    /// So many columns and lines of the picture as it is seen.
    ByHand {
        /// Columns.
        left: u32,
        /// Lines.
        top: u32,
        /// Columns.
        right: u32,
        /// Lines.
        bottom: u32,
    },
}

/// How fast it plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum SpeedRule {
    /// As the source.
    #[default]
    Same,
    /// So that its frames fall on this rate, each once.
    ToRate {
        /// Frames a second.
        rate: Rational,
    },
    /// By a percentage: 104 is four percent faster.
    Percent {
        /// Percent of the source's speed.
        percent: Rational,
    },
}

/// How frames of one rate become frames of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RateConversion {
    /// Frames are left out or repeated: each stays sharp, motion may stutter.
    #[default]
    DropRepeat,
    /// Neighbouring frames are mixed: motion is even, edges double.
    Blend,
    /// Frames in between are drawn along the motion: even and sharp, wrong where motion is hard to follow.
    Motion,
}

/// What is cleaned. All of it costs detail and time, and is off unless asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Cleaning {
    /// Borders of coding blocks.
    pub deblock: Deblocking,
    /// Noise.
    pub denoise: Denoising,
}

/// Smoothing the borders of coding blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Deblocking {
    /// Nothing is done.
    #[default]
    Off,
    /// For borders that show in flat parts only; fine texture keeps nearly all of its detail.
    FlatParts,
    /// For borders that show everywhere; fine texture is softened.
    WholePicture,
}

/// Taking noise out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Denoising {
    /// Nothing is done.
    #[default]
    Off,
    /// For the fine noise of cameras, up to about 5 code values of 8 bit: it falls by 5 dB, and detail keeps 45 dB.
    Camera,
    /// For tapes and film grain, about 5 to 12 code values: it falls by 5 to 7 dB, and detail keeps 43 dB.
    Tape,
    /// For dark and strongly noisy pictures, 12 code values and more: it falls by 3 to 6 dB, and detail keeps 41 dB.
    Night,
}

/// Brightness, contrast, gamma and saturation, in hundredths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Adjustment {
    /// Added to luma: -100 to 100 hundredths of the way from black to white; 0 changes nothing.
    pub brightness: i16,
    /// Spread around middle grey: 0 to 400 percent; 100 changes nothing.
    pub contrast: u16,
    /// Lifts the middle tones: 10 to 500 percent; 100 changes nothing.
    pub gamma: u16,
    /// Strength of colour: 0 to 400 percent; 100 changes nothing.
    pub saturation: u16,
}

impl Default for Adjustment {
    fn default() -> Self {
        Self { brightness: 0, contrast: 100, gamma: 100, saturation: 100 }
    }
}

/// What becomes of colour.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ColourSettings {
    /// What becomes of pictures with a high dynamic range.
    pub dynamic_range: DynamicRangeRule,
    /// A look-up table (`.cube`) by its name; what comes out of it is Rec. 709.
    pub lut: Option<String>,
    /// The colour space.
    pub space: ColourSpaceRule,
    /// The range of the codes.
    pub range: RangeRule,
}

/// What becomes of pictures with a high dynamic range (PQ and HLG, ITU-R BT.2100).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DynamicRangeRule {
    /// They keep it where the output has 10 bits or more, and are brought to the standard range where it has 8.
    #[default]
    WhenNeeded,
    /// They keep it, with its metadata.
    Keep,
    /// They are brought to the standard range of Rec. 709; what is brighter than white is compressed.
    Standard,
}

/// The colour space: primaries, transfer and matrix.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ColourSpaceRule {
    /// As the source.
    #[default]
    Same,
    /// ITU-R BT.709.
    Rec709,
    /// ITU-R BT.601 with 625 lines.
    #[serde(rename = "rec601_625")]
    Rec601With625,
    /// ITU-R BT.601 with 525 lines.
    #[serde(rename = "rec601_525")]
    Rec601With525,
}

/// The range of luma and colour codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RangeRule {
    /// 16 to 235 and 240 (in 8 bit), as players and broadcasters expect.
    #[default]
    Limited,
    /// All codes.
    Full,
    /// As the source.
    Same,
}

/// What is laid over the picture.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Overlays {
    /// A picture, such as a mark of the house.
    pub watermark: Option<Watermark>,
    /// Text: timecode, name, frame number.
    pub burn_in: BurnIn,
    /// Subtitles of the source that become part of the picture.
    pub subtitles: BurntSubtitles,
}

/// A picture over the picture.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Watermark {
    /// The picture (PNG) by its name.
    pub picture: String,
    /// Where it stands.
    #[serde(default)]
    pub place: Corner,
    /// Its width in percent of the output's, 1 to 100.
    #[serde(default = "usual_watermark_width")]
    pub width: u8,
    /// Its distance from the borders in percent of the output's width, 0 to 40.
    #[serde(default = "usual_watermark_margin")]
    pub margin: u8,
    /// How much of it covers the picture, in percent, 1 to 100.
    #[serde(default = "usual_watermark_opacity")]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Corner {
    /// Above on the left.
    TopLeft,
    /// Above on the right.
    TopRight,
    /// Below on the left.
    BottomLeft,
    /// Below on the right.
    #[default]
    BottomRight,
    /// In the middle.
    Middle,
}

/// Text in the picture. Nothing is written unless one of the three is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct BurnIn {
    /// The source's timecode, counted from 00:00:00:00 where it has none.
    pub timecode: bool,
    /// The source's name.
    pub name: bool,
    /// The number of the source's frame, from 1.
    pub frame: bool,
    /// Whether it stands above; below otherwise.
    pub above: bool,
    /// Its height in percent of the output's, 2 to 20.
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
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case", deny_unknown_fields)]
pub enum BurntSubtitles {
    /// None.
    #[default]
    Never,
    /// The source's first.
    First,
    /// The source's in a language.
    Language {
        /// ISO 639 code, such as `eng`.
        language: String,
    },
}

impl Deblocking {
    /// What it does and what it costs, as the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Off => "coding blocks left as they are",
            Self::FlatParts => "borders of coding blocks smoothed in flat parts; texture keeps nearly all its detail",
            Self::WholePicture => "borders of coding blocks smoothed everywhere; fine texture is softened",
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
            Self::Camera => "fine camera noise taken out: about 5 dB less of it, and detail keeps 45 dB",
            Self::Tape => "tape noise and grain taken out: 5 to 7 dB less of it, and detail keeps 43 dB",
            Self::Night => "strong noise taken out: 3 to 6 dB less of it, and detail keeps 41 dB",
        }
    }
}

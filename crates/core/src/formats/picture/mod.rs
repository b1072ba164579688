//! Picture codecs: each is one declaration, from which everything else about it follows.
//!
//! A codec is added by a file here, with its declaration in [`PictureCodec::all`], and by its row in the table of
//! encoders (`media::encoders`).

mod ffv1;
mod format;
mod h264;
mod hevc;
mod mpeg2;
mod prores;

use std::ops::RangeInclusive;

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::Schema;
use utoipa::{PartialSchema, ToSchema};

use super::declared::{declared, unknown, words_of};
use super::level::Levels;
use super::{Container, Effort, text_or_number};
use crate::catalogue::{Choice, Kind, OnlyWith, Valued};
use crate::picture::{ChromaSite, PixelFormat, Primaries};
use crate::time::Rational;

pub(crate) use format::BITS;
pub use format::PictureFormat;

/// All that is known of a picture codec that can be written.
#[derive(Debug)]
pub struct PictureDeclaration {
    /// Its word in documents.
    pub id: &'static str,
    /// Its name in the trade.
    pub words: &'static str,
    /// Its name as a probe reports it.
    pub probe_name: &'static str,
    /// Its profiles, from the one that asks for least.
    pub profiles: &'static [ProfileDeclaration],
    /// The profile that is taken where none is named.
    pub usual_profile: &'static str,
    /// Who decides how many bits it gets.
    pub rates: Rates,
    /// How its pictures refer to one another.
    pub groups: Groups,
    /// The containers that hold it, so that others can read it there.
    pub containers: &'static [Container],
    /// The frame rates that it has.
    pub frame_rates: FrameRates,
    /// Multiples of this cannot be said as a side of the frame.
    pub unsayable_sides: Option<u32>,
    /// Where it is said that codes use the full range.
    pub full_range: FullRange,
    /// The one place that samples of colour have, where there is but one.
    pub chroma: Option<ChromaSite>,
    /// Primaries of ITU-T H.273 that cannot be written.
    pub unknown_primaries: &'static [Primaries],
    /// Its levels.
    pub levels: Levels,
    /// Whether it is chosen to make files smaller: what is for editing and archives is not.
    pub is_for_size: bool,
    /// Whether files of it tell how their samples are stored.
    pub tells_pixel_format: bool,
    /// What its pictures weigh.
    pub size: SizeModel,
    /// How many bits a second it takes for the same look, H.264 being one; nothing for codecs that spend bits whether
    /// they are needed or not.
    pub appetite: Option<f64>,
    /// What the degrees of effort do, from the least.
    pub effort: [Effects; 3],
    /// The pictures that its encoder holds.
    pub held: Held,
}

impl PictureDeclaration {
    /// What holds for a codec of which nothing else is said: it takes pictures of any rate, with fields, in the limited
    /// range.
    pub const PLAIN: Self = Self {
        id: "",
        words: "",
        probe_name: "",
        profiles: &[],
        usual_profile: "",
        rates: Rates::OfProfile,
        groups: Groups::Intra,
        containers: &[],
        frame_rates: FrameRates::All,
        unsayable_sides: None,
        full_range: FullRange::Never,
        chroma: None,
        unknown_primaries: &[],
        levels: Levels::None,
        is_for_size: false,
        tells_pixel_format: true,
        size: SizeModel::Lossless,
        appetite: None,
        effort: [Effects { size: 1.0, nanoseconds: 10.0, look_ahead: 0, first_pass: 0.5 }; 3],
        held: Held { always: 40, ahead: 0, by_thread: 20, least_depth_tenths: 0, written_per_pixel: 0 },
    };

    /// What a degree of effort does.
    #[must_use]
    pub const fn effects(&self, effort: Effort) -> Effects {
        match effort {
            Effort::Quick => self.effort[0],
            Effort::Balanced => self.effort[1],
            Effort::Thorough => self.effort[2],
        }
    }

    /// The profile of this name, or the usual one.
    #[must_use]
    pub fn profile(&self, name: Option<ProfileName>) -> Option<&'static ProfileDeclaration> {
        let id = name.map_or(self.usual_profile, |name| name.0);
        self.profiles.iter().find(|profile| profile.id == id)
    }

    /// What numbers of quality are called.
    #[must_use]
    pub const fn quality_unit(&self) -> &'static str {
        match self.rates {
            Rates::Chosen { unit, .. } => unit,
            Rates::OfProfile => "",
        }
    }

    /// Whether each picture stands alone.
    #[must_use]
    pub const fn is_intra(&self) -> bool {
        matches!(self.groups, Groups::Intra)
    }
}

/// A profile of a codec.
#[derive(Debug)]
pub struct ProfileDeclaration {
    /// Its word in documents.
    pub id: &'static str,
    /// Its name in the trade, behind that of the codec.
    pub words: &'static str,
    /// What a file may say of it: its own name, and those that decode with less. Files of codecs without profiles say
    /// nothing.
    pub in_files: &'static [&'static str],
    /// How it stores samples.
    pub stores: Stores,
    /// Whether fields can stay fields.
    pub fields: FieldsIn,
    /// What it may take of the rates of its level, in thousandths.
    pub level_per_mille: u64,
    /// Whether a quality of nought, which is lossless, can be coded.
    pub holds_lossless: bool,
    /// Bits of a macroblock, for frames up to 1620, 2700, 6075 and more macroblocks, where the profile fixes them.
    pub bits_of_macroblock: Option<&'static [u32; 4]>,
}

impl ProfileDeclaration {
    /// A profile of which nothing else is said.
    #[must_use]
    pub const fn of(id: &'static str, words: &'static str, in_files: &'static [&'static str], stores: Stores) -> Self {
        Self {
            id,
            words,
            in_files,
            stores,
            fields: FieldsIn::Multiples(1),
            level_per_mille: 1000,
            holds_lossless: false,
            bits_of_macroblock: None,
        }
    }
}

/// Who decides how many bits pictures get.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Rates {
    /// The preset: a quality, or a rate.
    Chosen {
        /// Qualities, from the best.
        quality: RangeInclusive<u8>,
        /// What its numbers are called.
        unit: &'static str,
    },
    /// The profile.
    OfProfile,
}

/// How pictures refer to one another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Groups {
    /// Each stands alone.
    Intra,
    /// Many follow a key frame.
    Long {
        /// Frames from one key frame to the next, at least.
        least: u32,
    },
}

/// The frame rates of a codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FrameRates {
    /// All, and such as vary.
    All,
    /// These alone, and constant.
    These(&'static [Rational]),
}

impl FrameRates {
    /// Whether a constant rate is one of them.
    #[must_use]
    pub fn has(self, rate: Rational) -> bool {
        match self {
            Self::All => true,
            Self::These(rates) => rates.contains(&rate),
        }
    }
}

/// Where it is said that codes use the full range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FullRange {
    /// Nowhere.
    Never,
    /// In files of these containers, or in the stream wherever it stands.
    In(&'static [Container]),
}

/// All containers: the stream says it itself.
const EVERYWHERE: &[Container] = &Container::ALL;

/// Whether fields can stay fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldsIn {
    /// Never: whole frames are coded.
    Never,
    /// In frames with a multiple of so many lines.
    Multiples(u32),
}

impl FieldsIn {
    /// Whether frames of so many lines can be two fields.
    #[must_use]
    pub const fn holds(self, lines: u32) -> bool {
        match self {
            Self::Never => false,
            Self::Multiples(of) => lines.is_multiple_of(of),
        }
    }
}

/// How a profile stores samples, in the libraries' short names of pixel formats.
#[derive(Debug, Clone, Copy)]
pub enum Stores {
    /// In one form.
    As(&'static str),
    /// In one of two, by whether the source has alpha.
    WithAlpha {
        /// Without.
        opaque: &'static str,
        /// With.
        alpha: &'static str,
    },
    /// By the form of the source, and whether it stays as it is stored.
    By(fn(&PixelFormat, bool) -> PixelFormat),
}

impl Stores {
    /// The pixel format for pictures of a source with this one; `stays_as_stored` where nothing is done to its samples.
    #[must_use]
    pub fn pixel_format(self, source: &PixelFormat, stays_as_stored: bool) -> PixelFormat {
        match self {
            Self::As(format) => PixelFormat::named(format),
            Self::WithAlpha { alpha, .. } if source.form().has_alpha() => PixelFormat::named(alpha),
            Self::WithAlpha { opaque, .. } => PixelFormat::named(opaque),
            Self::By(choose) => choose(source, stays_as_stored),
        }
    }
}

/// What pictures weigh.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SizeModel {
    /// Of constant quality.
    Quality {
        /// A quality of reference.
        at: u8,
        /// Bits of a pixel of 1080p25 there, as measured over cameras' material.
        bits_per_pixel: f64,
        /// Steps of quality that halve them.
        to_halve: f64,
    },
    /// Without loss: pictures of cameras shrink to something like a third.
    Lossless,
    /// As the profile says.
    OfProfile,
}

/// What a degree of effort does, as measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Effects {
    /// What files weigh, the balanced degree being one.
    pub size: f64,
    /// Nanoseconds of one core for each pixel.
    pub nanoseconds: f64,
    /// Frames that the encoder looks ahead to decide where bits are needed.
    pub look_ahead: u32,
    /// The part of the time of two passes that the first takes: it may analyse with fewer choices than the second.
    pub first_pass: f64,
}

/// The pictures that an encoder holds, as measured (`cargo bench --bench memory`): in tenths, so many whatever it does, so
/// many for each picture that it looks ahead, and so many for each thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Held {
    /// Whatever it does.
    pub always: u64,
    /// For each picture that it looks ahead.
    pub ahead: u64,
    /// For each thread.
    pub by_thread: u64,
    /// A picture counts for so many tenths of one of 16 bits at least.
    pub least_depth_tenths: u64,
    /// Bytes for each pixel that it takes to write into.
    pub written_per_pixel: u64,
}

/// A picture codec that can be written.
#[derive(Clone, Copy)]
pub struct PictureCodec(&'static PictureDeclaration);

impl PictureCodec {
    /// All of them, in the order in which they are offered.
    #[must_use]
    pub const fn all() -> [Self; 5] {
        [
            Self(&h264::DECLARATION),
            Self(&hevc::DECLARATION),
            Self(&prores::DECLARATION),
            Self(&mpeg2::DECLARATION),
            Self(&ffv1::DECLARATION),
        ]
    }

    /// By its declaration.
    #[must_use]
    pub const fn declared(declaration: &'static PictureDeclaration) -> Self {
        Self(declaration)
    }
}

declared!(PictureCodec, PictureDeclaration, "codec of pictures", "Picture codecs that can be written.");

/// The name of a profile; each belongs to some codecs only.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProfileName(pub(crate) &'static str);

impl ProfileName {
    /// All of them.
    fn all() -> Vec<&'static str> {
        let mut known: Vec<&str> = Vec::new();
        for profile in PictureCodec::all().iter().flat_map(|codec| codec.0.profiles) {
            if !known.contains(&profile.id) {
                known.push(profile.id);
            }
        }
        known
    }

    /// What the first codec that has it calls it.
    #[must_use]
    pub fn words(self) -> &'static str {
        let mut profiles = PictureCodec::all().into_iter().flat_map(|codec| codec.0.profiles);
        profiles.find(|profile| profile.id == self.0).map_or(self.0, |profile| profile.words)
    }

    /// The profile of this name, where any codec has it.
    #[must_use]
    pub fn named(id: &str) -> Option<Self> {
        Self::all().into_iter().find(|known| *known == id).map(Self)
    }
}

impl Serialize for ProfileName {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0)
    }
}

impl<'de> Deserialize<'de> for ProfileName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let id = text_or_number(deserializer)?;
        Self::named(&id).ok_or_else(|| unknown(&id, "profile", Self::all().into_iter()))
    }
}

impl PartialSchema for ProfileName {
    fn schema() -> RefOr<Schema> {
        words_of("Profiles of the picture codecs; each belongs to some codecs only.", Self::all().into_iter())
    }
}

impl ToSchema for ProfileName {}

impl Valued for ProfileName {
    fn kind() -> Kind {
        let choice = |id: &'static str| {
            let codecs = PictureCodec::all().into_iter().filter(|codec| codec.0.profiles.iter().any(|profile| profile.id == id));
            let only_with = OnlyWith { place: "picture.codec", values: codecs.map(|codec| codec.0.id).collect() };
            Choice { only_with: Some(only_with), ..Choice::new(id, Self(id).words(), "") }
        };
        Kind::Choice { of: Self::all().into_iter().map(choice).collect(), or_fraction: None }
    }
}

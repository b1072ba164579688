//! Levels: how much a stream may ask of a player.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{PictureCodec, text_or_number};
use crate::catalogue::{Choice, Kind, OnlyWith, Valued};
use crate::time::Rational;
use crate::units::BitRate;

/// A level of H.264 or HEVC, written as `4.1`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, ToSchema)]
#[schema(value_type = String, example = "4.1")]
pub struct Level(pub u8);

impl std::fmt::Display for Level {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}", self.0 / 10, self.0 % 10)
    }
}

impl Serialize for Level {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Level {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = text_or_number(deserializer)?;
        let (major, minor) = text.split_once('.').unwrap_or((&text, "0"));
        match (major.parse::<u8>(), minor.parse::<u8>()) {
            (Ok(major @ 1..=6), Ok(minor @ 0..=3)) => Ok(Self(major * 10 + minor)),
            _ => Err(serde::de::Error::custom(format!("“{text}” is not a level: write one such as \"4.1\""))),
        }
    }
}

/// How fast a stream may come at most, and how much a player holds of it before it is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct Peak {
    /// The highest rate.
    pub bits_per_second: BitRate,
    /// Bits of the buffer.
    pub buffer: u64,
}

/// What streams of one level may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LevelLimits {
    level: Level,
    /// Units of a frame at most.
    frame: u64,
    /// Units a second at most.
    second: u64,
    kilobits: u64,
    kilobits_of_buffer: u64,
}

/// A row of a table: level, units of a frame, units a second, rate in kb/s and buffer in kb.
pub(super) const fn row(level: u8, frame: u64, second: u64, kilobits: u64, kilobits_of_buffer: u64) -> LevelLimits {
    LevelLimits { level: Level(level), frame, second, kilobits, kilobits_of_buffer }
}

/// The levels of a codec, from the lowest.
#[derive(Debug, Clone, Copy)]
pub enum Levels {
    /// It has none.
    None,
    /// Frames are measured in macroblocks of 16 by 16.
    OfMacroblocks(&'static [LevelLimits]),
    /// Frames are measured in samples of luma.
    OfSamples(&'static [LevelLimits]),
}

impl Levels {
    const fn rows(self) -> &'static [LevelLimits] {
        match self {
            Self::None => &[],
            Self::OfMacroblocks(rows) | Self::OfSamples(rows) => rows,
        }
    }

    fn limits(self, level: Level) -> Option<&'static LevelLimits> {
        self.rows().iter().find(|row| row.level == level)
    }

    /// All of them.
    pub fn all(self) -> impl Iterator<Item = Level> {
        self.rows().iter().map(|row| row.level)
    }

    /// What streams of `level` may take at most, in a profile that takes so many thousandths of the table's rates;
    /// nothing where the codec has no such level.
    #[must_use]
    pub fn peak(self, per_mille: u64, level: Level) -> Option<Peak> {
        let limits = self.limits(level)?;
        Some(Peak { bits_per_second: BitRate(limits.kilobits * per_mille), buffer: limits.kilobits_of_buffer * per_mille })
    }

    /// Whether frames of this size and rate are allowed at `level`.
    #[must_use]
    pub fn allows(self, level: Level, width: u32, height: u32, rate: Rational) -> bool {
        let Some(limits) = self.limits(level) else { return false };
        let units = match self {
            Self::OfMacroblocks(_) => u64::from(width.div_ceil(16)) * u64::from(height.div_ceil(16)),
            Self::None | Self::OfSamples(_) => u64::from(width) * u64::from(height),
        };
        let per_second = Rational::whole(i64::try_from(units).unwrap_or(i64::MAX)) * rate;
        units <= limits.frame && per_second <= Rational::whole(i64::try_from(limits.second).unwrap_or(i64::MAX))
    }

    /// The lowest level that allows frames of this size and rate with so many bits in the richest second; nothing where
    /// the codec has no levels, or none that is high enough.
    #[must_use]
    pub fn needed(self, per_mille: u64, (width, height): (u32, u32), rate: Rational, richest: BitRate) -> Option<Level> {
        let is_enough = |level: &Level| {
            let most = self.peak(per_mille, *level).map(|peak| peak.bits_per_second);
            self.allows(*level, width, height, rate) && most.is_some_and(|most| richest <= most)
        };
        self.all().find(is_enough)
    }
}

impl Valued for Level {
    fn kind() -> Kind {
        let codecs = PictureCodec::all();
        let mut levels: Vec<Self> = codecs.iter().flat_map(|codec| codec.levels.all()).collect();
        levels.sort_unstable();
        levels.dedup();
        let choice = |level: Self| {
            let has = codecs.iter().filter(|codec| codec.levels.all().any(|known| known == level)).map(|codec| codec.id);
            let only_with = OnlyWith { place: "picture.codec", values: has.collect() };
            Choice { only_with: Some(only_with), ..Choice::new(level, level.to_string(), "") }
        };
        Kind::Choice { of: levels.into_iter().map(choice).collect(), or_fraction: None }
    }
}

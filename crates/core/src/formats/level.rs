//! Limits of levels: H.264 (ITU-T H.264 table A-1), HEVC (ITU-T H.265 tables A.8 and A.9), and the
//! frame rates of MPEG-2 (ISO/IEC 13818-2 table 6-4).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{PictureCodec, Profile, text_or_number};
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

/// Level, largest frame in macroblocks, macroblocks a second, rate in kb/s and buffer in kb (Baseline to Main).
const H264: [Row; 19] = [
    (10, 99, 1_485, 64, 175),
    (11, 396, 3_000, 192, 500),
    (12, 396, 6_000, 384, 1_000),
    (13, 396, 11_880, 768, 2_000),
    (20, 396, 11_880, 2_000, 2_000),
    (21, 792, 19_800, 4_000, 4_000),
    (22, 1_620, 20_250, 4_000, 4_000),
    (30, 1_620, 40_500, 10_000, 10_000),
    (31, 3_600, 108_000, 14_000, 14_000),
    (32, 5_120, 216_000, 20_000, 20_000),
    (40, 8_192, 245_760, 20_000, 25_000),
    (41, 8_192, 245_760, 50_000, 62_500),
    (42, 8_704, 522_240, 50_000, 62_500),
    (50, 22_080, 589_824, 135_000, 135_000),
    (51, 36_864, 983_040, 240_000, 240_000),
    (52, 36_864, 2_073_600, 240_000, 240_000),
    (60, 139_264, 4_177_920, 240_000, 240_000),
    (61, 139_264, 8_355_840, 480_000, 480_000),
    (62, 139_264, 16_711_680, 800_000, 800_000),
];

/// Level, largest luma picture in samples, luma samples a second, rate in kb/s and buffer in kb of the Main tier.
const HEVC: [Row; 13] = [
    (10, 36_864, 552_960, 128, 350),
    (20, 122_880, 3_686_400, 1_500, 1_500),
    (21, 245_760, 7_372_800, 3_000, 3_000),
    (30, 552_960, 16_588_800, 6_000, 6_000),
    (31, 983_040, 33_177_600, 10_000, 10_000),
    (40, 2_228_224, 66_846_720, 12_000, 12_000),
    (41, 2_228_224, 133_693_440, 20_000, 20_000),
    (50, 8_912_896, 267_386_880, 25_000, 25_000),
    (51, 8_912_896, 534_773_760, 40_000, 40_000),
    (52, 8_912_896, 1_069_547_520, 60_000, 60_000),
    (60, 35_651_584, 1_069_547_520, 60_000, 60_000),
    (61, 35_651_584, 2_139_095_040, 120_000, 120_000),
    (62, 35_651_584, 4_278_190_080, 240_000, 240_000),
];

/// A row of a table.
type Row = (u8, u64, u64, u64, u64);

fn table(codec: PictureCodec) -> &'static [Row] {
    match codec {
        PictureCodec::H264 => &H264,
        PictureCodec::Hevc => &HEVC,
        PictureCodec::Prores | PictureCodec::Mpeg2 | PictureCodec::Ffv1 => &[],
    }
}

fn limits(codec: PictureCodec, level: Level) -> Option<&'static Row> {
    table(codec).iter().find(|row| row.0 == level.0)
}

/// How fast a stream may come at most, and how much a player holds of it before it is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Peak {
    /// The highest rate.
    pub bits_per_second: BitRate,
    /// Bits of the buffer.
    pub buffer: u64,
}

/// What streams of `level` may take at most, or nothing where the codec has no such level.
#[must_use]
pub fn peak(codec: PictureCodec, profile: Profile, level: Level) -> Option<Peak> {
    let (.., kilobits, buffer) = limits(codec, level)?;
    // Table A-2: factors of cpbBrVclFactor over the 1000 of Baseline and Main.
    let per_mille = match profile {
        Profile::High => 1250,
        Profile::High10 => 3000,
        Profile::High422 => 4000,
        _ => 1000,
    };
    Some(Peak { bits_per_second: BitRate(kilobits * per_mille), buffer: buffer * per_mille })
}

/// The highest rate at `level`, or nothing where the codec has no such level.
#[must_use]
pub fn highest_rate(codec: PictureCodec, profile: Profile, level: Level) -> Option<BitRate> {
    peak(codec, profile, level).map(|peak| peak.bits_per_second)
}

/// Whether frames of this size and rate are allowed at `level`.
#[must_use]
pub fn allows(codec: PictureCodec, level: Level, width: u32, height: u32, rate: Rational) -> bool {
    let Some((_, frame, second, ..)) = limits(codec, level) else { return false };
    let units = match codec {
        PictureCodec::H264 => u64::from(width.div_ceil(16)) * u64::from(height.div_ceil(16)),
        PictureCodec::Hevc | PictureCodec::Prores | PictureCodec::Mpeg2 | PictureCodec::Ffv1 => {
            u64::from(width) * u64::from(height)
        }
    };
    let per_second = Rational::whole(i64::try_from(units).unwrap_or(i64::MAX)) * rate;
    units <= *frame && per_second <= Rational::whole(i64::try_from(*second).unwrap_or(i64::MAX))
}

/// The lowest level that allows frames of this size and rate with so many bits in the richest second; nothing where
/// the codec has no levels, or none that is high enough.
#[must_use]
pub fn needed(codec: PictureCodec, profile: Profile, width: u32, height: u32, rate: Rational, peak: BitRate) -> Option<Level> {
    table(codec).iter().map(|row| Level(row.0)).find(|level| {
        allows(codec, *level, width, height, rate) && highest_rate(codec, profile, *level).is_some_and(|most| peak <= most)
    })
}

/// Whether MPEG-2 has a code for this frame rate.
#[must_use]
pub fn mpeg2_has_rate(rate: Rational) -> bool {
    const CODED: [Rational; 8] = [
        Rational::constant(24_000, 1001),
        Rational::whole(24),
        Rational::whole(25),
        Rational::constant(30_000, 1001),
        Rational::whole(30),
        Rational::whole(50),
        Rational::constant(60_000, 1001),
        Rational::whole(60),
    ];
    CODED.contains(&rate)
}

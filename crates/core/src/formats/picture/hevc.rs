//! HEVC (ITU-T H.265).

use super::{
    EVERYWHERE, Effects, FieldsIn, FullRange, Groups, Held, PictureDeclaration, ProfileDeclaration, Rates, SizeModel, Stores,
};
use crate::formats::Container;
use crate::formats::level::{LevelLimits, Levels, row};
use crate::picture::Primaries;

/// HEVC. Its encoder codes whole frames.
pub(super) static DECLARATION: PictureDeclaration = PictureDeclaration {
    id: "hevc",
    words: "HEVC",
    probe_name: "hevc",
    profiles: &[
        ProfileDeclaration {
            fields: FieldsIn::Never,
            holds_lossless: true,
            ..ProfileDeclaration::of("main", "Main", &["Main"], Stores::As("yuv420p"))
        },
        ProfileDeclaration {
            fields: FieldsIn::Never,
            holds_lossless: true,
            ..ProfileDeclaration::of("main10", "Main 10", &["Main 10"], Stores::As("yuv420p10le"))
        },
        ProfileDeclaration {
            fields: FieldsIn::Never,
            holds_lossless: true,
            ..ProfileDeclaration::of("main422_10", "Main 4:2:2 10", &["Rext"], Stores::As("yuv422p10le"))
        },
    ],
    usual_profile: "main",
    rates: Rates::Chosen { quality: 0..=51, unit: "CRF" },
    // Of key frames alone it is another profile, which fewer players know.
    groups: Groups::Long { least: 2 },
    containers: &[Container::Mp4, Container::Mov, Container::Mkv],
    full_range: FullRange::In(EVERYWHERE),
    unknown_primaries: &[Primaries::Ebu3213],
    levels: Levels::OfSamples(&LEVELS),
    is_for_size: true,
    size: SizeModel::Quality { at: 23, bits_per_pixel: 0.030, to_halve: 6.0 },
    appetite: Some(0.65),
    effort: [
        Effects { size: 1.15, nanoseconds: 45.0, look_ahead: 10, first_pass: 0.5 },
        Effects { size: 1.0, nanoseconds: 90.0, look_ahead: 20, first_pass: 0.5 },
        Effects { size: 0.95, nanoseconds: 225.0, look_ahead: 25, first_pass: 0.5 },
    ],
    // What it notes of blocks does not become less with the bits of a sample.
    held: Held { always: 310, ahead: 27, by_thread: 10, least_depth_tenths: 6, written_per_pixel: 0 },
    ..PictureDeclaration::PLAIN
};

/// Tables A.8 and A.9: samples of luma of a picture and a second, rate and buffer of the Main tier.
static LEVELS: [LevelLimits; 13] = [
    row(10, 36_864, 552_960, 128, 350),
    row(20, 122_880, 3_686_400, 1_500, 1_500),
    row(21, 245_760, 7_372_800, 3_000, 3_000),
    row(30, 552_960, 16_588_800, 6_000, 6_000),
    row(31, 983_040, 33_177_600, 10_000, 10_000),
    row(40, 2_228_224, 66_846_720, 12_000, 12_000),
    row(41, 2_228_224, 133_693_440, 20_000, 20_000),
    row(50, 8_912_896, 267_386_880, 25_000, 25_000),
    row(51, 8_912_896, 534_773_760, 40_000, 40_000),
    row(52, 8_912_896, 1_069_547_520, 60_000, 60_000),
    row(60, 35_651_584, 1_069_547_520, 60_000, 60_000),
    row(61, 35_651_584, 2_139_095_040, 120_000, 120_000),
    row(62, 35_651_584, 4_278_190_080, 240_000, 240_000),
];

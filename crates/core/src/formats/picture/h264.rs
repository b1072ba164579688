//! H.264 / AVC (ITU-T H.264).

use super::{
    EVERYWHERE, Effects, FieldsIn, FullRange, Groups, Held, PictureDeclaration, ProfileDeclaration, Rates, SizeModel, Stores,
};
use crate::formats::Container;
use crate::formats::level::{LevelLimits, Levels, row};
use crate::picture::Primaries;

/// H.264.
pub(super) static DECLARATION: PictureDeclaration = PictureDeclaration {
    id: "h264",
    words: "H.264",
    probe_name: "h264",
    profiles: &[
        ProfileDeclaration {
            fields: FieldsIn::Multiples(4),
            ..ProfileDeclaration::of("baseline", "Baseline", &["Constrained Baseline", "Baseline"], Stores::As("yuv420p"))
        },
        ProfileDeclaration {
            fields: FieldsIn::Multiples(4),
            ..ProfileDeclaration::of("main", "Main", &["Main", "Constrained Baseline"], Stores::As("yuv420p"))
        },
        ProfileDeclaration {
            fields: FieldsIn::Multiples(4),
            level_per_mille: 1250,
            ..ProfileDeclaration::of("high", "High", &["High", "Main", "Constrained Baseline"], Stores::As("yuv420p"))
        },
        ProfileDeclaration {
            fields: FieldsIn::Multiples(4),
            level_per_mille: 3000,
            holds_lossless: true,
            ..ProfileDeclaration::of("high10", "High 10", &["High 10", "High 10 Intra"], Stores::As("yuv420p10le"))
        },
        ProfileDeclaration {
            level_per_mille: 4000,
            holds_lossless: true,
            ..ProfileDeclaration::of("high422", "High 4:2:2", &["High 4:2:2", "High 4:2:2 Intra"], Stores::As("yuv422p10le"))
        },
    ],
    usual_profile: "high",
    rates: Rates::Chosen { quality: 0..=51, unit: "CRF" },
    groups: Groups::Long { least: 1 },
    containers: &[Container::Mp4, Container::Mov, Container::Mkv],
    full_range: FullRange::In(EVERYWHERE),
    // Its encoder refuses to write them.
    unknown_primaries: &[Primaries::Ebu3213],
    levels: Levels::OfMacroblocks(&LEVELS),
    is_for_size: true,
    size: SizeModel::Quality { at: 23, bits_per_pixel: 0.048, to_halve: 6.0 },
    appetite: Some(1.0),
    effort: [
        Effects { size: 1.15, nanoseconds: 8.0, look_ahead: 10, first_pass: 0.5 },
        Effects { size: 1.0, nanoseconds: 16.0, look_ahead: 40, first_pass: 0.22 },
        Effects { size: 0.95, nanoseconds: 40.0, look_ahead: 50, first_pass: 0.15 },
    ],
    held: Held { always: 260, ahead: 21, by_thread: 40, least_depth_tenths: 0, written_per_pixel: 0 },
    ..PictureDeclaration::PLAIN
};

/// Table A-1: macroblocks of a frame and a second, rate and buffer of Baseline and Main.
static LEVELS: [LevelLimits; 19] = [
    row(10, 99, 1_485, 64, 175),
    row(11, 396, 3_000, 192, 500),
    row(12, 396, 6_000, 384, 1_000),
    row(13, 396, 11_880, 768, 2_000),
    row(20, 396, 11_880, 2_000, 2_000),
    row(21, 792, 19_800, 4_000, 4_000),
    row(22, 1_620, 20_250, 4_000, 4_000),
    row(30, 1_620, 40_500, 10_000, 10_000),
    row(31, 3_600, 108_000, 14_000, 14_000),
    row(32, 5_120, 216_000, 20_000, 20_000),
    row(40, 8_192, 245_760, 20_000, 25_000),
    row(41, 8_192, 245_760, 50_000, 62_500),
    row(42, 8_704, 522_240, 50_000, 62_500),
    row(50, 22_080, 589_824, 135_000, 135_000),
    row(51, 36_864, 983_040, 240_000, 240_000),
    row(52, 36_864, 2_073_600, 240_000, 240_000),
    row(60, 139_264, 4_177_920, 240_000, 240_000),
    row(61, 139_264, 8_355_840, 480_000, 480_000),
    row(62, 139_264, 16_711_680, 800_000, 800_000),
];

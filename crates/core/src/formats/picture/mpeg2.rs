//! MPEG-2 video (ISO/IEC 13818-2).

use super::{Effects, FrameRates, Groups, Held, PictureDeclaration, ProfileDeclaration, Rates, SizeModel, Stores};
use crate::formats::Container;
use crate::picture::ChromaSite;
use crate::time::Rational;

/// MPEG-2.
pub(super) static DECLARATION: PictureDeclaration = PictureDeclaration {
    id: "mpeg2",
    words: "MPEG-2",
    probe_name: "mpeg2video",
    profiles: &[
        ProfileDeclaration::of("main", "Main", &["Main"], Stores::As("yuv420p")),
        ProfileDeclaration::of("mpeg2_422", "4:2:2", &["4:2:2"], Stores::As("yuv422p")),
    ],
    usual_profile: "main",
    rates: Rates::Chosen { quality: 1..=31, unit: "quantiser" },
    groups: Groups::Long { least: 1 },
    containers: &[Container::Mp4, Container::Mov, Container::Mkv],
    frame_rates: FrameRates::These(&CODED_RATES),
    // Twelve bits of each side stand in the header that comes first, and may not all be nought.
    unsayable_sides: Some(4096),
    // 6.1.1.8 has no other place.
    chroma: Some(ChromaSite::Left),
    size: SizeModel::Quality { at: 5, bits_per_pixel: 0.30, to_halve: 5.0 },
    appetite: Some(2.5),
    // Both passes do the same work, and so do all degrees of effort.
    effort: [Effects { size: 1.0, nanoseconds: 6.0, look_ahead: 0, first_pass: 0.5 }; 3],
    held: Held { always: 160, ahead: 0, by_thread: 20, least_depth_tenths: 0, written_per_pixel: 0 },
    ..PictureDeclaration::PLAIN
};

/// Table 6-4.
static CODED_RATES: [Rational; 8] = [
    Rational::constant(24_000, 1001),
    Rational::whole(24),
    Rational::whole(25),
    Rational::constant(30_000, 1001),
    Rational::whole(30),
    Rational::whole(50),
    Rational::constant(60_000, 1001),
    Rational::whole(60),
];

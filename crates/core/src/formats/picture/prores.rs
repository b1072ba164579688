//! ProRes (SMPTE RDD 36).

use super::{Effects, Groups, Held, PictureDeclaration, ProfileDeclaration, Rates, SizeModel, Stores};
use crate::formats::Container;

/// ProRes.
pub(super) static DECLARATION: PictureDeclaration = PictureDeclaration {
    id: "prores",
    words: "ProRes",
    probe_name: "prores",
    profiles: &[
        kind("proxy", "422 Proxy", &["Proxy"], Stores::As("yuv422p10le"), &[300, 242, 220, 194]),
        kind("lt", "422 LT", &["LT"], Stores::As("yuv422p10le"), &[720, 560, 490, 440]),
        kind("standard", "422", &["Standard"], Stores::As("yuv422p10le"), &[1050, 808, 710, 632]),
        kind("hq", "422 HQ", &["HQ"], Stores::As("yuv422p10le"), &[1566, 1216, 1070, 950]),
        kind("4444", "4444", &["4444"], FULL, &[2350, 1828, 1600, 1425]),
        kind("4444xq", "4444 XQ", &["XQ"], FULL, &[3525, 2742, 2400, 2137]),
    ],
    usual_profile: "standard",
    rates: Rates::OfProfile,
    groups: Groups::Intra,
    containers: &[Container::Mov, Container::Mkv],
    // The library names the form of its own decoder, whatever the file was made of.
    tells_pixel_format: false,
    size: SizeModel::OfProfile,
    effort: [Effects { size: 1.0, nanoseconds: 12.0, look_ahead: 0, first_pass: 0.5 }; 3],
    held: Held { always: 20, ahead: 0, by_thread: 10, least_depth_tenths: 0, written_per_pixel: 0 },
    ..PictureDeclaration::PLAIN
};

const FULL: Stores = Stores::WithAlpha { opaque: "yuv444p10le", alpha: "yuva444p10le" };

/// A kind with the bits of a macroblock that it aims at, as the library's encoder has them.
const fn kind(
    id: &'static str,
    words: &'static str,
    in_files: &'static [&'static str],
    stores: Stores,
    bits_of_macroblock: &'static [u32; 4],
) -> ProfileDeclaration {
    ProfileDeclaration { bits_of_macroblock: Some(bits_of_macroblock), ..ProfileDeclaration::of(id, words, in_files, stores) }
}

//! FFV1 (RFC 9043): every sample comes out as it went in.

use super::{Effects, FullRange, Groups, Held, PictureDeclaration, ProfileDeclaration, Rates, SizeModel, Stores};
use crate::formats::Container;
use crate::picture::PixelFormat;

/// FFV1.
pub(super) static DECLARATION: PictureDeclaration = PictureDeclaration {
    id: "ffv1",
    words: "FFV1",
    probe_name: "ffv1",
    profiles: &[ProfileDeclaration::of("lossless", "lossless", &[], Stores::By(stored))],
    usual_profile: "lossless",
    rates: Rates::OfProfile,
    groups: Groups::Intra,
    containers: &[Container::Mov, Container::Mkv],
    full_range: FullRange::In(&[Container::Mkv]),
    size: SizeModel::Lossless,
    effort: [Effects { size: 1.0, nanoseconds: 6.0, look_ahead: 0, first_pass: 0.5 }; 3],
    // What the worst of noise would need is taken to write into.
    held: Held { always: 40, ahead: 0, by_thread: 20, least_depth_tenths: 0, written_per_pixel: 37 * 4 },
    ..PictureDeclaration::PLAIN
};

/// Red, green and blue of which samples are changed are stored as luma and chroma.
fn stored(source: &PixelFormat, stays_as_stored: bool) -> PixelFormat {
    let form = source.form();
    PixelFormat::named(match (form.is_rgb() && !stays_as_stored, form.has_alpha()) {
        (true, true) => "yuva444p10le",
        (true, false) => "yuv444p10le",
        (false, _) => lossless_format(source),
    })
}

/// The forms that FFV1 stores, of those that cameras, captures and screens come in.
const STORED_BY_FFV1: [&str; 45] = [
    "gray",
    "gray10le",
    "gray12le",
    "gray16le",
    "ya8",
    "yuv410p",
    "yuv411p",
    "yuv420p",
    "yuv422p",
    "yuv440p",
    "yuv444p",
    "yuva420p",
    "yuva422p",
    "yuva444p",
    "yuv420p9le",
    "yuv422p9le",
    "yuv444p9le",
    "yuv420p10le",
    "yuv422p10le",
    "yuv440p10le",
    "yuv444p10le",
    "yuva420p10le",
    "yuva422p10le",
    "yuva444p10le",
    "yuv420p12le",
    "yuv422p12le",
    "yuv440p12le",
    "yuv444p12le",
    "yuv420p14le",
    "yuv422p14le",
    "yuv444p14le",
    "yuv420p16le",
    "yuv422p16le",
    "yuv444p16le",
    "yuva420p16le",
    "yuva422p16le",
    "yuva444p16le",
    "bgr0",
    "bgra",
    "gbrp10le",
    "gbrp12le",
    "gbrp14le",
    "gbrp16le",
    "gbrap10le",
    "gbrap12le",
];

/// The form in which FFV1 keeps every sample of a picture with this pixel format; where it has none, luma and chroma
/// of 10 bit in full.
fn lossless_format(pixel_format: &PixelFormat) -> &'static str {
    // The same samples in another order.
    let same = [
        ("nv12", "yuv420p"),
        ("nv21", "yuv420p"),
        ("nv16", "yuv422p"),
        ("nv24", "yuv444p"),
        ("nv42", "yuv444p"),
        ("yuyv422", "yuv422p"),
        ("yvyu422", "yuv422p"),
        ("uyvy422", "yuv422p"),
        ("uyyvyy411", "yuv411p"),
        ("p010le", "yuv420p10le"),
        ("p210le", "yuv422p10le"),
        ("p410le", "yuv444p10le"),
        ("y210le", "yuv422p10le"),
        ("y212le", "yuv422p12le"),
        ("nv20le", "yuv422p10le"),
        ("p016le", "yuv420p16le"),
        ("p216le", "yuv422p16le"),
        ("p416le", "yuv444p16le"),
        ("rgb24", "bgr0"),
        ("bgr24", "bgr0"),
        ("gbrp", "bgr0"),
        ("rgb0", "bgr0"),
        ("0rgb", "bgr0"),
        ("0bgr", "bgr0"),
        ("rgba", "bgra"),
        ("argb", "bgra"),
        ("abgr", "bgra"),
        ("gbrap", "bgra"),
        ("pal8", "bgra"),
        ("rgb48le", "gbrp16le"),
        ("bgr48le", "gbrp16le"),
        ("monow", "gray"),
        ("monob", "gray"),
    ];
    let plain = pixel_format.without_range();
    let plain = plain.name().strip_suffix("be").map_or_else(|| plain.name().to_owned(), |name| format!("{name}le"));
    let kept = same.iter().find(|(name, _)| *name == plain).map_or(plain.as_str(), |(_, kept)| kept);
    STORED_BY_FFV1.into_iter().find(|stored| *stored == kept).unwrap_or("yuv444p10le")
}

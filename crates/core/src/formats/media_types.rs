//! Which files are offered as sources: by their extension, for browsing; the probe decides.

use crate::path::StoragePath;

const MEDIA: [&str; 74] = [
    "mov", "mp4", "m4v", "mkv", "webm", "avi", "mxf", "mpg", "mpeg", "m2v", "vob", "ts", "m2ts", "mts", "dv", "wmv", "flv",
    "ogv", "3gp", "y4m", "wav", "aif", "aiff", "flac", "mp3", "m4a", "aac", "ogg", "opus", "ac3", "mka", "caf", "w64", "rf64",
    "qt", "mod", "tod", "h264", "264", "h265", "265", "hevc", "nut", "asf", "wma", "f4v", "3g2", "m2t", "trp", "m1v", "mpv",
    "mpe", "m2p", "divx", "gxf", "lxf", "ivf", "obu", "rm", "gif", "mp2", "oga", "spx", "aifc", "au", "eac3", "dts", "thd",
    "amr", "tta", "wv", "ape", "voc", "bwf",
];

const IMAGES: [&str; 7] = ["png", "tif", "tiff", "jpg", "jpeg", "dpx", "exr"];

/// Whether a name looks like media.
#[must_use]
pub fn looks_like_media(path: &StoragePath) -> bool {
    MEDIA.contains(&path.extension().as_str())
}

/// Whether an extension (in lower case) is that of an image format.
#[must_use]
pub fn is_image_extension(extension: &str) -> bool {
    IMAGES.contains(&extension)
}

/// Whether a name looks like one image of a sequence: an image whose stem ends in figures.
#[must_use]
pub fn looks_like_sequence_image(path: &StoragePath) -> bool {
    is_image_extension(&path.extension()) && path.stem().ends_with(|last: char| last.is_ascii_digit())
}

/// The parts of a numbered image's name: what stands before the number, how many figures it has,
/// the number, and what follows.
#[must_use]
pub fn image_number(name: &[u8]) -> Option<(&[u8], usize, u64, &[u8])> {
    let dot = name.iter().rposition(|byte| *byte == b'.')?;
    let start = name[..dot].iter().rposition(|byte| !byte.is_ascii_digit()).map_or(0, |last| last + 1);
    let figures = name.get(start..dot).filter(|figures| !figures.is_empty() && figures.len() <= 10)?;
    let number = std::str::from_utf8(figures).ok()?.parse().ok()?;
    Some((&name[..start], figures.len(), number, &name[dot..]))
}

/// The name of the image `offset` after the one called `first`.
#[must_use]
pub fn image_name(first: &[u8], offset: u64) -> Option<Vec<u8>> {
    let (before, figures, number, after) = image_number(first)?;
    let mut name = before.to_vec();
    name.extend_from_slice(format!("{:0figures$}", number + offset).as_bytes());
    name.extend_from_slice(after);
    Some(name)
}

//! Pixel formats: what they hold, told from their short names, and what is lost from one to the other.

use std::borrow::Cow;
use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::{Range, Rectangle};

/// A pixel format: the libraries' short name, and by it what pictures hold.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
#[schema(value_type = String)]
pub struct PixelFormat(Cow<'static, str>);

impl PixelFormat {
    /// The one with this name.
    #[must_use]
    pub const fn named(name: &'static str) -> Self {
        Self(Cow::Borrowed(name))
    }

    /// Its short name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.0
    }

    /// What it holds: sampling, depth and alpha.
    #[must_use]
    pub fn form(&self) -> PixelForm {
        PixelForm::of(&self.0)
    }

    /// The range that its name says, for those of JPEG.
    #[must_use]
    pub fn range(&self) -> Option<Range> {
        self.0.starts_with("yuvj").then_some(Range::Full)
    }

    /// The same samples without a word on their range.
    #[must_use]
    pub fn without_range(&self) -> Self {
        match self.0.strip_prefix("yuvj") {
            Some(rest) => Self(Cow::Owned(format!("yuv{rest}"))),
            None => self.clone(),
        }
    }
}

impl From<&str> for PixelFormat {
    fn from(name: &str) -> Self {
        Self(Cow::Owned(name.to_owned()))
    }
}

impl From<String> for PixelFormat {
    fn from(name: String) -> Self {
        Self(Cow::Owned(name))
    }
}

impl PartialEq<str> for PixelFormat {
    fn eq(&self, name: &str) -> bool {
        self.0 == name
    }
}

impl PartialEq<&str> for PixelFormat {
    fn eq(&self, name: &&str) -> bool {
        self.0 == *name
    }
}

impl fmt::Display for PixelFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The planes of colour beside luma.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Colours {
    /// None.
    Grey,
    /// Two, one sample for so many columns and lines of luma.
    Shared { columns: u32, lines: u32 },
    /// Red, green and blue.
    Rgb,
}

/// What a pixel format holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PixelForm {
    colours: Colours,
    /// Bits of a sample.
    pub depth: u32,
    /// Whether it tells how transparent each pixel is.
    has_alpha: bool,
}

const FULL_COLOUR: Colours = Colours::Shared { columns: 1, lines: 1 };

/// Names that do not say in themselves what they hold, by how they begin: colours, alpha and bits of a sample.
const NAMED: [(&str, Colours, bool, u32); 29] = [
    ("nv12", Colours::Shared { columns: 2, lines: 2 }, false, 8),
    ("nv21", Colours::Shared { columns: 2, lines: 2 }, false, 8),
    ("nv16", Colours::Shared { columns: 2, lines: 1 }, false, 8),
    ("nv20", Colours::Shared { columns: 2, lines: 1 }, false, 10),
    ("nv24", FULL_COLOUR, false, 8),
    ("nv42", FULL_COLOUR, false, 8),
    ("yuyv422", Colours::Shared { columns: 2, lines: 1 }, false, 8),
    ("yvyu422", Colours::Shared { columns: 2, lines: 1 }, false, 8),
    ("uyvy422", Colours::Shared { columns: 2, lines: 1 }, false, 8),
    ("uyyvyy411", Colours::Shared { columns: 4, lines: 1 }, false, 8),
    ("y210", Colours::Shared { columns: 2, lines: 1 }, false, 10),
    ("y212", Colours::Shared { columns: 2, lines: 1 }, false, 12),
    ("p010", Colours::Shared { columns: 2, lines: 2 }, false, 10),
    ("p016", Colours::Shared { columns: 2, lines: 2 }, false, 16),
    ("p210", Colours::Shared { columns: 2, lines: 1 }, false, 10),
    ("p216", Colours::Shared { columns: 2, lines: 1 }, false, 16),
    ("p410", FULL_COLOUR, false, 10),
    ("p416", FULL_COLOUR, false, 16),
    ("ayuv64", FULL_COLOUR, true, 16),
    ("vuya", FULL_COLOUR, true, 8),
    ("vuyx", FULL_COLOUR, false, 8),
    ("mono", Colours::Grey, false, 1),
    ("xyz12", Colours::Rgb, false, 12),
    ("x2rgb10", Colours::Rgb, false, 10),
    ("x2bgr10", Colours::Rgb, false, 10),
    ("rgba64", Colours::Rgb, true, 16),
    ("bgra64", Colours::Rgb, true, 16),
    ("rgb48", Colours::Rgb, false, 16),
    ("bgr48", Colours::Rgb, false, 16),
];

impl PixelForm {
    /// What the pixel format with this short name of the libraries holds.
    fn of(pixel_format: &str) -> Self {
        let name = pixel_format.trim_end_matches("le").trim_end_matches("be");
        if let Some((_, colours, has_alpha, depth)) = NAMED.iter().find(|(start, ..)| name.starts_with(start)) {
            return Self { colours: *colours, depth: *depth, has_alpha: *has_alpha };
        }
        // Bits stand at the end, behind the “p” of planes or the name of the one plane.
        let digits = name.len() - name.trim_end_matches(|letter: char| letter.is_ascii_digit()).len();
        let (head, bits) = name.split_at(name.len() - digits);
        let planes = ["p", "pf", "gray", "grayf", "ya"].iter().any(|end| head.ends_with(end));
        let depth = bits.parse().ok().filter(|_| planes).unwrap_or(8);
        let has_alpha =
            ["yuva", "rgba", "bgra", "argb", "abgr", "gbrap", "ya", "pal8"].iter().any(|start| name.starts_with(start));
        let colours = if name.starts_with("gray") || name.starts_with("ya") {
            Colours::Grey
        } else if is_rgb(name) {
            Colours::Rgb
        } else {
            [("410", 4, 4), ("411", 4, 1), ("420", 2, 2), ("422", 2, 1), ("440", 1, 2)]
                .iter()
                .find(|(part, ..)| head.contains(part))
                .map_or(FULL_COLOUR, |(_, columns, lines)| Colours::Shared { columns: *columns, lines: *lines })
        };
        Self { colours, depth, has_alpha }
    }

    /// Whether it tells how transparent each pixel is.
    #[must_use]
    pub const fn has_alpha(self) -> bool {
        self.has_alpha
    }

    /// Bytes of a picture of so many columns and lines, in planes.
    #[must_use]
    pub fn picture_bytes(self, (width, height): (u32, u32)) -> u64 {
        let [width, height] = [u64::from(width), u64::from(height)];
        let colours = self.shared().map_or(0, |(columns, lines)| {
            2 * width.div_ceil(u64::from(columns)).saturating_mul(height.div_ceil(u64::from(lines)))
        });
        let samples = width.saturating_mul(height).saturating_mul(1 + u64::from(self.has_alpha)).saturating_add(colours);
        samples.saturating_mul(u64::from(self.depth.div_ceil(8)))
    }

    /// Whether it holds red, green and blue.
    #[must_use]
    pub const fn is_rgb(self) -> bool {
        matches!(self.colours, Colours::Rgb)
    }

    /// The same with so many bits a sample.
    #[must_use]
    pub const fn with_depth(self, depth: u32) -> Self {
        Self { depth, ..self }
    }

    /// The same without alpha.
    #[must_use]
    pub const fn opaque(self) -> Self {
        Self { has_alpha: false, ..self }
    }

    /// The same with red, green and blue.
    #[must_use]
    pub const fn as_rgb(self) -> Self {
        Self { colours: Colours::Rgb, ..self }
    }

    /// The same with luma and a sample of each colour difference for every pixel.
    #[must_use]
    pub const fn in_full_colour(self) -> Self {
        Self { colours: FULL_COLOUR, ..self }
    }

    /// The same with colour on every line.
    #[must_use]
    pub const fn with_lines_of_colour(self) -> Self {
        match self.colours {
            Colours::Shared { columns, .. } => Self { colours: Colours::Shared { columns, lines: 1 }, ..self },
            Colours::Grey | Colours::Rgb => self,
        }
    }

    /// The same, with colour for every pixel where a part could not be cut out otherwise without moving it.
    #[must_use]
    pub fn parted_at(self, part: Rectangle) -> Self {
        let (columns, lines) = self.shared().unwrap_or((1, 1));
        let is_between = |place: u32, step: u32| !place.is_multiple_of(step);
        if is_between(part.x, columns) || is_between(part.y, lines) { self.in_full_colour() } else { self }
    }

    /// The pixel format that holds this in planes, each sample of more than 8 bits in two bytes, the lower one first;
    /// where the libraries have none, the least that holds as much.
    #[must_use]
    pub fn planar(self) -> PixelFormat {
        let alpha = if self.has_alpha { "a" } else { "" };
        let depth = match self.depth {
            0..=8 => 8,
            9 if !(self.has_alpha && self.is_rgb()) => 9,
            9 | 10 => 10,
            11 | 12 => 12,
            14 if !self.has_alpha => 14,
            13..=16 => 16,
            _ => 32,
        };
        let bits = match depth {
            8 => String::new(),
            32 => "f32le".to_owned(),
            depth => format!("{depth}le"),
        };
        let sampling = match (self.colours, depth) {
            (Colours::Grey, 32) if !self.has_alpha => return PixelFormat::named("grayf32le"),
            (Colours::Grey, _) if !self.has_alpha => return format!("gray{bits}").into(),
            (Colours::Rgb, _) | (_, 32) => return format!("gbr{alpha}p{bits}").into(),
            (Colours::Shared { columns: 4, lines: 4 }, 8) if !self.has_alpha => "410",
            (Colours::Shared { columns: 4, lines: 1 }, 8) if !self.has_alpha => "411",
            (Colours::Shared { columns: 1, lines: 2 }, 8 | 10 | 12) if !self.has_alpha => "440",
            (Colours::Shared { columns: 2 | 4, lines: 2 | 4 }, _) => "420",
            (Colours::Shared { columns: 2 | 4, .. }, _) => "422",
            (Colours::Shared { .. } | Colours::Grey, _) => "444",
        };
        format!("yuv{alpha}{sampling}p{bits}").into()
    }

    /// How colour is stored, as the trade writes it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self.colours {
            Colours::Grey => "grey",
            Colours::Rgb => "RGB",
            Colours::Shared { columns: 4, lines: 4 } => "4:1:0",
            Colours::Shared { columns: 4, .. } => "4:1:1",
            Colours::Shared { columns: 2, lines: 2 } => "4:2:0",
            Colours::Shared { columns: 2, .. } => "4:2:2",
            Colours::Shared { lines: 2, .. } => "4:4:0",
            Colours::Shared { .. } => "4:4:4",
        }
    }

    /// How many columns and lines of luma share a sample of colour; nothing without colour.
    #[must_use]
    pub const fn shared(self) -> Option<(u32, u32)> {
        match self.colours {
            Colours::Grey => None,
            Colours::Rgb => Some((1, 1)),
            Colours::Shared { columns, lines } => Some((columns, lines)),
        }
    }

    /// What of a picture with these samples is gone where it is stored as others, a few words each.
    #[must_use]
    pub fn lost_in(self, made: Self) -> Vec<String> {
        let mut lost = Vec::new();
        if self.depth > made.depth {
            lost.push(format!("{} bits of a sample become {}", self.depth, made.depth));
        }
        let is_coarser = |(columns, lines): (u32, u32)| made.shared().is_none_or(|(most, down)| most > columns || down > lines);
        if self.shared().is_some_and(is_coarser) {
            lost.push(format!("{} becomes {}", self.words(), made.words()));
        }
        if self.has_alpha && !made.has_alpha {
            lost.push("alpha is left out".to_owned());
        }
        lost
    }
}

/// Whether a pixel format holds red, green and blue.
fn is_rgb(pixel_format: &str) -> bool {
    ["rgb", "bgr", "gbr", "argb", "abgr", "0rgb", "0bgr", "pal8", "x2rgb", "x2bgr", "xyz"]
        .iter()
        .any(|start| pixel_format.starts_with(start))
}

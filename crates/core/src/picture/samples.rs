//! The form of pictures at one point of their way.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::{Colour, PixelForm};

/// What the codes of a picture mean, in the libraries' words for the numbers of ITU-T H.273.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct ColourSpace {
    /// Primaries.
    pub primaries: String,
    /// Transfer.
    pub transfer: String,
    /// Matrix; `gbr` for red, green and blue.
    pub matrix: String,
    /// Whether the codes use the full range.
    pub full_range: bool,
}

impl ColourSpace {
    /// Rec. 709 in the limited range.
    #[must_use]
    pub fn rec709() -> Self {
        let word = || "bt709".to_owned();
        Self { primaries: word(), transfer: word(), matrix: word(), full_range: false }
    }

    /// The transfer by the name of the first of those that have its curve. Both kinds of BT.601 and BT.2020 have the one of
    /// BT.709; of 625 lines a gamma of 2.8 was once said (ITU-R BT.470), which no display for such pictures has had.
    #[must_use]
    pub fn curve(&self) -> &str {
        match self.transfer.as_str() {
            "smpte170m" | "bt470bg" | "bt2020-10" | "bt2020-12" => "bt709",
            other => other,
        }
    }

    /// The same light as luma and chroma, in the limited range where it was red, green and blue.
    #[must_use]
    pub fn in_luma_and_chroma(&self) -> Self {
        if self.matrix == "gbr" { Self { matrix: "bt709".to_owned(), full_range: false, ..self.clone() } } else { self.clone() }
    }

    /// The same light as red, green and blue, from 0 to the highest code.
    #[must_use]
    pub fn in_rgb(&self) -> Self {
        Self { matrix: "gbr".to_owned(), full_range: true, ..self.clone() }
    }
}

/// Where samples of colour lie between those of luma (ITU-T H.273, chroma sample location types 0 to 5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ChromaSite {
    /// At the columns of luma, between its lines: H.264, HEVC and MPEG-2 where nothing is said.
    #[default]
    Left,
    /// In the middle of the pixels: JPEG and MPEG-1.
    Center,
    /// At a pixel: BT.2020.
    TopLeft,
    /// Between the columns, at the lines.
    Top,
    /// At the lower of two pixels.
    BottomLeft,
    /// Between the columns, at the lower of two lines.
    Bottom,
}

impl ChromaSite {
    const ALL: [Self; 6] = [Self::Left, Self::Center, Self::TopLeft, Self::Top, Self::BottomLeft, Self::Bottom];

    /// The libraries' word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Left => "left",
            Self::Center => "center",
            Self::TopLeft => "topleft",
            Self::Top => "top",
            Self::BottomLeft => "bottomleft",
            Self::Bottom => "bottom",
        }
    }

    /// What the libraries' word says, if anything.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|site| site.word() == word)
    }

    /// As far as it means anything for pictures of this form: where all lines, or all columns, have colour, it lies at
    /// them.
    #[must_use]
    pub const fn within(self, form: PixelForm) -> Self {
        let (between_columns, of_lines) = match self {
            Self::Left => (false, 0),
            Self::Center => (true, 0),
            Self::TopLeft => (false, -1),
            Self::Top => (true, -1),
            Self::BottomLeft => (false, 1),
            Self::Bottom => (true, 1),
        };
        let Some((columns, lines)) = form.shared() else { return Self::Left };
        match (between_columns && columns > 1, if lines > 1 { of_lines } else { 0 }) {
            (false, 0) => Self::Left,
            (true, 0) => Self::Center,
            (false, ..0) => Self::TopLeft,
            (true, ..0) => Self::Top,
            (false, 1..) => Self::BottomLeft,
            (true, 1..) => Self::Bottom,
        }
    }
}

/// The form of pictures at one point of their way: how samples are stored, and what their codes mean.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct Samples {
    /// The pixel format in the libraries' short name, in planes.
    pub pixel_format: String,
    /// What the codes mean.
    pub space: ColourSpace,
    /// Where samples of colour lie.
    pub chroma: ChromaSite,
}

/// The numbers of ITU-T H.273 for primaries, transfers and matrices that are converted.
const NUMBERS: [&[(&str, u8)]; 3] = [
    &[
        ("bt709", 1),
        ("bt470m", 4),
        ("bt470bg", 5),
        ("smpte170m", 6),
        ("smpte240m", 7),
        ("film", 8),
        ("bt2020", 9),
        ("smpte428", 10),
        ("smpte431", 11),
        ("smpte432", 12),
        ("ebu3213", 22),
    ],
    &[
        ("bt709", 1),
        ("bt470m", 4),
        ("smpte240m", 7),
        ("linear", 8),
        ("log100", 9),
        ("log316", 10),
        ("iec61966-2-4", 11),
        ("iec61966-2-1", 13),
        ("smpte2084", 16),
        ("smpte428", 17),
        ("arib-std-b67", 18),
    ],
    &[
        ("gbr", 0),
        ("bt709", 1),
        ("fcc", 4),
        ("bt470bg", 5),
        ("smpte170m", 6),
        ("smpte240m", 7),
        ("ycgco", 8),
        ("bt2020nc", 9),
        ("bt2020c", 10),
        ("chroma-derived-nc", 12),
        ("chroma-derived-c", 13),
        ("ictcp", 14),
    ],
];

fn number(kind: usize, word: &str) -> Option<u8> {
    NUMBERS[kind].iter().find(|(known, _)| *known == word).map(|(_, number)| *number)
}

/// The numbers of primaries, transfer and matrix by which a conversion goes, on both sides: where nothing of a kind
/// changes and none is needed for what does, those of BT.709 stand on both.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Conversion {
    /// Of what goes in.
    pub from: [u8; 3],
    /// Of what comes out.
    pub to: [u8; 3],
}

impl Samples {
    /// How samples are stored.
    #[must_use]
    pub fn form(&self) -> PixelForm {
        PixelForm::of(&self.pixel_format)
    }

    /// The same with these samples in planes; colour lies where it lay, as far as it can.
    #[must_use]
    pub fn stored_as(&self, form: PixelForm) -> Self {
        let space = match (form.is_rgb(), self.form().is_rgb()) {
            (true, false) => self.space.in_rgb(),
            _ => self.space.clone(),
        };
        Self { pixel_format: form.planar(), space, chroma: self.chroma.within(form) }
    }

    /// What is said of their colour.
    #[must_use]
    pub fn colour(&self) -> Colour {
        let ColourSpace { primaries, transfer, matrix, full_range } = self.space.clone();
        Colour {
            primaries: Some(primaries),
            transfer: Some(transfer),
            matrix: Some(matrix),
            range: Some(if full_range { "pc" } else { "tv" }.to_owned()),
            chroma_location: Some(self.chroma.word().to_owned()),
        }
    }

    /// Whether fewer bits make a pattern necessary that hides the steps between codes.
    #[must_use]
    pub fn is_dithered_in(&self, to: &Self) -> bool {
        to.form().depth == 8 && self.form().depth > 8
    }

    /// By which numbers these samples become others.
    ///
    /// # Errors
    /// The first word that no conversion knows and that this one needs.
    pub fn conversion(&self, to: &Self) -> Result<Conversion, String> {
        let [from, to] = [&self.space, &to.space].map(|space| [space.primaries.as_str(), space.curve(), space.matrix.as_str()]);
        let needs_light = |word: &str| matches!(word, "bt2020c" | "ictcp" | "chroma-derived-c" | "chroma-derived-nc");
        let changes_light = from[..2] != to[..2];
        // Light is brought to standard displays alone.
        if changes_light && to[1] != "bt709" {
            return Err(to[1].to_owned());
        }
        let with_light = changes_light || from[2] != to[2] && (needs_light(from[2]) || needs_light(to[2]));
        let with_matrix = changes_light || from[2] != to[2] || from[2] == "gbr";
        let of = |side: [&str; 3]| -> Result<[u8; 3], String> {
            let mut numbers = [1; 3];
            for kind in 0..3 {
                if if kind == 2 { with_matrix } else { with_light } {
                    numbers[kind] = number(kind, side[kind]).ok_or_else(|| side[kind].to_owned())?;
                }
            }
            Ok(numbers)
        };
        Ok(Conversion { from: of(from)?, to: of(to)? })
    }
}

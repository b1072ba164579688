//! The form of pictures at one point of their way.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::{Colour, MatrixCoefficients, PixelForm, PixelFormat, Primaries, Range, Transfer};

/// What the codes of a picture mean, after ITU-T H.273.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct ColourSpace {
    /// Primaries.
    pub primaries: Primaries,
    /// Transfer.
    pub transfer: Transfer,
    /// Matrix.
    pub matrix: MatrixCoefficients,
    /// Whether the codes use the full range.
    pub full_range: bool,
}

impl ColourSpace {
    /// Rec. 709 in the limited range.
    #[must_use]
    pub const fn rec709() -> Self {
        Self { primaries: Primaries::Bt709, transfer: Transfer::Bt709, matrix: MatrixCoefficients::Bt709, full_range: false }
    }

    /// The first of the transfers that have its curve. Both kinds of BT.601 and BT.2020 have the one of BT.709; of 625
    /// lines a gamma of 2.8 was once said (ITU-R BT.470), which no display for such pictures has had.
    #[must_use]
    pub const fn curve(&self) -> Transfer {
        match self.transfer {
            Transfer::Bt601 | Transfer::Gamma28 | Transfer::Bt2020With10 | Transfer::Bt2020With12 => Transfer::Bt709,
            other => other,
        }
    }

    /// Primaries, curve and matrix: what is compared and converted.
    #[must_use]
    pub const fn meaning(&self) -> (Primaries, Transfer, MatrixCoefficients) {
        (self.primaries, self.curve(), self.matrix)
    }

    /// Primaries, transfer and matrix as people write them; once, where all are named alike.
    #[must_use]
    pub fn words(&self) -> String {
        let words = [self.primaries.words(), self.transfer.words(), self.matrix.words()];
        if words.iter().all(|word| *word == words[0]) { words[0].to_owned() } else { words.join(" / ") }
    }

    /// Whether its transfer is one of a high dynamic range.
    #[must_use]
    pub const fn is_high_range(&self) -> bool {
        matches!(self.transfer, Transfer::Pq | Transfer::Hlg)
    }

    /// Whether it is red, green and blue.
    #[must_use]
    pub const fn is_rgb(&self) -> bool {
        matches!(self.matrix, MatrixCoefficients::Rgb)
    }

    /// The same light as luma and chroma, in the limited range where it was red, green and blue.
    #[must_use]
    pub const fn in_luma_and_chroma(self) -> Self {
        if self.is_rgb() { Self { matrix: MatrixCoefficients::Bt709, full_range: false, ..self } } else { self }
    }

    /// The same light as red, green and blue, from 0 to the highest code.
    #[must_use]
    pub const fn in_rgb(self) -> Self {
        Self { matrix: MatrixCoefficients::Rgb, full_range: true, ..self }
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

    /// In a word.
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

    /// Its type in the standard.
    #[must_use]
    pub const fn number(self) -> u8 {
        self as u8
    }

    /// The place of this type, if there is one.
    #[must_use]
    pub fn numbered(number: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|site| site.number() == number)
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
    /// The pixel format, in planes.
    pub pixel_format: PixelFormat,
    /// What the codes mean.
    pub space: ColourSpace,
    /// Where samples of colour lie.
    pub chroma: ChromaSite,
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
        self.pixel_format.form()
    }

    /// The same with these samples in planes; colour lies where it lay, as far as it can.
    #[must_use]
    pub fn stored_as(&self, form: PixelForm) -> Self {
        let space = match (form.is_rgb(), self.form().is_rgb()) {
            (true, false) => self.space.in_rgb(),
            _ => self.space,
        };
        Self { pixel_format: form.planar(), space, chroma: self.chroma.within(form) }
    }

    /// What is said of their colour.
    #[must_use]
    pub fn colour(&self) -> Colour {
        let ColourSpace { primaries, transfer, matrix, full_range } = self.space;
        Colour {
            primaries: Some(primaries),
            transfer: Some(transfer),
            matrix: Some(matrix),
            range: Some(Range::of(full_range)),
            chroma_location: Some(self.chroma),
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
    /// What no conversion knows and this one needs, in words.
    pub fn conversion(&self, to: &Self) -> Result<Conversion, &'static str> {
        let [from, to] = [self.space.meaning(), to.space.meaning()];
        let needs_light = |matrix: MatrixCoefficients| {
            matches!(
                matrix,
                MatrixCoefficients::Bt2020Constant
                    | MatrixCoefficients::ICtCp
                    | MatrixCoefficients::OfPrimaries
                    | MatrixCoefficients::OfPrimariesConstant
            )
        };
        let changes_light = (from.0, from.1) != (to.0, to.1);
        // Light is brought to standard displays alone.
        if changes_light && to.1 != Transfer::Bt709 {
            return Err(to.1.words());
        }
        let with_light = changes_light || from.2 != to.2 && (needs_light(from.2) || needs_light(to.2));
        let with_matrix = changes_light || from.2 != to.2 || from.2 == MatrixCoefficients::Rgb;
        let of = |(primaries, curve, matrix): (Primaries, Transfer, MatrixCoefficients)| match (curve, matrix) {
            (Transfer::Bt1361, _) if with_light => Err(curve.words()),
            (_, MatrixCoefficients::St2085) if with_matrix => Err(matrix.words()),
            _ => Ok([
                if with_light { primaries.number() } else { 1 },
                if with_light { curve.number() } else { 1 },
                if with_matrix { matrix.number() } else { 1 },
            ]),
        };
        Ok(Conversion { from: of(from)?, to: of(to)? })
    }
}

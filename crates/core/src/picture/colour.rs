//! What the numbers of a picture mean, as files declare it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::h273::{MatrixCoefficients, Primaries, Range, Transfer, known};
use super::samples::ChromaSite;
use crate::time::Rational;

/// Colour tags after ITU-T H.273; `None` where not declared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Colour {
    /// Colour primaries.
    #[serde(default, deserialize_with = "known")]
    pub primaries: Option<Primaries>,
    /// Transfer characteristics.
    #[serde(default, deserialize_with = "known")]
    pub transfer: Option<Transfer>,
    /// Matrix coefficients.
    #[serde(default, deserialize_with = "known")]
    pub matrix: Option<MatrixCoefficients>,
    /// Which codes stand for black and white.
    #[serde(default, deserialize_with = "known")]
    pub range: Option<Range>,
    /// Where samples of chroma lie.
    #[serde(default, deserialize_with = "known")]
    pub chroma_location: Option<ChromaSite>,
}

impl Colour {
    /// Primaries, transfer and matrix in words, each with what it is.
    #[must_use]
    pub fn tags(&self) -> [(&'static str, Option<&'static str>); 3] {
        [
            ("colour primaries", self.primaries.map(Primaries::words)),
            ("transfer", self.transfer.map(Transfer::words)),
            ("matrix", self.matrix.map(MatrixCoefficients::words)),
        ]
    }

    /// Whether it says that codes have the full range.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.range == Some(Range::Full)
    }
}

/// HDR metadata: mastering display (SMPTE ST 2086) and content light level (CTA-861.3).
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Hdr {
    /// Red x, y, green x, y, blue x, y, white x, y, as fractions.
    pub primaries: Option<[Rational; 8]>,
    /// Lowest and highest luminance of the mastering display, cd/m².
    pub luminance: Option<[Rational; 2]>,
    /// Maximum content light level and maximum frame-average light level, cd/m².
    pub light_level: Option<[u32; 2]>,
}

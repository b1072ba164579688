//! What the numbers of a picture mean, as files declare it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;

/// Colour tags with the names of ITU-T H.273 as the library writes them; `None` where not declared.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Colour {
    /// Colour primaries, such as `bt709`.
    pub primaries: Option<String>,
    /// Transfer characteristics, such as `smpte2084`.
    pub transfer: Option<String>,
    /// Matrix coefficients, such as `bt709`, or `gbr` for RGB.
    pub matrix: Option<String>,
    /// `tv` (limited) or `pc` (full).
    pub range: Option<String>,
    /// Where chroma samples sit, such as `left`.
    pub chroma_location: Option<String>,
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

//! Colour by the code points of ITU-T H.273: primaries, transfer characteristics and matrix coefficients.

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

/// Declares one kind of code points: its name here, the number, the libraries' word, and what people call it.
macro_rules! code_points {
    ($(#[$about:meta])* $kind:ident { $($(#[$doc:meta])* $name:ident = $number:literal, $word:tt, $words:literal;)* }) => {
        $(#[$about])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
        pub enum $kind {
            $($(#[$doc])* #[serde(rename = $word)] $name = $number,)*
        }

        impl $kind {
            /// All of them in the order of their numbers.
            pub const ALL: &'static [Self] = &[$(Self::$name),*];

            /// Its number in the standard.
            #[must_use]
            pub const fn number(self) -> u8 {
                self as u8
            }

            /// The libraries' word for it.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$name => $word),* }
            }

            /// What has this number; nothing for those that say nothing and those that are reserved.
            #[must_use]
            pub fn numbered(number: u8) -> Option<Self> {
                Self::ALL.iter().copied().find(|one| one.number() == number)
            }

            /// As people write it.
            #[must_use]
            pub const fn words(self) -> &'static str {
                match self { $(Self::$name => $words),* }
            }
        }

        impl fmt::Display for $kind {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(self.words())
            }
        }
    };
}

code_points! {
    /// Colour primaries (table 2).
    Primaries {
        /// ITU-R BT.709.
        Bt709 = 1, "bt709", "BT.709";
        /// ITU-R BT.470, System M.
        Bt470M = 4, "bt470m", "BT.470 M";
        /// ITU-R BT.601 with 625 lines.
        Bt601With625 = 5, "bt470bg", "BT.601 with 625 lines";
        /// ITU-R BT.601 with 525 lines.
        Bt601With525 = 6, "smpte170m", "BT.601 with 525 lines";
        /// SMPTE ST 240.
        St240 = 7, "smpte240m", "ST 240";
        /// Film with illuminant C.
        Film = 8, "film", "film with illuminant C";
        /// ITU-R BT.2020 and BT.2100.
        Bt2020 = 9, "bt2020", "BT.2020";
        /// SMPTE ST 428-1: CIE 1931 X, Y and Z.
        St428 = 10, "smpte428", "ST 428-1";
        /// SMPTE RP 431-2: the projector's white.
        Rp431 = 11, "smpte431", "DCI P3";
        /// SMPTE EG 432-1: the same with D65.
        Eg432 = 12, "smpte432", "P3 D65";
        /// EBU Tech. 3213-E.
        Ebu3213 = 22, "ebu3213", "EBU 3213";
    }
}

code_points! {
    /// Transfer characteristics (table 3).
    Transfer {
        /// ITU-R BT.709.
        Bt709 = 1, "bt709", "BT.709";
        /// ITU-R BT.470, System M: a gamma of 2.2.
        Gamma22 = 4, "bt470m", "gamma 2.2";
        /// ITU-R BT.470, Systems B and G: a gamma of 2.8.
        Gamma28 = 5, "bt470bg", "gamma 2.8";
        /// ITU-R BT.601.
        Bt601 = 6, "smpte170m", "BT.601";
        /// SMPTE ST 240.
        St240 = 7, "smpte240m", "ST 240";
        /// Linear light.
        Linear = 8, "linear", "linear light";
        /// Logarithmic over two decades.
        Log100 = 9, "log100", "logarithmic, 100:1";
        /// Logarithmic over two and a half decades.
        Log316 = 10, "log316", "logarithmic, 316:1";
        /// IEC 61966-2-4.
        XvYcc = 11, "iec61966-2-4", "xvYCC";
        /// ITU-R BT.1361 with the extended gamut.
        Bt1361 = 12, "bt1361e", "BT.1361";
        /// IEC 61966-2-1.
        Srgb = 13, "iec61966-2-1", "sRGB";
        /// ITU-R BT.2020 with 10 bits.
        Bt2020With10 = 14, "bt2020-10", "BT.2020, 10 bit";
        /// ITU-R BT.2020 with 12 bits.
        Bt2020With12 = 15, "bt2020-12", "BT.2020, 12 bit";
        /// SMPTE ST 2084.
        Pq = 16, "smpte2084", "PQ";
        /// SMPTE ST 428-1.
        St428 = 17, "smpte428", "ST 428-1";
        /// ITU-R BT.2100, hybrid log-gamma.
        Hlg = 18, "arib-std-b67", "HLG";
    }
}

code_points! {
    /// Matrix coefficients (table 4).
    MatrixCoefficients {
        /// Red, green and blue.
        Rgb = 0, "gbr", "RGB";
        /// ITU-R BT.709.
        Bt709 = 1, "bt709", "BT.709";
        /// The Code of Federal Regulations of the United States, title 47.
        Fcc = 4, "fcc", "FCC";
        /// ITU-R BT.601 with 625 lines.
        Bt601With625 = 5, "bt470bg", "BT.601 with 625 lines";
        /// ITU-R BT.601 with 525 lines.
        Bt601With525 = 6, "smpte170m", "BT.601 with 525 lines";
        /// SMPTE ST 240.
        St240 = 7, "smpte240m", "ST 240";
        /// Luma, green and orange.
        YCgCo = 8, "ycgco", "YCgCo";
        /// ITU-R BT.2020, luminance not constant.
        Bt2020 = 9, "bt2020nc", "BT.2020";
        /// ITU-R BT.2020, constant luminance.
        Bt2020Constant = 10, "bt2020c", "BT.2020 with constant luminance";
        /// SMPTE ST 2085.
        St2085 = 11, "smpte2085", "ST 2085";
        /// From the primaries, luminance not constant.
        OfPrimaries = 12, "chroma-derived-nc", "of its primaries";
        /// From the primaries, constant luminance.
        OfPrimariesConstant = 13, "chroma-derived-c", "of its primaries with constant luminance";
        /// ITU-R BT.2100, ICtCp.
        ICtCp = 14, "ictcp", "ICtCp";
    }
}

/// Which codes stand for black and white.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub enum Range {
    /// Black and white lie within, with room below and above them.
    #[serde(rename = "tv")]
    Limited,
    /// From the lowest to the highest.
    #[serde(rename = "pc")]
    Full,
}

impl Range {
    /// The range of pictures whose codes use all of it, or not.
    #[must_use]
    pub const fn of(is_full: bool) -> Self {
        if is_full { Self::Full } else { Self::Limited }
    }

    /// The libraries' word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Limited => "tv",
            Self::Full => "pc",
        }
    }

    /// As people write it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Limited => "limited",
            Self::Full => "full",
        }
    }
}

/// What is kept of a code point in a document: words that stand for nothing known are as good as none.
pub(super) fn known<'de, D: Deserializer<'de>, T: serde::de::DeserializeOwned>(from: D) -> Result<Option<T>, D::Error> {
    Ok(serde_json::from_value(serde_json::Value::deserialize(from)?).ok())
}

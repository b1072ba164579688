//! How many bits a picture gets, and how hard its encoder works.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;
use crate::units::BitRate;

/// How many bits the picture gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "mode", rename_all = "snake_case", deny_unknown_fields)]
pub enum RateControl {
    /// The same quality throughout, whatever it weighs.
    ConstantQuality {
        /// The constant rate factor: lower is better and larger; 18 is close to the source, 28 is small.
        /// For MPEG-2 the quantiser, 1 to 31.
        crf: u8,
    },
    /// A mean rate over the whole file.
    Average {
        /// The mean in bits a second.
        bits_per_second: BitRate,
        /// One pass, or two for an even quality and a sure size. What is shorter than five minutes takes two in
        /// any case, unless its own settings say otherwise.
        passes: u8,
        /// The highest rate, over a buffer of two seconds of it; left out, twice the mean.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        peak: Option<BitRate>,
    },
    /// The same rate at every moment, over a buffer of one second.
    Constant {
        /// The rate in bits a second.
        bits_per_second: BitRate,
    },
    /// What the codec's profile asks for (ProRes, FFV1).
    ByProfile,
}

/// Seconds of material over which one pass comes to its mean rate, to within some three percent.
const ENOUGH_FOR_ONE_PASS: Rational = Rational::whole(300);

impl RateControl {
    /// Whether it would miss its mean rate over so short a time: one pass finds out on the way what it may spend.
    #[must_use]
    pub fn misses_its_mean(self, duration: Rational) -> bool {
        matches!(self, Self::Average { passes: 1, .. }) && duration < ENOUGH_FOR_ONE_PASS
    }
}

/// How much work the encoder does for each bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Effort {
    /// For a look, soon.
    Quick,
    /// The usual balance.
    #[default]
    Balanced,
    /// Smaller files for a longer night.
    Thorough,
}

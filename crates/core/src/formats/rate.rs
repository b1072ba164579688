//! How many bits a picture gets, and how hard its encoder works.

use beryl_settings::{Choices, Settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::picture::BITS;
use crate::catalogue::{Offer, offers};
use crate::time::Rational;
use crate::units::BitRate;

/// How many bits the picture gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(tag = "mode", rename_all = "snake_case", deny_unknown_fields)]
pub enum RateControl {
    /// The same quality throughout, whatever it weighs.
    #[setting(name = "constant quality")]
    ConstantQuality {
        /// The constant rate factor: lower is better and larger; 18 is close to the source, 28 is small.
        /// For MPEG-2 the quantiser, 1 to 31.
        #[setting(name = "Quality", term = "CRF", least = 0, most = 51, offers = offers(&[20, 16, 18, 23, 26, 28], ""))]
        crf: u8,
    },
    /// A mean rate over the whole file.
    #[setting(name = "mean rate")]
    Average {
        /// The mean in bits a second.
        #[setting(name = "Video bit rate", least = BITS[0].0, most = BITS[1].0, offers = megabits())]
        bits_per_second: BitRate,
        /// One pass, or two for an even quality and a sure size. What is shorter than five minutes takes two in
        /// any case, unless its own settings say otherwise.
        #[setting(name = "Passes", least = 1, most = 2, offers = offers(&[2, 1], ""))]
        passes: u8,
        /// The highest rate, over a buffer of two seconds of it; left out, twice the mean.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[setting(name = "Peak rate", least = BITS[0].0, most = BITS[1].0)]
        peak: Option<BitRate>,
    },
    /// The same rate at every moment, over a buffer of one second.
    #[setting(name = "constant rate")]
    Constant {
        /// The rate in bits a second.
        #[setting(name = "Video bit rate", least = BITS[0].0, most = BITS[1].0, offers = megabits())]
        bits_per_second: BitRate,
    },
    /// What the codec's profile asks for (ProRes, FFV1).
    #[setting(name = "by profile")]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Effort {
    /// For a look, soon.
    #[setting(name = "fast")]
    Quick,
    /// The usual balance.
    #[default]
    #[setting(name = "balanced")]
    Balanced,
    /// Smaller files for a longer night.
    #[setting(name = "thorough")]
    Thorough,
}

/// Rates of pictures that are often taken.
fn megabits() -> Vec<Offer> {
    let offer = |megabits: i64| Offer { value: Rational::whole(megabits * 1_000_000), words: format!("{megabits} Mb/s") };
    [8, 1, 2, 4, 12, 20, 50].map(offer).to_vec()
}

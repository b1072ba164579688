//! Colours of graphics (text, subtitles, watermarks) as codes of the pictures that they are laid over.
//!
//! Graphics are made for a standard display: red, green and blue of Rec. 709 with the gamma of ITU-R BT.1886. In a
//! high dynamic range their white has 203 cd/m² (ITU-R BT.2408), whatever lies around it.

use crate::picture::light::{DISPLAY_GAMMA, HLG_GAMMA, HLG_PEAK, apply, between, hlg_signal, luminance_of, pq_signal};
use crate::picture::tone::WHITE;
use crate::picture::{MatrixCoefficients, Primaries, Samples, Transfer};

/// How colours become codes of one form of pictures.
#[derive(Debug, Clone)]
pub struct Inks {
    light: Light,
    is_rgb: bool,
    /// What red and blue have in luma (ITU-T H.273, `K_R` and `K_B`).
    weights: [f64; 2],
    /// The code of black, and from it to white; half of the span of chroma, and its middle.
    levels: [f64; 4],
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Light {
    /// As the display has it.
    Standard,
    Pq,
    Hlg,
}

impl Inks {
    /// For pictures of this form.
    #[must_use]
    pub fn of(samples: &Samples) -> Self {
        let form = samples.form();
        let space = &samples.space;
        let highest = f64::from(u16::MAX >> (16 - form.depth.clamp(1, 16)));
        let finer = f64::from(1_u32 << form.depth.saturating_sub(8).min(8));
        let light = match space.transfer {
            Transfer::Pq => Light::Pq,
            Transfer::Hlg => Light::Hlg,
            _ => Light::Standard,
        };
        let levels = if space.full_range || form.is_rgb() {
            [0.0, highest, highest, 128.0 * finer]
        } else {
            [16.0 * finer, 219.0 * finer, 224.0 * finer, 128.0 * finer]
        };
        Self { light, is_rgb: form.is_rgb(), weights: weights_of(space.matrix), levels }
    }

    /// The codes of red, green and blue from 0 to 1: of luma, blue difference and red difference, or of red, green and
    /// blue where pictures have those.
    #[must_use]
    pub fn codes(&self, rgb: [f64; 3]) -> [f64; 3] {
        let signals = self.signals(rgb);
        let [black, span, chroma, middle] = self.levels;
        if self.is_rgb {
            return signals.map(|signal| black + span * signal);
        }
        let [red, green, blue] = signals;
        let [of_red, of_blue] = self.weights;
        let luma = of_red * red + (1.0 - of_red - of_blue) * green + of_blue * blue;
        let difference = |colour: f64, weight: f64| middle + chroma * (colour - luma) / (2.0 * (1.0 - weight));
        [black + span * luma, difference(blue, of_blue), difference(red, of_red)]
    }

    fn signals(&self, rgb: [f64; 3]) -> [f64; 3] {
        if self.light == Light::Standard {
            return rgb;
        }
        let light = rgb.map(|part| part.max(0.0).powf(DISPLAY_GAMMA) * WHITE);
        let light = apply(between(Primaries::Bt709, Primaries::Bt2020), light);
        if self.light == Light::Pq {
            return light.map(pq_signal);
        }
        // The inverse of the OOTF of ITU-R BT.2100.
        let weights = luminance_of(Primaries::Bt2020);
        let shown: f64 = light.iter().zip(weights).map(|(part, weight)| part * weight).sum::<f64>() / HLG_PEAK;
        let factor = if shown > 0.0 { shown.powf((1.0 - HLG_GAMMA) / HLG_GAMMA) } else { 0.0 };
        light.map(|part| hlg_signal(part / HLG_PEAK * factor))
    }
}

/// What red and blue have in luma (ITU-T H.273, table 4); of matrices that have no such weights, those of BT.709.
const fn weights_of(matrix: MatrixCoefficients) -> [f64; 2] {
    use MatrixCoefficients as Of;
    match matrix {
        Of::Fcc => [0.30, 0.11],
        Of::Bt601With625 | Of::Bt601With525 => [0.299, 0.114],
        Of::St240 => [0.212, 0.087],
        Of::Bt2020 | Of::Bt2020Constant | Of::ICtCp => [0.2627, 0.0593],
        Of::Rgb | Of::Bt709 | Of::YCgCo | Of::St2085 | Of::OfPrimaries | Of::OfPrimariesConstant => [0.2126, 0.0722],
    }
}

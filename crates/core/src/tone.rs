//! From a high dynamic range to the standard one: what light a picture shows, and what of it a standard display can.
//!
//! The light of each pixel is found by the reference EOTF of ITU-R BT.2100-2 (PQ: table 4; HLG: table 5 with the OOTF of
//! a display of 1000 cd/m²). Diffuse white has 203 cd/m² (ITU-R BT.2408): up to [`KNEE`] all light keeps its relation
//! to it, white itself keeps nine tenths or more, and what is brighter shares the rest. Hue and saturation stay: red, green
//! and blue are scaled by one factor, and what lies outside Rec. 709 is brought towards the grey of the same luminance as
//! far as it must. Codes come out for a display of ITU-R BT.1886 with a gamma of 2.4 and a black of nought.

use crate::reading::Hdr;

/// The light of diffuse white in cd/m².
pub const WHITE: f64 = 203.0;
/// The brightest light where the source does not tell, in cd/m².
pub const USUAL_PEAK: u32 = 1000;
/// Light up to here, in cd/m², is shown as it is.
pub const KNEE: f64 = 100.0;
/// What is left of the light of white where there is as much above it as [`USUAL_PEAK`] has.
const LEFT_OF_WHITE: f64 = 0.9;
/// The exponent of a standard display.
const DISPLAY_GAMMA: f64 = 2.4;
/// The highest code of what comes out.
const HIGHEST: f64 = 65_535.0;
/// Places of a table that is looked up between its places.
const PLACES: usize = 16_384;

/// The brightest light that a source tells of, in cd/m².
#[must_use]
pub fn peak_of(hdr: &Hdr) -> Option<u32> {
    let level = hdr.light_level.map(|[most, _]| most).filter(|most| *most > 0);
    level.or_else(|| hdr.luminance.map(|[_, most]| u32::try_from(most.round()).unwrap_or(0)).filter(|most| *most > 0))
}

/// Light in cd/m² of a PQ signal from 0 to 1.
#[must_use]
pub fn pq_light(signal: f64) -> f64 {
    let root = signal.max(0.0).powf(1.0 / PQ_M2);
    10_000.0 * ((root - PQ_C1).max(0.0) / (PQ_C2 - PQ_C3 * root)).powf(1.0 / PQ_M1)
}

/// The PQ signal from 0 to 1 of light in cd/m².
#[must_use]
pub fn pq_signal(light: f64) -> f64 {
    let part = (light.max(0.0) / 10_000.0).powf(PQ_M1);
    ((PQ_C1 + PQ_C2 * part) / (1.0 + PQ_C3 * part)).powf(PQ_M2)
}

const PQ_M1: f64 = 2610.0 / 16384.0;
const PQ_M2: f64 = 2523.0 / 4096.0 * 128.0;
const PQ_C1: f64 = 3424.0 / 4096.0;
const PQ_C2: f64 = 2413.0 / 4096.0 * 32.0;
const PQ_C3: f64 = 2392.0 / 4096.0 * 32.0;

/// The scene's light from 0 to 1 of an HLG signal from 0 to 1.
#[must_use]
pub fn hlg_scene(signal: f64) -> f64 {
    let signal = signal.max(0.0);
    if signal <= 0.5 { signal * signal / 3.0 } else { (((signal - HLG_C) / HLG_A).exp() + HLG_B) / 12.0 }
}

/// The HLG signal from 0 to 1 of the scene's light from 0 to 1.
#[must_use]
pub fn hlg_signal(scene: f64) -> f64 {
    let scene = scene.max(0.0);
    if scene <= 1.0 / 12.0 { (3.0 * scene).sqrt() } else { HLG_A * (12.0 * scene - HLG_B).ln() + HLG_C }
}

const HLG_A: f64 = 0.178_832_77;
const HLG_B: f64 = 1.0 - 4.0 * HLG_A;
const HLG_C: f64 = 0.559_910_729_529_562;
/// The light of the brightest signal of HLG in cd/m², and the system gamma that goes with it.
pub const HLG_PEAK: f64 = 1000.0;
/// The exponent of the OOTF at [`HLG_PEAK`].
pub const HLG_GAMMA: f64 = 1.2;

/// How much of each primary makes the luminance of linear light.
#[must_use]
pub fn luminance_of(primaries: &str) -> [f64; 3] {
    match primaries {
        "bt2020" => [0.2627, 0.6780, 0.0593],
        "smpte432" => [0.228_975, 0.691_739, 0.079_287],
        _ => [0.2126, 0.7152, 0.0722],
    }
}

/// Linear red, green and blue of these primaries as those of Rec. 709 (both with the white of D65).
fn to_rec709(primaries: &str) -> [[f64; 3]; 3] {
    match primaries {
        "bt2020" => {
            [[1.660_491, -0.587_641, -0.072_850], [-0.124_550, 1.132_900, -0.008_349], [-0.018_151, -0.100_579, 1.118_730]]
        }
        "smpte432" => [[1.224_940, -0.224_940, 0.0], [-0.042_057, 1.042_057, 0.0], [-0.019_638, -0.078_636, 1.098_274]],
        _ => [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
    }
}

/// The light of a standard display, where 1 is its white, that stands for light of `nits` cd/m² in pictures whose
/// brightest has `peak`.
///
/// Between the knee, white and the peak it is a monotone cubic (Fritsch and Carlson) over PQ signals, in which equal
/// distances look equal.
#[must_use]
pub fn compressed(nits: f64, peak: f64) -> f64 {
    if peak <= WHITE || nits <= KNEE {
        return (nits / WHITE).min(1.0);
    }
    let [knee, white, top] = [KNEE, WHITE, peak].map(pq_signal);
    // The less there is above white, the less has to give way.
    let share = ((top - white) / (pq_signal(f64::from(USUAL_PEAK)) - white)).min(1.0);
    let shown_white = pq_signal(WHITE * (1.0 - (1.0 - LEFT_OF_WHITE) * share));
    let points = [(knee, knee), (white, shown_white), (top, white)];
    let slopes = [0, 1].map(|place: usize| (points[place + 1].1 - points[place].1) / (points[place + 1].0 - points[place].0));
    let middle = 2.0 / (1.0 / slopes[0] + 1.0 / slopes[1]);
    let tangents = [1.0, middle, 0.0];
    let at = pq_signal(nits).min(top);
    let place = usize::from(at > white);
    let ((from, low), (to, high)) = (points[place], points[place + 1]);
    let width = to - from;
    let along = (at - from) / width;
    let (square, cube) = (along * along, along * along * along);
    let signal = (2.0 * cube - 3.0 * square + 1.0) * low
        + (cube - 2.0 * square + along) * width * tangents[place]
        + (3.0 * square - 2.0 * cube) * high
        + (cube - square) * width * tangents[place + 1];
    pq_light(signal) / WHITE
}

/// Tables for bringing pictures down.
pub struct ToneMap {
    /// Light by the signal of each colour: of the display for PQ, of the scene for HLG, where 1 is white or all.
    light: Vec<f64>,
    /// By the fourth root of the scene's luminance: the OOTF's factor, in units of white.
    ootf: Option<Vec<f64>>,
    luminance: [f64; 3],
    matrix: [[f64; 3]; 3],
    /// The brightest light, where 1 is white.
    top: f64,
    /// By the root of light: the factor that compresses it.
    factor: Vec<f64>,
    /// By the fourth root of light from 0 to 1, which keeps the dark apart: the code.
    code: Vec<f64>,
}

/// A function from 0 to 1 as a table.
fn table(of: impl Fn(f64) -> f64) -> Vec<f64> {
    // One more, so that the last place has a neighbour.
    (0..=PLACES + 1).map(|place| of((place as f64 / PLACES as f64).min(1.0))).collect()
}

/// What a table has at a value from 0 to 1.
fn looked_up(table: &[f64], at: f64) -> f64 {
    let placed = at.clamp(0.0, 1.0) * PLACES as f64;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let low = placed as usize;
    let (one, next) = (table[low], table[low + 1]);
    one + (next - one) * (placed - low as f64)
}

impl ToneMap {
    /// For pictures of this transfer (`arib-std-b67`, or else PQ) and these primaries, whose brightest light has `peak`
    /// cd/m².
    #[must_use]
    pub fn new(transfer: &str, primaries: &str, peak: u32) -> Self {
        let is_hlg = transfer == "arib-std-b67";
        let peak = f64::from(peak);
        let top = peak.max(WHITE) / WHITE;
        Self {
            light: table(|signal| if is_hlg { hlg_scene(signal) } else { pq_light(signal) / WHITE }),
            ootf: is_hlg.then(|| table(|root| root.powf(4.0 * (HLG_GAMMA - 1.0)) * HLG_PEAK / WHITE)),
            luminance: luminance_of(primaries),
            matrix: to_rec709(primaries),
            top,
            factor: table(|root| {
                let light = root * root * top;
                if light * WHITE <= KNEE { 1.0 } else { compressed(light * WHITE, peak) / light }
            }),
            code: table(|root| HIGHEST * root.powf(4.0 / DISPLAY_GAMMA)),
        }
    }

    /// Brings a line down: its red, green and blue, as signals of which 0 is black and 1 the highest, into codes of 16
    /// bits.
    pub fn bring_down(&self, from: [&[f32]; 3], [red, green, blue]: [&mut [u16]; 3]) {
        let [from_red, from_green, from_blue] = from;
        let from = from_red.iter().zip(from_green).zip(from_blue);
        for (((red, green), blue), ((from_red, from_green), from_blue)) in red.iter_mut().zip(green).zip(blue).zip(from) {
            [*red, *green, *blue] = self.shown([*from_red, *from_green, *from_blue]);
        }
    }

    #[inline]
    fn shown(&self, signals: [f32; 3]) -> [u16; 3] {
        let mut light = signals.map(|signal| looked_up(&self.light, f64::from(signal)));
        let weighed = |[red, green, blue]: [f64; 3], weights: [f64; 3]| red * weights[0] + green * weights[1] + blue * weights[2];
        if let Some(ootf) = &self.ootf {
            let factor = looked_up(ootf, weighed(light, self.luminance).sqrt().sqrt());
            light = light.map(|part| part * factor);
        }
        // Between luminance, which saturated colours have little of, and the strongest of the three.
        let norm = (weighed(light, self.luminance) + light[0].max(light[1]).max(light[2])) / 2.0;
        let factor = looked_up(&self.factor, (norm / self.top).sqrt());
        let factor = if norm > self.top { factor * self.top / norm } else { factor };
        let light = light.map(|part| part * factor);
        let light = self.matrix.map(|row| weighed(light, row));
        let grey = weighed(light, REC709_LUMINANCE).clamp(0.0, 1.0);
        let (least, most) = (light[0].min(light[1]).min(light[2]), light[0].max(light[1]).max(light[2]));
        let mut kept = 1.0_f64;
        if least < 0.0 {
            kept = kept.min(grey / (grey - least));
        }
        if most > 1.0 {
            kept = kept.min((1.0 - grey) / (most - grey));
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
        let code = |light: f64| (looked_up(&self.code, light.max(0.0).sqrt().sqrt()) + 0.5) as u16;
        light.map(|part| code(grey + (part - grey) * kept))
    }
}

const REC709_LUMINANCE: [f64; 3] = [0.2126, 0.7152, 0.0722];

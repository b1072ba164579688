//! From a high dynamic range to the standard one: what light a picture shows, and what of it a standard display can.
//!
//! The light of each pixel is found by the reference EOTF of ITU-R BT.2100-2 (PQ; or HLG with the OOTF of a display of
//! 1000 cd/m²). Diffuse white has 203 cd/m² (ITU-R BT.2408): up to [`KNEE`] all light keeps its relation to it, white
//! itself keeps nine tenths or more, and what is brighter shares the rest. Hue and saturation stay: red, green and blue
//! are scaled by one factor, and what lies outside Rec. 709 is brought towards the grey of the same luminance as far as
//! it must. Codes come out for a standard display ([`crate::picture::light`]).

use crate::picture::light::{
    Curve, DISPLAY_GAMMA, HLG_GAMMA, HLG_PEAK, PIXELS, Pixels, between, by_curve, by_matrix, hlg_scene, luminance_of, narrowed,
    pq_light, pq_signal,
};
use crate::picture::{Hdr, Primaries, Transfer};

/// The light of diffuse white in cd/m².
pub const WHITE: f64 = 203.0;
/// The brightest light where the source does not tell, in cd/m².
pub const USUAL_PEAK: u32 = 1000;
/// Light up to here, in cd/m², is shown as it is.
pub const KNEE: f64 = 100.0;
/// What is left of the light of white where there is as much above it as [`USUAL_PEAK`] has.
const LEFT_OF_WHITE: f64 = 0.9;
/// The highest code of what comes out.
const HIGHEST: f64 = 65_535.0;

/// The brightest light that a source tells of, in cd/m².
#[must_use]
pub fn peak_of(hdr: &Hdr) -> Option<u32> {
    let level = hdr.light_level.map(|[most, _]| most).filter(|most| *most > 0);
    level.or_else(|| hdr.luminance.map(|[_, most]| u32::try_from(most.round()).unwrap_or(0)).filter(|most| *most > 0))
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
#[derive(Debug, Clone)]
pub struct ToneMap {
    /// Light by the signal of each colour: of the display for PQ, of the scene for HLG, where 1 is white or all.
    light: Curve,
    /// By the scene's luminance: the OOTF's factor, in units of white.
    ootf: Option<Curve>,
    luminance: [f32; 3],
    matrix: [[f32; 3]; 3],
    /// The brightest light, where 1 is white.
    top: f32,
    /// By light: the factor that compresses it.
    factor: Curve,
    /// By light from 0 to 1: the code.
    code: Curve,
}

impl ToneMap {
    /// For pictures of this transfer (HLG, or else PQ) and these primaries, whose brightest light has `peak`
    /// cd/m².
    #[must_use]
    #[allow(clippy::cast_possible_truncation)]
    pub fn new(transfer: Transfer, primaries: Primaries, peak: u32) -> Self {
        let is_hlg = transfer == Transfer::Hlg;
        let peak = f64::from(peak);
        Self {
            light: Curve::of(|signal| if is_hlg { hlg_scene(signal) } else { pq_light(signal.min(1.0)) / WHITE }),
            ootf: is_hlg.then(|| Curve::of(|luminance| luminance.powf(HLG_GAMMA - 1.0) * HLG_PEAK / WHITE)),
            luminance: narrowed(luminance_of(primaries)),
            matrix: between(primaries, Primaries::Bt709).map(narrowed),
            top: (peak.max(WHITE) / WHITE) as f32,
            factor: Curve::of(|light| if light * WHITE <= KNEE { 1.0 } else { compressed(light * WHITE, peak) / light }),
            code: Curve::of(|light| HIGHEST * light.min(1.0).powf(1.0 / DISPLAY_GAMMA)),
        }
    }

    /// Brings a line down: its red, green and blue, as signals of which 0 is black and 1 the highest, into codes of 16
    /// bits.
    pub fn bring_down(&self, [from_red, from_green, from_blue]: [&[f32]; 3], [red, green, blue]: [&mut [u16]; 3]) {
        let from = from_red.chunks(PIXELS).zip(from_green.chunks(PIXELS)).zip(from_blue.chunks(PIXELS));
        let to = red.chunks_mut(PIXELS).zip(green.chunks_mut(PIXELS)).zip(blue.chunks_mut(PIXELS));
        let mut pixels: Pixels = [[0.0; PIXELS]; 3];
        for (((from_red, from_green), from_blue), ((red, green), blue)) in from.zip(to) {
            let count = [from_red, from_green, from_blue].iter().map(|part| part.len()).fold(red.len(), usize::min);
            for (pixels, from) in pixels.iter_mut().zip([from_red, from_green, from_blue]) {
                pixels[..count].iter_mut().zip(from).for_each(|(pixel, signal)| *pixel = signal.min(1.0));
            }
            self.show(&mut pixels, count);
            for (codes, pixels) in [red, green, blue].into_iter().zip(&pixels) {
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
                codes.iter_mut().zip(&pixels[..count]).for_each(|(code, pixel)| *code = (pixel + 0.5) as u16);
            }
        }
    }

    fn show(&self, pixels: &mut Pixels, count: usize) {
        by_curve(&self.light, pixels, count);
        let mut factors = [0.0_f32; PIXELS];
        let [of_red, of_green, of_blue] = self.luminance;
        if let Some(ootf) = &self.ootf {
            let [red, green, blue] = &*pixels;
            for (((factor, red), green), blue) in factors.iter_mut().zip(red).zip(green).zip(blue) {
                *factor = ootf.at(red * of_red + green * of_green + blue * of_blue);
            }
            scale(pixels, &factors);
        }
        let [red, green, blue] = &*pixels;
        // Between luminance, which saturated colours have little of, and the strongest of the three.
        for (((norm, red), green), blue) in factors.iter_mut().zip(red).zip(green).zip(blue) {
            *norm = (red * of_red + green * of_green + blue * of_blue + red.max(*green).max(*blue)) / 2.0;
        }
        for norm in &mut factors[..count] {
            *norm = if *norm < self.top { self.factor.at(*norm) } else { 1.0 / *norm };
        }
        scale(pixels, &factors);
        by_matrix(&self.matrix, pixels, count);
        bring_within(pixels);
        by_curve(&self.code, pixels, count);
    }
}

/// Each pixel by a factor of its own.
fn scale(pixels: &mut Pixels, factors: &[f32; PIXELS]) {
    for colour in pixels {
        colour.iter_mut().zip(factors).for_each(|(part, factor)| *part *= factor);
    }
}

/// Brings colours that no display of Rec. 709 has towards the grey of the same luminance, until it has them.
fn bring_within([red, green, blue]: &mut Pixels) {
    let [of_red, of_green, of_blue] = REC709_LUMINANCE;
    for ((red, green), blue) in red.iter_mut().zip(green).zip(blue) {
        let grey = (*red * of_red + *green * of_green + *blue * of_blue).clamp(0.0, 1.0);
        let (least, most) = (red.min(*green).min(*blue), red.max(*green).max(*blue));
        let above = if least < 0.0 { grey / (grey - least) } else { 1.0 };
        let below = if most > 1.0 { (1.0 - grey) / (most - grey) } else { 1.0 };
        let kept = above.min(below);
        *red = grey + (*red - grey) * kept;
        *green = grey + (*green - grey) * kept;
        *blue = grey + (*blue - grey) * kept;
    }
}

const REC709_LUMINANCE: [f32; 3] = [0.2126, 0.7152, 0.0722];

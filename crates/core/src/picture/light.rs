//! Light: what signals stand for, and the colours of primaries.
//!
//! All light is that of a display. Transfers of cameras (ITU-R BT.709, BT.601, BT.2020, SMPTE 240M) stand for one of
//! ITU-R BT.1886 with a gamma of 2.4 and a black of nought.

use crate::picture::{Primaries, Transfer};

/// The exponent of a standard display.
pub const DISPLAY_GAMMA: f64 = 2.4;

/// Light in cd/m² of a PQ signal from 0 to 1 (ITU-R BT.2100-2, table 4).
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

/// The scene's light from 0 to 1 of an HLG signal from 0 to 1 (ITU-R BT.2100-2, table 5).
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
/// The light of the brightest signal of HLG in cd/m².
pub const HLG_PEAK: f64 = 1000.0;
/// The exponent of the OOTF at [`HLG_PEAK`].
pub const HLG_GAMMA: f64 = 1.2;

/// Light of a signal of a standard range from 0 to 1, of which the display's white is 1; transfers
/// after ITU-T H.273, table 3.
#[must_use]
pub fn standard_light(transfer: Transfer, signal: f64) -> f64 {
    let positive = signal.max(0.0);
    match transfer {
        Transfer::Linear => signal,
        Transfer::Gamma22 => positive.powf(2.2),
        Transfer::Srgb if positive <= 0.040_45 => positive / 12.92,
        Transfer::Srgb => ((positive + 0.055) / 1.055).powf(2.4),
        Transfer::Log100 if positive <= 0.0 => 0.0,
        Transfer::Log100 => 10.0_f64.powf(2.0 * (positive - 1.0)),
        Transfer::Log316 if positive <= 0.0 => 0.0,
        Transfer::Log316 => 10.0_f64.powf(2.5 * (positive - 1.0)),
        Transfer::St428 => positive.powf(2.6) * 52.37 / 48.0,
        _ => positive.powf(DISPLAY_GAMMA),
    }
}

/// Three by three numbers, row by row.
pub type Matrix = [[f64; 3]; 3];

/// Places of red, green, blue and white as x, y (ITU-T H.273, table 2).
fn chromaticities(primaries: Primaries) -> [[f64; 2]; 4] {
    const D65: [f64; 2] = [0.3127, 0.3290];
    const C: [f64; 2] = [0.310, 0.316];
    match primaries {
        Primaries::Bt470M => [[0.67, 0.33], [0.21, 0.71], [0.14, 0.08], C],
        Primaries::Bt601With625 => [[0.64, 0.33], [0.29, 0.60], [0.15, 0.06], D65],
        Primaries::Bt601With525 | Primaries::St240 => [[0.630, 0.340], [0.310, 0.595], [0.155, 0.070], D65],
        Primaries::Film => [[0.681, 0.319], [0.243, 0.692], [0.145, 0.049], C],
        Primaries::Bt2020 => [[0.708, 0.292], [0.170, 0.797], [0.131, 0.046], D65],
        Primaries::St428 => [[1.0, 0.0], [0.0, 1.0], [0.0, 0.0], [1.0 / 3.0, 1.0 / 3.0]],
        Primaries::Rp431 => [[0.680, 0.320], [0.265, 0.690], [0.150, 0.060], [0.314, 0.351]],
        Primaries::Eg432 => [[0.680, 0.320], [0.265, 0.690], [0.150, 0.060], D65],
        Primaries::Ebu3213 => [[0.630, 0.340], [0.295, 0.605], [0.155, 0.077], D65],
        Primaries::Bt709 => [[0.640, 0.330], [0.300, 0.600], [0.150, 0.060], D65],
    }
}

/// One after the other: the second is done first.
fn times(one: Matrix, other: Matrix) -> Matrix {
    one.map(|row| [0, 1, 2].map(|column| row[0] * other[0][column] + row[1] * other[1][column] + row[2] * other[2][column]))
}

/// What a matrix makes of three values.
#[must_use]
pub fn apply(matrix: Matrix, [one, two, three]: [f64; 3]) -> [f64; 3] {
    matrix.map(|row| row[0] * one + row[1] * two + row[2] * three)
}

fn inverse(matrix: Matrix) -> Matrix {
    let minor = |row: usize, column: usize| {
        let [one, two] = [1, 2].map(|step| matrix[(row + step) % 3]);
        let (left, right) = ((column + 1) % 3, (column + 2) % 3);
        one[left] * two[right] - one[right] * two[left]
    };
    let whole: f64 = (0..3).map(|column| matrix[0][column] * minor(0, column)).sum();
    [0, 1, 2].map(|row| [0, 1, 2].map(|column| minor(column, row) / whole))
}

/// X, Y and Z of a place; of the blue of SMPTE ST 428-1, which is Z itself, that.
fn xyz([x, y]: [f64; 2]) -> [f64; 3] {
    if y > 0.0 { [x / y, 1.0, (1.0 - x - y) / y] } else { [x, y, 1.0 - x - y] }
}

/// From linear red, green and blue to X, Y and Z (SMPTE RP 177).
fn to_xyz(primaries: Primaries) -> Matrix {
    let [red, green, blue, white] = chromaticities(primaries).map(xyz);
    let columns = [0, 1, 2].map(|row| [red[row], green[row], blue[row]]);
    let [of_red, of_green, of_blue] = apply(inverse(columns), white);
    columns.map(|[red, green, blue]| [red * of_red, green * of_green, blue * of_blue])
}

/// How much each primary has in the luminance of linear light.
#[must_use]
pub fn luminance_of(primaries: Primaries) -> [f64; 3] {
    to_xyz(primaries)[1]
}

/// Cones of the eye that adapt to white (Bradford).
const BRADFORD: Matrix = [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]];

/// Linear red, green and blue of some primaries as those of others; the white of one becomes that of the other.
#[must_use]
pub fn between(from: Primaries, to: Primaries) -> Matrix {
    let white = |primaries: Primaries| apply(BRADFORD, xyz(chromaticities(primaries)[3]));
    let (own, theirs) = (white(from), white(to));
    let scale = [0, 1, 2].map(|row| [0, 1, 2].map(|column| if row == column { theirs[row] / own[row] } else { 0.0 }));
    let adapted = times(inverse(BRADFORD), times(scale, BRADFORD));
    times(inverse(to_xyz(to)), times(adapted, to_xyz(from)))
}

/// A function of numbers above nought as a table that is looked up between its places, as finely near nought as
/// elsewhere: its places follow the bits of the number.
#[derive(Debug, Clone)]
pub struct Curve(Vec<[f32; 2]>);

/// Places for each doubling.
const PLACES_BITS: u32 = 9;
/// From two to the power of this, below which a number counts as nought, ...
const LOWEST: i32 = -48;
/// ... to two to the power of this.
const HIGHEST: i32 = 4;

impl Curve {
    /// The table of a function.
    #[must_use]
    #[allow(clippy::cast_possible_truncation)]
    pub fn of(function: impl Fn(f64) -> f64) -> Self {
        let octave = 1_u32 << PLACES_BITS;
        let places = (LOWEST..HIGHEST)
            .flat_map(|power| (0..octave).map(move |place| 2.0_f64.powi(power) * (1.0 + f64::from(place) / f64::from(octave))));
        let values: Vec<f32> = places.chain([2.0_f64.powi(HIGHEST)]).map(|at| function(at) as f32).collect();
        Self(values.windows(2).map(|pair| [pair[0], pair[1] - pair[0]]).collect())
    }

    /// What the function gives; below the lowest place what it gives there, above the highest likewise.
    #[inline]
    #[must_use]
    pub fn at(&self, number: f32) -> f32 {
        const FRACTION: u32 = f32::MANTISSA_DIGITS - 1 - PLACES_BITS;
        let side = |power: i32| f32::from_bits((127 + power).cast_unsigned() << 23);
        let lowest = side(LOWEST);
        let bits = number.max(lowest).to_bits();
        let place = ((bits - lowest.to_bits()) >> FRACTION) as usize;
        let along = (bits & ((1 << FRACTION) - 1)) as f32 * (1.0 / (1_u32 << FRACTION) as f32);
        let [low, more] = self.0[place.min(self.0.len() - 1)];
        low + more * along
    }

    fn at_each(&self, numbers: &mut [f32]) {
        for number in numbers {
            *number = self.at(*number);
        }
    }
}

#[allow(clippy::cast_possible_truncation)]
pub(crate) fn narrowed(values: [f64; 3]) -> [f32; 3] {
    values.map(|value| value as f32)
}

/// So many pixels are worked on at a time: what lies between the steps stays near the processor.
pub(crate) const PIXELS: usize = 256;

/// Red, green and blue of some pixels.
pub(crate) type Pixels = [[f32; PIXELS]; 3];

/// What each colour stands for, by its curve.
pub(crate) fn by_curve(curve: &Curve, pixels: &mut Pixels, count: usize) {
    for colour in pixels {
        curve.at_each(&mut colour[..count]);
    }
}

/// Each pixel by a matrix.
pub(crate) fn by_matrix(matrix: &[[f32; 3]; 3], [red, green, blue]: &mut Pixels, count: usize) {
    let (red, green, blue) = (&mut red[..count], &mut green[..count], &mut blue[..count]);
    for ((red, green), blue) in red.iter_mut().zip(green).zip(blue) {
        let (r, g, b) = (*red, *green, *blue);
        *red = matrix[0][0] * r + matrix[0][1] * g + matrix[0][2] * b;
        *green = matrix[1][0] * r + matrix[1][1] * g + matrix[1][2] * b;
        *blue = matrix[2][0] * r + matrix[2][1] * g + matrix[2][2] * b;
    }
}

/// Brings red, green and blue from one transfer and its primaries to a standard display with others.
#[derive(Debug, Clone)]
pub struct Recolouring {
    /// Nothing where signals are light, which may lie below nought.
    light: Option<Curve>,
    matrix: [[f32; 3]; 3],
    signal: Curve,
}

impl Recolouring {
    /// From this transfer of a standard range and these primaries to those of `to`.
    #[must_use]
    pub fn new(transfer: Transfer, primaries: Primaries, to: Primaries) -> Self {
        Self {
            light: (transfer != Transfer::Linear).then(|| Curve::of(|signal| standard_light(transfer, signal))),
            matrix: between(primaries, to).map(narrowed),
            signal: Curve::of(|light| light.powf(1.0 / DISPLAY_GAMMA)),
        }
    }

    /// Brings a line there, in place: its red, green and blue as signals of which 0 is black and 1 white; what is
    /// brighter than white stays so, what is darker than black becomes black.
    pub fn recolour(&self, [red, green, blue]: [&mut [f32]; 3]) {
        let parts = red.chunks_mut(PIXELS).zip(green.chunks_mut(PIXELS)).zip(blue.chunks_mut(PIXELS));
        let mut pixels: Pixels = [[0.0; PIXELS]; 3];
        for ((red, green), blue) in parts {
            let count = red.len().min(green.len()).min(blue.len());
            for (to, from) in pixels.iter_mut().zip([&*red, &*green, &*blue]) {
                to[..count].copy_from_slice(&from[..count]);
            }
            if let Some(light) = &self.light {
                by_curve(light, &mut pixels, count);
            }
            by_matrix(&self.matrix, &mut pixels, count);
            by_curve(&self.signal, &mut pixels, count);
            for (from, to) in pixels.iter().zip([red, green, blue]) {
                to[..count].copy_from_slice(&from[..count]);
            }
        }
    }
}

//! What each step should give, in double precision and as plainly as it can be written.

/// A picture of which each plane has samples that are no numbers of a code yet.
#[derive(Clone)]
pub(crate) struct Model {
    pub(crate) width: usize,
    pub(crate) height: usize,
    pub(crate) sampling: (usize, usize),
    pub(crate) planes: [Vec<f64>; 3],
}

/// Places of colour: its distance from the first pixel of those that share it, across and down, in pixels; in the middle
/// where that is none.
pub(crate) type Site = (Option<f64>, Option<f64>);

pub(crate) fn site(word: &str) -> Site {
    match word {
        "left" => (Some(0.0), None),
        "center" => (None, None),
        "topleft" => (Some(0.0), Some(0.0)),
        "top" => (None, Some(0.0)),
        "bottomleft" => (Some(0.0), Some(1.0)),
        "bottom" => (None, Some(1.0)),
        other => panic!("{other}"),
    }
}

/// A spline through six points (a cubic one over three lobes).
fn spline36(distance: f64) -> f64 {
    let x = distance.abs();
    match x {
        _ if x < 1.0 => ((13.0 / 11.0 * x - 453.0 / 209.0) * x - 3.0 / 209.0) * x + 1.0,
        _ if x < 2.0 => ((-6.0 / 11.0 * (x - 1.0) + 270.0 / 209.0) * (x - 1.0) - 156.0 / 209.0) * (x - 1.0),
        _ if x < 3.0 => ((1.0 / 11.0 * (x - 2.0) - 45.0 / 209.0) * (x - 2.0) + 26.0 / 209.0) * (x - 2.0),
        _ => 0.0,
    }
}

/// A line brought to another length. Samples lie at `from_first + k * from_step` and are wanted at `to_first + k *
/// to_step`, in the same measure; what lies outside is mirrored.
fn line(samples: &[f64], (from_first, from_step): (f64, f64), count: usize, (to_first, to_step): (f64, f64)) -> Vec<f64> {
    let wider = (to_step / from_step).max(1.0);
    (0..count)
        .map(|place| {
            let at = (to_first + place as f64 * to_step - from_first) / from_step;
            let reach = 3.0 * wider;
            let (mut sum, mut weights) = (0.0, 0.0);
            for tap in (at - reach).floor() as i64..=(at + reach).ceil() as i64 {
                let weight = spline36((tap as f64 - at) / wider);
                let last = samples.len() as i64 - 1;
                let inside = if tap < 0 {
                    -1 - tap
                } else if tap > last {
                    2 * last + 1 - tap
                } else {
                    tap
                };
                sum += weight * samples[inside.clamp(0, last) as usize];
                weights += weight;
            }
            sum / weights
        })
        .collect()
}

/// Where the samples of a plane lie along one side of a picture of unit length: the first, and the step.
fn lies(length: usize, shared: usize, place: Option<f64>) -> (f64, f64) {
    let pixel = 1.0 / length as f64;
    let middle = (shared as f64 - 1.0) / 2.0;
    let first = if shared > 1 { place.unwrap_or(middle) } else { 0.0 };
    ((first + 0.5) * pixel, pixel * shared as f64)
}

impl Model {
    pub(crate) fn of(planes: &[Vec<u16>], (width, height): (usize, usize), sampling: (usize, usize)) -> Self {
        let plane = |number: usize| planes[number].iter().map(|code| f64::from(*code)).collect();
        Self { width, height, sampling, planes: [plane(0), plane(1), plane(2)] }
    }

    fn plane_size(&self, number: usize) -> (usize, usize) {
        let (columns, lines) = if number == 0 { (1, 1) } else { self.sampling };
        (self.width.div_ceil(columns), self.height.div_ceil(lines))
    }

    /// Drawn at another size, with colour shared and sited otherwise.
    pub(crate) fn resampled(&self, (width, height): (usize, usize), from: Site, sampling: (usize, usize), to: Site) -> Self {
        let mut made = Self { width, height, sampling, planes: Default::default() };
        for number in 0..3 {
            let ((columns, lines), (new_columns, new_lines)) =
                if number == 0 { ((1, 1), (1, 1)) } else { (self.sampling, sampling) };
            let ((wide, high), (new_wide, new_high)) = (self.plane_size(number), made.plane_size(number));
            let (across, new_across) = (lies(self.width, columns, from.0), lies(width, new_columns, to.0));
            let (down, new_down) = (lies(self.height, lines, from.1), lies(height, new_lines, to.1));
            let plane = &self.planes[number];
            let rows: Vec<Vec<f64>> = (0..high)
                .map(|row| {
                    let samples = &plane[row * wide..(row + 1) * wide];
                    if across == new_across && wide == new_wide {
                        samples.to_vec()
                    } else {
                        line(samples, across, new_wide, new_across)
                    }
                })
                .collect();
            let columns: Vec<Vec<f64>> = (0..new_wide)
                .map(|column| {
                    let samples: Vec<f64> = rows.iter().map(|row| row[column]).collect();
                    if down == new_down && high == new_high { samples } else { line(&samples, down, new_high, new_down) }
                })
                .collect();
            made.planes[number] = (0..new_high).flat_map(|row| columns.iter().map(move |column| column[row])).collect();
        }
        made
    }

    /// Each pixel by itself; colour must not be shared.
    pub(crate) fn each(&self, change: impl Fn([f64; 3]) -> [f64; 3]) -> Self {
        assert_eq!(self.sampling, (1, 1));
        let mut made = self.clone();
        for place in 0..self.planes[0].len() {
            let changed = change([0, 1, 2].map(|number| self.planes[number][place]));
            made.planes.iter_mut().zip(changed).for_each(|(plane, code)| plane[place] = code);
        }
        made
    }

    /// One field: every other line of each plane.
    pub(crate) fn field(&self, lower: usize) -> Self {
        let mut field = Self { height: self.height / 2, ..self.clone() };
        for number in 0..3 {
            let (wide, high) = self.plane_size(number);
            let lines = (lower..high).step_by(2).flat_map(|row| self.planes[number][row * wide..(row + 1) * wide].to_vec());
            field.planes[number] = lines.collect();
        }
        field
    }

    /// The largest distance of luma, and of colour, from what was made, which has whole codes.
    pub(crate) fn distance(&self, made: &[Vec<u16>]) -> [f64; 2] {
        let worst = |number: usize| {
            assert_eq!(self.planes[number].len(), made[number].len(), "plane {number}");
            self.planes[number]
                .iter()
                .zip(&made[number])
                .map(|(wanted, made)| (wanted - f64::from(*made)).abs())
                .fold(0.0, f64::max)
        };
        [worst(0), worst(1).max(worst(2))]
    }
}

/// What codes mean: the span of luma and its black, the span of colour and its middle.
#[derive(Clone, Copy)]
pub(crate) struct Levels {
    black: f64,
    span: f64,
    chroma: f64,
    middle: f64,
}

/// ITU-T H.273, 8.3.
pub(crate) fn levels(depth: u32, full: bool) -> Levels {
    let finer = f64::from(1_u32 << (depth - 8));
    let highest = f64::from((1_u32 << depth) - 1);
    if full {
        Levels { black: 0.0, span: highest, chroma: highest, middle: 128.0 * finer }
    } else {
        Levels { black: 16.0 * finer, span: 219.0 * finer, chroma: 224.0 * finer, middle: 128.0 * finer }
    }
}

impl Levels {
    pub(crate) fn signal(self, [y, cb, cr]: [f64; 3]) -> [f64; 3] {
        [(y - self.black) / self.span, (cb - self.middle) / self.chroma, (cr - self.middle) / self.chroma]
    }

    pub(crate) fn codes(self, [y, cb, cr]: [f64; 3]) -> [f64; 3] {
        [self.black + self.span * y, self.middle + self.chroma * cb, self.middle + self.chroma * cr]
    }
}

/// Red's and blue's part of luma (ITU-T H.273, table 4).
fn weights(matrix: &str) -> (f64, f64) {
    match matrix {
        "bt709" => (0.2126, 0.0722),
        "fcc" => (0.30, 0.11),
        "bt470bg" | "smpte170m" => (0.299, 0.114),
        "smpte240m" => (0.212, 0.087),
        "bt2020nc" => (0.2627, 0.0593),
        other => panic!("{other}"),
    }
}

pub(crate) fn to_rgb(matrix: &str, [y, cb, cr]: [f64; 3]) -> [f64; 3] {
    if matrix == "ycgco" {
        // Made of whole codes of red, green and blue, its differences span as many codes as luma in the limited range.
        let [cb, cr] = [cb, cr].map(|difference| difference * 224.0 / 219.0);
        let t = y - cb;
        return [t + cr, y + cb, t - cr];
    }
    let (red_part, blue_part) = weights(matrix);
    let (red, blue) = (y + 2.0 * (1.0 - red_part) * cr, y + 2.0 * (1.0 - blue_part) * cb);
    [red, (y - red_part * red - blue_part * blue) / (1.0 - red_part - blue_part), blue]
}

pub(crate) fn from_rgb(matrix: &str, [red, green, blue]: [f64; 3]) -> [f64; 3] {
    let (red_part, blue_part) = weights(matrix);
    let y = red_part * red + (1.0 - red_part - blue_part) * green + blue_part * blue;
    [y, (blue - y) / (2.0 * (1.0 - blue_part)), (red - y) / (2.0 * (1.0 - red_part))]
}

/// Light that a display shows of a signal. Transfers of cameras stand for a display of ITU-R BT.1886.
pub(crate) fn light(transfer: &str, signal: f64) -> f64 {
    let power = |exponent: f64| signal.max(0.0).powf(exponent);
    match transfer {
        // What is tagged with the gamma of 2.8 that ITU-R BT.470 assumed was made for the same displays.
        "bt709" | "smpte170m" | "smpte240m" | "bt2020-10" | "bt470bg" => power(2.4),
        "bt470m" => power(2.2),
        "linear" => signal,
        "iec61966-2-1" => {
            if signal <= 0.04045 {
                signal / 12.92
            } else {
                ((signal + 0.055) / 1.055).powf(2.4)
            }
        }
        other => panic!("{other}"),
    }
}

/// The signal of ITU-R BT.709 for a display of ITU-R BT.1886.
pub(crate) fn signal(light: f64) -> f64 {
    light.max(0.0).powf(1.0 / 2.4)
}

/// Red, green, blue and white as x, y (ITU-T H.273, table 2).
fn chromaticities(primaries: &str) -> [[f64; 2]; 4] {
    const D65: [f64; 2] = [0.3127, 0.3290];
    const C: [f64; 2] = [0.310, 0.316];
    match primaries {
        "bt709" => [[0.640, 0.330], [0.300, 0.600], [0.150, 0.060], D65],
        "bt470m" => [[0.67, 0.33], [0.21, 0.71], [0.14, 0.08], C],
        "bt470bg" => [[0.64, 0.33], [0.29, 0.60], [0.15, 0.06], D65],
        "smpte170m" | "smpte240m" => [[0.630, 0.340], [0.310, 0.595], [0.155, 0.070], D65],
        "film" => [[0.681, 0.319], [0.243, 0.692], [0.145, 0.049], C],
        "bt2020" => [[0.708, 0.292], [0.170, 0.797], [0.131, 0.046], D65],
        "smpte432" => [[0.680, 0.320], [0.265, 0.690], [0.150, 0.060], D65],
        other => panic!("{other}"),
    }
}

type Matrix = [[f64; 3]; 3];

fn times(one: Matrix, other: Matrix) -> Matrix {
    [0, 1, 2].map(|row| [0, 1, 2].map(|column| (0..3).map(|place| one[row][place] * other[place][column]).sum()))
}

fn apply(matrix: Matrix, vector: [f64; 3]) -> [f64; 3] {
    matrix.map(|row| row.iter().zip(vector).map(|(one, other)| one * other).sum())
}

fn inverse(m: Matrix) -> Matrix {
    let minor = |row: usize, column: usize| {
        let (a, b) = ((row + 1) % 3, (row + 2) % 3);
        let (c, d) = ((column + 1) % 3, (column + 2) % 3);
        m[a][c] * m[b][d] - m[a][d] * m[b][c]
    };
    let whole: f64 = (0..3).map(|column| m[0][column] * minor(0, column)).sum();
    [0, 1, 2].map(|row| [0, 1, 2].map(|column| minor(column, row) / whole))
}

/// SMPTE RP 177.
fn to_xyz(primaries: &str) -> Matrix {
    let [red, green, blue, white] = chromaticities(primaries).map(|[x, y]| [x / y, 1.0, (1.0 - x - y) / y]);
    let columns = [0, 1, 2].map(|row| [red[row], green[row], blue[row]]);
    let parts = apply(inverse(columns), white);
    columns.map(|row| [row[0] * parts[0], row[1] * parts[1], row[2] * parts[2]])
}

const BRADFORD: Matrix = [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]];

/// Linear light of some primaries as that of others, the white of one becoming that of the other (Bradford).
pub(crate) fn between(from: &str, to: &str) -> impl Fn([f64; 3]) -> [f64; 3] + use<> {
    let white = |primaries: &str| {
        let [x, y] = chromaticities(primaries)[3];
        apply(BRADFORD, [x / y, 1.0, (1.0 - x - y) / y])
    };
    let (own, theirs) = (white(from), white(to));
    let scale = [0, 1, 2].map(|row| [0, 1, 2].map(|column| if row == column { theirs[row] / own[row] } else { 0.0 }));
    let adapted = times(inverse(BRADFORD), times(scale, BRADFORD));
    let matrix = times(inverse(to_xyz(to)), times(adapted, to_xyz(from)));
    move |light| apply(matrix, light)
}

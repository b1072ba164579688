//! Look-up tables in the `.cube` form (version 1.0): lines of `R G B`, red changing fastest, behind
//! `LUT_1D_SIZE` or `LUT_3D_SIZE`.

use std::fmt::Write as _;

/// Sides of a table of three dimensions: two points at least.
const SIDES_3D: std::ops::RangeInclusive<usize> = 2..=129;
/// Points of a table of one dimension.
const POINTS_1D: std::ops::RangeInclusive<usize> = 2..=65_536;
/// Bytes of a document at most.
pub const LARGEST_DOCUMENT: usize = 96 << 20;

/// A valid look-up table.
#[derive(Debug, Clone, PartialEq)]
pub struct Lut {
    /// Its title; empty where it has none.
    pub title: String,
    /// How it is laid out.
    pub shape: LutShape,
    /// The values that stand for the ends of the table, for red, green and blue.
    pub domain: ([f64; 3], [f64; 3]),
    /// Red, green and blue of each point, red changing fastest.
    pub points: Vec<[f64; 3]>,
}

/// How a table is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LutShape {
    /// Each of red, green and blue has a curve of its own with so many points.
    Curves(usize),
    /// A cube with so many points a side.
    Cube(usize),
}

impl LutShape {
    const fn points(self) -> usize {
        match self {
            Self::Curves(points) => points,
            Self::Cube(side) => side * side * side,
        }
    }

    /// “33×33×33 points”.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Curves(points) => format!("curves of {points} points"),
            Self::Cube(side) => format!("{side}×{side}×{side} points"),
        }
    }
}

/// Why a document is no look-up table.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LutError {
    /// A line cannot be understood.
    #[error("line {line} (“{text}”) is {why}")]
    Line {
        /// Its number, from 1.
        line: usize,
        /// How it begins.
        text: String,
        /// What it is not.
        why: &'static str,
    },
    /// It says nowhere how large it is.
    #[error("it has neither LUT_1D_SIZE nor LUT_3D_SIZE")]
    NoSize,
    /// Points are missing or too many.
    #[error("it has {found} points instead of {expected}")]
    Count {
        /// As it says.
        expected: usize,
        /// As it has.
        found: usize,
    },
    /// The document is larger than any table.
    #[error("it is larger than {} MB", LARGEST_DOCUMENT >> 20)]
    TooLarge,
}

impl Lut {
    /// Reads a document.
    ///
    /// # Errors
    /// [`LutError`] with the line and the reason.
    pub fn parse(text: &str) -> Result<Self, LutError> {
        if text.len() > LARGEST_DOCUMENT {
            return Err(LutError::TooLarge);
        }
        let mut lut = Self { title: String::new(), shape: LutShape::Curves(0), domain: ([0.0; 3], [1.0; 3]), points: Vec::new() };
        let mut sized = false;
        for (number, whole) in text.lines().enumerate() {
            let line = whole.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let refuse = |why| LutError::Line { line: number + 1, text: line.chars().take(40).collect(), why };
            let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
            match word {
                "TITLE" => lut.title = rest.trim().trim_matches('"').to_owned(),
                "DOMAIN_MIN" => lut.domain.0 = three(rest).ok_or_else(|| refuse("not three numbers"))?,
                "DOMAIN_MAX" => lut.domain.1 = three(rest).ok_or_else(|| refuse("not three numbers"))?,
                "LUT_1D_INPUT_RANGE" | "LUT_3D_INPUT_RANGE" => {
                    let ends: Vec<f64> = rest.split_whitespace().filter_map(number_of).collect();
                    let [low, high] = ends.as_slice() else { return Err(refuse("not two numbers")) };
                    lut.domain = ([*low; 3], [*high; 3]);
                }
                "LUT_1D_SIZE" | "LUT_3D_SIZE" => {
                    let size = rest.trim().parse::<usize>().map_err(|_| refuse("no size"))?;
                    let (allowed, shape) = if word == "LUT_1D_SIZE" {
                        (POINTS_1D, LutShape::Curves(size))
                    } else {
                        (SIDES_3D, LutShape::Cube(size))
                    };
                    if sized || !allowed.contains(&size) {
                        return Err(refuse(if sized { "a second size" } else { "not a size that can be used" }));
                    }
                    (sized, lut.shape) = (true, shape);
                }
                _ => {
                    let point = three(line).ok_or_else(|| refuse("neither a known word nor three numbers"))?;
                    if !sized {
                        return Err(LutError::NoSize);
                    }
                    lut.points.push(point);
                }
            }
        }
        if !sized {
            return Err(LutError::NoSize);
        }
        if lut.points.len() != lut.shape.points() {
            return Err(LutError::Count { expected: lut.shape.points(), found: lut.points.len() });
        }
        let narrow = (0..3).any(|channel| lut.domain.0[channel] >= lut.domain.1[channel]);
        if narrow {
            return Err(LutError::Line { line: 1, text: "DOMAIN_MIN, DOMAIN_MAX".to_owned(), why: "no range" });
        }
        Ok(lut)
    }

    /// The document of the table.
    #[must_use]
    pub fn to_text(&self) -> String {
        let mut text = String::with_capacity(self.points.len() * 27 + 200);
        // Writing to a string cannot fail.
        let _ = writeln!(text, "TITLE \"{}\"", self.title.replace('"', "'"));
        let _ = match self.shape {
            LutShape::Curves(points) => writeln!(text, "LUT_1D_SIZE {points}"),
            LutShape::Cube(side) => writeln!(text, "LUT_3D_SIZE {side}"),
        };
        for (word, [red, green, blue]) in [("DOMAIN_MIN", self.domain.0), ("DOMAIN_MAX", self.domain.1)] {
            let _ = writeln!(text, "{word} {red} {green} {blue}");
        }
        for [red, green, blue] in &self.points {
            let _ = writeln!(text, "{red:.7} {green:.7} {blue:.7}");
        }
        text
    }
}

fn number_of(text: &str) -> Option<f64> {
    text.parse::<f64>().ok().filter(|number| number.is_finite())
}

fn three(text: &str) -> Option<[f64; 3]> {
    let mut numbers = text.split_whitespace();
    let three = [number_of(numbers.next()?)?, number_of(numbers.next()?)?, number_of(numbers.next()?)?];
    numbers.next().is_none().then_some(three)
}

/// The name of the table that ships with the program.
pub const FENMARK_LOG: &str = "fenmark-log-to-rec709";

/// Points a side of the table that ships with the program.
const FENMARK_SIDE: usize = 33;
/// How far the curve of the house's cameras reaches: eight times diffuse white.
const FENMARK_REACH: f64 = 8.0;
/// How steep it is near black.
const FENMARK_SLOPE: f64 = 48.0;
/// What brings the cameras' colours to those of Rec. 709; each line adds up to one, so that grey stays grey.
const FENMARK_MATRIX: [[f64; 3]; 3] = [[1.24, -0.18, -0.06], [-0.07, 1.16, -0.09], [-0.02, -0.14, 1.16]];
/// Light above this part of white is compressed, so that it does not break off.
const KNEE: f64 = 0.7;

/// The code (0 to 1) by which the house's cameras record an amount of light, where 1 is diffuse white.
#[must_use]
pub fn fenmark_log(light: f64) -> f64 {
    (1.0 + FENMARK_SLOPE * light.max(0.0)).ln() / (1.0 + FENMARK_SLOPE * FENMARK_REACH).ln()
}

/// The light behind such a code.
#[must_use]
pub fn fenmark_light(code: f64) -> f64 {
    ((code * (1.0 + FENMARK_SLOPE * FENMARK_REACH).ln()).exp() - 1.0) / FENMARK_SLOPE
}

/// The transfer of ITU-R BT.709, item 1.2.
fn rec709(light: f64) -> f64 {
    if light < 0.018 { 4.5 * light.max(0.0) } else { 1.099 * light.powf(0.45) - 0.099 }
}

/// The house's own table, from the log curve of its cameras to Rec. 709.
#[must_use]
pub fn fenmark_to_rec709() -> Lut {
    let level = |place: usize| place as f64 / (FENMARK_SIDE - 1) as f64;
    let soft = |light: f64| {
        let room = 1.0 - KNEE;
        if light <= KNEE { light } else { KNEE + room * (1.0 - (-(light - KNEE) / room).exp()) }
    };
    let mut points = Vec::with_capacity(FENMARK_SIDE.pow(3));
    for blue in 0..FENMARK_SIDE {
        for green in 0..FENMARK_SIDE {
            for red in 0..FENMARK_SIDE {
                let light = [red, green, blue].map(|place| fenmark_light(level(place)));
                let mixed = FENMARK_MATRIX.map(|row| row.iter().zip(light).map(|(part, light)| part * light).sum::<f64>());
                points.push(mixed.map(|light| rec709(soft(light)).clamp(0.0, 1.0)));
            }
        }
    }
    let title = "Fenmark log to Rec. 709".to_owned();
    Lut { title, shape: LutShape::Cube(FENMARK_SIDE), domain: ([0.0; 3], [1.0; 3]), points }
}

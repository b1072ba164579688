//! Levels of lines and columns, noise, borders of coding blocks, colour and brightness of one frame.

use beryl_core::findings::{ColourMeasure, LineLevel, LookMeasure};
use beryl_core::time::Rational;

use crate::luma::Luma;

/// Columns whose histograms are made together: their samples lie side by side, and the histograms stay near.
const TOGETHER: usize = 64;
/// So many samples are enough for the median of a column.
const ENOUGH: usize = 270;

/// The levels of all lines (top to bottom) and columns (left to right).
pub(crate) fn line_levels(luma: &Luma) -> (Vec<LineLevel>, Vec<LineLevel>) {
    let line = |line: usize| {
        let mut histogram = [0_u32; 256];
        for code in luma.line(line) {
            histogram[usize::from(*code)] += 1;
        }
        level(&histogram)
    };
    // Lines of one field are enough for a column, and keep the other out of it.
    let step = (luma.height / ENOUGH / 2 * 2).max(2);
    let mut columns = Vec::with_capacity(luma.width);
    let mut histograms = vec![[0_u32; 256]; TOGETHER];
    for from in (0..luma.width).step_by(TOGETHER) {
        let to = (from + TOGETHER).min(luma.width);
        histograms.iter_mut().for_each(|histogram| histogram.fill(0));
        for line in (0..luma.height).step_by(step) {
            for (histogram, code) in histograms.iter_mut().zip(&luma.line(line)[from..to]) {
                histogram[usize::from(*code)] += 1;
            }
        }
        columns.extend(histograms[..to - from].iter().map(level));
    }
    ((0..luma.height).map(line).collect(), columns)
}

fn level(histogram: &[u32; 256]) -> LineLevel {
    let total: u32 = histogram.iter().sum();
    let quantile = |share: f32| {
        let wanted = share * total as f32;
        let mut below = 0_u32;
        for (code, times) in histogram.iter().enumerate() {
            if *times > 0 && (below + times) as f32 >= wanted {
                // Within a code its samples are taken as spread evenly: finer than whole codes.
                return code as f32 + (wanted - below as f32) / *times as f32 - 0.5;
            }
            below += times;
        }
        255.0
    };
    LineLevel { median: quantile(0.5), spread: quantile(0.75) - quantile(0.25) }
}

/// Noise, block borders, colour and levels of a frame.
pub(crate) fn look(at: Rational, luma: &Luma, colour: Option<(Luma, Luma)>) -> LookMeasure {
    let mut histogram = Box::new([0_u32; 256]);
    for line in (0..luma.height).step_by(2) {
        for code in luma.line(line) {
            histogram[usize::from(*code)] += 1;
        }
    }
    LookMeasure { at, noise: noise(luma), blockiness: blockiness(luma), colour: colour.map(colour_measure), luma: histogram }
}

/// Noise after Immerkær (1996), “Fast noise variance estimation”, in blocks of 16 by 16: the quiet
/// quarter of those that are neither black nor white is flat, and what is uneven in them is noise.
fn noise(luma: &Luma) -> Option<f32> {
    const SIDE: usize = 16;
    // Of large pictures, every second block of every second row is enough.
    let step = if luma.width * luma.height > 1_000_000 { 2 * SIDE } else { SIDE };
    let mut blocks = Vec::new();
    for top in (1..luma.height.saturating_sub(SIDE)).step_by(step) {
        for left in (1..luma.width.saturating_sub(SIDE)).step_by(step) {
            let (mut sum, mut bright) = (0_u32, 0_u32);
            for line in top..top + SIDE {
                // Lines of the same field lie two apart.
                let far = |offset: isize| luma.line((line.saturating_add_signed(offset)).min(luma.height - 1));
                let (above, own, below) = (far(-2), far(0), far(2));
                for column in left..left + SIDE {
                    let edge =
                        |line: &[u8]| i32::from(line[column - 1]) - 2 * i32::from(line[column]) + i32::from(line[column + 1]);
                    sum += (edge(above) - 2 * edge(own) + edge(below)).unsigned_abs();
                    bright += u32::from(own[column]);
                }
            }
            let mean = bright as f32 / (SIDE * SIDE) as f32;
            if (24.0..228.0).contains(&mean) {
                blocks.push(sum as f32 / (SIDE * SIDE) as f32);
            }
        }
    }
    if blocks.len() < 8 {
        return None;
    }
    let quarter = blocks.len() / 4;
    let quiet = *blocks.select_nth_unstable_by(quarter, f32::total_cmp).1;
    Some((std::f32::consts::PI / 2.0).sqrt() * quiet / 6.0)
}

/// How much more uneven columns are where blocks of eight meet than inside them, as a share.
fn blockiness(luma: &Luma) -> f32 {
    let mut sums = [0_u64; 8];
    for line in (0..luma.height).step_by(4) {
        let line = luma.line(line);
        for (place, four) in line.windows(4).enumerate() {
            // A step between two flat sides: a border that coding left, not an edge of the picture.
            let flat = four[0].abs_diff(four[1]).max(four[2].abs_diff(four[3]));
            let step = four[1].abs_diff(four[2]);
            if step < 24 {
                sums[(place + 2) % 8] += u64::from(step.saturating_sub(flat));
            }
        }
    }
    let most = sums.iter().copied().max().unwrap_or(0);
    let rest = (sums.iter().sum::<u64>() - most) as f32 / 7.0;
    let samples = (luma.width * luma.height / 32).max(1) as f32;
    // Next to nothing against next to nothing is no sign of anything.
    (most as f32 - rest) / (rest + 0.05 * samples)
}

fn colour_measure((cb, cr): (Luma, Luma)) -> ColourMeasure {
    let of = |plane: &Luma| {
        let total = plane.codes.len().max(1) as f64;
        let mean = plane.codes.iter().map(|code| u64::from(*code)).sum::<u64>() as f64 / total;
        let spread = plane.codes.iter().map(|code| (f64::from(*code) - mean).abs()).sum::<f64>() / total;
        (mean, spread)
    };
    let (cb, cr) = (of(&cb), of(&cr));
    ColourMeasure { mean: [cb.0, cr.0], spread: [cb.1, cr.1] }
}

/// Brightness and detail, cheap enough for every frame.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(crate) struct Brightness {
    pub(crate) luma: f32,
    pub(crate) lit: f32,
    pub(crate) detail: f32,
}

/// Luma above this is not black.
const LIT: u8 = 32;

pub(crate) fn brightness(luma: &Luma) -> Brightness {
    let (mut sum, mut lit, mut edges, mut samples) = (0_u64, 0_u64, 0_u64, 0_u64);
    for line in (0..luma.height).step_by(4) {
        let [line_sum, line_lit, line_edges] = line_brightness(luma.line(line));
        sum += u64::from(line_sum);
        lit += u64::from(line_lit);
        edges += u64::from(line_edges);
        samples += luma.width as u64;
    }
    let mean = |part: u64| part as f32 / samples.max(1) as f32;
    Brightness { luma: mean(sum), lit: mean(lit), detail: mean(edges) }
}

/// The sum of the codes of a line, how many are lit, and the sum of the steps between neighbours.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn line_brightness(line: &[u8]) -> [u32; 3] {
    let sum = line.iter().map(|code| u32::from(*code)).sum();
    let lit = line.iter().map(|code| u32::from(*code > LIT)).sum();
    let edges = line.iter().zip(line.iter().skip(1)).map(|(left, right)| u32::from(left.abs_diff(*right))).sum();
    [sum, lit, edges]
}

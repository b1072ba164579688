//! What neighbouring frames say of fields: how torn their weaves are, and what moves.
//!
//! The picture is looked at in blocks of 32 columns and 16 lines. Noise moves everywhere alike; only
//! blocks that change more than the quiet ones do speak of motion, and only they are counted.

use crate::luma::Luma;

/// Columns of a block.
const COLUMNS: usize = 32;
/// Lines of a block.
const LINES: usize = 16;
/// A line must stand out by so many code values from its neighbours to count as combing, beside noise.
const TORN: u8 = 8;
/// A block shows combing where this share of what was looked at does: an edge that moved by one column.
const TORN_SHARE: f32 = 0.04;
/// A block moves where it changes by this factor more than the quiet ones, and by one and a half at least.
const OVER_NOISE: f32 = 1.6;
const LEAST_MOTION: f32 = 1.5;

/// What two frames in a row show.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(crate) struct FieldMeasure {
    pub(crate) moving_blocks: u32,
    pub(crate) weave: [f32; 3],
    pub(crate) field_change: [f32; 2],
    pub(crate) combed: f32,
    pub(crate) change: f32,
    pub(crate) change_peak: f32,
}

/// Compares frames with the ones before them, and knows the noise that they have in common.
#[derive(Debug, Clone, Default)]
pub(crate) struct FieldComparer {
    /// By how much quiet blocks change.
    quiet: Option<f32>,
    blocks: Vec<Block>,
    /// Whether every block is looked at in large pictures too.
    thorough: bool,
    frames: usize,
}

/// Of pictures with more samples, every second block is enough to know what they are: in a frame those of
/// one colour of a chessboard, in the next the others.
const LARGE: usize = 1_000_000;

#[derive(Debug, Clone, Copy, Default)]
struct Block {
    samples: u32,
    weave: [u32; 3],
    change: [u32; 2],
    torn: u32,
}

impl Block {
    fn change(&self) -> f32 {
        (self.change[0] + self.change[1]) as f32 / (2 * self.samples.max(1)) as f32
    }
}

impl FieldComparer {
    /// One that looks at every block, for deciding about the very frame.
    pub(crate) fn thorough() -> Self {
        Self { thorough: true, ..Self::default() }
    }

    /// Compares a frame with the one before, of the same size.
    pub(crate) fn compare(&mut self, before: &Luma, frame: &Luma) -> FieldMeasure {
        self.frames += 1;
        let quiet = self.quiet.unwrap_or_else(|| {
            self.add_up(before, frame, u8::MAX);
            self.quiet_change()
        });
        // The mean difference of two samples with noise is 1.13 times its standard deviation.
        let noise = quiet / 1.13;
        let torn = (0..=u8::MAX).find(|code| f32::from(*code) >= f32::from(TORN) + 2.5 * noise).unwrap_or(u8::MAX);
        self.add_up(before, frame, torn);
        self.judge()
    }

    fn add_up(&mut self, before: &Luma, frame: &Luma, torn: u8) {
        let across = frame.width.div_ceil(COLUMNS);
        self.blocks.clear();
        self.blocks.resize(across * frame.height.div_ceil(LINES), Block::default());
        let chessboard = (!self.thorough && frame.width * frame.height > LARGE).then_some(self.frames % 2);
        add_up(&mut self.blocks, before, frame, torn, chessboard);
    }

    fn judge(&mut self) -> FieldMeasure {
        let quiet_now = self.quiet_change();
        // What was quiet once is noise; a long pan, in which nothing is quiet, lifts it only slowly.
        let quiet = self.quiet.map_or(quiet_now, |quiet| quiet_now.min(quiet * 1.01 + 0.005));
        self.quiet = Some(quiet);
        let all = || self.blocks.iter().filter(|block| block.samples > 0);
        let over = |least: f32| all().filter(move |block| block.change() > least);
        // Where nothing stands out, all of it moves alike: a pan, or noise, which tears no weave.
        let stands_out = (quiet * OVER_NOISE).max(LEAST_MOTION);
        let least = if over(stands_out).nth(2).is_some() { stands_out } else { LEAST_MOTION };
        let (mut sum, mut moving) = (Block::default(), 0);
        for block in over(least) {
            moving += 1;
            sum.samples += block.samples;
            for (sum, part) in sum.weave.iter_mut().zip(block.weave) {
                *sum += part;
            }
            for (sum, part) in sum.change.iter_mut().zip(block.change) {
                *sum += part;
            }
        }
        let changes = || all().map(Block::change);
        let blocks = all().count().max(1) as f32;
        let mean = |part: u32| part as f32 / sum.samples.max(1) as f32;
        let combed = all().filter(|block| block.torn as f32 > TORN_SHARE * block.samples as f32).count();
        FieldMeasure {
            moving_blocks: moving,
            weave: sum.weave.map(mean),
            field_change: sum.change.map(mean),
            combed: combed as f32 / blocks,
            change: changes().sum::<f32>() / blocks,
            change_peak: changes().fold(0.0, f32::max),
        }
    }

    /// By how much the quiet fifth of the blocks changes at most.
    fn quiet_change(&self) -> f32 {
        let mut changes: Vec<f32> = self.blocks.iter().filter(|block| block.samples > 0).map(Block::change).collect();
        let fifth = changes.len() / 5;
        if changes.is_empty() { 0.0 } else { *changes.select_nth_unstable_by(fifth, f32::total_cmp).1 }
    }
}

/// Adds up what the blocks of a frame and the one before show. This is what a scan's time goes into: where
/// the processor has wider registers, they are used.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn add_up(blocks: &mut [Block], before: &Luma, frame: &Luma, torn: u8, chessboard: Option<usize>) {
    let across = frame.width.div_ceil(COLUMNS);
    // Lines of the top field that have lines of the bottom field above and below them.
    for line in (2..frame.height.saturating_sub(1)).step_by(2) {
        let row = &mut blocks[line / LINES * across..][..across];
        let lines = Lines {
            top: frame.line(line),
            top_before: before.line(line),
            above: frame.line(line - 1),
            above_before: before.line(line - 1),
            below: frame.line(line + 1),
            below_before: before.line(line + 1),
        };
        let (first, step) = chessboard.map_or((0, 1), |colour| ((line / LINES + colour) % 2, 2));
        for (place, block) in row.iter_mut().enumerate().skip(first).step_by(step) {
            let from = place * COLUMNS;
            lines.add_to(block, from, (from + COLUMNS).min(frame.width), torn);
        }
    }
}

struct Lines<'a> {
    top: &'a [u8],
    top_before: &'a [u8],
    above: &'a [u8],
    above_before: &'a [u8],
    below: &'a [u8],
    below_before: &'a [u8],
}

impl Lines<'_> {
    /// Written so that the compiler makes vector instructions of it.
    #[inline(always)]
    fn add_to(&self, block: &mut Block, from: usize, to: usize, torn: u8) {
        let part = |line: &[u8]| -> [u8; COLUMNS] {
            let mut part = [0; COLUMNS];
            part[..to - from].copy_from_slice(&line[from..to]);
            part
        };
        let (top, top_before) = (part(self.top), part(self.top_before));
        let (above, above_before) = (part(self.above), part(self.above_before));
        let (below, below_before) = (part(self.below), part(self.below_before));
        let (mut weave, mut change, mut count) = ([0_u16; 3], [0_u16; 2], 0_u8);
        for place in 0..COLUMNS {
            let around = mean(above[place], below[place]);
            let around_before = mean(above_before[place], below_before[place]);
            let own = top[place].abs_diff(around);
            let moved = top[place].abs_diff(top_before[place]);
            let moved_below = below[place].abs_diff(below_before[place]);
            weave[0] += u16::from(own);
            weave[1] += u16::from(top[place].abs_diff(around_before));
            weave[2] += u16::from(top_before[place].abs_diff(around));
            change[0] += u16::from(moved);
            change[1] += u16::from(moved_below);
            let stands_out = own.saturating_sub(above[place].abs_diff(below[place]) / 2);
            count += u8::from(stands_out > torn) & u8::from(moved.max(moved_below) > torn);
        }
        block.samples += u32::try_from(to - from).unwrap_or(0);
        for (sum, part) in block.weave.iter_mut().zip(weave) {
            *sum += u32::from(part);
        }
        for (sum, part) in block.change.iter_mut().zip(change) {
            *sum += u32::from(part);
        }
        block.torn += u32::from(count);
    }
}

#[inline(always)]
const fn mean(left: u8, right: u8) -> u8 {
    // Rounded up without leaving 8 bit, as vector units do it.
    (left | right) - ((left ^ right) >> 1)
}

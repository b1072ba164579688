//! Black bars around the picture.
//!
//! A line belongs to a bar when its *median* is as dark as the outermost line on its side: the
//! median of a line does not see subtitles, logos or noise. One frame only says that the bar is at
//! most so high, since the picture itself may be dark there; over many frames the smallest height
//! that is seen again and again is the bar. A bar is black, and it ends at a line: a dark picture
//! that grows brighter by and by says nothing.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Evidence, Moment, Percent, count};
use crate::facts::Picture;
use crate::picture::Rectangle;
use crate::time::{Rational, clock_text};

/// Lines and columns that show no picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
pub struct Bars {
    /// Lines.
    pub top: u32,
    /// Lines.
    pub bottom: u32,
    /// Columns.
    pub left: u32,
    /// Columns.
    pub right: u32,
}

/// How dark a line or column of one frame is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct LineLevel {
    /// The median of its luma, in code values of 8 bit.
    pub median: f32,
    /// The distance between its quartiles: noise and picture.
    pub spread: f32,
}

/// What is known of bars.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BarsFinding {
    /// The verdict.
    pub verdict: BarsVerdict,
    /// The part of the frame that ever shows picture.
    pub active: Rectangle,
    /// Its shape as seen, named where it has a name.
    pub aspect: String,
    /// Bars of each part of the source where they change, from when they hold (in seconds).
    pub changes: Vec<(Rational, Bars)>,
    /// What stands behind it.
    pub evidence: Evidence,
    /// In a sentence.
    pub words: String,
}

/// What bars there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum BarsVerdict {
    /// It cannot be known, since everything is dark.
    Unknown,
    /// Picture up to the edges.
    None,
    /// Above and below.
    Letterbox,
    /// Left and right.
    Pillarbox,
    /// On all sides.
    Both,
    /// On one side alone.
    OneSided,
    /// Sometimes more, sometimes less.
    Changing,
}

/// A line this bright, in code values of 8 bit, is no bar: black is 16, and old tapes lift it.
const BRIGHTEST_BAR: f32 = 34.0;
/// Behind the edge of a bar the picture is brighter by so much, within so many lines.
const LEAST_STEP: f32 = 3.5;
const LINES_OF_EDGE: usize = 4;
/// A line whose quartiles lie farther apart holds more than noise.
const MOST_SPREAD: f32 = 16.0;
/// Edges of two frames that lie no farther apart are the same.
const SAME: u32 = 2;

/// The bars of one frame, from the levels of its lines (top to bottom) and columns (left to right);
/// nothing where the frame is dark all over, or dark on a side without an edge, and says nothing.
#[must_use]
pub fn bars_of_lines(lines: &[LineLevel], columns: &[LineLevel]) -> Option<Bars> {
    // The very first line is often half a line, or drawn in from the next by scaling.
    let outer = [lines.get(1), lines.iter().nth_back(1), columns.get(1), columns.iter().nth_back(1)];
    let black = outer.into_iter().flatten().map(|line| line.median).fold(BRIGHTEST_BAR, f32::min);
    let top = dark_lines(lines.iter(), black)?;
    let bottom = dark_lines(lines.iter().rev(), black)?;
    let left = dark_lines(columns.iter(), black)?;
    let right = dark_lines(columns.iter().rev(), black)?;
    let shown = |dark: [usize; 2], all: usize| dark[0] + dark[1] + 8 < all;
    if !shown([top, bottom], lines.len()) || !shown([left, right], columns.len()) {
        return None;
    }
    let side = |lines: usize| u32::try_from(lines).unwrap_or(u32::MAX);
    Some(Bars { top: side(top), bottom: side(bottom), left: side(left), right: side(right) })
}

/// How many lines from the outside are as dark as the outermost one, where that is as dark as the
/// darkest of the four sides and holds no picture. Nothing where they end without an edge.
fn dark_lines<'a>(lines: impl Iterator<Item = &'a LineLevel> + Clone, black: f32) -> Option<usize> {
    let Some(outer) = lines.clone().nth(1) else { return Some(0) };
    let tolerance = 1.5 + 0.15 * outer.spread;
    if outer.median > black + tolerance || outer.median >= BRIGHTEST_BAR || outer.spread > MOST_SPREAD {
        return Some(0);
    }
    let differs = |line: &LineLevel| (line.median - outer.median).abs() > tolerance;
    let mut bright = 0;
    for (place, line) in lines.clone().enumerate() {
        bright = if differs(line) { bright + 1 } else { 0 };
        if bright == 2 {
            let edge = place - 1;
            let off = |line: &LineLevel| (line.median - outer.median).abs();
            let step = lines.clone().skip(edge).take(LINES_OF_EDGE).map(off).fold(0.0, f32::max);
            // Codecs blur the last lines of a bar.
            let before = lines.clone().nth(edge.saturating_sub(LINES_OF_EDGE)).map_or(0.0, off);
            // A line or two at the very edge are drawn in from the next by scaling, and are no bar.
            let is_edge = edge <= 2 || (step >= LEAST_STEP && before <= tolerance * 0.6);
            return is_edge.then_some(edge);
        }
    }
    Some(usize::MAX / 4)
}

pub(super) fn find(samples: &[(Rational, Bars)], picture: &Picture) -> BarsFinding {
    let whole = Rectangle { x: 0, y: 0, width: picture.width, height: picture.height };
    if samples.len() < 2 {
        let words = "whether there are bars cannot be known: the picture is dark at its edges throughout".to_owned();
        return BarsFinding {
            verdict: BarsVerdict::Unknown,
            active: whole,
            aspect: aspect_name(whole, picture.pixel_aspect),
            changes: Vec::new(),
            evidence: Evidence { confidence: Percent(0), figures: Vec::new(), moments: Vec::new() },
            words,
        };
    }
    let side = |of: fn(&Bars) -> u32| steady_least(samples.iter().map(|(_, bars)| of(bars)));
    let bars = Bars {
        top: side(|bars| bars.top),
        bottom: side(|bars| bars.bottom),
        left: side(|bars| bars.left),
        right: side(|bars| bars.right),
    };
    let agreeing = samples.iter().filter(|(_, seen)| same(*seen, bars)).count();
    let changes = changes(samples, bars);
    let active = Rectangle {
        x: bars.left,
        y: bars.top,
        width: picture.width.saturating_sub(bars.left + bars.right),
        height: picture.height.saturating_sub(bars.top + bars.bottom),
    };
    let tall = bars.top + bars.bottom > 2 * SAME;
    let wide = bars.left + bars.right > 2 * SAME;
    let verdict = match (tall, wide) {
        _ if changes.len() > 1 => BarsVerdict::Changing,
        (true, true) => BarsVerdict::Both,
        (true, false) if bars.top.min(bars.bottom) <= 2 * SAME => BarsVerdict::OneSided,
        (false, true) if bars.left.min(bars.right) <= 2 * SAME => BarsVerdict::OneSided,
        (true, false) => BarsVerdict::Letterbox,
        (false, true) => BarsVerdict::Pillarbox,
        (false, false) => BarsVerdict::None,
    };
    let aspect = aspect_name(active, picture.pixel_aspect);
    let share = agreeing as f64 / samples.len() as f64;
    // That there is picture up to the edges needs no agreement: one bright edge proves it.
    let confidence = if verdict == BarsVerdict::None || verdict == BarsVerdict::Changing { 0.99 } else { 0.5 + share / 2.0 };
    let mut figures = vec![
        format!("{} of {} show the picture up to the same edges", agreeing, count(samples.len() as u64, "moment")),
        format!("bars of {} above, {} below, {} left, {} right", bars.top, bars.bottom, bars.left, bars.right),
    ];
    figures.extend(changes.iter().take(8).filter(|_| verdict == BarsVerdict::Changing).map(|(from, bars)| {
        format!("from {}: {} above, {} below, {} left, {} right", clock_text(*from), bars.top, bars.bottom, bars.left, bars.right)
    }));
    let fits = |(_, seen): &&(Rational, Bars)| same(*seen, bars);
    let shown = [samples.iter().find(fits), samples.iter().rev().find(fits)];
    let moments =
        shown.into_iter().flatten().map(|(at, _)| Moment { at: *at, shows: "picture up to the edges of the bars".to_owned() });
    let moments =
        changes.iter().skip(1).take(6).map(|(at, _)| Moment { at: *at, shows: "the bars change".to_owned() }).chain(moments);
    BarsFinding {
        words: words(verdict, bars, active, &aspect, changes.len()),
        verdict,
        active,
        aspect,
        evidence: Evidence { confidence: Percent::of_share(confidence).min(Percent(99)), figures, moments: moments.collect() },
        changes: if verdict == BarsVerdict::Changing { changes } else { Vec::new() },
    }
}

fn words(verdict: BarsVerdict, bars: Bars, active: Rectangle, aspect: &str, parts: usize) -> String {
    let picture = format!("the picture is {}×{} ({aspect})", active.width, active.height);
    match verdict {
        BarsVerdict::Unknown => "whether there are bars cannot be known".to_owned(),
        BarsVerdict::None => "no bars".to_owned(),
        BarsVerdict::Letterbox => format!("bars above and below; {picture}"),
        BarsVerdict::Pillarbox => format!("bars left and right; {picture}"),
        BarsVerdict::Both => format!("bars on all sides; {picture}"),
        BarsVerdict::OneSided => format!("a bar {} alone; {picture}", side_of(bars)),
        BarsVerdict::Changing => {
            format!("the bars change {} times; all of it lies in {picture}", parts - 1).replace("in the picture is", "in")
        }
    }
}

/// Where the one bar is.
fn side_of(bars: Bars) -> &'static str {
    let sides = [(bars.top, "above"), (bars.bottom, "below"), (bars.left, "on the left"), (bars.right, "on the right")];
    sides.into_iter().max_by_key(|(height, _)| *height).map_or("above", |(_, side)| side)
}

fn same(left: Bars, right: Bars) -> bool {
    let near = |left: u32, right: u32| left.abs_diff(right) <= SAME;
    near(left.top, right.top) && near(left.bottom, right.bottom) && near(left.left, right.left) && near(left.right, right.right)
}

/// The smallest height that is seen again and again; single smaller ones are glitches in the bar.
fn steady_least(heights: impl Iterator<Item = u32>) -> u32 {
    let mut heights: Vec<u32> = heights.collect();
    heights.sort_unstable();
    let needed = (heights.len() / 33).max(2);
    for (place, height) in heights.iter().enumerate() {
        let support = heights[place..].iter().take_while(|other| **other <= height + SAME).count();
        if support >= needed {
            return *height;
        }
    }
    heights.first().copied().unwrap_or(0)
}

/// From when which bars hold, where the source has parts with bars of their own.
///
/// A part counts where its bars are the same above as below (left as right), stand still for most of
/// its moments, and differ from the bars of the whole: a dark shot does not look like that.
fn changes(samples: &[(Rational, Bars)], least: Bars) -> Vec<(Rational, Bars)> {
    let mut parts: Vec<(Rational, Bars, usize)> = Vec::new();
    for (at, bars) in samples {
        let even = bars.top.abs_diff(bars.bottom) <= 2 * SAME && bars.left.abs_diff(bars.right) <= 2 * SAME;
        let bars = if even { *bars } else { least };
        match parts.last_mut() {
            Some(part) if same(part.1, bars) => part.2 += 1,
            _ => parts.push((*at, bars, 1)),
        }
    }
    let needed = (samples.len() / 20).max(4);
    parts.retain(|part| part.2 >= needed || same(part.1, least));
    let mut merged: Vec<(Rational, Bars)> = Vec::new();
    for (at, bars, _) in parts {
        if merged.last().is_none_or(|last| !same(last.1, bars)) {
            merged.push((at, bars));
        }
    }
    merged
}

/// The shape of a picture as seen: its name in the trade, or its figure.
#[must_use]
pub fn aspect_name(picture: Rectangle, pixel_aspect: Rational) -> String {
    /// Names in hundredths and the true shapes.
    const NAMED: [(&str, f64); 10] = [
        ("1.00", 1.0),
        ("1.33", 4.0 / 3.0),
        ("1.37", 1.375),
        ("1.66", 5.0 / 3.0),
        ("1.78", 16.0 / 9.0),
        ("1.85", 1.85),
        ("2.00", 2.0),
        ("2.20", 2.2),
        ("2.39", 2.39),
        ("2.76", 2.76),
    ];
    let shape = f64::from(picture.width) / f64::from(picture.height.max(1)) * pixel_aspect.to_f64();
    let nearest = NAMED.iter().min_by(|left, right| (left.1 - shape).abs().total_cmp(&(right.1 - shape).abs()));
    match nearest {
        Some((name, known)) if (known - shape).abs() < known * 0.012 => (*name).to_owned(),
        _ => format!("{shape:.2}"),
    }
}

//! Sizes of pictures: boxes, shapes of pixels, even numbers, and why.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::time::Rational;

/// A picture as it is stored: columns, lines, and the shape of a pixel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Frame {
    /// Columns.
    pub width: u32,
    /// Lines.
    pub height: u32,
    /// Width of a pixel over its height.
    pub pixel_aspect: Rational,
}

/// A part of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rectangle {
    /// Columns to its left.
    pub x: u32,
    /// Lines above it.
    pub y: u32,
    /// Columns.
    pub width: u32,
    /// Lines.
    pub height: u32,
}

impl Rectangle {
    /// All of a picture.
    #[must_use]
    pub const fn whole(width: u32, height: u32) -> Self {
        Self { x: 0, y: 0, width, height }
    }

    /// The same part in a picture of `width` by `height` that is turned clockwise by quarters.
    #[must_use]
    pub const fn turned(self, degrees: u16, width: u32, height: u32) -> Self {
        match degrees {
            90 => Self { x: height - self.y - self.height, y: self.x, width: self.height, height: self.width },
            180 => Self { x: width - self.x - self.width, y: height - self.y - self.height, ..self },
            270 => Self { x: self.y, y: width - self.x - self.width, width: self.height, height: self.width },
            _ => self,
        }
    }

    /// The smallest part with even borders that holds this one, in a picture of `width` by `height`:
    /// colour is stored for pairs of columns and lines.
    #[must_use]
    pub fn even_outward(self, width: u32, height: u32) -> Self {
        let (x, y) = (self.x / 2 * 2, self.y / 2 * 2);
        let end = |from: u32, length: u32, whole: u32| (from + length).next_multiple_of(2).min(whole / 2 * 2);
        let (right, bottom) = (end(self.x, self.width, width), end(self.y, self.height, height));
        Self { x, y, width: right.saturating_sub(x), height: bottom.saturating_sub(y) }
    }

    /// The largest part with even borders inside this one: what a person wants gone is gone.
    #[must_use]
    pub const fn even_inward(self) -> Self {
        let (x, y) = (self.x.next_multiple_of(2), self.y.next_multiple_of(2));
        let (right, bottom) = ((self.x + self.width) / 2 * 2, (self.y + self.height) / 2 * 2);
        Self { x, y, width: right.saturating_sub(x), height: bottom.saturating_sub(y) }
    }

    /// How many pixels it has.
    #[must_use]
    pub const fn area(self) -> u64 {
        self.width as u64 * self.height as u64
    }

    /// What this part and another have in common.
    #[must_use]
    pub fn common(self, other: Self) -> Self {
        let (x, y) = (self.x.max(other.x), self.y.max(other.y));
        let right = (self.x + self.width).min(other.x + other.width);
        let bottom = (self.y + self.height).min(other.y + other.height);
        Self { x, y, width: right.saturating_sub(x), height: bottom.saturating_sub(y) }
    }
}

/// The largest part of a shape (width over height as seen) that loses the least of the `active`
/// picture: where the shape can hold all of it, the smallest part that does; otherwise the largest
/// that fits the frame, over the middle of the picture.
#[must_use]
pub fn crop_to_shape(frame: Frame, active: Rectangle, shape: Rational) -> Rectangle {
    // The shape in stored pixels.
    let stored = shape.divided_by(frame.pixel_aspect).unwrap_or(shape);
    let whole = |side: u32| Rational::whole(side.into());
    let holding_width = whole(active.width).max(whole(active.height) * stored);
    let holding = (holding_width, holding_width.divided_by(stored).unwrap_or(holding_width));
    let largest_width = whole(frame.width).min(whole(frame.height) * stored);
    let largest = (largest_width, largest_width.divided_by(stored).unwrap_or(largest_width));
    let fits = holding.0 <= whole(frame.width) && holding.1 <= whole(frame.height);
    let (width, height) = if fits { holding } else { largest };
    let (width, height) = (even(width).min(frame.width / 2 * 2), even(height).min(frame.height / 2 * 2));
    let placed = |middle: u32, length: u32, whole: u32| middle.saturating_sub(length / 2).min(whole - length) / 2 * 2;
    Rectangle {
        x: placed(active.x + active.width / 2, width, frame.width),
        y: placed(active.y + active.height / 2, height, frame.height),
        width,
        height,
    }
}

/// Where a picture comes to lie whole inside another frame, with its own shape, as large as it can be.
#[must_use]
pub fn fitted(picture: Frame, into: Frame) -> Rectangle {
    let whole = |side: u32| Rational::whole(side.into());
    // Columns of the other frame that the picture has at its own height.
    let seen = whole(picture.width) * picture.pixel_aspect.divided_by(into.pixel_aspect).unwrap_or(Rational::ONE);
    let scale = inside(seen, whole(picture.height), into.width, into.height);
    let side = |length: Rational, most: u32| {
        let length = u32::try_from(length.round()).unwrap_or(most);
        // A side that is nearly the whole is the whole; others are even, as colour is stored for pairs.
        if length + 1 >= most { most } else { (length / 2 * 2).max(2).min(most) }
    };
    let (width, height) = (side(seen * scale, into.width), side(whole(picture.height) * scale, into.height));
    Rectangle { x: half_even(into.width - width), y: half_even(into.height - height), width, height }
}

impl Frame {
    /// Width over height as seen.
    #[must_use]
    pub fn display_aspect(self) -> Rational {
        Rational::new(i64::from(self.width), i64::from(self.height).max(1)).unwrap_or(Rational::ONE) * self.pixel_aspect
    }

    /// The picture turned by a quarter.
    #[must_use]
    pub fn turned(self) -> Self {
        Self { width: self.height, height: self.width, pixel_aspect: self.pixel_aspect.inverse().unwrap_or(Rational::ONE) }
    }
}

/// By how much a picture can grow to come to lie inside a box.
pub(crate) fn inside(width: Rational, height: Rational, box_width: u32, box_height: u32) -> Rational {
    let across = Rational::whole(box_width.into()).divided_by(width);
    let down = Rational::whole(box_height.into()).divided_by(height);
    across.into_iter().chain(down).min().unwrap_or(Rational::ONE)
}

/// The nearest even number, at least two.
#[must_use]
pub fn even(side: Rational) -> u32 {
    let pairs = (side * Rational::constant(1, 2)).round().max(1);
    u32::try_from(pairs).map_or(u32::MAX - 1, |pairs| pairs.saturating_mul(2))
}

/// Half of what is left over, even.
pub(crate) const fn half_even(rest: u32) -> u32 {
    rest / 4 * 2
}

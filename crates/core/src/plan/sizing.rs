//! The size that a preset gives a picture, and why.

use crate::picture::{Frame, Rectangle, even, half_even, inside};
use crate::preset::{PixelAspectRule, SizeRule};
use crate::time::Rational;

/// How a picture comes to its size: cut, then scaled, then put on a black ground.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sizing {
    /// What is kept of the source, where something is cut.
    pub crop: Option<Rectangle>,
    /// Columns and lines after scaling.
    pub scaled: (u32, u32),
    /// The whole frame and the place of the picture in it, where bars are added.
    pub pad: Option<Rectangle>,
    /// What comes out.
    pub frame: Frame,
    /// Why, as the end of a sentence.
    pub because: String,
}

/// The size that `rule` gives a picture.
///
/// Sides come out even, since chroma of 4:2:0 and 4:2:2 is stored for pairs; a side that would be
/// odd goes to the even number that changes the shape least, and never below two.
#[must_use]
pub fn sizing(source: Frame, rule: SizeRule, aspect: PixelAspectRule) -> Sizing {
    let square = aspect == PixelAspectRule::Square && source.pixel_aspect != Rational::ONE;
    // The width as it is seen, in pixels as high as the source's: squaring never loses lines.
    let seen_width =
        if square { Rational::whole(source.width.into()) * source.pixel_aspect } else { Rational::whole(source.width.into()) };
    let pixel_aspect = if aspect == PixelAspectRule::Square { Rational::ONE } else { source.pixel_aspect };
    let height = Rational::whole(source.height.into());
    let scaled_by = |scale: Rational| (even(seen_width * scale), even(height * scale));
    let squared = if square { ", its pixels made square" } else { "" };
    let plain = |scaled: (u32, u32), because: String| Sizing {
        crop: None,
        scaled,
        pad: None,
        frame: Frame { width: scaled.0, height: scaled.1, pixel_aspect },
        because,
    };
    match rule {
        SizeRule::Same => {
            let scaled = scaled_by(Rational::ONE);
            let odd = source.width % 2 == 1 || source.height % 2 == 1;
            let even_sides = if odd { ", its odd sides made even" } else { "" };
            plain(scaled, format!("the size of the source is kept{squared}{even_sides}"))
        }
        SizeRule::Fraction { of } => plain(scaled_by(of), format!("{of} of the source is wanted{squared}")),
        SizeRule::Width { width, enlarge } => {
            let scale = Rational::whole(width.into()).divided_by(seen_width).unwrap_or(Rational::ONE);
            by_side(scale, enlarge, &format!("a width of {width}"), squared, plain, scaled_by)
        }
        SizeRule::Height { height: lines, enlarge } => {
            let scale = Rational::whole(lines.into()).divided_by(height).unwrap_or(Rational::ONE);
            by_side(scale, enlarge, &format!("a height of {lines}"), squared, plain, scaled_by)
        }
        SizeRule::Fit { width, height: lines, enlarge } => {
            let scale = inside(seen_width, height, width, lines);
            if scale > Rational::ONE && !enlarge {
                let because = format!("the source is smaller than {width}×{lines} and is not enlarged{squared}");
                return plain(scaled_by(Rational::ONE), because);
            }
            let (columns, rows) = scaled_by(scale);
            let because = if scale == Rational::ONE {
                format!("the source fits {width}×{lines} as it is{squared}")
            } else {
                format!("the picture must fit inside {width}×{lines} with its own shape{squared}")
            };
            plain((columns.min(width), rows.min(lines)), because)
        }
        SizeRule::Pad { width, height: lines, enlarge } => {
            let scale = inside(seen_width, height, width, lines);
            let stays_small = scale > Rational::ONE && !enlarge;
            let (columns, rows) = scaled_by(if stays_small { Rational::ONE } else { scale });
            let (columns, rows) = (columns.min(width), rows.min(lines));
            let bars = (columns, rows) != (width, lines);
            Sizing {
                pad: bars.then(|| Rectangle { x: half_even(width - columns), y: half_even(lines - rows), width, height: lines }),
                frame: Frame { width, height: lines, pixel_aspect },
                ..plain(
                    (columns, rows),
                    format!(
                        "the picture is put whole into {width}×{lines}{}{squared}",
                        if stays_small { " and is not enlarged" } else { "" }
                    ),
                )
            }
        }
        SizeRule::Fill { width, height: lines, enlarge } => {
            let wanted = Rational::new(width.into(), lines.into()).unwrap_or(Rational::ONE);
            let shape = source.display_aspect();
            let source_shape =
                if square { shape } else { Rational::new(source.width.into(), source.height.max(1).into()).unwrap_or(shape) };
            let crop = fill_crop(source, source_shape, wanted);
            // The shape of the box at the size that the picture has, where it has less.
            let own = scaled_by_part(crop, seen_width, source);
            let stays_small = !enlarge && own.0 <= width && own.1 <= lines;
            let because = if stays_small {
                format!("the picture gets the shape of {width}×{lines}, cut off evenly, and is not enlarged{squared}")
            } else {
                format!("the picture must fill {width}×{lines}; what stands over is cut off evenly{squared}")
            };
            Sizing {
                crop: (crop.width != source.width || crop.height != source.height).then_some(crop),
                ..plain(if stays_small { own } else { (width, lines) }, because)
            }
        }
    }
}

fn by_side(
    scale: Rational,
    enlarge: bool,
    wanted: &str,
    squared: &str,
    plain: impl Fn((u32, u32), String) -> Sizing,
    scaled_by: impl Fn(Rational) -> (u32, u32),
) -> Sizing {
    if scale > Rational::ONE && !enlarge {
        return plain(scaled_by(Rational::ONE), format!("the source is smaller than {wanted} and is not enlarged{squared}"));
    }
    plain(scaled_by(scale), format!("{wanted} is wanted, the other side follows from the shape{squared}"))
}

/// Columns and lines of a part of a picture that is `seen_width` wide as it is seen.
fn scaled_by_part(part: Rectangle, seen_width: Rational, source: Frame) -> (u32, u32) {
    let share = Rational::new(part.width.into(), i64::from(source.width).max(1)).unwrap_or(Rational::ONE);
    (even(seen_width * share), even(Rational::whole(part.height.into())))
}

fn fill_crop(source: Frame, shape: Rational, wanted: Rational) -> Rectangle {
    let part = |of: u32, share: Option<Rational>| even(Rational::whole(of.into()) * share.unwrap_or(Rational::ONE)).min(of);
    let (width, height) = if shape > wanted {
        (part(source.width, wanted.divided_by(shape)), source.height)
    } else {
        (source.width, part(source.height, shape.divided_by(wanted)))
    };
    Rectangle { x: half_even(source.width - width), y: half_even(source.height - height), width, height }
}

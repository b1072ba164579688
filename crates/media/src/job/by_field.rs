//! Pictures of two fields, each brought to another form by itself.
//!
//! The lines of colour that the two fields of a 4:2:0 picture have lie a quarter of a line from the middle of the two
//! lines of their field that share them: above it in the upper field, below it in the lower one (ITU-T H.273, figure 10).
//! The library that resamples knows only places in whole pictures; colour is therefore brought to every line of its
//! field here, and back.

use std::collections::VecDeque;

use beryl_core::picture::spline::taps;
use beryl_core::picture::{FieldOrder, PixelForm, PixelFormat, Samples};

use super::resample::Resampler;
use super::wires::TimedFrame;
use crate::raw::{AvError, Frame, pixel_format_number};

/// Works on both fields of each frame apart.
pub(super) struct ByField {
    fields: [Field; 2],
    /// Fields that wait for the other one.
    waiting: [VecDeque<TimedFrame>; 2],
}

/// What is done to one field.
struct Field {
    before: Option<Resampler>,
    lines: Option<ColourLines>,
    behind: Resampler,
}

impl ByField {
    /// For pictures of this form, which become others of so many columns and lines.
    pub(super) fn new(from: &Samples, to: &Samples, (width, height): (u32, u32)) -> Self {
        let size = (width, height / 2);
        let shares = |form: PixelForm| form.shared().is_some_and(|(_, lines)| lines > 1);
        let fields = [0_u8, 1].map(|lower| {
            let brought = |from: &Samples, to: &Samples| Resampler::new(from, to, Some(size));
            let with_lines = |samples: &Samples| samples.stored_as(samples.form().with_lines_of_colour().with_depth(16));
            let place = if lower == 0 { 0.25 } else { 0.75 };
            match (shares(from.form()), shares(to.form())) {
                (true, false) => {
                    let fine = from.stored_as(from.form().with_depth(16));
                    let whole = with_lines(from);
                    let lines = ColourLines { to: whole.pixel_format.clone(), place, is_more: true };
                    let before = Some(Resampler::new(from, &fine, None));
                    Field { before, lines: Some(lines), behind: brought(&whole, to) }
                }
                (false, true) => {
                    let whole = with_lines(&to.stored_as(to.form().with_depth(16)));
                    let fine = to.stored_as(to.form().with_depth(16));
                    let lines = ColourLines { to: fine.pixel_format.clone(), place, is_more: false };
                    Field { before: Some(brought(from, &whole)), lines: Some(lines), behind: brought(&fine, to) }
                }
                (true, true) | (false, false) => Field { before: None, lines: None, behind: brought(from, to) },
            }
        });
        Self { fields, waiting: Default::default() }
    }

    pub(super) fn threads(&self) -> Vec<u32> {
        let before = self.fields.iter().filter_map(|field| field.before.as_ref());
        before.chain(self.fields.iter().map(|field| &field.behind)).flat_map(Resampler::threads).collect()
    }

    pub(super) fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let order = frame.as_ref().map(|frame| frame.frame.field_order());
        for (lower, (field, waiting)) in self.fields.iter_mut().zip(&mut self.waiting).enumerate() {
            let part = match &frame {
                Some(TimedFrame { frame, clock }) => Some(TimedFrame { frame: frame.field(lower)?, clock: *clock }),
                None => None,
            };
            waiting.extend(field.take(part)?);
        }
        let [upper, lower] = &mut self.waiting;
        while !upper.is_empty()
            && !lower.is_empty()
            && let (Some(top), Some(bottom)) = (upper.pop_front(), lower.pop_front())
        {
            let mut whole = Frame::interleaved(&top.frame, &bottom.frame)?;
            whole.mark_fields(order.unwrap_or(FieldOrder::TopFirst));
            made.push(TimedFrame { frame: whole, clock: top.clock });
        }
        Ok(())
    }
}

impl Field {
    fn take(&mut self, field: Option<TimedFrame>) -> Result<Vec<TimedFrame>, AvError> {
        let at_end = field.is_none();
        let (mut brought, mut done) = (Vec::new(), Vec::new());
        match &mut self.before {
            Some(before) => before.take(field, &mut brought)?,
            None => brought.extend(field),
        }
        for TimedFrame { frame, clock } in brought {
            let frame = match &self.lines {
                Some(lines) => lines.bring(&frame)?,
                None => frame,
            };
            self.behind.take(Some(TimedFrame { frame, clock }), &mut done)?;
        }
        if at_end {
            self.behind.take(None, &mut done)?;
        }
        Ok(done)
    }
}

/// Brings the colour of a field, in 16 bits, from every other line to every line, or back.
struct ColourLines {
    to: PixelFormat,
    /// Where the colour of two lines lies below the first of them, in lines.
    place: f64,
    is_more: bool,
}

impl ColourLines {
    fn bring(&self, field: &Frame) -> Result<Frame, AvError> {
        let missing = || AvError::own("bring colour to other lines", "a line is missing");
        let mut made = Frame::of_form(field, field.width(), field.height(), pixel_format_number(self.to.name())?)?;
        for (number, plane) in made.planes_mut()?.iter_mut().enumerate() {
            let from = field.plane(number).ok_or_else(missing)?;
            let is_colour = number == 1 || number == 2;
            for line in 0..plane.lines() {
                let to = plane.samples(line).ok_or_else(missing)?;
                if !is_colour {
                    let source = from.samples(line).filter(|source| source.len() == to.len()).ok_or_else(missing)?;
                    to.copy_from_slice(source);
                    continue;
                }
                let (at, wider) =
                    if self.is_more { ((line as f64 - self.place) / 2.0, 1.0) } else { (line as f64 * 2.0 + self.place, 2.0) };
                let mut sums = vec![0.5_f32; to.len()];
                for (tap, weight) in taps(at, wider, from.lines()) {
                    let source = from.samples(tap).filter(|source| source.len() == to.len()).ok_or_else(missing)?;
                    sums.iter_mut().zip(source).for_each(|(sum, code)| *sum += f32::from(*code) * weight);
                }
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
                to.iter_mut().zip(sums).for_each(|(code, sum)| *code = sum as u16);
            }
        }
        Ok(made)
    }
}

//! The step that brings pictures to another size, other samples and another colour space.

use beryl_core::picture::{Colour, PixelForm, Samples};

use super::steps::Filters;
use super::wires::TimedFrame;
use crate::filters;
use crate::raw::{AvError, Frame};

/// Calls the library that resamples, which takes sides of a picture only in whole multiples of the pixels that share
/// colour, and memory only as its vectors want it.
pub(super) struct Resampler {
    filters: Filters,
    from: PixelForm,
    /// What the codes of what comes out mean; the library is told only what it has to know.
    colour: Colour,
    size: Option<(u32, u32)>,
}

impl Resampler {
    /// For pictures that keep their size where none is given.
    pub(super) fn new(from: &Samples, to: &Samples, size: Option<(u32, u32)>) -> Self {
        let (columns, lines) = to.form().shared().unwrap_or((1, 1));
        let whole = size.map(|(width, height)| (width.next_multiple_of(columns), height.next_multiple_of(lines)));
        // Where colour is of a kind that nobody can convert, which plans see to, the filter says so.
        let text = filters::resample(from, to, whole.unwrap_or((0, 0))).unwrap_or_else(|| "zscale".to_owned());
        Self { filters: Filters::new(text), from: from.form(), colour: to.colour(), size }
    }

    pub(super) fn threads(&self) -> Vec<u32> {
        self.filters.threads()
    }

    pub(super) fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some(TimedFrame { frame, clock }) = frame else { return self.filters.take(None, made) };
        let size = self.size.unwrap_or((frame.width(), frame.height()));
        let before = made.len();
        let frame = self.whole(frame)?.aligned()?;
        self.filters.take(Some(TimedFrame { frame, clock }), made)?;
        for made in &mut made[before..] {
            made.frame.narrow(size);
            made.frame.mark_colour(&self.colour);
        }
        Ok(())
    }

    /// The picture with as many columns and lines as its samples of colour stand for: the last of luma are repeated.
    fn whole(&self, frame: Frame) -> Result<Frame, AvError> {
        let (columns, lines) = self.from.shared().unwrap_or((1, 1));
        let (width, height) = (frame.width().next_multiple_of(columns), frame.height().next_multiple_of(lines));
        if (width, height) == (frame.width(), frame.height()) { Ok(frame) } else { frame.widened((width, height)) }
    }
}

//! Pictures as screens show them, whatever their codes mean.

use beryl_core::picture::{ChromaSite, Colour, MatrixCoefficients, PixelFormat, Primaries, Range, Transfer};
use beryl_core::time::Rational;
use beryl_core::timeline::PictureForm;

use crate::job::Uniform;
use crate::raw::{AvError, Frame};

/// The colour that browsers take pictures for.
pub(crate) const SCREEN: Colour = Colour {
    primaries: Some(Primaries::Bt709),
    transfer: Some(Transfer::Bt709),
    matrix: Some(MatrixCoefficients::Bt709),
    range: Some(Range::Limited),
    chroma_location: Some(ChromaSite::Left),
};

/// Columns, lines and transfer of pictures.
type Kind = ((u32, u32), Option<Transfer>);

/// The transfer that screens of computers have. Codes of BT.709 go to them as they are, by custom; so do those that are
/// made for them.
const OF_COMPUTERS: Transfer = Transfer::Srgb;

/// Draws pictures over all of so many columns and lines, with square pixels; a high dynamic range is brought down.
pub(crate) struct Screen {
    size: (u32, u32),
    pixel_format: PixelFormat,
    colour: Colour,
    /// What brings pictures of so many columns and lines with this transfer.
    uniform: Option<(Kind, Uniform)>,
}

impl Screen {
    pub(crate) fn new(size: (u32, u32), pixel_format: &str, colour: Colour) -> Self {
        Self { size, pixel_format: pixel_format.into(), colour, uniform: None }
    }

    /// Whether it draws pictures of this size in this form.
    pub(crate) fn is_of(&self, size: (u32, u32), pixel_format: &str) -> bool {
        self.size == size && self.pixel_format == pixel_format
    }

    pub(crate) fn show(&mut self, mut frame: Frame) -> Result<Frame, AvError> {
        let size = (frame.width(), frame.height());
        let kind = (size, frame.colour().transfer);
        if self.uniform.as_ref().is_none_or(|(present, _)| *present != kind) {
            let transfer = kind.1.filter(|transfer| *transfer == OF_COMPUTERS).or(self.colour.transfer);
            let uniform = Uniform::of(self.form_for(size), Colour { transfer, ..self.colour });
            self.uniform = Some((kind, uniform));
        }
        let Some((_, uniform)) = &mut self.uniform else { return Ok(frame) };
        frame.mark_pixel_aspect(Rational::ONE);
        let (mut shown, _) = uniform.fit(frame)?;
        shown.mark_pixel_aspect(Rational::ONE);
        Ok(shown)
    }

    /// A form of the very shape of so many square pixels, so that nothing is left for bars.
    fn form_for(&self, (columns, lines): (u32, u32)) -> PictureForm {
        let whole = |side: u32| Rational::whole(side.max(1).into());
        let (width, height) = self.size;
        let pixel_aspect = (whole(columns) * whole(height)).divided_by(whole(lines) * whole(width)).unwrap_or(Rational::ONE);
        PictureForm { width, height, pixel_aspect, pixel_format: self.pixel_format.clone() }
    }
}

//! The way of a picture from the source's form to the output's: its steps, and the form behind each.

use super::{PlanError, Step};
use crate::facts::Picture;
use crate::picture::tone::USUAL_PEAK;
use crate::picture::{
    ChromaSite, Colour, ColourSpace, FieldOrder, Frame, MatrixCoefficients, PixelForm, PixelFormat, Primaries, Range, Samples,
    Transfer, fitted,
};
use crate::timeline::PictureForm;

/// Bits in which everything is computed that gives other samples.
const FINE: u32 = 16;

/// The steps so far, and the form of the pictures behind them.
pub(super) struct Way {
    pub(super) steps: Vec<Step>,
    pub(super) samples: Samples,
    pub(super) size: (u32, u32),
    /// Whether the lines of two fields lie in each picture.
    pub(super) fields_apart: bool,
}

impl Way {
    /// The beginning: pictures as the source has them, in planes.
    pub(super) fn of(source: &Picture) -> Self {
        Self::stored(&source.pixel_format, &source.colour, (source.width, source.height))
    }

    fn stored(stored: &PixelFormat, colour: &Colour, size: (u32, u32)) -> Self {
        let form = stored.form();
        let pixel_format = form.planar();
        // The “j” of some names says only that they have the full range.
        let named = stored.without_range();
        let steps =
            if pixel_format == named { Vec::new() } else { vec![Step::Rearrange { from: named, to: pixel_format.clone() }] };
        let declared = colour.chroma_location;
        let usual = if stored.range().is_some() { ChromaSite::Center } else { ChromaSite::Left };
        let chroma = declared.unwrap_or(usual).within(form);
        let samples = Samples { pixel_format, space: space_of(stored, colour, size), chroma };
        Self { steps, samples, size, fields_apart: false }
    }

    /// Says that pictures have two fields from the beginning to the end. The lines of colour of 4:2:0 lie in their
    /// fields then, whatever is said of whole pictures.
    pub(super) fn has_fields(&mut self, order: FieldOrder) {
        self.fields_apart = order.is_interlaced();
        if self.fields_apart {
            let on_lines = self.samples.form().with_lines_of_colour();
            self.samples.chroma = self.samples.chroma.within(on_lines);
        }
    }

    /// A step that leaves the form of pictures as it is.
    pub(super) fn add(&mut self, step: Step) {
        match &step {
            Step::Crop { width, height, .. } | Step::Pad { width, height, .. } => self.size = (*width, *height),
            Step::Turn { degrees: 90 | 270 } => self.size = (self.size.1, self.size.0),
            _ => {}
        }
        self.steps.push(step);
    }

    /// Brings pictures to another form and size; no step where both are as wanted.
    pub(super) fn bring(&mut self, to: Samples, (width, height): (u32, u32)) -> Result<(), PlanError> {
        if self.samples == to && self.size == (width, height) {
            return Ok(());
        }
        if let Err(word) = self.samples.conversion(&to) {
            return Err(PlanError::of_source(
                "picture.colour",
                format!(
                    "colour of the kind “{word}”, which the source declares, cannot be converted: leave its colour space as it is, in a codec that stores it"
                ),
            ));
        }
        if self.changes_light(&to) {
            self.recolour(&to.space);
        }
        let moves = self.size != (width, height)
            || self.samples.form().shared() != to.form().shared()
            || self.samples.chroma != to.chroma;
        // Drawn anew across and then down, samples keep a part of a code between both that 10 bits have no place for.
        let finer = |samples: &Samples| {
            (9..FINE).contains(&samples.form().depth).then(|| samples.stored_as(samples.form().with_depth(FINE)))
        };
        if moves && let Some(fine) = finer(&self.samples) {
            self.resample(fine, self.size);
        }
        if moves && let Some(fine) = finer(&to) {
            self.resample(fine, (width, height));
        }
        if self.samples != to || self.size != (width, height) {
            self.resample(to, (width, height));
        }
        Ok(())
    }

    fn changes_light(&self, to: &Samples) -> bool {
        (self.samples.space.primaries, self.samples.space.curve()) != (to.space.primaries, to.space.curve())
    }

    fn resample(&mut self, to: Samples, (width, height): (u32, u32)) {
        let has_fields = |samples: &Samples| height.is_multiple_of(2 * samples.form().shared().map_or(1, |(_, lines)| lines));
        let fields_apart = self.fields_apart
            && self.samples.form().shared() != to.form().shared()
            && has_fields(&self.samples)
            && has_fields(&to);
        let from = std::mem::replace(&mut self.samples, to.clone());
        self.size = (width, height);
        self.steps.push(Step::Resample { from, to, width, height, fields_apart });
    }

    /// Brings samples to another form, at the size that they have.
    pub(super) fn store_as(&mut self, form: PixelForm) -> Result<(), PlanError> {
        self.bring(self.samples.stored_as(form), self.size)
    }

    /// To so many bits that what is computed leaves no steps behind.
    pub(super) fn finely(&mut self) -> Result<(), PlanError> {
        let form = self.samples.form();
        if form.depth >= FINE { Ok(()) } else { self.store_as(form.with_depth(FINE)) }
    }

    /// To red, green and blue in fine steps.
    pub(super) fn as_rgb(&mut self) -> Result<(), PlanError> {
        self.store_as(self.samples.form().as_rgb().with_depth(FINE))
    }

    /// Brings light to other primaries and the transfer of a standard display.
    fn recolour(&mut self, to: &ColourSpace) {
        let (primaries, transfer, _) = self.samples.space.meaning();
        self.resample(self.samples.stored_as(self.samples.form().as_rgb().with_depth(32)), self.size);
        self.steps.push(Step::Recolour { transfer, primaries, to: to.primaries });
        self.samples.space = to.in_rgb();
    }

    /// Brings a high dynamic range down to Rec. 709. Light near nought is told apart by fractions of 32 bits only.
    pub(super) fn bring_down(&mut self, peak: u32) -> Result<(), PlanError> {
        let form = self.samples.form().as_rgb();
        let ColourSpace { transfer, primaries, .. } = self.samples.space;
        self.store_as(form.with_depth(32))?;
        self.add(Step::Tone { transfer, primaries, peak });
        let space = ColourSpace::rec709().in_rgb();
        self.samples = Samples { pixel_format: form.with_depth(FINE).planar(), space, chroma: self.samples.chroma };
        Ok(())
    }

    /// To luma and chroma of this space in fine steps.
    pub(super) fn as_luma_and_chroma(&mut self, space: &ColourSpace) -> Result<(), PlanError> {
        let form = self.samples.form();
        let form = if form.is_rgb() { form.in_full_colour() } else { form }.with_depth(FINE);
        let to = Samples { pixel_format: form.planar(), space: *space, chroma: self.samples.chroma.within(form) };
        self.bring(to, self.size)
    }

    /// The steps, the last of which leaves pictures in `pixel_format`, which holds the same samples.
    pub(super) fn end(mut self, pixel_format: &PixelFormat) -> Vec<Step> {
        if self.samples.pixel_format != *pixel_format {
            let (from, to) = (self.samples.pixel_format, pixel_format.clone());
            self.steps.push(Step::Rearrange { from, to });
        }
        join_rearranged(self.steps)
    }
}

/// Two that follow one another are one, or none.
fn join_rearranged(steps: Vec<Step>) -> Vec<Step> {
    let mut joined: Vec<Step> = Vec::new();
    for step in steps {
        match (joined.last_mut(), step) {
            (Some(Step::Rearrange { to, .. }), Step::Rearrange { to: last, .. }) => *to = last,
            (_, step) => joined.push(step),
        }
    }
    joined.retain(|step| !matches!(step, Step::Rearrange { from, to } if from == to));
    joined
}

/// What brings a picture that is stored in another form than it should have to that form: whole, in its own shape, on a
/// black ground. Both are given with what is said of their colour. A high dynamic range is brought down where the other
/// has none.
///
/// # Errors
/// [`PlanError`] where its samples are of a kind that nobody can convert.
pub fn steps_between(own: (&PictureForm, &Colour), wanted: (&PictureForm, &Colour)) -> Result<Vec<Step>, PlanError> {
    let stored = |(form, colour): (&PictureForm, &Colour)| Way::stored(&form.pixel_format, colour, (form.width, form.height));
    let shape = |form: &PictureForm| Frame { width: form.width, height: form.height, pixel_aspect: form.pixel_aspect };
    let place = fitted(shape(own.0), shape(wanted.0));
    let size = (place.width, place.height);
    let (mut way, Way { samples: mut to, size: whole, .. }) = (stored(own), stored(wanted));
    let comes_down = way.samples.space.is_high_range() && !to.space.is_high_range();
    if !comes_down && way.samples.conversion(&to).is_err() {
        // Light that is not brought to that of the others stays as it is, and so does colour of a kind that is not known.
        (to.space.primaries, to.space.transfer) = (way.samples.space.primaries, way.samples.space.transfer);
        if way.samples.conversion(&to).is_err() && way.samples.form().is_rgb() == to.form().is_rgb() {
            to.space.matrix = way.samples.space.matrix;
        }
    }
    // Colour is computed pixel by pixel: of few it costs less.
    let becomes_smaller = u64::from(size.0) * u64::from(size.1) < u64::from(way.size.0) * u64::from(way.size.1);
    if becomes_smaller && way.samples.space.meaning() != to.space.meaning() {
        way.resample(way.samples.stored_as(way.samples.form().with_depth(FINE)), size);
    }
    if comes_down {
        way.bring_down(USUAL_PEAK)?;
    }
    let full_range = to.space.full_range;
    way.bring(to, size)?;
    if size != whole {
        way.add(Step::Pad { width: whole.0, height: whole.1, x: place.x, y: place.y, full_range });
    }
    let mut steps = way.end(&wanted.0.pixel_format);
    // Two names of the same samples.
    if steps.is_empty() && own.0.pixel_format != wanted.0.pixel_format {
        steps.push(Step::Rearrange { from: own.0.pixel_format.clone(), to: wanted.0.pixel_format.clone() });
    }
    Ok(steps)
}

/// The colour space of pictures: what is declared, and where nothing is, what such pictures have.
fn space_of(stored: &PixelFormat, colour: &Colour, (width, height): (u32, u32)) -> ColourSpace {
    let rgb = stored.form().is_rgb();
    let (primaries, matrix) = match height {
        0..=525 if width <= 720 && !rgb => (Primaries::Bt601With525, MatrixCoefficients::Bt601With525),
        526..=576 if width <= 720 && !rgb => (Primaries::Bt601With625, MatrixCoefficients::Bt601With625),
        _ => (Primaries::Bt709, MatrixCoefficients::Bt709),
    };
    ColourSpace {
        primaries: colour.primaries.unwrap_or(primaries),
        // Both kinds of BT.601 have the transfer of BT.709.
        transfer: colour.transfer.unwrap_or(Transfer::Bt709),
        matrix: if rgb { MatrixCoefficients::Rgb } else { colour.matrix.unwrap_or(matrix) },
        full_range: rgb || is_full(stored, colour),
    }
}

/// Whether codes have the full range of luma and colour.
pub(super) fn is_full(stored: &PixelFormat, colour: &Colour) -> bool {
    !stored.form().is_rgb() && (colour.is_full() || stored.range() == Some(Range::Full))
}

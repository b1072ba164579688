//! Pictures of another form than they should have, brought to it.

use beryl_core::picture::Colour;
use beryl_core::plan::{PicturePlan, steps_between};
use beryl_core::time::Rational;
use beryl_core::timeline::PictureForm;

use super::steps::Chain;
use super::wires::TimedFrame;
use crate::raw::{AvError, Frame, pixel_format};

/// Brings all pictures of a stream to one form, so that nothing behind it meets another.
#[derive(Default)]
pub(crate) struct Uniform {
    /// What all get: where nothing else is said, the form of the first.
    wanted: Option<Stored>,
    /// Whether pictures are brought to it that differ from it by what is said of their colour alone: in the middle of a
    /// stream that is said late, or of some pictures only.
    by_colour: bool,
    /// Columns and lines that the first one should have.
    expected: Option<(u32, u32)>,
    /// What the last one had.
    last: Option<PictureForm>,
    /// What brings the last one that was another to what all get.
    change: Option<(Stored, Chain<'static>)>,
}

/// How a picture is stored, and what is said of its colour.
#[derive(Clone, PartialEq)]
struct Stored {
    form: PictureForm,
    colour: Colour,
}

/// From which form to which a picture was brought.
type Change = (PictureForm, PictureForm);

impl Uniform {
    /// What an encoder was opened for.
    pub(super) fn planned(plan: &PicturePlan) -> Self {
        let form = PictureForm {
            width: plan.width,
            height: plan.height,
            pixel_aspect: plan.pixel_aspect,
            pixel_format: plan.pixel_format.clone(),
        };
        Self::of(form, plan.colour)
    }

    /// Pictures of this form and this colour.
    pub(crate) fn of(form: PictureForm, colour: Colour) -> Self {
        Self { wanted: Some(Stored { form, colour }), by_colour: true, ..Self::default() }
    }

    /// What a source has by its reading, where it is known: the first picture that is taken may come from a place at
    /// which it has another size.
    pub(super) fn expected(size: Option<(u32, u32)>) -> Self {
        Self { expected: size, ..Self::default() }
    }

    /// Whether a picture has other samples than all get, in number or kind.
    pub(super) fn is_other(&self, frame: &Frame) -> bool {
        let own = form_of(frame);
        self.wanted.as_ref().is_some_and(|Stored { form: wanted, .. }| {
            (own.width, own.height, &own.pixel_format) != (wanted.width, wanted.height, &wanted.pixel_format)
        })
    }

    /// A picture whose colour is known to be that of all in their form.
    pub(super) fn fit_coloured(&mut self, mut frame: Frame) -> Result<Frame, AvError> {
        if let Some(wanted) = &self.wanted {
            frame.mark_colour(&wanted.colour);
        }
        self.fit(frame).map(|(frame, _)| frame)
    }

    /// The picture in the form that all get, and where its own form differs from that of the picture
    /// before it, the change.
    pub(crate) fn fit(&mut self, frame: Frame) -> Result<(Frame, Option<Change>), AvError> {
        let own = Stored { form: form_of(&frame), colour: frame.colour() };
        if self.last.is_none() {
            let expected = |(width, height)| PictureForm { width, height, ..own.form.clone() };
            self.last = Some(self.expected.map_or_else(|| own.form.clone(), expected));
        }
        let before = self.last.replace(own.form.clone());
        let first = || Stored { form: before.clone().unwrap_or_else(|| own.form.clone()), colour: own.colour };
        let wanted = self.wanted.get_or_insert_with(first).clone();
        let changed = before.filter(|before| *before != own.form).map(|_| (wanted.form.clone(), own.form.clone()));
        if own == wanted || !self.by_colour && own.form == wanted.form {
            return Ok((frame, changed));
        }
        let times = (frame.pts(), frame.duration());
        let mut fitted = self.brought(own, &wanted, frame)?;
        fitted.mark_pixel_aspect(wanted.form.pixel_aspect);
        fitted.mark_colour(&wanted.colour);
        if let (Some(time), length) = times {
            fitted.set_times(time, length);
        }
        Ok((fitted, changed))
    }

    fn brought(&mut self, own: Stored, wanted: &Stored, mut frame: Frame) -> Result<Frame, AvError> {
        let none = || AvError::own("fit a picture", "no picture came out");
        if self.change.as_ref().is_none_or(|(present, _)| *present != own) {
            let steps = steps_between((&own.form, &own.colour), (&wanted.form, &wanted.colour))
                .map_err(|error| AvError::own("fit a picture", error.to_string()))?;
            self.change = Some((own, Chain::of_samples(&steps)));
        }
        let (_, chain) = self.change.as_mut().ok_or_else(none)?;
        frame.set_times(0, 1);
        let mut made = Vec::new();
        chain.take(Some(TimedFrame { frame, clock: Rational::ONE }), &mut made)?;
        made.pop().map(|made| made.frame).ok_or_else(none)
    }
}

fn form_of(frame: &Frame) -> PictureForm {
    PictureForm {
        width: frame.width(),
        height: frame.height(),
        pixel_aspect: frame.pixel_aspect().unwrap_or(Rational::ONE),
        pixel_format: pixel_format(frame.format()).map(|(name, _)| name).unwrap_or_default(),
    }
}

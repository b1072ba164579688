//! Pictures of another form than they should have, brought to it.

use beryl_core::geometry::{Frame as Shape, Rectangle, fitted};
use beryl_core::plan::PicturePlan;
use beryl_core::rational::Rational;
use beryl_core::timeline::PictureForm;

use crate::raw::{AvError, Frame, Graph, GraphInput, pixel_format};

/// Brings all pictures of a stream to one form, so that nothing behind it meets another.
#[derive(Default)]
pub(super) struct Form {
    /// What all get: where nothing else is said, the form of the first.
    wanted: Option<PictureForm>,
    /// Columns and lines that the first one should have.
    expected: Option<(u32, u32)>,
    /// What the last one had.
    last: Option<PictureForm>,
    graph: Option<(Graph, GraphInput)>,
}

/// From which form to which a picture was brought.
type Change = (PictureForm, PictureForm);

impl Form {
    /// What an encoder was opened for.
    pub(super) fn planned(plan: &PicturePlan) -> Self {
        let wanted = PictureForm {
            width: plan.width,
            height: plan.height,
            pixel_aspect: plan.pixel_aspect,
            pixel_format: plan.pixel_format.clone(),
        };
        Self { wanted: Some(wanted), ..Self::default() }
    }

    /// What a source has by its reading, where it is known: the first picture that is taken may come from a place at
    /// which it has another size.
    pub(super) fn expected(size: Option<(u32, u32)>) -> Self {
        Self { expected: size, ..Self::default() }
    }

    /// Whether a picture has other samples than all get, in number or kind.
    pub(super) fn is_other(&self, frame: &Frame) -> bool {
        let own = form_of(frame);
        self.wanted.as_ref().is_some_and(|wanted| {
            (own.width, own.height, &own.pixel_format) != (wanted.width, wanted.height, &wanted.pixel_format)
        })
    }

    /// The picture in the form that all get, and where its own form differs from that of the picture
    /// before it, the change.
    pub(super) fn fit(&mut self, frame: Frame) -> Result<(Frame, Option<Change>), AvError> {
        let own = form_of(&frame);
        if self.last.is_none() {
            let expected = |(width, height)| PictureForm { width, height, ..own.clone() };
            self.last = Some(self.expected.map_or_else(|| own.clone(), expected));
        }
        let before = self.last.replace(own.clone());
        let wanted = self.wanted.get_or_insert_with(|| before.clone().unwrap_or_else(|| own.clone())).clone();
        let changed = before.filter(|before| *before != own).map(|_| (wanted.clone(), own.clone()));
        if own == wanted {
            return Ok((frame, changed));
        }
        let times = (frame.pts(), frame.duration());
        let input = GraphInput::of_picture(&frame, Rational::ONE);
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            self.graph = Some((Graph::new(&input, &filters(&own, &wanted, frame.colour().range.as_deref()))?, input));
        }
        let Some((graph, _)) = &mut self.graph else { return Ok((frame, changed)) };
        graph.push(Some(frame))?;
        let mut fitted = graph.pull()?.ok_or_else(|| AvError::own("fit a picture", "no picture came out"))?;
        if let (Some(time), length) = times {
            fitted.set_times(time, length);
        }
        Ok((fitted, changed))
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

fn filters(from: &PictureForm, to: &PictureForm, range: Option<&str>) -> String {
    let shape = |form: &PictureForm| Shape { width: form.width, height: form.height, pixel_aspect: form.pixel_aspect };
    let Rectangle { x, y, width, height } = fitted(shape(from), shape(to));
    let range = range.map_or_else(String::new, |range| format!(":in_range={range}:out_range={range}"));
    format!(
        "scale=w={width}:h={height}:flags=bicubic+accurate_rnd+full_chroma_int{range},format=pix_fmts={},pad=w={}:h={}:x={x}:y={y},setsar={}/{}",
        to.pixel_format,
        to.width,
        to.height,
        to.pixel_aspect.numerator(),
        to.pixel_aspect.denominator()
    )
}

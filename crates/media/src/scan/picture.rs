//! Everything that is measured of the picture, frame by frame.

use beryl_core::findings::{Bars, FrameMeasure, LookMeasure, bars_of_lines};
use beryl_core::time::Rational;

use super::Window;
use super::look::{brightness, line_levels, look};
use crate::combing::FieldComparer;
use crate::luma::{Luma, Planes, plane, plane_into};
use crate::raw::{AvError, Frame};

/// Bars, noise and colour are looked at twice a second: they change slowly, and the look is costly.
const LOOK_EVERY: Rational = Rational::constant(1, 2);

/// Looks at the frames of a picture in the order in which they are shown.
pub(super) struct PictureMeter {
    clock: Rational,
    rate: Option<Rational>,
    first: Option<Rational>,
    next: Option<Rational>,
    next_look: Option<Rational>,
    before: Option<Luma>,
    /// Room for the next one.
    room: Vec<u8>,
    comparer: FieldComparer,
    planes: Planes,
    frames: Vec<FrameMeasure>,
    bars: Vec<(Rational, Bars)>,
    looks: Vec<LookMeasure>,
}

impl PictureMeter {
    pub(super) fn new(clock: Rational, rate: Option<Rational>) -> Self {
        Self {
            clock,
            rate,
            first: None,
            next: None,
            next_look: None,
            before: None,
            room: Vec::new(),
            comparer: FieldComparer::default(),
            planes: Planes::default(),
            frames: Vec::new(),
            bars: Vec::new(),
            looks: Vec::new(),
        }
    }

    /// The time of the first frame on the source's clock.
    pub(super) fn first(&self) -> Option<Rational> {
        self.first
    }

    /// What comes next does not follow what came last.
    pub(super) fn forget(&mut self) {
        (self.before, self.next, self.next_look) = (None, None, None);
    }

    /// Looks at a frame; one outside the window is passed over.
    pub(super) fn take(&mut self, frame: &Frame, window: Option<Window>) -> Result<(), AvError> {
        let length = self.rate.and_then(Rational::inverse).unwrap_or(Rational::constant(1, 25));
        let time = frame.best_time().map(|time| Rational::whole(time) * self.clock).or(self.next).unwrap_or(Rational::ZERO);
        self.next = Some(time + length);
        if window.is_some_and(|window| time < window.from || time >= window.to) {
            return Ok(());
        }
        let first = *self.first.get_or_insert(time);
        let at = time - first;
        let (shown, layout) = self.planes.with_luma(frame)?;
        let Some(luma) = plane_into(&shown, layout, 0, std::mem::take(&mut self.room)) else { return Ok(()) };
        let before = self.before.take().filter(|before| (before.width, before.height) == (luma.width, luma.height));
        let compared = before.as_ref().map(|before| self.comparer.compare(before, &luma)).unwrap_or_default();
        let bright = brightness(&luma);
        let place = match (window, self.rate) {
            (Some(_), Some(rate)) => u64::try_from((at * rate).round()).unwrap_or(0),
            (Some(_), None) | (None, _) => self.frames.len() as u64,
        };
        self.frames.push(FrameMeasure {
            at,
            place,
            follows: before.is_some(),
            declared: frame.field_order(),
            repeats_field: frame.repeats_field(),
            moving_blocks: compared.moving_blocks,
            weave: compared.weave,
            field_change: compared.field_change,
            combed: compared.combed,
            change: compared.change,
            change_peak: compared.change_peak,
            luma: bright.luma,
            lit: bright.lit,
            detail: bright.detail,
        });
        if self.next_look.is_none_or(|next| at >= next) {
            self.next_look = Some(at + LOOK_EVERY);
            let (lines, columns) = line_levels(&luma);
            self.bars.extend(bars_of_lines(&lines, &columns).map(|bars| (at, bars)));
            let colour = plane(&shown, layout, 1).zip(plane(&shown, layout, 2));
            self.looks.push(look(at, &luma, colour));
        }
        self.room = before.map(|before| before.codes).unwrap_or_default();
        self.before = Some(luma);
        Ok(())
    }

    pub(super) fn finish(self) -> (Vec<FrameMeasure>, Vec<(Rational, Bars)>, Vec<LookMeasure>) {
        (self.frames, self.bars, self.looks)
    }
}

//! A chain of picture steps: those that the libraries' filters do, and those that are done here.

use beryl_core::findings::film::{self, EvenFrames, FilmFrames, Made};
use beryl_core::findings::{FieldMatch, Stretch};
use beryl_core::picture::light::Recolouring;
use beryl_core::picture::tone::ToneMap;
use beryl_core::picture::{FieldOrder, PixelFormat};
use beryl_core::plan::{FramesMeant, Step};
use beryl_core::preset::RateConversion;
use beryl_core::time::Rational;

use super::by_field::ByField;
use super::cost;
use super::overlay::Overlay;
use super::resample::Resampler;
use super::wires::TimedFrame;
use crate::combing::FieldComparer;
use crate::filters;
use crate::luma::{Luma, Planes, plane};
use crate::raw::{AvError, Frame, Graph, GraphInput, Plane, pixel_format_number};
use crate::supplies::Supplies;

/// A chain of steps.
pub(crate) struct Chain<'a> {
    links: Vec<Link<'a>>,
}

enum Link<'a> {
    Filters(Filters),
    Mixed(Mixed),
    Film(Film<'a>),
    Even(Even),
    Combing(Combing),
    Speed(Rational),
    Resample(Resampler),
    ByField(Box<ByField>),
    Tone(Box<ToneMap>),
    Recolour(Box<Recolouring>),
    Rearrange(Rearrange),
    Pad(Pad),
    Overlay(Box<Overlay<'a>>),
}

impl<'a> Chain<'a> {
    pub(crate) fn new(steps: &'a [Step], supplies: &'a Supplies) -> Self {
        let mut links: Vec<Link<'a>> = Vec::new();
        for step in steps {
            if let Some(link) = Link::of(step, supplies) {
                links.push(link);
            }
            let Some(text) = filters::step_text(step, supplies) else { continue };
            match (step, links.last_mut()) {
                (Step::ConstantRate { by: RateConversion::Blend | RateConversion::Motion, .. }, _) => {
                    links.push(Link::Mixed(Mixed { filters: Filters::new(text), last: None }));
                }
                (_, Some(Link::Filters(filters))) => filters.text = format!("{},{text}", filters.text),
                _ => links.push(Link::Filters(Filters::new(text))),
            }
        }
        Self { links }
    }

    /// A chain of steps that need nothing but the picture.
    pub(super) fn of_samples(steps: &[Step]) -> Chain<'static> {
        Chain { links: steps.iter().filter_map(Link::of_samples).collect() }
    }

    /// The threads of its filters.
    pub(super) fn threads(&self) -> Vec<u32> {
        let threads = self.links.iter().flat_map(|link| match link {
            Link::Filters(filters) | Link::Mixed(Mixed { filters, .. }) => filters.threads(),
            Link::ByField(both) => both.threads(),
            Link::Resample(resampler) => resampler.threads(),
            Link::Film(_)
            | Link::Even(_)
            | Link::Combing(_)
            | Link::Speed(_)
            | Link::Tone(_)
            | Link::Recolour(_)
            | Link::Rearrange(_)
            | Link::Pad(_)
            | Link::Overlay(_) => Vec::new(),
        });
        threads.collect()
    }

    /// Takes a frame, or the end, and adds what comes out to `done`.
    pub(crate) fn take(&mut self, frame: Option<TimedFrame>, done: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let at_end = frame.is_none();
        let mut frames: Vec<TimedFrame> = frame.into_iter().collect();
        for link in &mut self.links {
            let mut made = Vec::new();
            for frame in frames {
                link.take(Some(frame), &mut made)?;
            }
            if at_end {
                link.take(None, &mut made)?;
            }
            frames = made;
        }
        done.append(&mut frames);
        Ok(())
    }
}

impl<'a> Link<'a> {
    /// What is done here for a step, by itself or before its filter.
    fn of(step: &'a Step, supplies: &'a Supplies) -> Option<Self> {
        Some(match step {
            Step::Film { stretches, video, .. } => Self::Film(Film::new(stretches, *video)),
            Step::EvenFilm { rate } => Self::Even(Even::new(*rate)),
            Step::Speed { factor } => Self::Speed(*factor),
            Step::Deinterlace { order, frames: FramesMeant::Combed, .. } => Self::Combing(Combing::new(*order)),
            Step::BurnIn(text) => {
                Self::Overlay(Box::new(Overlay::text(text, supplies.name(), filters::burnt(text, supplies.font()?))))
            }
            Step::Subtitles { onto, .. } => {
                let filters = filters::subtitles(supplies.subtitles(step)?, supplies.font()?);
                Self::Overlay(Box::new(Overlay::subtitles(filters, onto)))
            }
            Step::Watermark(mark) => Self::Overlay(Box::new(Overlay::picture(supplies.picture(&mark.picture)?, mark))),
            Step::Deinterlace { .. }
            | Step::Mirror
            | Step::Turn { .. }
            | Step::Crop { .. }
            | Step::ConstantRate { .. }
            | Step::Deblock { .. }
            | Step::Denoise { .. }
            | Step::Adjust { .. }
            | Step::LookUp { .. }
            | Step::Grey
            | Step::Earlier => return None,
            Step::Tone { .. } | Step::Recolour { .. } | Step::Resample { .. } | Step::Rearrange { .. } | Step::Pad { .. } => {
                return Self::of_samples(step);
            }
        })
    }

    /// What is done here for a step that needs nothing but the picture.
    fn of_samples(step: &Step) -> Option<Link<'static>> {
        Some(match step {
            Step::Tone { transfer, primaries, peak } => Link::Tone(Box::new(ToneMap::new(*transfer, *primaries, *peak))),
            Step::Recolour { transfer, primaries, to } => Link::Recolour(Box::new(Recolouring::new(*transfer, *primaries, *to))),
            Step::Resample { from, to, width, height, fields_apart: true } => {
                Link::ByField(Box::new(ByField::new(from, to, (*width, *height))))
            }
            Step::Resample { from, to, width, height, fields_apart: false } => {
                Link::Resample(Resampler::new(from, to, Some((*width, *height))))
            }
            Step::Rearrange { to, .. } => Link::Rearrange(Rearrange { to: to.clone(), graph: None }),
            Step::Pad { width, height, x, y, full_range } => {
                Link::Pad(Pad { size: (*width, *height), place: (*x, *y), full_range: *full_range })
            }
            _ => return None,
        })
    }

    fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        match (self, frame) {
            (Self::Filters(filters), frame) => filters.take(frame, made),
            (Self::Mixed(mixed), frame) => mixed.take(frame, made),
            (Self::Film(film), Some(frame)) => film.take(frame, made),
            (Self::Even(even), Some(frame)) => {
                made.extend(even.take(frame));
                Ok(())
            }
            (Self::Combing(combing), frame) => combing.take(frame, made),
            // The frames stay what they are; the clock by which they count goes faster.
            (Self::Speed(factor), Some(TimedFrame { frame, clock })) => {
                let clock = clock.divided_by(*factor).unwrap_or(clock);
                made.push(TimedFrame { frame, clock });
                Ok(())
            }
            (Self::ByField(both), frame) => both.take(frame, made),
            (Self::Resample(resampler), frame) => resampler.take(frame, made),
            (Self::Tone(tone), Some(frame)) => {
                made.push(bring_down(tone, &frame)?);
                Ok(())
            }
            (Self::Recolour(recolouring), Some(frame)) => {
                made.push(recolour(recolouring, frame)?);
                Ok(())
            }
            (Self::Rearrange(rearrange), Some(frame)) => {
                made.push(rearrange.take(frame)?);
                Ok(())
            }
            (Self::Pad(pad), Some(frame)) => {
                made.push(pad.take(&frame)?);
                Ok(())
            }
            (Self::Overlay(overlay), Some(frame)) => {
                made.push(overlay.take(frame)?);
                Ok(())
            }
            (
                Self::Film(_)
                | Self::Even(_)
                | Self::Speed(_)
                | Self::Tone(_)
                | Self::Recolour(_)
                | Self::Rearrange(_)
                | Self::Pad(_)
                | Self::Overlay(_),
                None,
            ) => Ok(()),
        }
    }
}

/// Filters of the libraries.
pub(super) struct Filters {
    text: String,
    graph: Option<(Graph, GraphInput)>,
    threads: Vec<u32>,
}

impl Filters {
    pub(super) const fn new(text: String) -> Self {
        Self { text, graph: None, threads: Vec::new() }
    }

    pub(super) fn threads(&self) -> Vec<u32> {
        self.threads.clone()
    }

    pub(super) fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some(TimedFrame { frame, clock }) = frame else { return self.end(made) };
        let input = GraphInput::of_picture(&frame, clock);
        // A source whose pictures change in the middle gets new filters; what comes out keeps its form.
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            self.end(made)?;
            let (graph, threads) = cost::while_opening(|| Graph::new(&input, &self.text));
            self.graph = Some((graph?, input));
            self.threads = threads;
        }
        let Some((graph, _)) = &mut self.graph else { return Ok(()) };
        graph.push(Some(frame))?;
        drain(graph, made)
    }

    /// What is left comes out; the graph stays, and its threads with it, until there is another.
    fn end(&mut self, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some((graph, _)) = &mut self.graph else { return Ok(()) };
        graph.push(None)?;
        drain(graph, made)
    }
}

/// Frames between two of the source are made of both, and near its end of more that follow: the last one is given on a
/// few times, so that what comes out reaches as far as what went in.
struct Mixed {
    filters: Filters,
    last: Option<TimedFrame>,
}

/// Frames that the filters look ahead.
const LOOKED_AHEAD: i64 = 3;

impl Mixed {
    fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        if let Some(frame) = frame {
            self.last = Some(TimedFrame { frame: frame.frame.clone(), clock: frame.clock });
            return self.filters.take(Some(frame), made);
        }
        let Some(TimedFrame { frame, clock }) = self.last.take() else { return self.filters.take(None, made) };
        let (begins, length) = (frame.pts().unwrap_or(0), frame.duration().max(1));
        let before = made.len();
        for number in 1..=LOOKED_AHEAD {
            let mut again = frame.clone();
            again.set_times(begins.saturating_add(length.saturating_mul(number)), length);
            self.filters.take(Some(TimedFrame { frame: again, clock }), made)?;
        }
        self.filters.take(None, made)?;
        let end = Rational::whole(begins.saturating_add(length)) * clock;
        let all = made.split_off(before);
        made.extend(all.into_iter().filter(|one| one.frame.pts().is_none_or(|pts| Rational::whole(pts) * one.clock < end)));
        Ok(())
    }
}

fn drain(graph: &mut Graph, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
    let clock = graph.clock();
    while let Some(frame) = graph.pull()? {
        made.push(TimedFrame { frame, clock });
    }
    Ok(())
}

/// Brings film frames back; frames of video are marked with their fields.
struct Film<'a> {
    frames: FilmFrames<'a>,
    clock: Rational,
    number: u64,
    before: Option<Frame>,
    /// Ticks for which the first frame stands before the film begins.
    lead: i64,
}

impl<'a> Film<'a> {
    fn new(stretches: &'a [Stretch], video: Rational) -> Self {
        Self { frames: FilmFrames::new(stretches), clock: film::clock(video), number: 0, before: None, lead: 0 }
    }

    fn take(&mut self, TimedFrame { mut frame, clock }: TimedFrame, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        if frame.is_leading() {
            self.lead = (Rational::whole(frame.duration()) * clock).divided_by(self.clock).map_or(0, Rational::round);
            frame.set_times(0, self.lead);
            made.push(TimedFrame { frame, clock: self.clock });
            return Ok(());
        }
        let decided = self.frames.take(self.number);
        self.number += 1;
        let before = self.before.replace(frame.clone());
        let (mut picture, fields, tick, ticks) = match decided {
            Made::Nothing => return Ok(()),
            Made::Video { fields, tick } => (frame, fields, tick, film::TICKS_OF_VIDEO),
            Made::Film { fields, first, tick, ticks } => {
                let picture = match (before, fields) {
                    (Some(before), FieldMatch::FirstWithPrevious) => weave(&frame, &before, first)?,
                    (Some(before), FieldMatch::SecondWithPrevious) => weave(&before, &frame, first)?,
                    (_, FieldMatch::Whole) => frame,
                    (_, FieldMatch::FirstWithPrevious | FieldMatch::SecondWithPrevious | FieldMatch::Nothing) => return Ok(()),
                };
                (picture, FieldOrder::Progressive, tick, ticks)
            }
        };
        picture.set_times(tick + self.lead, ticks);
        picture.mark_fields(fields);
        made.push(TimedFrame { frame: picture, clock: self.clock });
        Ok(())
    }
}

/// Gives film frames their own length.
struct Even {
    frames: EvenFrames,
    clock: Rational,
    /// Frames of film for which the first one stands before the film begins.
    lead: i64,
}

impl Even {
    fn new(rate: Rational) -> Self {
        Self { frames: EvenFrames::new(rate), clock: rate.inverse().unwrap_or(Rational::ONE), lead: 0 }
    }

    fn take(&mut self, TimedFrame { mut frame, clock }: TimedFrame) -> Option<TimedFrame> {
        let ticks = |ticks: i64| Rational::whole(ticks) * clock;
        if frame.is_leading() {
            self.lead = ticks(frame.duration()).divided_by(self.clock).map_or(0, Rational::round);
            frame.set_times(0, self.lead);
        } else {
            frame.set_times(self.lead + self.frames.take(ticks(frame.pts()?))?, 1);
        }
        Some(TimedFrame { frame, clock: self.clock })
    }
}

/// A picture of the first field of one frame and the second field of another.
fn weave(early: &Frame, late: &Frame, first: FieldOrder) -> Result<Frame, AvError> {
    match first {
        FieldOrder::BottomFirst => Frame::woven(late, early),
        FieldOrder::TopFirst | FieldOrder::Progressive | FieldOrder::Unknown => Frame::woven(early, late),
    }
}

/// A picture of a high dynamic range, in fractions, brought down to one in 16 bits.
fn bring_down(tone: &ToneMap, TimedFrame { frame, clock }: &TimedFrame) -> Result<TimedFrame, AvError> {
    let missing = || AvError::own("bring down a dynamic range", "the picture has no red, green and blue in fractions");
    let has_alpha = frame.plane_count() > 3;
    let form = pixel_format_number(if has_alpha { "gbrap16le" } else { "gbrp16le" })?;
    let mut made = Frame::of_form(frame, frame.width(), frame.height(), form)?;
    // Planes of this form are green, blue, red and alpha.
    let from: Option<Vec<Plane<'_>>> = (0..frame.plane_count()).map(|plane| frame.plane(plane)).collect();
    let from = from.ok_or_else(missing)?;
    let mut planes = made.planes_mut()?;
    let ([from_green, from_blue, from_red, ..], [green, blue, red, rest @ ..]) = (from.as_slice(), planes.as_mut_slice()) else {
        return Err(missing());
    };
    for line in 0..green.lines() {
        let lines = [from_red, from_green, from_blue].map(|plane| plane.fractions(line).ok_or_else(missing));
        let [from_red, from_green, from_blue] = lines;
        let lines = [red.samples(line), green.samples(line), blue.samples(line)];
        let [Some(red), Some(green), Some(blue)] = lines else { return Err(missing()) };
        tone.bring_down([from_red?, from_green?, from_blue?], [red, green, blue]);
        if let (Some(alpha), Some(from_alpha)) = (rest.first_mut(), from.get(3)) {
            let (to, from) = alpha.samples(line).zip(from_alpha.fractions(line)).ok_or_else(missing)?;
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
            to.iter_mut().zip(from).for_each(|(to, part)| *to = (part.clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16);
        }
    }
    drop(planes);
    made.is_standard_now();
    Ok(TimedFrame { frame: made, clock: *clock })
}

/// A picture in fractions brought to other colours, in place.
fn recolour(recolouring: &Recolouring, TimedFrame { mut frame, clock }: TimedFrame) -> Result<TimedFrame, AvError> {
    let missing = || AvError::own("bring colours to others", "the picture has no red, green and blue in fractions");
    let mut planes = frame.planes_mut()?;
    let [green, blue, red, ..] = planes.as_mut_slice() else { return Err(missing()) };
    for line in 0..green.lines() {
        let lines = [red.fractions(line), green.fractions(line), blue.fractions(line)];
        let [Some(red), Some(green), Some(blue)] = lines else { return Err(missing()) };
        recolouring.recolour([red, green, blue]);
    }
    drop(planes);
    Ok(TimedFrame { frame, clock })
}

/// Stores the same samples in another order.
struct Rearrange {
    to: PixelFormat,
    graph: Option<(Graph, GraphInput)>,
}

impl Rearrange {
    fn take(&mut self, TimedFrame { frame, clock }: TimedFrame) -> Result<TimedFrame, AvError> {
        if let Some(frame) = frame.rearranged(pixel_format_number(self.to.name())?)? {
            return Ok(TimedFrame { frame, clock });
        }
        // Palettes and bits of other lengths than bytes have no such samples; the library knows them.
        let input = GraphInput::of_picture(&frame, clock);
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            let text = format!("scale=flags=bicubic+accurate_rnd+full_chroma_int+full_chroma_inp,format=pix_fmts={}", self.to);
            self.graph = Some((Graph::new(&input, &text)?, input));
        }
        let none = || AvError::own("store samples in another order", "the filters gave none");
        let (graph, _) = self.graph.as_mut().ok_or_else(none)?;
        graph.push(Some(frame))?;
        Ok(TimedFrame { frame: graph.pull()?.ok_or_else(none)?, clock: graph.clock() })
    }
}

/// Puts pictures on a black ground.
struct Pad {
    size: (u32, u32),
    place: (u32, u32),
    full_range: bool,
}

impl Pad {
    fn take(&self, TimedFrame { frame, clock }: &TimedFrame) -> Result<TimedFrame, AvError> {
        let mut ground = Frame::of_form(frame, self.size.0, self.size.1, frame.format())?;
        ground.blacken(self.full_range)?;
        ground.place(frame, self.place)?;
        Ok(TimedFrame { frame: ground, clock: *clock })
    }
}

/// Marks the frames that show combing.
struct Combing {
    order: FieldOrder,
    comparer: FieldComparer,
    planes: Planes,
    before: Option<Luma>,
    /// The first frame has none before it: it is taken to be like the second.
    waiting: Option<TimedFrame>,
}

impl Combing {
    fn new(order: FieldOrder) -> Self {
        Self { order, comparer: FieldComparer::thorough(), planes: Planes::default(), before: None, waiting: None }
    }

    fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some(TimedFrame { mut frame, clock }) = frame else {
            made.extend(self.waiting.take());
            return Ok(());
        };
        let (shown, layout) = self.planes.with_luma(&frame)?;
        let luma = plane(&shown, layout, 0);
        let before = self.before.take();
        let combed = match (&before, &luma) {
            (Some(before), Some(luma)) if (before.width, before.height) == (luma.width, luma.height) => {
                Some(self.comparer.compare(before, luma).combed > 0.0)
            }
            _ => None,
        };
        self.before = luma;
        let fields = if combed == Some(true) { self.order } else { FieldOrder::Progressive };
        frame.mark_fields(fields);
        if let Some(mut first) = self.waiting.take() {
            first.frame.mark_fields(fields);
            made.push(first);
        }
        let frame = TimedFrame { frame, clock };
        if combed.is_none() && before.is_none() {
            self.waiting = Some(frame);
        } else {
            made.push(frame);
        }
        Ok(())
    }
}

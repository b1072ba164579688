//! A chain of picture steps: those that the libraries' filters do, and those that are done here.

use beryl_core::film::{self, EvenFrames, FilmFrames, Made};
use beryl_core::findings::{FieldMatch, Stretch};
use beryl_core::plan::{BurnText, FramesMeant, Step, WatermarkPlan};
use beryl_core::preset::RateConversion;
use beryl_core::rational::Rational;
use beryl_core::reading::FieldOrder;

use super::cost;
use super::pass::TimedFrame;
use crate::filters;
use crate::raw::{AvError, Frame, Graph, GraphInput};
use crate::scan::{FieldComparer, Luma, Planes, plane};
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
    Note(Note<'a>),
    Watermark(Watermark<'a>),
}

impl<'a> Chain<'a> {
    pub(crate) fn new(steps: &'a [Step], supplies: &'a Supplies) -> Self {
        let mut links: Vec<Link<'a>> = Vec::new();
        for step in steps {
            match step {
                Step::Film { stretches, video, .. } => links.push(Link::Film(Film::new(stretches, *video))),
                Step::EvenFilm { rate } => links.push(Link::Even(Even::new(*rate))),
                Step::Speed { factor } => links.push(Link::Speed(*factor)),
                Step::Deinterlace { order, frames: FramesMeant::Combed, .. } => links.push(Link::Combing(Combing::new(*order))),
                Step::BurnIn(text) => links.push(Link::Note(Note { text, name: supplies.name() })),
                Step::Watermark(mark) => {
                    let over = supplies.picture(&mark.picture).cloned();
                    links.extend(over.map(|over| Link::Watermark(Watermark { over, mark, graph: None })));
                }
                _ => {}
            }
            let Some(text) = filters::step_text(step, supplies) else { continue };
            if let Step::ConstantRate { by: RateConversion::Blend | RateConversion::Motion, .. } = step {
                links.push(Link::Mixed(Mixed { filters: Filters::new(text), last: None }));
                continue;
            }
            match links.last_mut() {
                Some(Link::Filters(filters)) => filters.text = format!("{},{text}", filters.text),
                _ => links.push(Link::Filters(Filters::new(text))),
            }
        }
        Self { links }
    }

    /// The threads of its filters.
    pub(super) fn threads(&self) -> Vec<u32> {
        let threads = self.links.iter().filter_map(|link| match link {
            Link::Filters(filters) | Link::Mixed(Mixed { filters, .. }) => Some(&filters.threads),
            Link::Film(_) | Link::Even(_) | Link::Combing(_) | Link::Speed(_) | Link::Note(_) | Link::Watermark(_) => None,
        });
        threads.flatten().copied().collect()
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

impl Link<'_> {
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
            (Self::Note(note), Some(frame)) => {
                made.push(note.take(frame));
                Ok(())
            }
            (Self::Watermark(mark), frame) => mark.take(frame, made),
            (Self::Film(_) | Self::Even(_) | Self::Speed(_) | Self::Note(_), None) => Ok(()),
        }
    }
}

/// Filters of the libraries.
struct Filters {
    text: String,
    graph: Option<(Graph, GraphInput)>,
    threads: Vec<u32>,
}

impl Filters {
    const fn new(text: String) -> Self {
        Self { text, graph: None, threads: Vec::new() }
    }

    fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
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
            again.set_times(begins + number * length, length);
            self.filters.take(Some(TimedFrame { frame: again, clock }), made)?;
        }
        self.filters.take(None, made)?;
        let end = Rational::whole(begins + length) * clock;
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

/// Notes of each frame what is to be written into it.
struct Note<'a> {
    text: &'a BurnText,
    name: &'a str,
}

impl Note<'_> {
    fn take(&self, TimedFrame { mut frame, clock }: TimedFrame) -> TimedFrame {
        let moment = Rational::whole(frame.pts().unwrap_or(0)) * clock;
        frame.note(filters::BURNT_TEXT, &self.text.at(moment, self.name));
        TimedFrame { frame, clock }
    }
}

/// Lays a picture over each frame.
struct Watermark<'a> {
    over: Frame,
    mark: &'a WatermarkPlan,
    graph: Option<(Graph, GraphInput)>,
}

impl Watermark<'_> {
    fn take(&mut self, frame: Option<TimedFrame>, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some(TimedFrame { frame, clock }) = frame else { return self.end(made) };
        let input = GraphInput::of_picture(&frame, clock);
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            self.end(made)?;
            let mut over = self.over.clone();
            let second = GraphInput::of_picture(&over, clock);
            // What comes out has the form of what goes in.
            let form = crate::raw::pixel_format(frame.format()).map_or_else(|| "yuv420p".to_owned(), |(name, _)| name);
            let mut graph = Graph::with_inputs(&[input.clone(), second], &filters::watermark(self.mark, &form))?;
            over.set_times(frame.pts().unwrap_or(0), 1);
            graph.push_to(1, Some(over))?;
            graph.push_to(1, None)?;
            self.graph = Some((graph, input));
        }
        let Some((graph, _)) = &mut self.graph else { return Ok(()) };
        graph.push_to(0, Some(frame))?;
        drain(graph, made)
    }

    fn end(&mut self, made: &mut Vec<TimedFrame>) -> Result<(), AvError> {
        let Some((mut graph, _)) = self.graph.take() else { return Ok(()) };
        graph.push_to(0, None)?;
        drain(&mut graph, made)
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

//! Holding a file against what it was made from: frame by frame, and as a film of both.

use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::quality::{Comparison, FrameQuality, IDENTICAL};
use beryl_core::picture::{FieldOrder, Range};
use beryl_core::plan::Step;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, FileRef, PairFilm, Reference, SourceRef};
use beryl_core::time::Rational;
use crossbeam_channel::{Receiver, bounded};

use crate::control::Control;
use crate::encoders::{muxer, muxer_options};
use crate::job::{Shared, TimedFrame, feed};
use crate::means_of_machine;
use crate::raw::{
    AvError, Encoder, EncoderKind, EncoderSettings, Frame, Graph, GraphInput, Medium, Output, WriteError, pixel_format,
    pixel_format_number,
};
use crate::screen::{SCREEN, Screen};
use crate::source::{open_root, system_path};
use crate::supplies::Supplies;

/// Holds `file` against `reference`: of each frame of the file, how near it comes to what the reference
/// shows at that moment. Where a film is wanted, it is written as well: the source as it is seen above,
/// the file below, frame for frame. What the steps need beside the pictures is put into `folder`.
///
/// # Errors
/// A [`Problem`] where either cannot be read or has no picture, or the film cannot be written.
pub fn compare(
    reference: &Reference,
    file: &SourceRef,
    film: Option<&PairFilm>,
    folder: &Path,
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
) -> Result<Comparison, Problem> {
    let supplies = Supplies::prepare(&reference.source, reference.origin, reference.steps.iter(), &reference.assets, folder)?;
    let fault = Mutex::new(None);
    let shared = Shared { control, fault: &fault, means: means_of_machine(1) };
    let (done, _) = bounded::<()>(0);
    let seen = film.map_or(&[][..], |film| &film.seen);
    let mut chains: Vec<&[Step]> = vec![&reference.steps];
    chains.extend(film.map(|_| seen));
    let frames = std::thread::scope(|scope| {
        let mut made = feed(scope, file, (None, &[]), &[&[]], &supplies, shared, &done)?.into_iter();
        let mut wanted =
            feed(scope, &reference.source, (reference.origin, &reference.parts), &chains, &supplies, shared, &done)?.into_iter();
        let (Some(made), Some(expected)) = (made.next(), wanted.next()) else { return Ok(Vec::new()) };
        let film = film.zip(wanted.next()).map(|(film, seen)| Film { film, seen: Shown::new(seen), writing: None });
        let held = hold(&made, Shown::new(expected), film, tell);
        // Whoever still feeds finds nobody waiting, and ends.
        drop(made);
        held.map_err(|error| problem(file, error))
    })?;
    match fault.into_inner() {
        Ok(Some(problem)) => Err(problem),
        Ok(None) | Err(_) => Ok(Comparison::of(frames)),
    }
}

fn problem(file: &SourceRef, error: WriteError) -> Problem {
    let what = format!("{} could not be compared", file.file.path.name());
    match error {
        WriteError::System(error) => Problem::from_io(what, &error),
        WriteError::Library(error) => {
            Problem::new(ProblemKind::Unsupported, what, "the libraries refused it").with_details(error.to_string())
        }
    }
}

/// How often the place is told, in frames.
const TELL_EVERY: usize = 10;

fn hold(
    made: &Receiver<TimedFrame>,
    mut expected: Shown,
    mut film: Option<Film<'_>>,
    tell: &(dyn Fn(Answer) + Sync),
) -> Result<Vec<FrameQuality>, WriteError> {
    let mut frames = Vec::new();
    let mut measure = None;
    while let Ok(TimedFrame { mut frame, clock }) = made.recv() {
        let tick = i64::try_from(frames.len()).unwrap_or(i64::MAX);
        let time = Rational::whole(frame.pts().unwrap_or(tick)) * clock;
        let length = Rational::whole(frame.duration().max(1)) * clock;
        // Clocks of files are coarse: a frame may be said to begin a little before or after its time.
        let slack = length * Rational::constant(2, 5);
        let Some(mut against) = expected.at(time + slack, length) else { break };
        if let Some(film) = &mut film {
            film.add(&frame, time, length, slack)?;
        }
        frame.set_times(tick, 1);
        against.set_times(tick, 1);
        let measure = match &mut measure {
            Some(measure) => measure,
            none => none.insert(Measure::new(&frame, &against)?),
        };
        let (ssim, psnr) = measure.hold(frame, against)?;
        frames.push(FrameQuality { at: (time * Rational::whole(1000)).round(), ssim, psnr });
        if frames.len() % TELL_EVERY == 0 {
            tell(Answer::Comparing { position: time.to_f64() });
        }
    }
    if let Some(film) = film {
        film.finish()?;
    }
    Ok(frames)
}

/// What is shown at a moment: frames come in the order of time.
struct Shown {
    frames: Receiver<TimedFrame>,
    now: Option<TimedFrame>,
    next: Option<TimedFrame>,
}

impl Shown {
    fn new(frames: Receiver<TimedFrame>) -> Self {
        Self { frames, now: None, next: None }
    }

    /// The frame that is shown at a moment; nothing where the last one ended more than `length` before it.
    fn at(&mut self, moment: Rational, length: Rational) -> Option<Frame> {
        let begins = |shown: &TimedFrame| Rational::whole(shown.frame.pts().unwrap_or(0)) * shown.clock;
        loop {
            if self.next.is_none() {
                self.next = self.frames.recv().ok();
            }
            match &self.next {
                Some(next) if begins(next) <= moment || self.now.is_none() => self.now = self.next.take(),
                Some(_) => break,
                None => {
                    let now = self.now.as_ref()?;
                    let ends = begins(now) + Rational::whole(now.frame.duration().max(1)) * now.clock;
                    if moment > ends + length {
                        return None;
                    }
                    break;
                }
            }
        }
        self.now.as_ref().map(|shown| shown.frame.clone())
    }
}

/// Pixel formats in which frames are held against each other; others are brought to the last.
const MEASURED: [&str; 7] = ["yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p12le", "yuv444p10le"];

struct Measure(Graph);

impl Measure {
    fn new(made: &Frame, against: &Frame) -> Result<Self, AvError> {
        let stored = pixel_format(made.format()).map(|(format, _)| format.without_range()).unwrap_or_default();
        let name = stored.name().replace("yuva", "yuv");
        let format = MEASURED.into_iter().find(|known| *known == name).unwrap_or("yuv444p10le");
        let range = Range::of(made.colour().is_full()).word();
        let inputs = [made, against].map(|frame| GraphInput::of_picture(frame, Rational::constant(1, 25)));
        let text = format!(
            "[in0]scale=flags=bicubic+accurate_rnd:out_range={range},format=pix_fmts={format}[made];\
             [in1]scale=w={}:h={}:flags=bicubic+accurate_rnd:out_range={range},format=pix_fmts={format},split[one][other];\
             [made][one]ssim[half];[half][other]psnr",
            made.width(),
            made.height()
        );
        Graph::with_inputs(&inputs, &text).map(Self)
    }

    /// SSIM and PSNR of two frames at the same time.
    fn hold(&mut self, made: Frame, against: Frame) -> Result<(f64, f64), AvError> {
        self.0.push_to(0, Some(made))?;
        self.0.push_to(1, Some(against))?;
        let held = self.0.pull()?.ok_or_else(|| AvError::own("compare", "two frames gave no figure"))?;
        let figure = |name: &str| held.metadata(name).and_then(|text| text.parse::<f64>().ok());
        let (ssim, psnr) = figure("lavfi.ssim.All")
            .zip(figure("lavfi.psnr.psnr_avg"))
            .ok_or_else(|| AvError::own("compare", "the figures were not understood"))?;
        Ok((ssim.min(1.0), psnr.min(IDENTICAL)))
    }
}

/// The film of both while it is written.
struct Film<'a> {
    film: &'a PairFilm,
    seen: Shown,
    writing: Option<Writing>,
}

struct Writing {
    screens: [Screen; 2],
    graph: Graph,
    encoder: Encoder,
    output: Output,
}

/// The clock of the film, fine enough for every rate.
const FILM_CLOCK: Rational = Rational::constant(1, 90_000);

impl Film<'_> {
    fn add(&mut self, made: &Frame, time: Rational, length: Rational, slack: Rational) -> Result<(), WriteError> {
        let Some(mut seen) = self.seen.at(time + slack, length) else { return Ok(()) };
        let ticks = |seconds: Rational| seconds.divided_by(FILM_CLOCK).map_or(0, Rational::round);
        let mut made = made.clone();
        let writing = match &mut self.writing {
            Some(writing) => writing,
            none => none.insert(Writing::begin(self.film)?),
        };
        let [above, below] = &mut writing.screens;
        (seen, made) = (above.show(seen)?, below.show(made)?);
        for frame in [&mut seen, &mut made] {
            frame.set_times(ticks(time), ticks(length).max(1));
        }
        writing.graph.push_to(0, Some(seen))?;
        writing.graph.push_to(1, Some(made))?;
        writing.drain(ticks(length).max(1))
    }

    fn finish(self) -> Result<(), WriteError> {
        let Some(mut writing) = self.writing else { return Ok(()) };
        writing.encoder.send(None)?;
        writing.write(1)?;
        writing.output.finish()
    }
}

impl Writing {
    fn begin(film: &PairFilm) -> Result<Self, WriteError> {
        let (width, height) = (film.width, film.height);
        let pixel_format = "yuv420p";
        let format = pixel_format_number(pixel_format)?;
        let input = GraphInput::Picture { width, height, format, pixel_aspect: Rational::ONE, clock: FILM_CLOCK, rate: None };
        let graph = Graph::with_inputs(&[input.clone(), input], "[in0][in1]vstack")?;
        let encoder = Encoder::open(&EncoderSettings {
            name: "libx264",
            kind: EncoderKind::Picture {
                width,
                height: height * 2,
                pixel_format: format,
                pixel_aspect: Rational::ONE,
                rate: None,
                colour: SCREEN,
                fields: FieldOrder::Progressive,
            },
            clock: FILM_CLOCK,
            options: [("preset", "veryfast"), ("crf", "15"), ("g", "25"), ("bf", "0"), ("flags", "+global_header")]
                .map(|(name, value)| (name.to_owned(), value.to_owned()))
                .to_vec(),
            first_pass: None,
        })?;
        let FileRef { path, .. } = &film.output;
        let mut options = cap_std::fs::OpenOptions::new();
        options.write(true).read(true).create_new(true);
        let folder = open_root(&film.output).map_err(|problem| std::io::Error::other(problem.to_string()))?;
        let file = folder.open_with(system_path(path), &options)?.into_std();
        let container = beryl_core::formats::Container::Mp4;
        let mut output = Output::create(Medium::new(file, crate::raw::Stop::default()), muxer(container))?;
        let mut stream = encoder.stream()?;
        stream.rate = None;
        output.add_stream(&stream, &std::collections::BTreeMap::new(), &["default".to_owned()])?;
        output.leave_index_room(&[]);
        output.write_header(muxer_options(container))?;
        let screens = [(); 2].map(|()| Screen::new((width, height), pixel_format, SCREEN));
        Ok(Self { screens, graph, encoder, output })
    }

    fn drain(&mut self, length: i64) -> Result<(), WriteError> {
        while let Some(mut frame) = self.graph.pull()? {
            frame.set_times(frame.pts().unwrap_or(0), length);
            frame.prepare_for_encoding(FieldOrder::Progressive, &SCREEN);
            self.encoder.send(Some(&frame))?;
            self.write(length)?;
        }
        Ok(())
    }

    fn write(&mut self, length: i64) -> Result<(), WriteError> {
        for mut packet in self.encoder.receive()? {
            packet.set_stream(0);
            if packet.duration() == 0 {
                packet.set_duration(length);
            }
            self.output.write_in_any_order(packet)?;
        }
        Ok(())
    }
}

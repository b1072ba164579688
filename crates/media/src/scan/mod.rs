//! Scanning: decoding a source to find out what it is.

mod look;
mod picture;
mod sound;

use std::collections::BTreeMap;
use std::thread::ScopedJoinHandle;
use std::time::{Duration, Instant};

use beryl_core::facts::Facts;
use beryl_core::findings::{Curves, Extent, Measurements, StreamMeasure, find};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use crossbeam_channel::{Receiver, Sender, bounded};

use crate::control::Control;
use crate::probe;
use crate::raw::{AvError, Decoder, Frame, Kind, OpenError, Packet};
use crate::source::{PacketSource, problem_of};
use picture::PictureMeter;
use sound::SoundMeter;

/// Parts of a quick scan.
const WINDOWS: u32 = 8;
/// Seconds of each.
const WINDOW: Rational = Rational::whole(3);
/// Packets between two threads.
const QUEUE: usize = 64;
/// How often progress is told.
const TELL_EVERY: Duration = Duration::from_millis(400);

/// What goes to a decoder.
enum Item {
    Packet(Packet),
    /// The source was moved: from here on, frames from this moment to that one are looked at.
    Window(Window),
}

/// From when to when, on the source's clock.
#[derive(Clone, Copy)]
struct Window {
    from: Rational,
    to: Rational,
}

/// Reads facts and findings of a source, and the curves behind them. `quick` looks at evenly spread
/// parts of the picture only.
///
/// # Errors
/// A [`Problem`] where the source cannot be opened or looked at, or the scan was cancelled. A source
/// that is damaged further on is scanned as far as it can be read.
pub fn scan(
    source: &SourceRef,
    quick: bool,
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
) -> Result<(Reading, Curves), Problem> {
    let mut facts = probe::facts(&mut PacketSource::open(source, control.stop())?)?;
    let packets = PacketSource::open(source, control.stop())?;
    let windows = if quick { windows(&facts) } else { Vec::new() };
    let mut measured = measure(packets, &facts, &windows, control, tell)?;
    if let Ok(count @ 1..) = u32::try_from(windows.len()) {
        measured.extent = Extent::Windows { count, seconds: WINDOW };
    }
    facts.correct_lengths(&measured);
    let (findings, curves) = find(measured, &facts);
    Ok((Reading { facts, findings: Some(findings) }, curves))
}

/// Evenly spread parts; none where they would cover most of the source, or its length is not known.
fn windows(facts: &Facts) -> Vec<Window> {
    let least = WINDOW * Rational::whole(i64::from(WINDOWS) * 2);
    let Some(duration) = facts.duration.filter(|duration| *duration > least) else { return Vec::new() };
    let step = duration * Rational::constant(1, WINDOWS as i64);
    let margin = (step - WINDOW) * Rational::constant(1, 2);
    (0..i64::from(WINDOWS))
        .map(|number| facts.start + step * Rational::whole(number) + margin)
        .map(|from| Window { from, to: from + WINDOW })
        .collect()
}

fn measure(
    mut packets: PacketSource,
    facts: &Facts,
    windows: &[Window],
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
) -> Result<Measurements, Problem> {
    let name = packets.name().to_owned();
    let failed = |error: AvError| {
        Problem::new(ProblemKind::Unsupported, format!("{name} could not be scanned"), "the codec library refused it")
            .with_details(error.to_string())
    };
    let picture = facts.picture().map(|(stream, picture)| (stream.index as usize, picture.frame_rate));
    let mut decoders = Vec::new();
    for stream in packets.input().streams() {
        let is_picture = picture.is_some_and(|(index, _)| index == stream.index());
        let wanted = is_picture || (stream.kind() == Kind::Sound && windows.is_empty());
        // A stream that no decoder reads has no findings; the others do.
        if let Some(decoder) = wanted.then(|| Decoder::open(stream, (!is_picture).then_some(1)).ok()).flatten() {
            decoders.push((stream.index(), decoder, packets.clock(stream.index())));
        }
    }
    packets.keep_only(&decoders.iter().map(|(index, _, _)| *index).collect::<Vec<_>>());
    let ((picture_meter, sound_meters), is_whole) = std::thread::scope(|scope| {
        let mut inlets = BTreeMap::new();
        let (mut picture_thread, mut sound_threads) = (None, Vec::new());
        for (index, decoder, clock) in decoders {
            let (inlet, items) = bounded(QUEUE);
            inlets.insert(index, inlet);
            match picture {
                Some((stream, rate)) if stream == index => {
                    picture_thread =
                        Some(scope.spawn(move || {
                            look_at(decoder, &items, PictureMeter::new(clock, rate), Tape::new(index, clock, rate))
                        }));
                }
                Some(_) | None => sound_threads.push(scope.spawn(move || listen_to(decoder, &items, index, clock))),
            }
        }
        let read = read_all(&mut packets, inlets, windows, control, tell, picture.map(|(index, _)| index));
        let picture = picture_thread.map(joined).transpose();
        let sounds: Result<Vec<(SoundMeter, StreamMeasure)>, AvError> = sound_threads.into_iter().map(joined).collect();
        read.and_then(|is_whole| Ok(((picture.map_err(failed)?, sounds.map_err(failed)?), is_whole)))
    })?;
    if !control.goes_on() {
        return Err(Problem::new(ProblemKind::Cancelled, format!("the scan of {name} was given up"), "it was cancelled"));
    }
    let (picture_meter, of_picture) = picture_meter.unzip();
    let (sound_meters, of_sounds): (Vec<_>, Vec<_>) = sound_meters.into_iter().unzip();
    let streams = of_picture.into_iter().chain(of_sounds);
    let streams = streams.map(|stream| StreamMeasure { ends_in_damage: stream.ends_in_damage || !is_whole, ..stream }).collect();
    let (jumps, anchors) = (packets.jumps().to_vec(), packets.anchors());
    let first_picture = picture_meter.as_ref().and_then(PictureMeter::first);
    let (frames, bars, looks) = picture_meter.map(PictureMeter::finish).unwrap_or_default();
    let sounds: Result<Vec<_>, AvError> = sound_meters.into_iter().map(|meter| meter.finish(first_picture)).collect();
    let sounds = sounds.map_err(failed)?.into_iter().flatten().collect();
    Ok(Measurements { extent: Extent::Whole, frames, bars, looks, sounds, streams, jumps, anchors })
}

fn joined<T>(thread: ScopedJoinHandle<'_, Result<T, AvError>>) -> Result<T, AvError> {
    thread.join().unwrap_or_else(|_| Err(AvError::own("scan", "a thread ended without an answer")))
}

/// Reads what is wanted of the source and hands it to the decoders, which end when it is over. Answers whether it
/// could be read to its end.
fn read_all(
    packets: &mut PacketSource,
    mut inlets: BTreeMap<usize, Sender<Item>>,
    windows: &[Window],
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
    picture: Option<usize>,
) -> Result<bool, Problem> {
    let start = packets.input().start();
    let mut told = Instant::now();
    let mut read_until = |packets: &mut PacketSource, inlets: &mut BTreeMap<usize, Sender<Item>>, end: Option<Rational>| {
        while control.goes_on() && !inlets.is_empty() {
            let packet = match packets.read() {
                Ok(Some(packet)) => packet,
                Ok(None) => return Ok(true),
                // Damage: the source ends here.
                Err(OpenError::Library(_)) => return Ok(false),
                Err(error) => return Err(problem_of(packets.name(), &error)),
            };
            let stream = packet.stream();
            let time = packet.dts().or(packet.pts()).map(|time| Rational::whole(time) * packets.clock(stream));
            if told.elapsed() >= TELL_EVERY {
                told = Instant::now();
                tell(Answer::Scanning { position: time.map_or(0.0, |time| (time - start).to_f64()) });
            }
            if end.zip(time).is_some_and(|(end, time)| time >= end) && Some(stream) == picture {
                return Ok(true);
            }
            // A decoder that has given up wants no more.
            if inlets.get(&stream).is_some_and(|inlet| inlet.send(Item::Packet(packet)).is_err()) {
                inlets.remove(&stream);
            }
        }
        Ok(true)
    };
    if windows.is_empty() {
        return read_until(packets, &mut inlets, None);
    }
    let mut is_whole = true;
    for window in windows {
        packets.seek(window.from);
        inlets.retain(|_, inlet| inlet.send(Item::Window(*window)).is_ok());
        is_whole &= read_until(packets, &mut inlets, Some(window.to))?;
    }
    Ok(is_whole)
}

/// Notes how much there is of a stream, frame by frame.
struct Tape {
    measure: StreamMeasure,
    clock: Rational,
    /// Seconds of a frame that does not say how long it lasts.
    usual: Rational,
}

impl Tape {
    fn new(stream: usize, clock: Rational, rate: Option<Rational>) -> Self {
        let stream = u32::try_from(stream).unwrap_or(u32::MAX);
        let measure = StreamMeasure { stream, from: Rational::ZERO, to: Rational::ZERO, frames: 0, ends_in_damage: false };
        Self { measure, clock, usual: rate.and_then(Rational::inverse).unwrap_or(Rational::ZERO) }
    }

    fn take(&mut self, frame: &Frame) {
        let from = frame.best_time().map_or(self.measure.to, |time| Rational::whole(time) * self.clock);
        let length = match (frame.samples(), frame.duration()) {
            (0, 0) => self.usual,
            (0, ticks) => Rational::whole(ticks) * self.clock,
            (samples, _) => Rational::new(samples.into(), frame.sample_rate().into()).unwrap_or(Rational::ZERO),
        };
        let measure = &mut self.measure;
        (measure.from, measure.to) =
            if measure.frames == 0 { (from, from + length) } else { (measure.from.min(from), measure.to.max(from + length)) };
        measure.frames += 1;
        measure.ends_in_damage = false;
    }
}

/// Decodes the picture and looks at its frames.
fn look_at(
    mut decoder: Decoder,
    items: &Receiver<Item>,
    mut meter: PictureMeter,
    mut tape: Tape,
) -> Result<(PictureMeter, StreamMeasure), AvError> {
    let mut window = None;
    decode(&mut decoder, items, |event| match event {
        Decoded::Frame(frame) => {
            tape.take(&frame);
            meter.take(&frame, window)
        }
        Decoded::Damage => {
            tape.measure.ends_in_damage = true;
            Ok(())
        }
        Decoded::Moved(to) => {
            window = Some(to);
            meter.forget();
            Ok(())
        }
    })?;
    Ok((meter, tape.measure))
}

/// Decodes a sound stream and measures it.
fn listen_to(
    mut decoder: Decoder,
    items: &Receiver<Item>,
    index: usize,
    clock: Rational,
) -> Result<(SoundMeter, StreamMeasure), AvError> {
    let mut tape = Tape::new(index, clock, None);
    let mut meter = SoundMeter::new(u32::try_from(index).unwrap_or(u32::MAX));
    decode(&mut decoder, items, |event| match event {
        Decoded::Frame(frame) => {
            tape.take(&frame);
            let time = frame.best_time().map_or(Rational::ZERO, |time| Rational::whole(time) * clock);
            meter.take(frame, time)
        }
        Decoded::Damage => {
            tape.measure.ends_in_damage = true;
            Ok(())
        }
        Decoded::Moved(_) => Ok(()),
    })?;
    Ok((meter, tape.measure))
}

/// What comes out of a decoder.
enum Decoded {
    Frame(Frame),
    /// A packet that could not be decoded.
    Damage,
    Moved(Window),
}

fn decode(
    decoder: &mut Decoder,
    items: &Receiver<Item>,
    mut take: impl FnMut(Decoded) -> Result<(), AvError>,
) -> Result<(), AvError> {
    loop {
        let item = items.recv().ok();
        let packet = match &item {
            Some(Item::Packet(packet)) => Some(packet),
            Some(Item::Window(_)) | None => None,
        };
        loop {
            // A damaged packet costs its frame and no more.
            let taken = decoder.send(packet);
            let mut got_frames = false;
            while let Ok(Some(frame)) = decoder.receive() {
                got_frames = true;
                take(Decoded::Frame(frame))?;
            }
            if taken.is_err() {
                take(Decoded::Damage)?;
            }
            if !(matches!(taken, Ok(false)) && got_frames) {
                break;
            }
        }
        match item {
            Some(Item::Window(window)) => {
                decoder.flush();
                take(Decoded::Moved(window))?;
            }
            Some(Item::Packet(_)) => {}
            None => return Ok(()),
        }
    }
}

//! Scanning: decoding a source to find out what it is.

mod fields;
mod look;
mod luma;
mod picture;
mod sound;

use std::collections::BTreeMap;
use std::thread::ScopedJoinHandle;
use std::time::{Duration, Instant};

use beryl_core::findings::{Curves, Extent, Measurements, find};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Answer, SourceRef};
use beryl_core::rational::Rational;
use beryl_core::reading::Reading;
use crossbeam_channel::{Receiver, Sender, bounded};

use crate::job::Control;
use crate::probe;
use crate::raw::{AvError, Decoder, Frame, Kind, OpenError, Packet};
use crate::source::{PacketSource, problem_of};
pub(crate) use fields::FieldComparer;
pub(crate) use luma::{Luma, Planes, plane};
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
    let mut reading = probe::facts(&mut PacketSource::open(source, control.stop())?)?;
    let packets = PacketSource::open(source, control.stop())?;
    let windows = if quick { windows(&reading) } else { Vec::new() };
    let mut measured = measure(packets, &reading, &windows, control, tell)?;
    if let Ok(count @ 1..) = u32::try_from(windows.len()) {
        measured.extent = Extent::Windows { count, seconds: WINDOW };
    }
    let (findings, curves) = find(measured, &reading);
    reading.findings = Some(findings);
    Ok((reading, curves))
}

/// Evenly spread parts; none where they would cover most of the source, or its length is not known.
fn windows(reading: &Reading) -> Vec<Window> {
    let least = WINDOW * Rational::whole(i64::from(WINDOWS) * 2);
    let Some(duration) = reading.duration.filter(|duration| *duration > least) else { return Vec::new() };
    let step = duration * Rational::constant(1, WINDOWS as i64);
    let margin = (step - WINDOW) * Rational::constant(1, 2);
    (0..i64::from(WINDOWS))
        .map(|number| reading.start + step * Rational::whole(number) + margin)
        .map(|from| Window { from, to: from + WINDOW })
        .collect()
}

fn measure(
    mut packets: PacketSource,
    reading: &Reading,
    windows: &[Window],
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
) -> Result<Measurements, Problem> {
    let name = packets.name().to_owned();
    let failed = |error: AvError| {
        Problem::new(ProblemKind::Unsupported, format!("{name} could not be scanned"), "the codec library refused it")
            .with_details(error.to_string())
    };
    let picture = reading.picture().map(|(stream, picture)| (stream.index as usize, picture.frame_rate));
    let mut decoders = Vec::new();
    for stream in packets.input().streams() {
        let is_picture = picture.is_some_and(|(index, _)| index == stream.index());
        let wanted = is_picture || (stream.kind() == Kind::Sound && windows.is_empty());
        // A stream that no decoder reads has no findings; the others do.
        if let Some(decoder) = wanted.then(|| Decoder::open(stream, !is_picture).ok()).flatten() {
            decoders.push((stream.index(), decoder, packets.clock(stream.index())));
        }
    }
    packets.keep_only(&decoders.iter().map(|(index, _, _)| *index).collect::<Vec<_>>());
    let (picture_meter, sound_meters) = std::thread::scope(|scope| {
        let mut inlets = BTreeMap::new();
        let (mut picture_thread, mut sound_threads) = (None, Vec::new());
        for (index, decoder, clock) in decoders {
            let (inlet, items) = bounded(QUEUE);
            inlets.insert(index, inlet);
            match picture {
                Some((stream, rate)) if stream == index => {
                    picture_thread = Some(scope.spawn(move || look_at(decoder, &items, PictureMeter::new(clock, rate))));
                }
                Some(_) | None => sound_threads.push(scope.spawn(move || listen_to(decoder, &items, index, clock))),
            }
        }
        let read = read_all(&mut packets, inlets, windows, control, tell, picture.map(|(index, _)| index));
        let picture = picture_thread.map(joined).transpose();
        let sounds: Result<Vec<SoundMeter>, AvError> = sound_threads.into_iter().map(joined).collect();
        read.and_then(|()| Ok((picture.map_err(failed)?, sounds.map_err(failed)?)))
    })?;
    if !control.goes_on() {
        return Err(Problem::new(ProblemKind::Cancelled, format!("the scan of {name} was given up"), "it was cancelled"));
    }
    let first_picture = picture_meter.as_ref().and_then(PictureMeter::first);
    let (frames, bars, looks) = picture_meter.map(PictureMeter::finish).unwrap_or_default();
    let sounds: Result<Vec<_>, AvError> = sound_meters.into_iter().map(|meter| meter.finish(first_picture)).collect();
    let sounds = sounds.map_err(failed)?.into_iter().flatten().collect();
    Ok(Measurements { extent: Extent::Whole, frames, bars, looks, sounds })
}

fn joined<T>(thread: ScopedJoinHandle<'_, Result<T, AvError>>) -> Result<T, AvError> {
    thread.join().unwrap_or_else(|_| Err(AvError::own("scan", "a thread ended without an answer")))
}

/// Reads what is wanted of the source and hands it to the decoders, which end when it is over.
fn read_all(
    packets: &mut PacketSource,
    mut inlets: BTreeMap<usize, Sender<Item>>,
    windows: &[Window],
    control: &Control,
    tell: &(dyn Fn(Answer) + Sync),
    picture: Option<usize>,
) -> Result<(), Problem> {
    let start = packets.input().start();
    let mut told = Instant::now();
    let mut read_until = |packets: &mut PacketSource, inlets: &mut BTreeMap<usize, Sender<Item>>, end: Option<Rational>| {
        while control.goes_on() && !inlets.is_empty() {
            let packet = match packets.read() {
                Ok(Some(packet)) => packet,
                // Damage: the source ends here.
                Ok(None) | Err(OpenError::Library(_)) => return Ok(()),
                Err(error) => return Err(problem_of(packets.name(), &error)),
            };
            let stream = packet.stream();
            let time = packet.dts().or(packet.pts()).map(|time| Rational::whole(time) * packets.clock(stream));
            if told.elapsed() >= TELL_EVERY {
                told = Instant::now();
                tell(Answer::Scanning { position: time.map_or(0.0, |time| (time - start).to_f64()) });
            }
            if end.zip(time).is_some_and(|(end, time)| time >= end) && Some(stream) == picture {
                return Ok(());
            }
            // A decoder that has given up wants no more.
            if inlets.get(&stream).is_some_and(|inlet| inlet.send(Item::Packet(packet)).is_err()) {
                inlets.remove(&stream);
            }
        }
        Ok(())
    };
    if windows.is_empty() {
        return read_until(packets, &mut inlets, None);
    }
    for window in windows {
        packets.seek(window.from);
        inlets.retain(|_, inlet| inlet.send(Item::Window(*window)).is_ok());
        read_until(packets, &mut inlets, Some(window.to))?;
    }
    Ok(())
}

/// Decodes the picture and looks at its frames.
fn look_at(mut decoder: Decoder, items: &Receiver<Item>, mut meter: PictureMeter) -> Result<PictureMeter, AvError> {
    let mut window = None;
    decode(&mut decoder, items, |event| match event {
        Decoded::Frame(frame) => meter.take(&frame, window),
        Decoded::Moved(to) => {
            window = Some(to);
            meter.forget();
            Ok(())
        }
    })?;
    Ok(meter)
}

/// Decodes a sound stream and measures it.
fn listen_to(mut decoder: Decoder, items: &Receiver<Item>, index: usize, clock: Rational) -> Result<SoundMeter, AvError> {
    let mut meter = SoundMeter::new(u32::try_from(index).unwrap_or(u32::MAX));
    decode(&mut decoder, items, |event| match event {
        Decoded::Frame(frame) => {
            let time = frame.best_time().map_or(Rational::ZERO, |time| Rational::whole(time) * clock);
            meter.take(frame, time)
        }
        Decoded::Moved(_) => Ok(()),
    })?;
    Ok(meter)
}

/// What comes out of a decoder.
enum Decoded {
    Frame(Frame),
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

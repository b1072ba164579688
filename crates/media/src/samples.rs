//! All pictures of a source as samples.

use beryl_core::plan::Step;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::SourceRef;
use beryl_core::time::Rational;

use crate::job::{Chain, TimedFrame};
use crate::raw::{AvError, Decoder, Frame, Graph, GraphInput, Kind, Stop};
use crate::source::{PacketSource, problem_of};
use crate::supplies::Supplies;

/// The samples of a picture in 8 bit, plane by plane without gaps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Planes {
    /// Luma.
    pub luma: Vec<u8>,
    /// Blue difference; empty without colour.
    pub cb: Vec<u8>,
    /// Red difference; empty without colour.
    pub cr: Vec<u8>,
}

/// All pictures of a source, decoded.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no picture.
pub fn pictures(source: &SourceRef) -> Result<Vec<Planes>, Problem> {
    Ok(timed_pictures(source)?.into_iter().map(|(_, planes)| planes).collect())
}

/// All pictures of a source, decoded, with their times in seconds of the file's own clock.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no picture.
pub fn timed_pictures(source: &SourceRef) -> Result<Vec<(Rational, Planes)>, Problem> {
    let mut converter = crate::luma::Planes::default();
    let mut pictures = Vec::new();
    each_frame(source, None, |frame, clock| {
        let (shown, layout) = converter.with_luma(frame)?;
        let codes = |number| crate::luma::plane(&shown, layout, number).map(|plane| plane.codes).unwrap_or_default();
        let time = Rational::whole(frame.best_time().unwrap_or(0)) * clock;
        pictures.push((time, Planes { luma: codes(0), cb: codes(1), cr: codes(2) }));
        Ok(())
    })?;
    Ok(pictures)
}

/// The samples of all pictures of a source with more than 8 bit and no colour left out (4:4:4): luma,
/// blue difference and red difference, without gaps.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or is of another form.
pub fn deep_pictures(source: &SourceRef) -> Result<Vec<[Vec<u16>; 3]>, Problem> {
    let mut pictures = Vec::new();
    each_frame(source, None, |frame, _| {
        let layout = frame.plane_layout().filter(|layout| layout.depth > 8 && layout.chroma == Some((0, 0)));
        layout.ok_or_else(|| AvError::own("read samples", "the picture has 8 bit, or colour is left out"))?;
        let width = frame.width() as usize;
        let plane = |number| {
            let lines = (0..frame.height() as usize).filter_map(|line| frame.line(number, line, width * 2));
            lines.flat_map(|line| line.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]))).collect()
        };
        pictures.push([plane(0), plane(1), plane(2)]);
        Ok(())
    })?;
    Ok(pictures)
}

/// The samples of all pictures of a source as they come behind these steps: plane by plane as they are stored, without
/// gaps. Steps that need a table, a picture or text find none.
///
/// # Errors
/// A [`Problem`] where the source cannot be read, or a step cannot be done.
pub fn pictures_behind(source: &SourceRef, steps: &[Step]) -> Result<Vec<Vec<Vec<u16>>>, Problem> {
    let name = source.file.path.name();
    let refused = |error: AvError| {
        Problem::new(ProblemKind::Unsupported, format!("{name} could not be followed"), "a step was refused")
            .with_details(error.to_string())
    };
    let supplies = Supplies::of(source);
    let mut chain = Chain::new(steps, &supplies);
    let mut made = Vec::new();
    each_frame(source, None, |frame, clock| {
        let mut frame = frame.clone();
        frame.set_times(frame.best_time().unwrap_or(0), frame.duration().max(1));
        chain.take(Some(TimedFrame { frame, clock }), &mut made)
    })?;
    chain.take(None, &mut made).map_err(refused)?;
    made.iter()
        .map(|made| planes_of(&made.frame))
        .collect::<Option<_>>()
        .ok_or_else(|| refused(AvError::own("read samples", "a plane is missing")))
}

/// Works off these steps on all pictures of a source and throws away what comes of them, for benchmarks.
///
/// # Errors
/// A [`Problem`] where the source cannot be read, or a step cannot be done.
pub fn work_off(source: &SourceRef, steps: &[Step]) -> Result<(), Problem> {
    let supplies = Supplies::of(source);
    let mut chain = Chain::new(steps, &supplies);
    let mut made = Vec::new();
    each_frame(source, None, |frame, clock| {
        made.clear();
        chain.take(Some(TimedFrame { frame: frame.clone(), clock }), &mut made)
    })
}

fn planes_of(frame: &Frame) -> Option<Vec<Vec<u16>>> {
    let (_, depth) = crate::raw::pixel_format(frame.format())?;
    let codes = |line: &[u8]| -> Vec<u16> {
        if depth > 8 {
            line.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect()
        } else {
            line.iter().map(|code| u16::from(*code)).collect()
        }
    };
    let of_plane = |plane| {
        let plane = frame.plane(plane)?;
        (0..plane.lines()).map(|line| plane.line(line).map(codes)).collect::<Option<Vec<_>>>().map(|lines| lines.concat())
    };
    (0..frame.plane_count()).map(of_plane).collect()
}

/// The alpha of all pictures of a source in 8 bit, from 0 (clear) to 255, without gaps; 255 throughout where they have
/// none.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no picture.
pub fn alphas(source: &SourceRef) -> Result<Vec<Vec<u8>>, Problem> {
    let mut alphas = Vec::new();
    each_frame(source, None, |frame, clock| {
        let mut graph = Graph::new(&GraphInput::of_picture(frame, clock), "format=pix_fmts=rgba,alphaextract")?;
        graph.push(Some(frame.clone()))?;
        graph.push(None)?;
        while let Some(alpha) = graph.pull()? {
            let (width, height) = (alpha.width() as usize, alpha.height() as usize);
            alphas.push((0..height).filter_map(|line| alpha.line(0, line, width)).flatten().copied().collect());
        }
        Ok(())
    })?;
    Ok(alphas)
}

/// The sound of one stream, its channels mixed to one.
#[derive(Debug, Clone, PartialEq)]
pub struct Heard {
    /// Samples a second.
    pub sample_rate: u32,
    /// The frames in their order: seconds of the file's own clock at which each begins, and its samples from -1 to 1.
    pub frames: Vec<(Rational, Vec<f64>)>,
}

/// The sound of the stream with this number among the sound streams, decoded.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no such stream.
pub fn heard(source: &SourceRef, number: usize) -> Result<Heard, Problem> {
    let mut heard = Heard { sample_rate: 0, frames: Vec::new() };
    each_frame(source, Some(number), |frame, clock| {
        let input = GraphInput::of_sound(frame, Rational::ONE);
        let mut graph = Graph::new(&input, "aformat=sample_fmts=dbl:channel_layouts=mono")?;
        graph.push(Some(frame.clone()))?;
        graph.push(None)?;
        let mut samples = Vec::new();
        while let Some(mono) = graph.pull()? {
            samples.extend_from_slice(mono.doubles());
        }
        heard.sample_rate = frame.sample_rate();
        heard.frames.push((Rational::whole(frame.best_time().unwrap_or(0)) * clock, samples));
        Ok(())
    })?;
    Ok(heard)
}

/// Bytes of each picture of a source as it is coded, in the order in which they are decoded.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no picture.
pub fn coded_sizes(source: &SourceRef) -> Result<Vec<u64>, Problem> {
    let mut packets = PacketSource::open(source, &Stop::default())?.with_stamps_as_they_are();
    let name = packets.name().to_owned();
    let picture = packets.moving_picture();
    let mut sizes = Vec::new();
    while let Some(packet) = packets.read().map_err(|error| problem_of(&name, &error))? {
        if Some(packet.stream()) == picture {
            sizes.push(packet.size());
        }
    }
    Ok(sizes)
}

/// The samples of every channel of a sound stream, from -1 to 1, one after the other as they are decoded.
///
/// # Errors
/// A [`Problem`] where the source cannot be read or has no such stream.
pub fn channels(source: &SourceRef, number: usize) -> Result<Vec<Vec<f64>>, Problem> {
    let mut channels: Vec<Vec<f64>> = Vec::new();
    each_frame(source, Some(number), |frame, _| {
        let mut graph = Graph::new(&GraphInput::of_sound(frame, Rational::ONE), "aformat=sample_fmts=dbl")?;
        graph.push(Some(frame.clone()))?;
        graph.push(None)?;
        while let Some(interleaved) = graph.pull()? {
            channels.resize(interleaved.channels(), Vec::new());
            for samples in interleaved.doubles().chunks_exact(interleaved.channels().max(1)) {
                channels.iter_mut().zip(samples).for_each(|(channel, sample)| channel.push(*sample));
            }
        }
        Ok(())
    })?;
    Ok(channels)
}

/// Decodes the picture, or the sound stream with this number.
fn each_frame(
    source: &SourceRef,
    sound: Option<usize>,
    mut take: impl FnMut(&Frame, Rational) -> Result<(), AvError>,
) -> Result<(), Problem> {
    let mut packets = PacketSource::open(source, &Stop::default())?.with_stamps_as_they_are();
    let name = packets.name().to_owned();
    let unreadable = |why: &str| Problem::new(ProblemKind::Unsupported, format!("{name} could not be decoded"), why);
    let stream = match sound {
        None => packets.moving_picture(),
        Some(number) => {
            let mut sounds = packets.input().streams().filter(|stream| stream.kind() == Kind::Sound);
            sounds.nth(number).map(|stream| stream.index())
        }
    };
    let stream = stream.ok_or_else(|| unreadable("it has none"))?;
    let clock = packets.clock(stream);
    let mut decoder = Decoder::open(packets.stream(stream), None)
        .map_err(|error| unreadable("no decoder here can read it").with_details(error.to_string()))?;
    loop {
        let packet = packets.read().map_err(|error| problem_of(&name, &error))?;
        if packet.as_ref().is_some_and(|packet| packet.stream() != stream) {
            continue;
        }
        drop(decoder.send(packet.as_ref()));
        while let Ok(Some(frame)) = decoder.receive() {
            take(&frame, clock).map_err(|error| unreadable("its form is unknown").with_details(error.to_string()))?;
        }
        if packet.is_none() {
            return Ok(());
        }
    }
}

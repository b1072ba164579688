//! Single pictures.

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_core::rational::Rational;
use beryl_core::reading::{Colour, FieldOrder};

use crate::raw::{
    AvError, Decoder, Encoder, EncoderKind, EncoderSettings, Frame, Graph, GraphInput, Kind, Packet, Stop, pixel_format_number,
};
use crate::source::{PacketSource, open_root, problem_of, system_path};

/// Writes the picture that is shown `at` seconds of the source's clock from its beginning, as JPEG
/// of `width` columns in its true shape; behind the end, the last one.
///
/// # Errors
/// A [`Problem`] where the source has no picture there, or the file cannot be written.
pub fn still(source: &SourceRef, at: Rational, width: u32, output: &FileRef) -> Result<(), Problem> {
    let mut packets = PacketSource::open(source, &Stop::default())?;
    let name = packets.name().to_owned();
    let unreadable = |why: &str| Problem::new(ProblemKind::Unsupported, format!("no picture of {name} could be made"), why);
    let moving = |stream: &crate::raw::StreamView<'_>| stream.kind() == Kind::Picture;
    let stream = packets.input().streams().find(moving).map(|stream| stream.index()).ok_or_else(|| unreadable("it has none"))?;
    let frame = frame_at(&mut packets, stream, at)?.ok_or_else(|| unreadable("not one frame could be decoded"))?;
    let rotation = packets.stream(stream).rotation();
    let aspect = frame.pixel_aspect().unwrap_or_else(|| packets.stream(stream).pixel_aspect());
    let bytes = jpeg(frame, aspect, rotation, width)
        .map_err(|error| unreadable("the codec library refused it").with_details(error.to_string()))?;
    let written = open_root(output)?.write(system_path(&output.path), bytes);
    written.map_err(|error| Problem::from_io(format!("the picture {} could not be written", output.path.name()), &error))
}

/// The frame that is shown at a moment.
fn frame_at(packets: &mut PacketSource, stream: usize, at: Rational) -> Result<Option<Frame>, Problem> {
    let name = packets.name().to_owned();
    let mut decoder = Decoder::open(packets.stream(stream), false).map_err(|error| {
        Problem::new(ProblemKind::Unsupported, format!("{name} could not be decoded"), "no decoder here can read it")
            .with_details(error.to_string())
    })?;
    let clock = packets.clock(stream);
    let start =
        if packets.sequence().is_some() { Rational::ZERO } else { packets.stream(stream).start().unwrap_or(Rational::ZERO) };
    packets.keep_only(&[stream]);
    if at.is_positive() {
        packets.seek(start + at);
        decoder.flush();
    }
    let mut shown: Option<Frame> = None;
    loop {
        let packet = match packets.read() {
            Ok(packet) => packet,
            // Damage further on: what came before it can still be shown.
            Err(crate::raw::OpenError::Library(_)) => None,
            Err(error) => return Err(problem_of(&name, &error)),
        };
        if packet.as_ref().is_some_and(|packet| packet.stream() != stream) {
            continue;
        }
        // A damaged packet costs its frame and no more.
        drop(decoder.send(packet.as_ref()));
        while let Ok(Some(frame)) = decoder.receive() {
            let time = frame.best_time().map(|time| Rational::whole(time) * clock - start);
            match time {
                Some(time) if time > at && shown.is_some() => return Ok(shown),
                Some(time) if time >= at => return Ok(Some(frame)),
                Some(_) | None => shown = Some(frame),
            }
        }
        if packet.is_none() {
            return Ok(shown);
        }
    }
}

fn jpeg(frame: Frame, pixel_aspect: Rational, rotation: i32, width: u32) -> Result<Vec<u8>, AvError> {
    let turned = matches!(rotation, 90 | 270);
    let seen = (Rational::whole(frame.width().into()) * pixel_aspect, Rational::whole(frame.height().into()));
    let (across, down) = if turned { (seen.1, seen.0) } else { seen };
    let columns = Rational::whole(width.into()).min(across);
    let height = beryl_core::geometry::even(down * columns.divided_by(across).unwrap_or(Rational::ONE));
    let columns = beryl_core::geometry::even(columns);
    let turn = match rotation {
        90 => "transpose=dir=clock,",
        180 => "hflip,vflip,",
        270 => "transpose=dir=cclock,",
        _ => "",
    };
    let input = GraphInput::Picture {
        width: frame.width(),
        height: frame.height(),
        format: frame.format(),
        pixel_aspect,
        clock: Rational::constant(1, 25),
        rate: None,
    };
    let mut graph = Graph::new(
        &input,
        &format!("{turn}scale=w={columns}:h={height}:flags=area+accurate_rnd:out_range=pc,format=pix_fmts=yuvj420p"),
    )?;
    let mut frame = frame;
    frame.set_times(0, 1);
    graph.push(Some(frame))?;
    graph.push(None)?;
    let mut picture = graph.pull()?.ok_or_else(|| AvError::own("make a picture", "the filters gave none"))?;
    picture.prepare_for_encoding(FieldOrder::Progressive);
    let mut encoder = Encoder::open(&EncoderSettings {
        name: "mjpeg",
        kind: EncoderKind::Picture {
            width: picture.width(),
            height: picture.height(),
            pixel_format: pixel_format_number("yuvj420p")?,
            pixel_aspect: Rational::ONE,
            rate: Some(Rational::whole(25)),
            colour: Colour::default(),
            fields: FieldOrder::Progressive,
        },
        clock: Rational::constant(1, 25),
        options: vec![
            ("flags".to_owned(), "+qscale".to_owned()),
            ("global_quality".to_owned(), (4 * 118).to_string()),
            ("threads".to_owned(), "1".to_owned()),
        ],
        first_pass: None,
    })?;
    encoder.send(Some(&picture))?;
    encoder.send(None)?;
    let packets = encoder.receive()?;
    packets.front().map(Packet::bytes).ok_or_else(|| AvError::own("make a picture", "the encoder gave none"))
}

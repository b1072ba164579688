//! From a decoded frame to a picture in a file.

use std::path::Path;

use beryl_core::plan::Step;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{ShownField, SourceRef, StillShape};
use beryl_core::rational::Rational;
use beryl_core::reading::{Colour, FieldOrder, Orientation};

use super::unreadable;
use super::walk::Walk;
use crate::job::{Chain, TimedFrame};
use crate::raw::{AvError, Encoder, EncoderKind, EncoderSettings, Frame, Graph, GraphInput, Packet, pixel_format_number};
use crate::supplies::Supplies;

/// How a picture is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Look {
    pub(super) width: u32,
    pub(super) field: ShownField,
    pub(super) shape: Option<StillShape>,
}

/// A frame of a walk as a file, in its true shape.
pub(super) fn drawn(
    source: &SourceRef,
    walk: &Walk,
    frame: Frame,
    look: &Look,
    form: Form,
    folder: &Path,
) -> Result<Vec<u8>, Problem> {
    let stream = walk.stream();
    let aspect = frame.pixel_aspect().unwrap_or_else(|| stream.pixel_aspect());
    let drawn = match &look.shape {
        None => image(frame, aspect, stream.orientation(), look.width, look.field, form),
        Some(shape) => {
            let frame = shaped(source, frame, shape, folder)?;
            image(frame, shape.pixel_aspect, Orientation::default(), look.width, look.field, form)
        }
    };
    drawn.map_err(|error| unreadable(walk.name(), "the codec library refused it").with_details(error.to_string()))
}

/// A single picture behind steps; those that go by time have nothing to do.
fn shaped(source: &SourceRef, frame: Frame, shape: &StillShape, folder: &Path) -> Result<Frame, Problem> {
    let still = |step: &&Step| {
        matches!(
            step,
            Step::Mirror
                | Step::Turn { .. }
                | Step::Crop { .. }
                | Step::Resample { .. }
                | Step::Rearrange { .. }
                | Step::Pad { .. }
                | Step::Tone { .. }
                | Step::Recolour { .. }
                | Step::LookUp { .. }
                | Step::Adjust { .. }
                | Step::Grey
                | Step::Watermark(_)
        )
    };
    let steps: Vec<Step> = shape.steps.iter().filter(still).cloned().collect();
    if steps.is_empty() {
        return Ok(frame);
    }
    let supplies = Supplies::prepare(source, None, steps.iter(), &shape.aids, folder)?;
    let drawn = drawn_by(frame, &steps, &supplies);
    let what = format!("no picture of {} could be made", source.file.path.name());
    let refused =
        |error: AvError| Problem::new(ProblemKind::Unsupported, what, "the filters refused it").with_details(error.to_string());
    drawn.map_err(refused)
}

fn drawn_by(mut frame: Frame, steps: &[Step], supplies: &Supplies) -> Result<Frame, AvError> {
    let clock = Rational::constant(1, 25);
    frame.set_times(0, 1);
    let (mut chain, mut made) = (Chain::new(steps, supplies), Vec::new());
    chain.take(Some(TimedFrame { frame, clock }), &mut made)?;
    chain.take(None, &mut made)?;
    made.pop().map(|made| made.frame).ok_or_else(|| AvError::own("make a picture", "the filters gave none"))
}

/// How a picture is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Jpeg,
    Png,
}

impl Form {
    const fn encoder(self) -> &'static str {
        match self {
            Self::Jpeg => "mjpeg",
            Self::Png => "png",
        }
    }

    const fn pixel_format(self) -> &'static str {
        match self {
            Self::Jpeg => "yuvj420p",
            Self::Png => "rgb24",
        }
    }

    const fn scaling(self) -> &'static str {
        match self {
            Self::Jpeg => "area",
            Self::Png => "area+accurate_rnd+full_chroma_int",
        }
    }

    fn options(self) -> Vec<(String, String)> {
        let options: &[(&str, &str)] = match self {
            // 118 is the libraries' unit of quality, of which a good JPEG needs four.
            Self::Jpeg => &[("flags", "+qscale"), ("global_quality", "472"), ("threads", "1")],
            Self::Png => &[("compression_level", "1"), ("pred", "up"), ("threads", "1")],
        };
        options.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }
}

fn image(
    frame: Frame,
    pixel_aspect: Rational,
    orientation: Orientation,
    width: u32,
    field: ShownField,
    form: Form,
) -> Result<Vec<u8>, AvError> {
    let seen = (Rational::whole(frame.width().into()) * pixel_aspect, Rational::whole(frame.height().into()));
    let (across, down) = if orientation.lies_on_its_side() { (seen.1, seen.0) } else { seen };
    let columns = Rational::whole(width.into()).min(across);
    let height = beryl_core::geometry::even(down * columns.divided_by(across).unwrap_or(Rational::ONE));
    let columns = beryl_core::geometry::even(columns);
    // A field has half the lines; scaling draws them out to all.
    let part = match field {
        ShownField::Both => "",
        ShownField::Top => "field=type=top,",
        ShownField::Bottom => "field=type=bottom,",
    };
    let mirror = if orientation.mirrored { "hflip," } else { "" };
    let turn = match orientation.degrees {
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
        &format!(
            "{part}{mirror}{turn}scale=w={columns}:h={height}:flags={}:out_range=pc,format=pix_fmts={}",
            form.scaling(),
            form.pixel_format()
        ),
    )?;
    let mut frame = frame;
    frame.set_times(0, 1);
    graph.push(Some(frame))?;
    graph.push(None)?;
    let mut picture = graph.pull()?.ok_or_else(|| AvError::own("make a picture", "the filters gave none"))?;
    picture.prepare_for_encoding(FieldOrder::Progressive, &Colour::default());
    let mut encoder = Encoder::open(&EncoderSettings {
        name: form.encoder(),
        kind: EncoderKind::Picture {
            width: picture.width(),
            height: picture.height(),
            pixel_format: pixel_format_number(form.pixel_format())?,
            pixel_aspect: Rational::ONE,
            rate: Some(Rational::whole(25)),
            colour: Colour::default(),
            fields: FieldOrder::Progressive,
        },
        clock: Rational::constant(1, 25),
        options: form.options(),
        first_pass: None,
    })?;
    encoder.send(Some(&picture))?;
    encoder.send(None)?;
    let packets = encoder.receive()?;
    packets.front().map(Packet::bytes).ok_or_else(|| AvError::own("make a picture", "the encoder gave none"))
}

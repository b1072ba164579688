//! From a decoded frame to a picture in a file.

use std::path::Path;

use beryl_core::picture::jfif::ToJfif;
use beryl_core::picture::{ChromaSite, Colour, FieldOrder, MatrixCoefficients, Orientation, Range};
use beryl_core::plan::Step;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Scope, ShownField, SourceRef, StillShape};
use beryl_core::time::Rational;

use super::unreadable;
use super::walk::Walk;
use crate::job::{Chain, TimedFrame};
use crate::raw::{AvError, Encoder, EncoderKind, EncoderSettings, Frame, Graph, GraphInput, Packet, pixel_format_number};
use crate::screen::{SCREEN, Screen};
use crate::supplies::Supplies;

/// How a picture is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Look {
    pub(super) width: u32,
    pub(super) field: ShownField,
    pub(super) shape: Option<StillShape>,
    pub(super) scope: Option<Scope>,
}

/// Draws pictures, and keeps what the last one was drawn with for the next that is wanted alike.
#[derive(Default)]
pub(super) struct Easel {
    screen: Option<Screen>,
}

impl Easel {
    /// A frame of a walk as a file, in its true shape.
    pub(super) fn draw(
        &mut self,
        source: &SourceRef,
        walk: &Walk,
        frame: Frame,
        look: &Look,
        form: Form,
        folder: &Path,
    ) -> Result<Vec<u8>, Problem> {
        let stream = walk.stream();
        let aspect = frame.pixel_aspect().unwrap_or_else(|| stream.pixel_aspect());
        let (frame, aspect, orientation) = match &look.shape {
            None => (frame, aspect, stream.orientation()),
            Some(shape) => (shaped(source, frame, shape, folder)?, shape.pixel_aspect, Orientation::default()),
        };
        let drawn = match look.scope {
            None => self.image(frame, aspect, orientation, look.width, look.field, form),
            Some(scope) => filtered(frame, scope_filters(scope))
                .and_then(|drawn| self.image(drawn, Rational::ONE, Orientation::default(), look.width, ShownField::Both, form)),
        };
        drawn.map_err(|error| unreadable(walk.name(), "the codec library refused it").with_details(error.to_string()))
    }

    fn image(
        &mut self,
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
        let height = beryl_core::picture::even(down * columns.divided_by(across).unwrap_or(Rational::ONE));
        let columns = beryl_core::picture::even(columns);
        let (width, lines) = if orientation.lies_on_its_side() { (height, columns) } else { (columns, height) };
        let frame = match field {
            ShownField::Both => frame,
            ShownField::Top => filtered(frame, "field=type=top")?,
            ShownField::Bottom => filtered(frame, "field=type=bottom")?,
        };
        let mut picture = self.screen((width, lines), form).show(frame)?;
        if form == Form::Jpeg {
            bring_to_jfif(&mut picture)?;
        }
        let mirror = orientation.mirrored.then_some("hflip");
        let turn = match orientation.degrees {
            90 => Some("transpose=dir=clock"),
            180 => Some("hflip,vflip"),
            270 => Some("transpose=dir=cclock"),
            _ => None,
        };
        let turns: Vec<&str> = mirror.into_iter().chain(turn).collect();
        if !turns.is_empty() {
            picture = filtered(picture, &turns.join(","))?;
        }
        picture.prepare_for_encoding(FieldOrder::Progressive, &form.colour());
        let mut encoder = Encoder::open(&EncoderSettings {
            name: form.encoder(),
            kind: EncoderKind::Picture {
                width: picture.width(),
                height: picture.height(),
                pixel_format: pixel_format_number(form.pixel_format())?,
                pixel_aspect: Rational::ONE,
                rate: Some(Rational::whole(25)),
                colour: form.colour(),
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

    fn screen(&mut self, size: (u32, u32), form: Form) -> &mut Screen {
        let others = self.screen.take().filter(|screen| screen.is_of(size, form.pixel_format()));
        self.screen.insert(others.unwrap_or_else(|| Screen::new(size, form.pixel_format(), form.colour())))
    }
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
    let supplies = Supplies::prepare(source, None, steps.iter(), &shape.assets, folder)?;
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
            Self::Jpeg => "yuv420p",
            Self::Png => "rgb24",
        }
    }

    /// The colour that pictures are drawn in before they are written.
    fn colour(self) -> Colour {
        let matrix = match self {
            Self::Jpeg => MatrixCoefficients::Bt709,
            Self::Png => MatrixCoefficients::Rgb,
        };
        Colour { matrix: Some(matrix), range: Some(Range::Full), chroma_location: Some(ChromaSite::Center), ..SCREEN }
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

/// What draws a scope, as wide as high enough to read: codes of 8 bits, of which finer ones are the higher part.
const fn scope_filters(scope: Scope) -> &'static str {
    match scope {
        Scope::Waveform => {
            "scale=512:ih:flags=neighbor,format=yuv444p,\
             waveform=mode=column:mirror=1:components=1:intensity=0.12:graticule=green:flags=numbers,scale=512:256,format=yuv444p"
        }
        Scope::Vectorscope => {
            "scale=flags=neighbor,format=yuv444p,vectorscope=mode=color3:intensity=0.12:graticule=color:flags=name"
        }
    }
}

/// One picture behind filters.
fn filtered(mut frame: Frame, filters: &str) -> Result<Frame, AvError> {
    frame.set_times(0, 1);
    let mut graph = Graph::new(&GraphInput::of_picture(&frame, Rational::constant(1, 25)), filters)?;
    graph.push(Some(frame))?;
    graph.push(None)?;
    graph.pull()?.ok_or_else(|| AvError::own("make a picture", "the filters gave none"))
}

/// Readers of JPEG take codes for those of BT.601.
fn bring_to_jfif(picture: &mut Frame) -> Result<(), AvError> {
    let missing = || AvError::own("make a JPEG", "the picture has no colour");
    let mut planes = picture.planes_mut()?;
    let [luma, blue, red] = planes.as_mut_slice() else { return Err(missing()) };
    let jfif = ToJfif::default();
    for line in 0..blue.lines() {
        let (blue, red) = blue.line(line).zip(red.line(line)).ok_or_else(missing)?;
        for line in line * 2..luma.lines().min(line * 2 + 2) {
            jfif.bring_luma(luma.line(line).ok_or_else(missing)?, blue, red);
        }
        jfif.bring_colour(blue, red);
    }
    Ok(())
}

//! The luma of a picture in 8 bit, the form in which scans look at it.

use crate::raw::{AvError, Frame, Graph, GraphInput, PlaneLayout};
use beryl_core::time::Rational;

/// Luma, line by line without gaps, in code values of 8 bit whatever the depth of the source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Luma {
    pub(crate) width: usize,
    pub(crate) height: usize,
    pub(crate) codes: Vec<u8>,
}

impl Luma {
    pub(crate) fn line(&self, line: usize) -> &[u8] {
        &self.codes[line * self.width..(line + 1) * self.width]
    }
}

/// Gets luma and colour planes out of frames of any format.
#[derive(Default)]
pub(crate) struct Planes {
    converter: Option<(Graph, GraphInput)>,
}

/// The format that frames without luma planes are converted to.
const CONVERTED: &str = "yuv444p";

impl Planes {
    /// The frame, converted where it has no plane of luma to look at.
    pub(crate) fn with_luma(&mut self, frame: &Frame) -> Result<(Frame, PlaneLayout), AvError> {
        if let Some(layout) = frame.plane_layout() {
            return Ok((frame.clone(), layout));
        }
        let input = GraphInput::Picture {
            width: frame.width(),
            height: frame.height(),
            format: frame.format(),
            pixel_aspect: Rational::ONE,
            clock: Rational::constant(1, 25),
            rate: None,
        };
        if self.converter.as_ref().is_none_or(|(_, present)| *present != input) {
            let graph = Graph::new(&input, &format!("scale=out_range=tv,format=pix_fmts={CONVERTED}"))?;
            self.converter = Some((graph, input));
        }
        let failed = || AvError::own("look at a picture", "it could not be converted");
        let (graph, _) = self.converter.as_mut().ok_or_else(failed)?;
        graph.push(Some(frame.clone()))?;
        let converted = graph.pull()?.ok_or_else(failed)?;
        let layout = converted.plane_layout().ok_or_else(failed)?;
        Ok((converted, layout))
    }
}

/// One plane of a frame in 8 bit; nothing where the frame has no such plane.
pub(crate) fn plane(frame: &Frame, layout: PlaneLayout, number: usize) -> Option<Luma> {
    plane_into(frame, layout, number, Vec::new())
}

/// The same, in the room that another plane has left: making room for each costs as much as filling it.
pub(crate) fn plane_into(frame: &Frame, layout: PlaneLayout, number: usize, mut codes: Vec<u8>) -> Option<Luma> {
    let (across, down) = if number == 0 { (0, 0) } else { layout.chroma? };
    let shrunk = |side: u32, shift: u32| (side as usize).div_ceil(1 << shift);
    let (width, height) = (shrunk(frame.width(), across), shrunk(frame.height(), down));
    codes.clear();
    codes.reserve(width * height);
    let plane = frame.plane(number)?;
    for line in 0..height {
        let line = plane.line(line)?;
        if layout.depth == 8 {
            codes.extend_from_slice(line.get(..width)?);
        } else {
            let shift = layout.depth - 8;
            let bytes = line.get(..width * 2)?;
            let narrow = |pair: &[u8]| u8::try_from(u16::from_le_bytes([pair[0], pair[1]]) >> shift).unwrap_or(u8::MAX);
            codes.extend(bytes.chunks_exact(2).map(narrow));
        }
    }
    Some(Luma { width, height, codes })
}

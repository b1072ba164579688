//! What is laid over pictures: text, subtitles, other pictures.
//!
//! A layer is drawn by the libraries on clear ground, in 8 or 16 bits and standard colours. It is laid over here, in
//! the pictures' own bits and codes, with its white where theirs is.

use std::collections::HashMap;

use beryl_core::picture::ink::Inks;
use beryl_core::picture::{ChromaSite, Samples};
use beryl_core::plan::{BurnText, WatermarkPlan};
use beryl_core::preset::Corner;
use beryl_core::time::{OutputTime, Rational};

use super::wires::TimedFrame;
use crate::filters;
use crate::raw::{AvError, Frame, Graph, GraphInput, PlaneMut, pixel_format_number};

/// Lays one thing over every picture of a chain.
pub(super) struct Overlay<'a> {
    layer: Layer<'a>,
    pen: Pen,
    /// What was drawn last, where it stays as it is.
    drawn: Option<Drawn>,
}

/// What is drawn.
enum Layer<'a> {
    /// Text that changes with the moment.
    Text {
        text: &'a BurnText,
        name: &'a str,
        filters: String,
        canvas: Option<Canvas>,
    },
    Subtitles {
        filters: String,
        canvas: Option<Canvas>,
    },
    Picture {
        over: &'a Frame,
        mark: &'a WatermarkPlan,
    },
}

/// A clear ground on which the libraries draw.
struct Canvas {
    clear: Frame,
    graph: Graph,
    form: (u32, u32, Rational),
}

impl<'a> Overlay<'a> {
    pub(super) fn text(text: &'a BurnText, name: &'a str, filters: String) -> Self {
        Self::new(Layer::Text { text, name, filters, canvas: None }, &text.onto)
    }

    pub(super) fn subtitles(filters: String, onto: &Samples) -> Self {
        Self::new(Layer::Subtitles { filters, canvas: None }, onto)
    }

    pub(super) fn picture(over: &'a Frame, mark: &'a WatermarkPlan) -> Self {
        Self::new(Layer::Picture { over, mark }, &mark.onto)
    }

    fn new(layer: Layer<'a>, onto: &Samples) -> Self {
        Self { layer, pen: Pen::new(onto), drawn: None }
    }

    pub(super) fn take(&mut self, TimedFrame { mut frame, clock }: TimedFrame) -> Result<TimedFrame, AvError> {
        let size = (frame.width(), frame.height());
        let moment = (frame.pts().unwrap_or(0), frame.duration());
        let drawn = match &mut self.layer {
            Layer::Text { text, name, filters, canvas } => {
                let words = text.at(OutputTime(Rational::whole(moment.0) * clock), name);
                let canvas = Canvas::of(canvas, size, clock, filters)?;
                self.drawn.insert(canvas.draw(moment, Some(&words), &mut self.pen)?)
            }
            Layer::Subtitles { filters, canvas } => {
                let canvas = Canvas::of(canvas, size, clock, filters)?;
                self.drawn.insert(canvas.draw(moment, None, &mut self.pen)?)
            }
            Layer::Picture { over, mark } => match &mut self.drawn {
                Some(drawn) if drawn.size == size => drawn,
                drawn => drawn.insert(marked(over, mark, size, &mut self.pen)?),
            },
        };
        if !drawn.is_clear() {
            self.pen.lay(&mut frame, drawn)?;
        }
        Ok(TimedFrame { frame, clock })
    }
}

impl Canvas {
    /// The one that is there, or a new one where there is none of this size and clock.
    fn of<'c>(
        canvas: &'c mut Option<Self>,
        (width, height): (u32, u32),
        clock: Rational,
        filters: &str,
    ) -> Result<&'c mut Self, AvError> {
        let form = (width, height, clock);
        if let Some(present) = canvas.take_if(|present| present.form == form) {
            return Ok(canvas.insert(present));
        }
        let mut clear = Frame::video(width, height, pixel_format_number("rgba")?)?;
        clear.fill_plane(0, |line| line.fill(0))?;
        let graph = Graph::new(&GraphInput::of_picture(&clear, clock), filters)?;
        Ok(canvas.insert(Self { clear, graph, form }))
    }

    fn draw(&mut self, (time, length): (i64, i64), words: Option<&str>, pen: &mut Pen) -> Result<Drawn, AvError> {
        let mut ground = self.clear.clone();
        ground.set_times(time, length);
        if let Some(words) = words {
            ground.note(filters::BURNT_TEXT, words);
        }
        self.graph.push(Some(ground))?;
        let layer = self.graph.pull()?.ok_or_else(|| AvError::own("write into a picture", "the filters gave none"))?;
        let (width, height) = (layer.width() as usize, layer.height() as usize);
        let missing = || AvError::own("write into a picture", "a line is missing");
        let mut lines = Vec::with_capacity(height);
        for line in 0..height {
            lines.push(layer.line(0, line, width * 4).ok_or_else(missing)?);
        }
        let is_drawn = |pixel: &[u8]| pixel[3] != 0;
        let down: Vec<usize> = (0..height).filter(|line| lines[*line].chunks_exact(4).any(is_drawn)).collect();
        let mut drawn = Drawn::clear((layer.width(), layer.height()));
        let Some((top, bottom)) = down.first().zip(down.last()) else { return Ok(drawn) };
        let across = |line: &usize| {
            let mut columns =
                lines[*line].chunks_exact(4).enumerate().filter(|(_, pixel)| is_drawn(pixel)).map(|(column, _)| column);
            let first = columns.next()?;
            Some((first, columns.next_back().unwrap_or(first)))
        };
        let (left, right) =
            down.iter().filter_map(across).fold((width, 0), |(left, right), (first, last)| (left.min(first), right.max(last)));
        drawn.part(left, *top, right + 1 - left, bottom + 1 - top);
        for line in &lines[*top..=*bottom] {
            for pixel in line[left * 4..=right * 4 + 3].chunks_exact(4) {
                // The filters draw on black: colours come out weakened by their alpha.
                let whole = |part: u8| {
                    (u32::from(part) * 255 + u32::from(pixel[3]) / 2).checked_div(u32::from(pixel[3])).unwrap_or(0).min(255)
                };
                let alpha = f32::from(pixel[3]) / 255.0;
                drawn.add(alpha, pen.codes([whole(pixel[0]), whole(pixel[1]), whole(pixel[2])]));
            }
        }
        Ok(drawn)
    }
}

/// A picture as it lies over others of this size.
fn marked(over: &Frame, mark: &WatermarkPlan, size: (u32, u32), pen: &mut Pen) -> Result<Drawn, AvError> {
    let doing = "lay a picture over others";
    let gathered = match over.rearranged(pixel_format_number("gbrap")?)? {
        Some(gathered) => gathered,
        None => one_behind(over.clone(), "scale=flags=bicubic+accurate_rnd+full_chroma_int,format=pix_fmts=gbrap")?,
    };
    let height = (u64::from(mark.width) * u64::from(over.height())).div_ceil(u64::from(over.width().max(1)));
    let scaled = one_behind(
        gathered,
        &format!(
            "zscale=min=gbr:m=gbr:rin=full:r=full,format=pix_fmts=gbrap16le,premultiply=inplace=1,\
             zscale=w={}:h={}:filter=spline36:min=gbr:m=gbr:rin=full:r=full,format=pix_fmts=gbrap16le",
            mark.width,
            height.max(1)
        ),
    )?;
    let (width, height) = (scaled.width(), scaled.height());
    let behind = |whole: u32, part: u32| whole.saturating_sub(part.saturating_add(mark.margin));
    let (left, top) = match mark.place {
        Corner::TopLeft => (mark.margin, mark.margin),
        Corner::TopRight => (behind(size.0, width), mark.margin),
        Corner::BottomLeft => (mark.margin, behind(size.1, height)),
        Corner::BottomRight => (behind(size.0, width), behind(size.1, height)),
        Corner::Middle => (size.0.saturating_sub(width) / 2, size.1.saturating_sub(height) / 2),
    };
    let shown = (width.min(size.0.saturating_sub(left)) as usize, height.min(size.1.saturating_sub(top)) as usize);
    let mut drawn = Drawn::clear(size);
    drawn.part(left as usize, top as usize, shown.0, shown.1);
    let opacity = f32::from(mark.opacity) / 100.0;
    for line in 0..shown.1 {
        let part = |plane: usize| -> Result<Vec<f64>, AvError> {
            let bytes = scaled.line(plane, line, shown.0 * 2).ok_or_else(|| AvError::own(doing, "a line is missing"))?;
            Ok(bytes.chunks_exact(2).map(|pair| f64::from(u16::from_le_bytes([pair[0], pair[1]])) / 65_535.0).collect())
        };
        // Planes of this form are green, blue, red and alpha.
        let [green, blue, red, alpha] = [part(0)?, part(1)?, part(2)?, part(3)?];
        for place in 0..shown.0 {
            let covers = alpha[place];
            let whole = |colour: &[f64]| if covers > 0.0 { (colour[place] / covers).min(1.0) } else { 0.0 };
            let codes = pen.inks.codes([whole(&red), whole(&green), whole(&blue)]);
            drawn.add(narrowed(covers) * opacity, codes.map(narrowed));
        }
    }
    Ok(drawn)
}

#[allow(clippy::cast_possible_truncation)]
fn narrowed(value: f64) -> f32 {
    value as f32
}

/// A picture behind filters.
fn one_behind(mut frame: Frame, filters: &str) -> Result<Frame, AvError> {
    frame.set_times(0, 1);
    let mut graph = Graph::new(&GraphInput::of_picture(&frame, Rational::ONE), filters)?;
    graph.push(Some(frame))?;
    graph.push(None)?;
    graph.pull()?.ok_or_else(|| AvError::own("lay a picture over others", "the filters gave none"))
}

/// What is laid over: the part that is not clear, as codes of the pictures below.
struct Drawn {
    /// Columns and lines of the pictures.
    size: (u32, u32),
    left: usize,
    top: usize,
    width: usize,
    height: usize,
    /// How much each pixel covers.
    alpha: Vec<f32>,
    /// Codes of each component, times alpha.
    codes: [Vec<f32>; 3],
}

impl Drawn {
    fn clear(size: (u32, u32)) -> Self {
        Self { size, left: 0, top: 0, width: 0, height: 0, alpha: Vec::new(), codes: Default::default() }
    }

    fn part(&mut self, left: usize, top: usize, width: usize, height: usize) {
        (self.left, self.top, self.width, self.height) = (left, top, width, height);
    }

    fn add(&mut self, alpha: f32, codes: [f32; 3]) {
        self.alpha.push(alpha);
        for (to, code) in self.codes.iter_mut().zip(codes) {
            to.push(alpha * code);
        }
    }

    fn is_clear(&self) -> bool {
        self.width == 0 || self.height == 0
    }

    /// How much is covered around a place of the pictures, and by what, weighed.
    fn around(&self, component: Option<usize>, (x, y): (usize, usize), [across, down]: [&[(isize, f32)]; 2]) -> (f32, f32) {
        let (mut covered, mut code) = (0.0, 0.0);
        for (line, weight_down) in down {
            let Some(line) = y.checked_add_signed(*line).and_then(|y| y.checked_sub(self.top)).filter(|line| *line < self.height)
            else {
                continue;
            };
            for (column, weight) in across {
                let column = x.checked_add_signed(*column).and_then(|x| x.checked_sub(self.left));
                let Some(column) = column.filter(|column| *column < self.width) else { continue };
                let place = line * self.width + column;
                covered += self.alpha[place] * weight * weight_down;
                code += component.map_or(0.0, |component| self.codes[component][place]) * weight * weight_down;
            }
        }
        (covered, code)
    }
}

/// What draws onto pictures of one form.
struct Pen {
    onto: Samples,
    inks: Inks,
    /// Codes of colours that were asked for.
    known: HashMap<[u32; 3], [f32; 3]>,
}

/// The place that a sample of colour takes among those of luma: how much each counts, by its distance from the first.
fn taps(shared: u32, place: Option<isize>) -> Vec<(isize, f32)> {
    let reach = isize::try_from(shared).unwrap_or(1);
    match place {
        _ if shared <= 1 => vec![(0, 1.0)],
        None => (0..reach).map(|tap| (tap, 1.0 / shared as f32)).collect(),
        Some(place) => {
            let whole = (shared * shared) as f32;
            (1 - reach..reach).map(|tap| (place + tap, (reach - tap.abs()) as f32 / whole)).collect()
        }
    }
}

impl Pen {
    fn new(onto: &Samples) -> Self {
        Self { inks: Inks::of(onto), onto: onto.clone(), known: HashMap::new() }
    }

    fn codes(&mut self, rgb: [u32; 3]) -> [f32; 3] {
        let inks = &self.inks;
        *self.known.entry(rgb).or_insert_with(|| inks.codes(rgb.map(|part| f64::from(part) / 255.0)).map(narrowed))
    }

    /// Lays it over a picture. What is opaque below stays so; what is clear there takes the colour of what covers it.
    fn lay(&self, frame: &mut Frame, drawn: &Drawn) -> Result<(), AvError> {
        let form = self.onto.form();
        let highest = f32::from(u16::MAX >> (16 - form.depth.clamp(1, 16)));
        let mut planes = frame.planes_mut()?;
        let below = match planes.get_mut(3).filter(|_| form.has_alpha()) {
            Some(plane) => Some(covered(plane, drawn, form.depth, highest)?),
            None => None,
        };
        let (columns, lines) = form.shared().unwrap_or((1, 1));
        let (left, down) = match self.onto.chroma {
            ChromaSite::Left => (Some(0), None),
            ChromaSite::Center => (None, None),
            ChromaSite::TopLeft => (Some(0), Some(0)),
            ChromaSite::Top => (None, Some(0)),
            ChromaSite::BottomLeft => (Some(0), Some(1)),
            ChromaSite::Bottom => (None, Some(1)),
        };
        for (place, plane) in planes.iter_mut().take(3).enumerate() {
            let is_chroma = place > 0 && !form.is_rgb();
            let component = if form.is_rgb() { [1, 2, 0][place] } else { place };
            let (columns, lines) = if is_chroma { (columns, lines) } else { (1, 1) };
            let (across, above) = (taps(columns, left), taps(lines, down));
            let (columns, lines) = (columns as usize, lines as usize);
            // One sample of colour more on each side, since it reaches over its own pixels.
            let from = |start: usize, shared: usize| (start / shared).saturating_sub(usize::from(shared > 1));
            let rows =
                from(drawn.top, lines)..((drawn.top + drawn.height).div_ceil(lines) + usize::from(lines > 1)).min(plane.lines());
            for row in rows {
                let mut line = Codes::of(plane, row, form.depth)?;
                for column in from(drawn.left, columns)
                    ..((drawn.left + drawn.width).div_ceil(columns) + usize::from(columns > 1)).min(line.len())
                {
                    let (x, y) = (column * columns, row * lines);
                    let (alpha, code) = drawn.around(Some(component), (x, y), [&across, &above]);
                    if alpha <= 0.0 {
                        continue;
                    }
                    // How much of what comes out is the layer's, where what lies below is clear itself.
                    let (alpha, code) = match &below {
                        Some(below) => {
                            let seen = below.get(&(x, y)).copied().unwrap_or(1.0);
                            let whole = alpha + seen * (1.0 - alpha);
                            (alpha / whole, code / whole)
                        }
                        None => (alpha, code),
                    };
                    line.set(column, (line.get(column) * (1.0 - alpha) + code).clamp(0.0, highest));
                }
            }
        }
        Ok(())
    }
}

/// Lays a layer's alpha over a picture's; answers what it was before, from 0 to 1, where the layer covers anything.
fn covered(plane: &mut PlaneMut<'_>, drawn: &Drawn, depth: u32, highest: f32) -> Result<HashMap<(usize, usize), f32>, AvError> {
    let mut before = HashMap::new();
    for y in drawn.top..(drawn.top + drawn.height).min(plane.lines()) {
        let mut line = Codes::of(plane, y, depth)?;
        for x in drawn.left..(drawn.left + drawn.width).min(line.len()) {
            let (alpha, _) = drawn.around(None, (x, y), [&[(0, 1.0)], &[(0, 1.0)]]);
            let seen = line.get(x) / highest;
            before.insert((x, y), seen);
            line.set(x, (alpha + seen * (1.0 - alpha)) * highest);
        }
    }
    Ok(before)
}

/// A line of samples of one or two bytes.
enum Codes<'a> {
    Bytes(&'a mut [u8]),
    Pairs(&'a mut [u16]),
}

impl<'a> Codes<'a> {
    fn of(plane: &'a mut PlaneMut<'_>, line: usize, depth: u32) -> Result<Self, AvError> {
        let missing = || AvError::own("lay something over a picture", "a line is missing");
        if depth > 8 { plane.samples(line).map(Self::Pairs) } else { plane.line(line).map(Self::Bytes) }.ok_or_else(missing)
    }

    fn len(&self) -> usize {
        match self {
            Self::Bytes(line) => line.len(),
            Self::Pairs(line) => line.len(),
        }
    }

    fn get(&self, place: usize) -> f32 {
        match self {
            Self::Bytes(line) => line[place].into(),
            Self::Pairs(line) => line[place].into(),
        }
    }

    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    fn set(&mut self, place: usize, code: f32) {
        match self {
            Self::Bytes(line) => line[place] = (code + 0.5) as u8,
            Self::Pairs(line) => line[place] = (code + 0.5) as u16,
        }
    }
}

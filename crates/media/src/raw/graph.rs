//! Filter graphs with one output, written in the libraries' notation.

use beryl_core::sound::layout::notation;
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::{AvError, Frame, c_text, check, rational};

/// What comes into a graph.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum GraphInput {
    /// Pictures.
    Picture { width: u32, height: u32, format: i32, pixel_aspect: Rational, clock: Rational, rate: Option<Rational> },
    /// Sound, its format by the library's name or number, its layout in the library's words.
    Sound { sample_rate: u32, format: i32, layout: String, channels: u32, clock: Rational },
}

impl GraphInput {
    /// In the libraries' notation, its end called `[in0]` and so on.
    fn text(&self, number: usize) -> String {
        let colon = |value: Rational| format!("{}/{}", value.numerator(), value.denominator());
        match self {
            Self::Picture { width, height, format, pixel_aspect, clock, rate } => {
                let rate = rate.map_or_else(String::new, |rate| format!(":frame_rate={}", colon(rate)));
                format!(
                    "buffer@in{number}=video_size={width}x{height}:pix_fmt={format}:time_base={}:pixel_aspect={}{rate}[in{number}]",
                    colon(*clock),
                    colon(*pixel_aspect)
                )
            }
            Self::Sound { sample_rate, format, layout, channels, clock } => format!(
                "abuffer@in{number}=sample_rate={sample_rate}:sample_fmt={format}:channel_layout={}:time_base={}[in{number}]",
                within(layout, *channels),
                colon(*clock)
            ),
        }
    }

    /// What comes in with frames of sound like this one.
    pub(crate) fn of_sound(frame: &Frame, clock: Rational) -> Self {
        let channels = u32::try_from(frame.channels()).unwrap_or(0);
        Self::Sound { sample_rate: frame.sample_rate(), format: frame.format(), layout: frame.layout(), channels, clock }
    }

    /// What comes in with frames like this one.
    pub(crate) fn of_picture(frame: &Frame, clock: Rational) -> Self {
        Self::Picture {
            width: frame.width(),
            height: frame.height(),
            format: frame.format(),
            pixel_aspect: frame.pixel_aspect().unwrap_or(Rational::ONE),
            clock,
            rate: None,
        }
    }
}

/// A layout in the libraries' notation. Their filters want a place for every channel: a bare count gets the first so
/// many of all places, which mean nothing.
pub(crate) fn within(layout: &str, channels: u32) -> String {
    let notation = notation(layout, channels);
    let is_count = notation == format!("{channels}C");
    1_u64.checked_shl(channels).filter(|_| is_count).map_or(notation, |beyond| format!("{:#x}", beyond - 1))
}

/// A working filter graph.
pub(crate) struct Graph {
    graph: *mut ffi::AVFilterGraph,
    entrances: Vec<Entrance>,
    sink: *mut ffi::AVFilterContext,
}

/// Where frames go in.
struct Entrance {
    source: *mut ffi::AVFilterContext,
    /// When the last frame that went in ends, in the clock of the input.
    end: i64,
}

// SAFETY: the graph and its filters are owned by this value alone; its worker threads are its own.
unsafe impl Send for Graph {}

impl Graph {
    /// Builds a graph of `filters` (separated by commas, and not empty) behind this input.
    pub(crate) fn new(input: &GraphInput, filters: &str) -> Result<Self, AvError> {
        Self::with_inputs(std::slice::from_ref(input), &format!("[in0]{filters}"))
    }

    /// Builds a graph behind several inputs, which `filters` call `[in0]`, `[in1]` and so on; what it
    /// leaves open comes out.
    pub(crate) fn with_inputs(inputs: &[GraphInput], filters: &str) -> Result<Self, AvError> {
        let sources: Vec<String> = inputs.iter().enumerate().map(|(number, input)| input.text(number)).collect();
        let sink = match inputs.first() {
            Some(GraphInput::Sound { .. }) => "abuffersink@out",
            Some(GraphInput::Picture { .. }) | None => "buffersink@out",
        };
        let text = c_text(&format!("{};{filters},{sink}", sources.join(";")));
        // SAFETY: the graph is ours and freed with this value also where a later call fails; the
        // text ends with NUL; sources and sink belong to the graph and live as long as it.
        unsafe {
            let mut graph = Self { graph: ffi::avfilter_graph_alloc(), entrances: Vec::new(), sink: std::ptr::null_mut() };
            if graph.graph.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "build the filters"));
            }
            let (mut open_inputs, mut open_outputs) = (std::ptr::null_mut(), std::ptr::null_mut());
            let parsed = ffi::avfilter_graph_parse2(graph.graph, text.as_ptr(), &mut open_inputs, &mut open_outputs);
            ffi::avfilter_inout_free(&mut open_inputs);
            ffi::avfilter_inout_free(&mut open_outputs);
            check(parsed, &format!("build the filters {filters}"))?;
            check(ffi::avfilter_graph_config(graph.graph, std::ptr::null_mut()), &format!("build the filters {filters}"))?;
            graph.sink = ffi::avfilter_graph_get_filter(graph.graph, c_text(sink).as_ptr());
            for text in &sources {
                let name = c_text(text.split('=').next().unwrap_or_default());
                let source = ffi::avfilter_graph_get_filter(graph.graph, name.as_ptr());
                graph.entrances.push(Entrance { source, end: ffi::AV_NOPTS_VALUE });
            }
            if graph.sink.is_null() || graph.entrances.iter().any(|entrance| entrance.source.is_null()) {
                return Err(AvError::own("build the filters", "the ends were not found"));
            }
            Ok(graph)
        }
    }

    /// Gives it a frame, which is used up, or the end.
    pub(crate) fn push(&mut self, frame: Option<Frame>) -> Result<(), AvError> {
        self.push_to(0, frame)
    }

    /// Gives one of its inputs a frame, which is used up, or the end. The end is told with the time at
    /// which the last frame ends, or filters that count time would drop it.
    pub(crate) fn push_to(&mut self, input: usize, frame: Option<Frame>) -> Result<(), AvError> {
        let entrance = &mut self.entrances[input];
        let Some(frame) = frame else {
            // SAFETY: the source belongs to this graph.
            return check(unsafe { ffi::av_buffersrc_close(entrance.source, entrance.end, 0) }, "filter").map(|_| ());
        };
        entrance.end = frame.pts().map_or(ffi::AV_NOPTS_VALUE, |pts| pts.saturating_add(frame.duration()));
        let pointer = frame.0;
        // SAFETY: the source belongs to this graph; the frame is ours, and what it held is taken over.
        check(unsafe { ffi::av_buffersrc_add_frame_flags(entrance.source, pointer, 0) }, "filter").map(|_| ())
    }

    /// The next frame; nothing where it wants more or is at its end.
    pub(crate) fn pull(&mut self) -> Result<Option<Frame>, AvError> {
        let frame = Frame::new();
        // SAFETY: the sink belongs to this graph, the frame is ours.
        match unsafe { ffi::av_buffersink_get_frame(self.sink, frame.0) } {
            code if code == ffi::AVERROR(ffi::EAGAIN) || code == ffi::AVERROR_EOF => Ok(None),
            code => check(code, "filter").map(|_| Some(frame)),
        }
    }

    /// The clock of the frames that come out.
    pub(crate) fn clock(&self) -> Rational {
        // SAFETY: the sink belongs to this graph, which is configured.
        rational(unsafe { ffi::av_buffersink_get_time_base(self.sink) }).unwrap_or(Rational::ONE)
    }

    /// Lets sound come out in frames of this many samples.
    pub(crate) fn set_frame_samples(&mut self, samples: u32) {
        // SAFETY: the sink belongs to this graph and is a sound sink where this is called.
        unsafe { ffi::av_buffersink_set_frame_size(self.sink, samples) };
    }
}

impl Drop for Graph {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once, with all its filters.
        unsafe { ffi::avfilter_graph_free(&mut self.graph) };
    }
}

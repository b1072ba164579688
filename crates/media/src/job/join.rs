//! Channels of several streams of the source, brought together to the sound of one track.

use beryl_core::plan::Track;
use beryl_core::time::Rational;
use crossbeam_channel::{Receiver, Select, Sender};

use super::cost;
use super::sound::{picking, to_rate};
use super::wires::{Shared, TimedFrame, library_problem};
use super::work::Work;
use crate::raw::{AvError, Frame, Graph, GraphInput, sample_format_number};

/// Samples that are handed on at a time.
const PORTION: usize = 4096;
/// Bytes of samples that are held while others are waited for: streams that lie further apart in their file are not joined.
const MOST_HELD: usize = 512 << 20;

/// Brings the streams of one track together, at the track's rate, sample by sample.
pub(super) struct JoinTask<'a> {
    pub(super) work: &'a Work<'a>,
    pub(super) shared: Shared<'a>,
    pub(super) track: &'a Track,
}

/// One of the streams, or some of its channels.
struct Part<'a> {
    channels: &'a [u32],
    frames: Receiver<TimedFrame>,
    graph: Option<(Graph, (GraphInput, bool))>,
    /// How many channels come out of it.
    width: usize,
    /// Samples that wait for those of the others, channel by channel of each moment.
    held: Vec<f64>,
    has_ended: bool,
}

impl Part<'_> {
    fn moments(&self) -> usize {
        self.held.len() / self.width.max(1)
    }

    /// Takes a frame, or the end.
    fn take(&mut self, frame: Option<TimedFrame>, rate: u32) -> Result<(), AvError> {
        let Some(TimedFrame { frame, clock }) = frame else {
            self.has_ended = true;
            return self.flush();
        };
        let input = (GraphInput::of_sound(&frame, clock), frame.is_drifting());
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            self.flush()?;
            self.graph = Some((self.graph_for(&input, rate)?, input));
        }
        if let Some((graph, _)) = &mut self.graph {
            graph.push(Some(frame))?;
        }
        self.pull()
    }

    fn graph_for(&self, (input, drifts): &(GraphInput, bool), rate: u32) -> Result<Graph, AvError> {
        let GraphInput::Sound { sample_rate, channels, .. } = input else {
            return Err(AvError::own("join sound", "what comes in is no sound"));
        };
        // Sound whose channels change in mid-stream keeps as many as it began with.
        let all: Vec<u32> = (0..u32::try_from(self.width).unwrap_or(0)).collect();
        let wanted = if self.channels.is_empty() { &all } else { self.channels };
        let mut filters = vec![picking(wanted, *channels)];
        filters.extend(to_rate(*sample_rate, rate, *drifts));
        filters.push("aformat=sample_fmts=dbl".to_owned());
        Graph::new(input, &filters.join(","))
    }

    fn flush(&mut self) -> Result<(), AvError> {
        if let Some((graph, _)) = &mut self.graph {
            graph.push(None)?;
        }
        self.pull()?;
        self.graph = None;
        Ok(())
    }

    fn pull(&mut self) -> Result<(), AvError> {
        let Some((graph, _)) = &mut self.graph else { return Ok(()) };
        while let Some(frame) = graph.pull()? {
            self.held.extend_from_slice(frame.doubles());
        }
        Ok(())
    }
}

impl JoinTask<'_> {
    /// Joins what comes; `widths` says how many channels of each stream are meant.
    pub(super) fn run(self, inputs: Vec<Receiver<TimedFrame>>, widths: &[usize], joined: &Sender<TimedFrame>) {
        let parts = self.track.from.iter().zip(inputs).zip(widths).map(|((source, frames), width)| Part {
            channels: &source.channels,
            frames,
            graph: None,
            width: *width,
            held: Vec::new(),
            has_ended: false,
        });
        if let Err(error) = self.join(parts.collect(), joined) {
            self.work.fail(library_problem(&self.work.what(), &error));
        }
        cost::charge([self.work], &[]);
    }

    fn join(&self, mut parts: Vec<Part<'_>>, joined: &Sender<TimedFrame>) -> Result<(), AvError> {
        let rate = self.track.sample_rate;
        let mut told = 0;
        while let Some((place, frame)) = next(&parts) {
            if !self.shared.goes_on() || !self.work.is_wanted(self.shared.control) {
                return Ok(());
            }
            parts[place].take(frame, rate)?;
            if parts.iter().map(|part| size_of_val(part.held.as_slice())).sum::<usize>() > MOST_HELD {
                return Err(AvError::own("join sound", "the streams lie too far apart in their file to be joined"));
            }
            if !hand_on(&mut parts, rate, &mut told, joined)? {
                return Ok(());
            }
        }
        Ok(())
    }
}

/// The next frame of any stream, or its end; nothing once all have ended.
fn next(parts: &[Part<'_>]) -> Option<(usize, Option<TimedFrame>)> {
    let open: Vec<usize> = (0..parts.len()).filter(|place| !parts[*place].has_ended).collect();
    let mut select = Select::new();
    for place in &open {
        select.recv(&parts[*place].frames);
    }
    if open.is_empty() {
        return None;
    }
    let ready = select.select();
    let place = open[ready.index()];
    Some((place, ready.recv(&parts[place].frames).ok()))
}

/// Hands on what all streams have; one that has ended is silent until the last one ends. Answers whether anybody wants more.
fn hand_on(parts: &mut [Part<'_>], rate: u32, told: &mut usize, joined: &Sender<TimedFrame>) -> Result<bool, AvError> {
    let open = parts.iter().filter(|part| !part.has_ended).map(Part::moments).min();
    let mut ready = open.unwrap_or_else(|| parts.iter().map(Part::moments).max().unwrap_or(0));
    let format = sample_format_number("dbl")?;
    let clock = Rational::new(1, rate.into()).unwrap_or(Rational::ONE);
    let width: usize = parts.iter().map(|part| part.width).sum();
    while ready >= PORTION || ready > 0 && open.is_none() {
        let moments = ready.min(PORTION);
        let mut bytes = Vec::with_capacity(moments * width * size_of::<f64>());
        for moment in 0..moments {
            for part in parts.iter() {
                for channel in 0..part.width {
                    let sample = part.held.get(moment * part.width + channel).copied().unwrap_or(0.0);
                    bytes.extend_from_slice(&sample.to_ne_bytes());
                }
            }
        }
        for part in parts.iter_mut() {
            let gone = (moments * part.width).min(part.held.len());
            part.held.drain(..gone);
        }
        let [moments, channels] = [moments, width].map(|count| u32::try_from(count).unwrap_or(0));
        let mut frame = Frame::audio(moments, channels, rate, format)?;
        frame.write_sound(&bytes)?;
        frame.set_times(i64::try_from(*told).unwrap_or(i64::MAX), moments.into());
        *told += moments as usize;
        ready -= moments as usize;
        if joined.send(TimedFrame { frame, clock }).is_err() {
            return Ok(false);
        }
    }
    Ok(true)
}

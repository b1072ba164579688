//! Loudness, peaks, clipping and the relation of channels of one sound stream.

use beryl_core::findings::{SoundMeasure, SoundMoment};
use beryl_core::time::Rational;

use crate::raw::{AvError, Frame, Graph, GraphInput};

/// A sample this close to full scale may be cut off.
const FULL_SCALE: f64 = 0.9999;
/// So many of them in a row are.
const CUT_OFF: u32 = 3;

/// Takes a sound stream frame by frame.
pub(super) struct SoundMeter {
    measure: SoundMeasure,
    graph: Option<(Graph, GraphInput)>,
    channels: usize,
    sample_rate: u32,
    at_full_scale: Vec<u32>,
    true_peak: f64,
}

impl SoundMeter {
    pub(super) fn new(stream: u32) -> Self {
        let measure = SoundMeasure {
            stream,
            start: Rational::ZERO,
            integrated: None,
            range: None,
            true_peak: None,
            moments: Vec::new(),
            clipped: 0,
            first_clipped: None,
            energy: Vec::new(),
            stereo: None,
            samples: 0,
        };
        Self { measure, graph: None, channels: 0, sample_rate: 1, at_full_scale: Vec::new(), true_peak: 0.0 }
    }

    /// Takes a frame as decoded; `time` in seconds of the source's clock.
    pub(super) fn take(&mut self, mut frame: Frame, time: Rational) -> Result<(), AvError> {
        let rate = frame.sample_rate().max(1);
        let clock = Rational::new(1, rate.into()).unwrap_or(Rational::ONE);
        let input = GraphInput::of_sound(&frame, clock);
        if self.graph.as_ref().is_none_or(|(_, present)| *present != input) {
            if self.graph.is_none() {
                self.measure.start = time;
            }
            self.end()?;
            // The library's own measure of EBU R 128; it hands the samples on in tenths of a second.
            let graph = Graph::new(&input, "aformat=sample_fmts=dbl,ebur128=peak=true:metadata=1")?;
            self.graph = Some((graph, input));
        }
        frame.set_times(i64::try_from(self.measure.samples).unwrap_or(i64::MAX), i64::from(frame.samples()));
        if let Some((graph, _)) = &mut self.graph {
            graph.push(Some(frame))?;
        }
        self.drain()
    }

    fn drain(&mut self) -> Result<(), AvError> {
        while let Some(frame) = self.graph.as_mut().map_or(Ok(None), |(graph, _)| graph.pull())? {
            self.add(&frame);
        }
        Ok(())
    }

    fn end(&mut self) -> Result<(), AvError> {
        if let Some((graph, _)) = &mut self.graph {
            graph.push(None)?;
        }
        self.drain()
    }

    fn add(&mut self, frame: &Frame) {
        let number = |key: &str| frame.metadata(key).and_then(|text| text.parse::<f64>().ok());
        self.channels = frame.channels();
        self.sample_rate = frame.sample_rate().max(1);
        self.at_full_scale.resize(self.channels, 0);
        self.measure.energy.resize(self.channels, 0.0);
        let mut peak = 0.0_f64;
        for moment in frame.doubles().chunks_exact(self.channels.max(1)) {
            for (channel, sample) in moment.iter().enumerate() {
                self.measure.energy[channel] += sample * sample;
                peak = peak.max(sample.abs());
                let run = &mut self.at_full_scale[channel];
                *run = if sample.abs() >= FULL_SCALE { *run + 1 } else { 0 };
                if *run == CUT_OFF {
                    self.measure.clipped += 1;
                    let at = Rational::new(i64::try_from(self.measure.samples).unwrap_or(0), self.sample_rate.into());
                    self.measure.first_clipped = self.measure.first_clipped.or(at);
                }
            }
            if let [first, second, ..] = moment {
                let stereo = self.measure.stereo.get_or_insert((0.0, 0.0));
                *stereo = (stereo.0 + first * second, stereo.1 + (first - second) * (first - second));
            }
            self.measure.samples += 1;
        }
        let gated = |key: &str| number(key).filter(|value| *value > -69.9 && value.is_finite());
        self.measure.integrated = gated("lavfi.r128.I").or(self.measure.integrated);
        self.measure.range = number("lavfi.r128.LRA").or(self.measure.range);
        for channel in 0..self.channels {
            self.true_peak = self.true_peak.max(number(&format!("lavfi.r128.true_peaks_ch{channel}")).unwrap_or(0.0));
        }
        let begin = self.measure.samples.saturating_sub(frame.samples().into());
        let at = Rational::new(i64::try_from(begin).unwrap_or(0), self.sample_rate.into()).unwrap_or(Rational::ZERO);
        let loudness = number("lavfi.r128.M").filter(|value| value.is_finite()).unwrap_or(-120.0);
        self.measure.moments.push(SoundMoment { at, loudness, peak });
    }

    /// What was measured, its moments counted from `first_picture` (in seconds of the source's clock).
    pub(super) fn finish(mut self, first_picture: Option<Rational>) -> Result<Option<SoundMeasure>, AvError> {
        self.end()?;
        if self.measure.samples == 0 {
            return Ok(None);
        }
        let shift = first_picture.map_or(Rational::ZERO, |picture| self.measure.start - picture);
        for moment in &mut self.measure.moments {
            moment.at = moment.at + shift;
        }
        self.measure.first_clipped = self.measure.first_clipped.map(|at| at + shift);
        self.measure.true_peak = (self.true_peak > 1e-6).then(|| 20.0 * self.true_peak.log10());
        Ok(Some(self.measure))
    }
}

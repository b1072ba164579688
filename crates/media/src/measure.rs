//! Reading a finished file back.

use std::collections::BTreeMap;

use beryl_core::after::check::{Measured, StreamMeasure};
use beryl_core::formats::iso::index_in_front;
use beryl_core::problem::Problem;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_core::time::Rational;
use beryl_core::units::ByteSize;

use crate::control::Control;
use crate::probe;
use crate::raw::{Decoder, Frame, Kind, Packet};
use crate::source::{PacketSource, open_file, open_root, problem_of, reader};

/// What is found in a file: its facts, and for each stream how many packets it has, where they
/// begin and end, whether they are evenly spaced, and whether the first one decodes.
///
/// Every packet is read, but only the first ones of each stream are decoded.
///
/// # Errors
/// A [`Problem`] where the file cannot be opened or read to its end.
pub fn measure(file: &FileRef) -> Result<Measured, Problem> {
    measure_telling(file, &Control::default(), &|_| ())
}

/// [`measure`], with `read` told how many bytes of the file's streams have been read so far. Where `control` stops, it ends
/// with the next bytes that are read.
///
/// # Errors
/// As [`measure`]; a problem of reading where it was stopped.
pub fn measure_telling(file: &FileRef, control: &Control, read: &dyn Fn(u64)) -> Result<Measured, Problem> {
    let source = SourceRef::of(file.clone());
    let facts = probe::facts(&mut PacketSource::open(&source, control.stop())?)?;
    let mut packets = PacketSource::open(&source, control.stop())?.with_stamps_as_they_are();
    // Packets do not tell how long the last one is shown where they are stored in another order than they are
    // shown, nor how much of it is heard; edit lists do.
    let mut counts: BTreeMap<usize, Count> = packets
        .input()
        .streams()
        .filter(|stream| matches!(stream.kind(), Kind::Picture | Kind::Sound))
        .map(|stream| {
            let mut count = Count::new(Decoder::open(stream, Some(1)).ok(), stream.clock(), stream.sample_rate());
            count.edited_length = packets.presented(stream.index());
            count.usual = stream.mean_rate().and_then(Rational::inverse).filter(|_| stream.kind() == Kind::Picture);
            (stream.index(), count)
        })
        .collect();
    let mut bytes = 0;
    loop {
        match packets.read() {
            Ok(Some(packet)) => {
                bytes += packet.size();
                read(bytes);
                if let Some(count) = counts.get_mut(&packet.stream()) {
                    count.take(&packet);
                }
            }
            Ok(None) => break,
            Err(error) => return Err(problem_of(packets.name(), &error)),
        }
    }
    let (opened, _) = open_file(&open_root(file)?, &file.path)?;
    Ok(Measured {
        index_in_front: index_in_front(&mut reader(&opened)),
        facts,
        streams: counts.into_iter().map(|(index, count)| count.result(index)).collect(),
        frames_encoded: None,
        given: Vec::new(),
        looks: Vec::new(),
        remarks: Vec::new(),
        decode_faults: 0,
        source_end: None,
        cpu_milliseconds: None,
    })
}

struct Count {
    decoder: Option<Decoder>,
    clock: Rational,
    /// Of sound; one for pictures.
    sample_rate: i64,
    /// Seconds for which the stream is shown by its edit list.
    edited_length: Option<Rational>,
    /// Seconds of each frame, where the header says so.
    usual: Option<Rational>,
    first_decoded: Option<i64>,
    times: Vec<i64>,
    end: i64,
    /// Ticks for which the one lasts that ends last.
    last_length: i64,
    bytes: u64,
    key_packets: u64,
    key_bytes: u64,
    /// Times of key frames.
    keys: Vec<i64>,
    /// Bytes of each second of decoding.
    seconds: BTreeMap<i64, u64>,
}

impl Count {
    fn new(decoder: Option<Decoder>, clock: Rational, sample_rate: u32) -> Self {
        Self {
            decoder,
            clock,
            sample_rate: i64::from(sample_rate).max(1),
            edited_length: None,
            usual: None,
            first_decoded: None,
            times: Vec::new(),
            end: i64::MIN,
            last_length: 0,
            bytes: 0,
            key_packets: 0,
            key_bytes: 0,
            keys: Vec::new(),
            seconds: BTreeMap::new(),
        }
    }

    fn take(&mut self, packet: &Packet) {
        if self.first_decoded.is_none() {
            self.decode(Some(packet));
        }
        self.bytes += packet.size();
        if packet.is_key() {
            self.key_packets += 1;
            self.key_bytes += packet.size();
            self.keys.extend(packet.pts());
        }
        let second = packet.dts().or(packet.pts()).map_or(0, |time| (Rational::whole(time) * self.clock).floor());
        *self.seconds.entry(second).or_default() += packet.size();
        if packet.is_hidden() {
            return;
        }
        if let Some(time) = packet.pts().or(packet.dts()) {
            self.times.push(time);
            let discarded = Rational::new(packet.discarded_behind().into(), self.sample_rate)
                .and_then(|length| length.divided_by(self.clock));
            let end = time + packet.duration() - discarded.map_or(0, Rational::round);
            if end > self.end {
                (self.end, self.last_length) = (end, packet.duration());
            }
        }
    }

    fn decode(&mut self, packet: Option<&Packet>) {
        let frame = self.decoder.as_mut().and_then(|decoder| probe::first_frame(decoder, packet));
        self.first_decoded = frame.as_ref().and_then(Frame::best_time);
        if self.first_decoded.is_some() {
            self.decoder = None;
        }
    }

    fn result(mut self, index: usize) -> StreamMeasure {
        if self.first_decoded.is_none() {
            self.decode(None);
        }
        self.times.sort_unstable();
        let first = self.first_decoded.or(self.times.first().copied()).unwrap_or(0);
        let first_time = Rational::whole(first) * self.clock;
        // Coarse clocks cut lengths down to whole ticks; the header's rate is finer.
        let cut = self.usual.map(|usual| usual - Rational::whole(self.last_length) * self.clock);
        let cut = cut.filter(|cut| cut.abs() < self.clock).unwrap_or(Rational::ZERO);
        let end =
            self.edited_length.map_or(Rational::whole(self.end.max(first)) * self.clock + cut, |length| first_time + length);
        StreamMeasure {
            index: u32::try_from(index).unwrap_or(u32::MAX),
            packets: self.times.len() as u64,
            first: first_time,
            end,
            even: is_even(&self.times),
            decodes: self.first_decoded.is_some(),
            bytes: ByteSize(self.bytes),
            key_packets: self.key_packets,
            key_bytes: ByteSize(self.key_bytes),
            longest_group: longest_group(&self.times, &self.keys),
            peak_second: ByteSize(self.seconds.values().copied().max().unwrap_or(0)),
        }
    }
}

/// The most frames from one key frame to the next as they are shown, or to the end; `times` are in order.
fn longest_group(times: &[i64], keys: &[i64]) -> u64 {
    let mut places: Vec<usize> = keys.iter().map(|key| times.partition_point(|time| time < key)).collect();
    places.push(times.len());
    places.sort_unstable();
    places.windows(2).map(|pair| (pair[1] - pair[0]) as u64).max().unwrap_or(0)
}

/// Whether times lie on an even grid, as near as whole ticks can come to it.
fn is_even(times: &[i64]) -> bool {
    let (Some(first), Some(last)) = (times.first(), times.last()) else { return true };
    let steps = i64::try_from(times.len()).unwrap_or(i64::MAX) - 1;
    let Some(step) = Rational::new(last - first, steps) else { return true };
    let ideal = |place: usize| Rational::whole(*first) + step * Rational::whole(i64::try_from(place).unwrap_or(0));
    times.iter().enumerate().all(|(place, time)| (Rational::whole(*time) - ideal(place)).abs() <= Rational::ONE)
}

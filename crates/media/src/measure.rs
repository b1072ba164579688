//! Reading a finished file back.

use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};

use beryl_core::check::{Measured, StreamMeasure};
use beryl_core::problem::Problem;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_core::rational::Rational;
use beryl_core::units::ByteSize;

use crate::probe;
use crate::raw::{Decoder, Frame, Kind, Packet, Stop};
use crate::source::{PacketSource, open_file, open_root, problem_of};

/// What is found in a file: its facts, and for each stream how many packets it has, where they
/// begin and end, whether they are evenly spaced, and whether the first one decodes.
///
/// Every packet is read, but only the first ones of each stream are decoded.
///
/// # Errors
/// A [`Problem`] where the file cannot be opened or read to its end.
pub fn measure(file: &FileRef) -> Result<Measured, Problem> {
    let source = SourceRef { file: file.clone(), sequence: None };
    let reading = probe::facts(&mut PacketSource::open(&source, &Stop::default())?)?;
    let mut packets = PacketSource::open(&source, &Stop::default())?;
    let mut counts: BTreeMap<usize, Count> = packets
        .input()
        .streams()
        .filter(|stream| matches!(stream.kind(), Kind::Picture | Kind::Sound))
        .map(|stream| (stream.index(), Count::new(Decoder::open(stream, true).ok(), stream.clock())))
        .collect();
    loop {
        match packets.read() {
            Ok(Some(packet)) => {
                if let Some(count) = counts.get_mut(&packet.stream()) {
                    count.take(&packet);
                }
            }
            Ok(None) => break,
            Err(error) => return Err(problem_of(packets.name(), &error)),
        }
    }
    Ok(Measured {
        index_in_front: index_in_front(file)?,
        reading,
        streams: counts.into_iter().map(|(index, count)| count.result(index)).collect(),
        frames_encoded: None,
        source_offset: None,
        decode_faults: 0,
        source_end: None,
        cpu_milliseconds: None,
    })
}

struct Count {
    decoder: Option<Decoder>,
    clock: Rational,
    first_decoded: Option<i64>,
    times: Vec<i64>,
    end: i64,
    bytes: u64,
    key_packets: u64,
    key_bytes: u64,
}

impl Count {
    fn new(decoder: Option<Decoder>, clock: Rational) -> Self {
        Self { decoder, clock, first_decoded: None, times: Vec::new(), end: i64::MIN, bytes: 0, key_packets: 0, key_bytes: 0 }
    }

    fn take(&mut self, packet: &Packet) {
        if self.first_decoded.is_none() {
            self.decode(Some(packet));
        }
        self.bytes += packet.size();
        if packet.is_key() {
            self.key_packets += 1;
            self.key_bytes += packet.size();
        }
        if packet.is_hidden() {
            return;
        }
        if let Some(time) = packet.pts().or(packet.dts()) {
            self.times.push(time);
            self.end = self.end.max(time + packet.duration());
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
        StreamMeasure {
            index: u32::try_from(index).unwrap_or(u32::MAX),
            packets: self.times.len() as u64,
            first: Rational::whole(first) * self.clock,
            end: Rational::whole(self.end.max(first)) * self.clock,
            even: is_even(&self.times),
            decodes: self.first_decoded.is_some(),
            bytes: ByteSize(self.bytes),
            key_packets: self.key_packets,
            key_bytes: ByteSize(self.key_bytes),
        }
    }
}

/// Whether times lie on an even grid, as near as whole ticks can come to it.
fn is_even(times: &[i64]) -> bool {
    let (Some(first), Some(last)) = (times.first(), times.last()) else { return true };
    let steps = i64::try_from(times.len()).unwrap_or(i64::MAX) - 1;
    let Some(step) = Rational::new(last - first, steps) else { return true };
    let ideal = |place: usize| Rational::whole(*first) + step * Rational::whole(i64::try_from(place).unwrap_or(0));
    times.iter().enumerate().all(|(place, time)| (Rational::whole(*time) - ideal(place)).abs() <= Rational::ONE)
}

/// Whether the index (`moov`) of an ISO base media file (ISO/IEC 14496-12) stands before its media
/// (`mdat`); nothing for other files.
fn index_in_front(file: &FileRef) -> Result<Option<bool>, Problem> {
    let (mut opened, _) = open_file(&open_root(file)?, &file.path)?;
    let mut position = 0_u64;
    let mut index_seen = false;
    let mut is_iso = false;
    loop {
        let mut header = [0_u8; 16];
        let whole = opened.seek(SeekFrom::Start(position)).and_then(|_| opened.read_exact(&mut header[..8]));
        if whole.is_err() {
            return Ok(is_iso.then_some(false));
        }
        let kind = &header[4..8];
        if position == 0 && kind != b"ftyp" {
            return Ok(None);
        }
        is_iso = true;
        match kind {
            b"moov" => index_seen = true,
            b"mdat" => return Ok(Some(index_seen)),
            _ => {}
        }
        let short = u32::from_be_bytes([header[0], header[1], header[2], header[3]]);
        let length = match short {
            1 if opened.read_exact(&mut header[8..]).is_ok() => {
                u64::from_be_bytes([header[8], header[9], header[10], header[11], header[12], header[13], header[14], header[15]])
            }
            0 | 1 => return Ok(Some(false)),
            short => short.into(),
        };
        position = position.saturating_add(length.max(8));
    }
}

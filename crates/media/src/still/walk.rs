//! Walking through the frames of a source, from wherever one jumps to.

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::SourceRef;
use beryl_core::time::Rational;

use super::unreadable;
use crate::raw::{Decoder, Frame, OpenError, Packet, Stop, StreamView};
use crate::source::{PacketSource, problem_of};

/// Up to so many seconds before where one wants to be, frames that no other refers to are not decoded.
const HURRY_UNTIL: Rational = Rational::constant(1, 2);
/// The same where key frames are near each other, so that there is little way to save on.
const SHORT_HURRY_UNTIL: Rational = Rational::constant(1, 10);

/// Key frames farther apart than these seconds are rare.
pub(super) const RARE: Rational = Rational::ONE;

/// The frames of a source in the order in which they are shown.
pub(super) struct Walk {
    packets: PacketSource,
    decoder: Decoder,
    stream: usize,
    clock: Rational,
    start: Rational,
    /// When the last key frame that was read is shown, and how far it is from the one before.
    key: Option<Rational>,
    key_distance: Option<Rational>,
    /// Packets that are shown earlier may be left out.
    hurry_until: Option<Rational>,
    /// When the last one is shown that may have been.
    left_out: Option<Rational>,
    last: Option<Rational>,
    at_end: bool,
}

impl Walk {
    pub(super) fn open(source: &SourceRef) -> Result<Self, Problem> {
        let mut packets = PacketSource::open(source, &Stop::default())?;
        let name = packets.name().to_owned();
        let stream = packets.moving_picture().ok_or_else(|| unreadable(&name, "it has none"))?;
        let decoder = Decoder::open(packets.stream(stream), None).map_err(|error| {
            Problem::new(ProblemKind::Unsupported, format!("{name} could not be decoded"), "no decoder here can read it")
                .with_details(error.to_string())
        })?;
        let clock = packets.clock(stream);
        let start = packets.zero();
        packets.keep_only(&[stream]);
        Ok(Self {
            packets,
            decoder,
            stream,
            clock,
            start,
            key: None,
            key_distance: None,
            hurry_until: None,
            left_out: None,
            last: None,
            at_end: false,
        })
    }

    pub(super) fn name(&self) -> &str {
        self.packets.name()
    }

    pub(super) fn stream(&self) -> StreamView<'_> {
        self.packets.stream(self.stream)
    }

    /// Seconds between the last two key frames that were read.
    pub(super) const fn key_distance(&self) -> Option<Rational> {
        self.key_distance
    }

    /// How far this moment is from the last key frame that was read before it.
    pub(super) fn since_key(&self, time: Rational) -> Rational {
        self.key.map_or(Rational::ZERO, |key| time - key)
    }

    pub(super) const fn is_at_end(&self) -> bool {
        self.at_end
    }

    /// When the last frame is shown that may have been left out since the last jump.
    pub(super) const fn left_out(&self) -> Option<Rational> {
        self.left_out
    }

    /// Goes on from the last key frame before a moment. In a hurry, frames well before the moment are left
    /// out where no other refers to them; those from then on are complete.
    pub(super) fn jump(&mut self, at: Rational, in_a_hurry: bool) {
        self.packets.seek(self.start + at);
        self.decoder.flush();
        let is_short = self.key_distance.is_some_and(|distance| distance <= RARE);
        self.hurry_until = in_a_hurry.then(|| at - if is_short { SHORT_HURRY_UNTIL } else { HURRY_UNTIL });
        (self.key, self.left_out, self.last, self.at_end) = (None, None, None, false);
    }

    /// Decodes the next packet; the frames that come of it are given to `take` with their times, seconds
    /// from the first frame.
    pub(super) fn go_on(&mut self, mut take: impl FnMut(Rational, Frame)) -> Result<(), Problem> {
        let packet = match self.packets.read() {
            Ok(packet) => packet,
            // Damage further on: what came before it can still be shown.
            Err(OpenError::Library(_)) => None,
            Err(error) => return Err(problem_of(self.packets.name(), &error)),
        };
        if packet.as_ref().is_some_and(|packet| packet.stream() != self.stream) {
            return Ok(());
        }
        if let Some(packet) = &packet {
            self.prepare(packet);
        }
        // A damaged packet costs its frame and no more.
        drop(self.decoder.send(packet.as_ref()));
        while let Ok(Some(frame)) = self.decoder.receive() {
            let time = frame.best_time().map(|time| Rational::whole(time) * self.clock - self.start);
            // A frame without a time follows the one before it at once.
            let time = time.or(self.last).unwrap_or(Rational::ZERO);
            self.last = Some(time);
            if self.left_out.is_none_or(|left_out| left_out < time) {
                take(time, frame);
            }
        }
        self.at_end = packet.is_none();
        Ok(())
    }

    /// Notes key frames, and whether this packet may be left out.
    fn prepare(&mut self, packet: &Packet) {
        let Some(time) = packet.pts().map(|time| Rational::whole(time) * self.clock - self.start) else {
            return self.decoder.hurry(false);
        };
        if packet.is_key()
            && let Some(before) = self.key.replace(time)
        {
            self.key_distance = Some(time - before);
        }
        let hurries = self.hurry_until.is_some_and(|until| time < until);
        self.decoder.hurry(hurries);
        if hurries {
            self.left_out = self.left_out.max(Some(time));
        }
    }
}

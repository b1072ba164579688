//! Going to where a part of a source begins.

use beryl_core::time::Rational;
use beryl_core::timeline::Takes;

use crate::raw::Packet;
use crate::source::PacketSource;

/// Decoders of sound need what was before, and the clocks of decoding run ahead of those of showing.
const LEAD: Rational = Rational::constant(1, 2);

/// Goes to where a part begins: to a key frame of `picture` before it, wherever the format's index
/// leads. The packets from there on that were read to make sure are returned.
pub(super) fn go_to(
    packets: &mut PacketSource,
    takes: &Takes,
    part: usize,
    picture: Option<usize>,
) -> Result<Vec<Packet>, crate::raw::OpenError> {
    let from = takes.part(part).from;
    let first = from.min(packets.zero());
    let mut lead = LEAD;
    loop {
        let target = from - lead;
        packets.seek(target.max(first));
        let mut read = Vec::new();
        let Some(picture) = picture else { return Ok(read) };
        let clock = packets.clock(picture);
        while let Some(packet) = packets.read()? {
            let is_key = packet.stream() == picture && packet.is_key();
            let time = packet.pts().or(packet.dts()).map(|time| Rational::whole(time) * clock);
            // Pictures before the first key frame cannot be decoded.
            if packet.stream() != picture || is_key {
                read.push(packet);
            }
            if is_key {
                if time.is_none_or(|time| time <= from) || target <= first {
                    return Ok(read);
                }
                break;
            }
        }
        if target <= first {
            return Ok(read);
        }
        lead = lead * Rational::whole(4);
    }
}

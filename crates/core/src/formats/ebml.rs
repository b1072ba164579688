//! The structure of Matroska files (RFC 8794 and RFC 9559), as far as it has to be known here: where a track's name
//! stands, and how its place holds the delay of its codec as well.
//!
//! Sound that is coded in blocks begins with samples that only prime the decoder. Matroska tells of them as
//! `CodecDelay`, by which a track's stamps are moved back; the library writes it for one codec alone. Tracks of others
//! get a name with [`ROOM`] behind it, which is exchanged for a delay and the name once the file is written.

/// Letters behind a track's name, in whose place a delay fits.
pub const ROOM: &str = "~~~~~~~~~";

const SEGMENT: u64 = 0x1853_8067;
const TRACKS: u64 = 0x1654_AE6B;
const TRACK_ENTRY: u64 = 0xAE;
const TRACK_NUMBER: u64 = 0xD7;
const NAME: [u8; 2] = [0x53, 0x6E];
const CODEC_DELAY: [u8; 2] = [0x56, 0xAA];
const VOID: u8 = 0xEC;

/// An element: where it, its content and what follows it begin, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Element {
    id: u64,
    start: usize,
    content: usize,
    end: usize,
}

/// A number of variable length (RFC 8794 section 4) and how many bytes it has; `marked` keeps the bit that tells.
fn number(bytes: &[u8], at: usize, marked: bool) -> Option<(u64, usize)> {
    let first = *bytes.get(at)?;
    let length = first.leading_zeros() as usize + 1;
    let rest = bytes.get(at + 1..at + length).filter(|_| length <= 8)?;
    let kept = if marked || length == 8 { 0xFF } else { 0xFF_u8 >> length };
    let head = if length == 8 && !marked { 0 } else { u64::from(first & kept) };
    Some((rest.iter().fold(head, |value, byte| value << 8 | u64::from(*byte)), length))
}

fn element(bytes: &[u8], at: usize) -> Option<Element> {
    let (id, id_length) = number(bytes, at, true)?;
    let (size, size_length) = number(bytes, at + id_length, false)?;
    let content = at + id_length + size_length;
    // A size of ones alone is not known: the element goes as far as the bytes do.
    let is_unknown = size == (1 << (7 * size_length)) - 1;
    let end = if is_unknown { bytes.len() } else { content.checked_add(usize::try_from(size).ok()?)? };
    Some(Element { id, start: at, content, end })
}

/// The elements one behind the other from `from` to `to`, as far as they can be read.
fn elements(bytes: &[u8], from: usize, to: usize) -> impl Iterator<Item = Element> {
    let within = move |element: &Element| element.start < to;
    std::iter::successors(element(bytes, from), move |last| element(bytes, last.end)).take_while(within)
}

/// Where the name of the track with this number stands in the first bytes of a file, which end behind its tracks; and
/// what takes its place: the delay, in nanoseconds, and the name without its room.
#[must_use]
pub fn delay_in_name(bytes: &[u8], track: u64, nanoseconds: u32) -> Option<(usize, Vec<u8>)> {
    let segment = elements(bytes, 0, bytes.len()).find(|element| element.id == SEGMENT)?;
    let tracks = elements(bytes, segment.content, segment.end).find(|element| element.id == TRACKS)?;
    let entry = elements(bytes, tracks.content, tracks.end).filter(|element| element.id == TRACK_ENTRY).find(|entry| {
        elements(bytes, entry.content, entry.end).any(|element| {
            let value = bytes.get(element.content..element.end).unwrap_or_default();
            element.id == TRACK_NUMBER && value.iter().fold(0, |value, byte| value << 8 | u64::from(*byte)) == track
        })
    })?;
    let id = u64::from(u16::from_be_bytes(NAME));
    let name = elements(bytes, entry.content, entry.end).find(|element| element.id == id)?;
    let title = bytes.get(name.content..name.end)?.strip_suffix(ROOM.as_bytes())?;
    let mut place = [&CODEC_DELAY[..], &[0x84], &nanoseconds.to_be_bytes()].concat();
    if !title.is_empty() {
        // A size of as many bytes as before: it is shorter by the room, and that many bytes hold it too.
        place.extend(NAME);
        place.extend(sized(title.len(), name.content - name.start - NAME.len()));
        place.extend_from_slice(title);
    }
    let left = (name.end - name.start).checked_sub(place.len())?;
    place.push(VOID);
    place.extend(sized(left.checked_sub(2)?, 1));
    place.resize(name.end - name.start, 0);
    Some((name.start, place))
}

/// A size in this many bytes.
fn sized(size: usize, length: usize) -> Vec<u8> {
    let marked = size as u64 | 1 << (7 * length);
    marked.to_be_bytes()[8 - length..].to_vec()
}

//! The structure of ISO base media files (ISO/IEC 14496-12), as far as a check needs to know it by itself.

use crate::time::Rational;

/// The most boxes of one level that are looked at.
const MOST_BOXES: usize = 100_000;
/// The largest index that is read, in bytes.
const LARGEST_INDEX: u64 = 1 << 30;

/// Gives up to so many bytes of a file from an offset on, fewer at its end.
pub type ReadAt<'a> = dyn FnMut(u64, usize) -> Vec<u8> + 'a;

/// A box: its kind, the offset of what it holds, and the offset of its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Box {
    /// Four characters.
    pub kind: [u8; 4],
    /// Where its content begins.
    pub content: u64,
    /// Where it ends; nothing where it goes to the end of the file.
    pub end: Option<u64>,
}

/// The box at an offset (section 4.2); nothing where there is none.
pub fn box_at(read: &mut ReadAt<'_>, at: u64) -> Option<Box> {
    let head = read(at, 16);
    let short = u32::from_be_bytes(head.get(..4)?.try_into().ok()?);
    let kind: [u8; 4] = head.get(4..8)?.try_into().ok()?;
    let (length, size) = match short {
        0 => (8, None),
        1 => (16, Some(u64::from_be_bytes(head.get(8..16)?.try_into().ok()?))),
        short => (8, Some(u64::from(short))),
    };
    if size.is_some_and(|size| size < length) {
        return None;
    }
    Some(Box { kind, content: at + length, end: size.and_then(|size| at.checked_add(size)) })
}

/// Bytes of an index around the tables of a track, and around all tracks, at most; boxes of a track come to some 700.
pub const AROUND: u64 = 1024;

/// What an index has to list of one stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Listed {
    /// Its packets.
    pub packets: u64,
    /// Those of them at which decoding can begin.
    pub keys: u64,
    /// Runs of its packets that lie one behind the other in the file, none of them longer than a mebibyte.
    pub runs: u64,
    /// Runs of packets that last for the same time.
    pub lengths: u64,
    /// Runs of packets that are shown by the same time later than they are decoded.
    pub shifts: u64,
    /// Bytes of what describes it: the header of its codec, its name.
    pub described: u64,
}

/// Bytes that the index (`moov`) of these streams takes at most: the size of each packet (`stsz`) and whether others need it
/// (`sdtp`), each key packet where not all are (`stss`), lengths (`stts`) and shifts (`ctts`), and the place of each run (`co64`, `stsc`); for each stream what
/// stands around these tables. `beside` are bytes of tags and chapters.
#[must_use]
pub fn most_index(streams: &[Listed], beside: u64) -> u64 {
    let of_stream = |stream: &Listed| {
        let keys = if stream.keys < stream.packets { stream.keys } else { 0 };
        let tables =
            [(stream.packets, 5), (keys, 4), (stream.lengths, 8), (stream.shifts, 8), (stream.runs.min(stream.packets), 20)];
        tables.iter().fold(stream.described, |sum, (entries, bytes)| sum.saturating_add(entries.saturating_mul(*bytes)))
    };
    let around = AROUND * (streams.len() as u64 + 1);
    streams.iter().map(of_stream).fold(around.saturating_add(beside), u64::saturating_add)
}

/// Whether the index (`moov`) stands before the media (`mdat`); nothing for files that are not of this kind.
pub fn index_in_front(read: &mut ReadAt<'_>) -> Option<bool> {
    let mut at = 0;
    let mut index_seen = false;
    for place in 0..MOST_BOXES {
        let Some(found) = box_at(read, at) else { return (place > 0).then_some(false) };
        match &found.kind {
            kind if place == 0 && kind != b"ftyp" => return None,
            b"moov" => index_seen = true,
            b"mdat" => return Some(index_seen),
            _ => {}
        }
        let Some(end) = found.end else { return Some(false) };
        at = end;
    }
    Some(false)
}

/// How long each track is shown, in seconds, in the order of the file: the sum of its edits (section 8.6.6), or
/// nothing where it has none. Nothing at all where the file has no index.
pub fn presented_lengths(read: &mut ReadAt<'_>) -> Option<Vec<Option<Rational>>> {
    let mut at = 0;
    for _ in 0..MOST_BOXES {
        let found = box_at(read, at)?;
        let end = found.end?;
        if &found.kind == b"moov" {
            let size = end.checked_sub(found.content).filter(|size| *size <= LARGEST_INDEX)?;
            return lengths_in(&read(found.content, usize::try_from(size).ok()?));
        }
        at = end;
    }
    None
}

/// The boxes in the content of another.
fn boxes(bytes: &[u8]) -> impl Iterator<Item = ([u8; 4], &[u8])> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        let whole = rest;
        let mut read = |offset: u64, length: usize| {
            let from = usize::try_from(offset).unwrap_or(usize::MAX).min(whole.len());
            whole[from..from.saturating_add(length).min(whole.len())].to_vec()
        };
        let found = box_at(&mut read, 0)?;
        let end = found.end.and_then(|end| usize::try_from(end).ok()).unwrap_or(whole.len());
        let content = whole.get(usize::try_from(found.content).ok()?..end)?;
        rest = &whole[end..];
        Some((found.kind, content))
    })
}

fn child<'a>(bytes: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
    boxes(bytes).find(|(found, _)| found == kind).map(|(_, content)| content)
}

fn number(bytes: &[u8], at: usize, length: usize) -> Option<u64> {
    bytes.get(at..at + length).map(|bytes| bytes.iter().fold(0, |number, byte| number << 8 | u64::from(*byte)))
}

fn lengths_in(index: &[u8]) -> Option<Vec<Option<Rational>>> {
    let header = child(index, b"mvhd")?;
    // The movie's clock stands behind two times of 32 or 64 bits.
    let clock = number(header, if header.first() == Some(&1) { 20 } else { 12 }, 4)?;
    let clock = Rational::new(1, i64::try_from(clock).ok()?)?;
    let tracks = boxes(index).filter(|(kind, _)| kind == b"trak");
    Some(tracks.map(|(_, track)| edits(track).map(|ticks| Rational::whole(ticks) * clock)).collect())
}

/// Ticks of the movie's clock over all edits that show media.
fn edits(track: &[u8]) -> Option<i64> {
    let list = child(child(track, b"edts")?, b"elst")?;
    let wide = list.first() == Some(&1);
    let (entry, time) = if wide { (20, 8) } else { (12, 4) };
    let count = usize::try_from(number(list, 4, 4)?).ok()?;
    let mut sum = 0_i64;
    for place in 0..count {
        let at = 8 + place * entry;
        let length = i64::try_from(number(list, at, time)?).ok()?;
        let begins = number(list, at + time, time)?;
        // An edit that begins at −1 is empty.
        let empty = if wide { begins == u64::MAX } else { begins == u64::from(u32::MAX) };
        if !empty {
            sum = sum.checked_add(length)?;
        }
    }
    Some(sum)
}

//! Where a file ends by its own structure: whether a part of it is missing.
//!
//! ISO base media (ISO/IEC 14496-12, 4.2), Matroska (RFC 8794 and 9559), RIFF with RF64 and OpenDML
//! (EBU Tech 3306), AIFF. Formats that announce no end, such as transport streams, cannot tell.

use crate::formats::iso::{ReadAt, box_at};

/// The most boxes, chunks or elements at the top that are looked at.
const MOST_PARTS: usize = 100_000;

/// The offset at which a file ends by what its top-level structure announces; nothing where it announces none.
///
/// `read` gives up to so many bytes from an offset on, fewer at the end of the file.
pub fn announced_end(read: &mut ReadAt<'_>) -> Option<u64> {
    let head = read(0, 12);
    match head.get(..4)? {
        [0x1A, 0x45, 0xDF, 0xA3] => matroska(read),
        b"RIFF" | b"RF64" => riff(read),
        b"FORM" => Some(8 + u64::from(big(head.get(4..8)?)?)),
        _ if is_box(head.get(4..8)?) => iso(read),
        _ => None,
    }
}

fn is_box(kind: &[u8]) -> bool {
    matches!(kind, b"ftyp" | b"moov" | b"mdat" | b"wide" | b"free" | b"skip" | b"pnot" | b"styp" | b"sidx")
}

fn big(bytes: &[u8]) -> Option<u32> {
    bytes.try_into().ok().map(u32::from_be_bytes)
}

fn little(bytes: &[u8]) -> Option<u32> {
    bytes.try_into().ok().map(u32::from_le_bytes)
}

fn iso(read: &mut ReadAt<'_>) -> Option<u64> {
    let mut at = 0_u64;
    for _ in 0..MOST_PARTS {
        if read(at, 4).len() < 4 {
            return Some(at);
        }
        let found = box_at(read, at)?;
        // Filling bytes at the end are no box.
        if !found.kind.iter().all(u8::is_ascii_graphic) {
            return None;
        }
        // To the end of the file, wherever that is.
        at = found.end?;
    }
    None
}

fn matroska(read: &mut ReadAt<'_>) -> Option<u64> {
    let mut at = 0_u64;
    for _ in 0..MOST_PARTS {
        let head = read(at, 12);
        let id_length = head.first()?.leading_zeros() as usize + 1;
        let is_segment = head.get(..4)? == [0x18, 0x53, 0x80, 0x67];
        let first = *head.get(id_length)?;
        let length = first.leading_zeros() as usize + 1;
        if id_length > 4 || length > 8 {
            return None;
        }
        let bytes = head.get(id_length..id_length + length)?;
        let mut size = u64::from(first) & ((1 << (8 - length)) - 1);
        for byte in &bytes[1..] {
            size = size << 8 | u64::from(*byte);
        }
        // All ones: its writer did not know.
        if size == (1 << (7 * length)) - 1 {
            return None;
        }
        at = at.checked_add(u64::try_from(id_length + length).ok()?)?.checked_add(size)?;
        if is_segment {
            return Some(at);
        }
    }
    None
}

fn riff(read: &mut ReadAt<'_>) -> Option<u64> {
    let mut at = 0_u64;
    for _ in 0..MOST_PARTS {
        let head = read(at, 28);
        let kind = head.get(..4);
        let size = match kind {
            Some(b"RIFF") => u64::from(little(head.get(4..8)?)?),
            // The size in 64 bits stands at the beginning of the first chunk.
            Some(b"RF64") if head.get(12..16) == Some(b"ds64") => u64::from_le_bytes(head.get(20..28)?.try_into().ok()?),
            // OpenDML goes on in further chunks of the same kind; whatever else follows is no part of it.
            _ => return (at > 0).then_some(at),
        };
        if size == 0 || size >= u64::from(u32::MAX) && kind == Some(b"RIFF") {
            return None;
        }
        at = at.checked_add(8 + size + size % 2)?;
    }
    None
}

//! Matroska (RFC 9559) in EBML (RFC 8794).

use super::{Kind, Track, packets};

struct Element<'a> {
    id: u32,
    inside: &'a [u8],
}

/// A number of variable length, with or without its marker, and how many bytes it has.
fn number(bytes: &[u8], keeps_marker: bool) -> Option<(u64, usize)> {
    let first = *bytes.first()?;
    let length = first.leading_zeros() as usize + 1;
    let all = bytes.get(..length)?;
    let value = all.iter().fold(0_u64, |sum, byte| sum << 8 | u64::from(*byte));
    let marker = 1_u64 << (7 * length);
    Some((if keeps_marker { value } else { value & !marker }, length))
}

fn elements(bytes: &[u8]) -> Vec<Element<'_>> {
    let mut found = Vec::new();
    let mut rest = bytes;
    while let Some((id, id_length)) = number(rest, true) {
        let Some((size, size_length)) = number(&rest[id_length..], false) else { break };
        let head = id_length + size_length;
        // All ones: to the end.
        let unknown = size == (1 << (7 * size_length)) - 1;
        let size = if unknown { rest.len() - head } else { usize::try_from(size).unwrap_or(usize::MAX) };
        let Some(inside) = rest.get(head..head.saturating_add(size)) else { break };
        found.push(Element { id: u32::try_from(id).unwrap_or(0), inside });
        rest = &rest[head + size..];
    }
    found
}

fn find(bytes: &[u8], id: u32) -> Option<&[u8]> {
    elements(bytes).into_iter().find(|element| element.id == id).map(|element| element.inside)
}

fn unsigned(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

struct Described {
    number: u64,
    kind: Kind,
    codec: String,
    /// Nanoseconds of a picture or packet.
    usual: Option<u64>,
    delay: u64,
    private: Vec<u8>,
}

pub fn tracks(bytes: &[u8]) -> Result<Vec<Track>, String> {
    let segment = find(bytes, 0x1853_8067).ok_or("no segment")?;
    let scale = find(segment, 0x1549_A966).and_then(|info| find(info, 0x2A_D7B1)).map_or(1_000_000, unsigned);
    let described: Vec<Described> = elements(find(segment, 0x1654_AE6B).ok_or("no tracks")?)
        .iter()
        .filter(|entry| entry.id == 0xAE)
        .map(|entry| Described {
            number: find(entry.inside, 0xD7).map_or(0, unsigned),
            kind: match find(entry.inside, 0x83).map_or(0, unsigned) {
                1 => Kind::Picture,
                2 => Kind::Sound,
                _ => Kind::Other,
            },
            codec: find(entry.inside, 0x86).map(|codec| String::from_utf8_lossy(codec).into_owned()).unwrap_or_default(),
            usual: find(entry.inside, 0x23_E383).map(unsigned),
            delay: find(entry.inside, 0x56AA).map_or(0, unsigned),
            private: find(entry.inside, 0x63A2).map(<[u8]>::to_vec).unwrap_or_default(),
        })
        .collect();
    let mut blocks: Vec<(u64, i64, Option<u64>, &[u8])> = Vec::new();
    for cluster in elements(segment).iter().filter(|element| element.id == 0x1F43_B675) {
        let time = i64::try_from(find(cluster.inside, 0xE7).map_or(0, unsigned)).unwrap_or(0);
        for element in elements(cluster.inside) {
            let (block, duration) = match element.id {
                0xA3 => (element.inside, None),
                0xA0 => (find(element.inside, 0xA1).ok_or("an empty group")?, find(element.inside, 0x9B).map(unsigned)),
                _ => continue,
            };
            let (track, length) = number(block, false).ok_or("a block without a track")?;
            let shift = i64::from(i16::from_be_bytes([block[length], block[length + 1]]));
            blocks.push((track, time + shift, duration, &block[length + 3..]));
        }
    }
    described.iter().map(|track| track_of(track, &blocks, scale)).collect()
}

fn track_of(track: &Described, blocks: &[(u64, i64, Option<u64>, &[u8])], scale: u64) -> Result<Track, String> {
    let scale = scale as f64 / 1e9;
    let own = || blocks.iter().filter(|(number, ..)| *number == track.number);
    if track.kind == Kind::Picture {
        let length_size = match track.codec.as_str() {
            "V_MPEG4/ISO/AVC" => track.private.get(4),
            "V_MPEGH/ISO/HEVC" => track.private.get(21),
            _ => None,
        };
        let length_size = length_size.map_or(4, |field| usize::from(field & 3) + 1);
        for (place, (_, _, _, bytes)) in own().enumerate() {
            packets::check(&track.codec, bytes, length_size).map_err(|error| format!("picture {place}: {error}"))?;
        }
    }
    let usual = track.usual.map_or(0.0, |usual| usual as f64 / 1e9);
    let delay = track.delay as f64 / 1e9;
    let end = |(_, at, duration, _): &(u64, i64, Option<u64>, &[u8])| {
        *at as f64 * scale + duration.map_or(usual, |duration| duration as f64 * scale)
    };
    Ok(Track {
        kind: track.kind,
        codec: track.codec.clone(),
        shown: own().count() as u64,
        start: own().map(|(_, at, ..)| *at as f64 * scale - delay).fold(f64::INFINITY, f64::min),
        end: own().map(end).fold(0.0, f64::max) - delay,
    })
}

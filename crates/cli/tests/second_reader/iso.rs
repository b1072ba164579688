//! ISO/IEC 14496-12 and the QuickTime file format.

use super::{Kind, Track, packets};

/// A box: its name and what is in it.
struct Part<'a> {
    name: [u8; 4],
    inside: &'a [u8],
}

fn parts(bytes: &[u8]) -> Vec<Part<'_>> {
    let mut found = Vec::new();
    let mut rest = bytes;
    while rest.len() >= 8 {
        let size = u32_at(rest, 0) as usize;
        let (head, size) = match size {
            0 => (8, rest.len()),
            1 if rest.len() >= 16 => (16, usize::try_from(u64_at(rest, 8)).unwrap_or(usize::MAX)),
            size => (8, size),
        };
        if size < head || size > rest.len() {
            break;
        }
        found.push(Part { name: rest[4..8].try_into().unwrap(), inside: &rest[head..size] });
        rest = &rest[size..];
    }
    found
}

fn find<'a>(bytes: &'a [u8], path: &[&[u8; 4]]) -> Option<&'a [u8]> {
    path.iter().try_fold(bytes, |bytes, name| parts(bytes).into_iter().find(|part| part.name == **name).map(|part| part.inside))
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).map_or(0, |four| u32::from_be_bytes(four.try_into().unwrap()))
}

fn i32_at(bytes: &[u8], at: usize) -> i32 {
    u32_at(bytes, at).cast_signed()
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    u64::from(u32_at(bytes, at)) << 32 | u64::from(u32_at(bytes, at + 4))
}

/// Entries of a table: `count`, then that many of `width` bytes.
fn table(bytes: &[u8], width: usize) -> impl Iterator<Item = &[u8]> {
    bytes.get(8..).unwrap_or_default().chunks_exact(width).take(u32_at(bytes, 4) as usize)
}

pub fn tracks(bytes: &[u8]) -> Result<Vec<Track>, String> {
    let movie = find(bytes, &[b"moov"]).ok_or("no index")?;
    let movie_clock = header_clock(find(movie, &[b"mvhd"]).ok_or("no movie header")?);
    parts(movie).iter().filter(|part| &part.name == b"trak").map(|part| track(bytes, part.inside, movie_clock)).collect()
}

/// Ticks a second; the field lies further back where times have 64 bits.
fn header_clock(header: &[u8]) -> f64 {
    f64::from(u32_at(header, if header.first() == Some(&1) { 20 } else { 12 }))
}

fn track(file: &[u8], track: &[u8], movie_clock: f64) -> Result<Track, String> {
    let media = find(track, &[b"mdia"]).ok_or("no media")?;
    let kind = match find(media, &[b"hdlr"]).and_then(|handler| handler.get(8..12)) {
        Some(b"vide") => Kind::Picture,
        Some(b"soun") => Kind::Sound,
        _ => Kind::Other,
    };
    let clock = header_clock(find(media, &[b"mdhd"]).ok_or("no media header")?);
    let samples = find(media, &[b"minf", b"stbl"]).ok_or("no samples")?;
    let entry = parts(find(samples, &[b"stsd"]).and_then(|described| described.get(8..)).unwrap_or_default());
    let entry = entry.first().ok_or("no description")?;
    let codec = String::from_utf8_lossy(&entry.name).into_owned();
    let times = times(samples)?;
    let sizes = sizes(samples)?;
    if times.len() != sizes.len() && kind != Kind::Other {
        return Err(format!("{} times and {} sizes of {codec}", times.len(), sizes.len()));
    }
    if kind == Kind::Picture {
        let length_size = length_size(entry.inside);
        for (number, place) in places(samples, &sizes)?.into_iter().enumerate() {
            let bytes = file.get(place..place + sizes[number]).ok_or("a sample lies beyond the end")?;
            packets::check(&codec, bytes, length_size).map_err(|error| format!("picture {number}: {error}"))?;
        }
    } else if let Some((last, place)) = sizes.last().zip(places(samples, &sizes)?.last()) {
        file.get(*place..place + last).ok_or("sound lies beyond the end")?;
    }
    Ok(shown(kind, codec, &times, clock, &edits(track), movie_clock))
}

/// Bytes of a length in pictures of AVC and HEVC, from the configuration behind the 78 fixed bytes of an entry.
fn length_size(entry: &[u8]) -> usize {
    let inside = parts(entry.get(78..).unwrap_or_default());
    let field = inside.iter().find_map(|part| match &part.name {
        b"avcC" => part.inside.get(4),
        b"hvcC" => part.inside.get(21),
        _ => None,
    });
    field.map_or(4, |field| usize::from(field & 3) + 1)
}

/// When each sample is shown and how long it lasts, in ticks.
fn times(samples: &[u8]) -> Result<Vec<(i64, i64)>, String> {
    let lengths = find(samples, &[b"stts"]).ok_or("no times")?;
    let mut at = 0;
    let mut times = Vec::new();
    for entry in table(lengths, 8) {
        let length = i64::from(u32_at(entry, 4));
        for _ in 0..u32_at(entry, 0) {
            times.push((at, length));
            at += length;
        }
    }
    let mut place = 0;
    for entry in find(samples, &[b"ctts"]).into_iter().flat_map(|offsets| table(offsets, 8)) {
        for _ in 0..u32_at(entry, 0) {
            times.get_mut(place).ok_or("more offsets than times")?.0 += i64::from(i32_at(entry, 4));
            place += 1;
        }
    }
    Ok(times)
}

fn sizes(samples: &[u8]) -> Result<Vec<usize>, String> {
    let sizes = find(samples, &[b"stsz"]).ok_or("no sizes")?;
    let (all, count) = (u32_at(sizes, 4) as usize, u32_at(sizes, 8) as usize);
    if all > 0 {
        return Ok(vec![all; count]);
    }
    Ok(sizes.get(12..).unwrap_or_default().chunks_exact(4).take(count).map(|size| u32_at(size, 0) as usize).collect())
}

/// Where each sample lies in the file.
fn places(samples: &[u8], sizes: &[usize]) -> Result<Vec<usize>, String> {
    let chunks: Vec<usize> = match (find(samples, &[b"stco"]), find(samples, &[b"co64"])) {
        (Some(short), _) => table(short, 4).map(|place| u32_at(place, 0) as usize).collect(),
        (None, Some(long)) => table(long, 8).map(|place| usize::try_from(u64_at(place, 0)).unwrap_or(usize::MAX)).collect(),
        (None, None) => return Err("no places".to_owned()),
    };
    let runs: Vec<(usize, usize)> = table(find(samples, &[b"stsc"]).ok_or("no chunks")?, 12)
        .map(|entry| (u32_at(entry, 0) as usize, u32_at(entry, 4) as usize))
        .collect();
    let mut sizes = sizes.iter();
    let mut places = Vec::new();
    for (number, chunk) in (1..).zip(chunks) {
        let (_, count) = runs.iter().rev().find(|(first, _)| *first <= number).ok_or("a chunk without samples")?;
        let mut at = chunk;
        for size in sizes.by_ref().take(*count) {
            places.push(at);
            at += size;
        }
    }
    Ok(places)
}

/// The edit list: length in the movie's ticks, and the media's tick that it begins with (-1 for a pause).
fn edits(track: &[u8]) -> Vec<(u64, i64)> {
    let Some(list) = find(track, &[b"edts", b"elst"]) else { return Vec::new() };
    let long = list.first() == Some(&1);
    let entry = |entry: &[u8]| {
        if long {
            (u64_at(entry, 0), u64_at(entry, 8).cast_signed())
        } else {
            (u64::from(u32_at(entry, 0)), i64::from(i32_at(entry, 4)))
        }
    };
    table(list, if long { 20 } else { 12 }).map(entry).collect()
}

fn shown(kind: Kind, codec: String, times: &[(i64, i64)], clock: f64, edits: &[(u64, i64)], movie_clock: f64) -> Track {
    let end_of_media = times.iter().map(|(at, length)| at + length).max().unwrap_or(0);
    let pause: u64 = edits.iter().take_while(|(_, from)| *from < 0).map(|(length, _)| length).sum();
    let pause = pause as f64 / movie_clock;
    let (from, length) = match edits.iter().find(|(_, from)| *from >= 0) {
        Some((length, from)) if *length > 0 => (*from, *length as f64 / movie_clock * clock),
        Some((_, from)) => (*from, (end_of_media - from) as f64),
        None => (0, end_of_media as f64),
    };
    let until = (from as f64 + length).min(end_of_media as f64);
    let is_shown = |(at, length): &&(i64, i64)| at + length > from && (*at as f64) < until - 0.5;
    let first = times.iter().filter(is_shown).map(|(at, _)| *at).min().unwrap_or(from).max(from);
    Track {
        kind,
        codec,
        shown: times.iter().filter(is_shown).count() as u64,
        start: pause + (first - from) as f64 / clock,
        end: pause + (until - from as f64) / clock,
    }
}

//! Reading the facts of a source from its headers, its first frame and its time stamps.

use std::collections::BTreeMap;

use beryl_core::facts::{Chapter, Content, Facts, Picture, Sound, Stream};
use beryl_core::formats::language;
use beryl_core::picture::FieldOrder;
use beryl_core::problem::Problem;
use beryl_core::protocol::SourceRef;
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_core::time::pace::{self, Pace};
use beryl_core::units::{BitRate, ByteSize};

use crate::raw::{Decoder, Frame, Kind, Packet, Stop, StreamView, pixel_format};
use crate::source::{PacketSource, problem_of};

/// How many packets of picture are looked at for their times, where the file has no index of them.
const MOST_PACKETS: usize = 600;
/// How many bytes are read for that.
const MOST_BYTES: u64 = 64 << 20;
/// How many packets the decoder may take before its first frame.
const PACKETS_TO_FIRST_FRAME: usize = 60;
/// Pictures are shown by so many others later than they are decoded, at most: MPEG codecs allow sixteen.
const MOST_REORDERED: Rational = Rational::whole(16);
/// How many packets of all streams are read until sound has begun.
const MOST_PACKETS_TO_SOUND: usize = 3000;

/// Tags that describe the old file and not the work.
const TECHNICAL_TAGS: [&str; 13] = [
    "major_brand",
    "minor_version",
    "compatible_brands",
    "encoder",
    "software",
    "duration",
    "timecode",
    "reel_name",
    "reel",
    "handler_name",
    "vendor_id",
    "product_uid",
    "operational_pattern_ul",
];

/// Reads the facts of a source.
///
/// # Errors
/// A [`Problem`] with the file's name where it cannot be opened or is no media.
pub fn probe(source: &SourceRef) -> Result<Reading, Problem> {
    let mut packets = PacketSource::open(source, &Stop::default())?;
    facts(&mut packets).map(Reading::from)
}

/// What the first packets of the streams tell.
#[derive(Default)]
struct Scanned {
    times: Vec<i64>,
    /// Frames from the first of these to the last.
    frames: usize,
    first_frame: Option<Frame>,
    /// Seconds at which the first frame of each stream begins that came out of a decoder.
    starts: BTreeMap<usize, Rational>,
    /// Whether all frames of the picture were counted.
    counted: bool,
}

/// The facts of an open source, which is read from for them.
pub(crate) fn facts(source: &mut PacketSource) -> Result<Facts, Problem> {
    let picture = source.moving_picture();
    let scanned = scan(source, picture)?;
    let input = source.input();
    let (container, container_name) = input.format_names();
    let all_tags = input.tags();
    let stream_tags: Vec<BTreeMap<String, String>> = input.streams().map(|stream| stream.tags()).collect();
    let find_tag = |names: &[&str]| {
        std::iter::once(&all_tags).chain(&stream_tags).find_map(|tags| {
            tags.iter().find(|(key, _)| names.contains(&key.to_lowercase().as_str())).map(|(_, value)| value.clone())
        })
    };
    let missing = source.missing().map(ByteSize);
    let sequence = source.sequence();
    let sequence_duration = sequence.and_then(|sequence| Rational::whole(sequence.count.into()).divided_by(sequence.rate));
    let duration = sequence_duration.or(input.duration());
    let bit_rate = match (sequence_duration, input.bit_rate()) {
        (Some(_), _) | (None, None) => duration.and_then(|duration| mean_rate(source.size(), duration)),
        (None, Some(rate)) => Some(BitRate(rate)),
    };
    let streams: Vec<Stream> =
        input.streams().map(|stream| stream_facts(source, stream, &scanned, picture == Some(stream.index()))).collect();
    Ok(Facts {
        container,
        container_name: if sequence.is_some() { "Image sequence".to_owned() } else { container_name },
        size: ByteSize(source.size()),
        duration,
        start: input.start(),
        bit_rate,
        timecode: find_tag(&["timecode"]),
        reel: find_tag(&["reel_name", "reel", "tape"]),
        tags: all_tags.into_iter().filter(|(key, _)| !TECHNICAL_TAGS.contains(&key.to_lowercase().as_str())).collect(),
        chapters: input.chapters().into_iter().map(|(start, end, title)| Chapter { start, end, title }).collect(),
        streams,
        remarks: missing
            .map(|missing| format!("The file is cut: {missing} that it announces are not there."))
            .into_iter()
            .collect(),
        missing,
    })
}

fn mean_rate(size: u64, duration: Rational) -> Option<BitRate> {
    let bits = Rational::whole(i64::try_from(size.checked_mul(8)?).ok()?).divided_by(duration)?;
    u64::try_from(bits.round()).ok().map(BitRate)
}

fn is_moving(stream: &StreamView<'_>) -> bool {
    stream.kind() == Kind::Picture && !stream.is_still()
}

/// Reads packets until the first frame of each stream is decoded and enough times of the picture are known.
fn scan(source: &mut PacketSource, picture: Option<usize>) -> Result<Scanned, Problem> {
    let is_edited = source.input().has_edit_lists();
    let times = picture.map(|index| source.stream(index).indexed_times(is_edited)).unwrap_or_default();
    let times_known = times.len() > 1;
    // An index of one picture says no more than the picture, which is counted when it comes.
    let mut scanned = Scanned { times: if times_known { times } else { Vec::new() }, ..Scanned::default() };
    let sounds = source.input().streams().filter(|stream| stream.kind() == Kind::Sound).map(|stream| stream.index());
    let wanted: Vec<usize> = picture.into_iter().chain(sounds).collect();
    // A stream that no decoder reads has the start that its header says.
    let mut decoders: BTreeMap<usize, (Decoder, Rational)> = wanted
        .iter()
        .filter_map(|index| Some((*index, (Decoder::open(source.stream(*index), Some(1)).ok()?, source.clock(*index)))))
        .collect();
    let name = source.name().to_owned();
    let (mut packets, mut bytes, mut pictures) = (0, 0, 0);
    // Pictures without a time of their own, behind the last that has one.
    let mut unstamped = 0;
    let reached_end = loop {
        let enough_times = times_known || picture.is_none() || pictures >= MOST_PACKETS;
        let enough_frames = pictures >= PACKETS_TO_FIRST_FRAME || picture.is_none_or(|index| !decoders.contains_key(&index));
        let enough_sounds = decoders.keys().all(|index| Some(*index) == picture) || packets >= MOST_PACKETS_TO_SOUND;
        if (enough_times && enough_frames && enough_sounds) || bytes > MOST_BYTES {
            break false;
        }
        let packet = match source.read() {
            Ok(Some(packet)) => packet,
            Ok(None) => break true,
            // A file that is damaged further on is still read as far as it goes.
            Err(crate::raw::OpenError::Library(_)) if packets > 0 => break true,
            Err(error) => return Err(problem_of(&name, &error)),
        };
        packets += 1;
        bytes += packet.size();
        let index = packet.stream();
        if Some(index) == picture {
            pictures += 1;
            if !times_known && !packet.is_hidden() {
                let time = packet.pts().or(packet.dts());
                scanned.times.extend(time);
                let is_behind_one = !scanned.times.is_empty();
                unstamped = if time.is_some() { 0 } else { unstamped + usize::from(is_behind_one) };
                scanned.frames += usize::from(is_behind_one);
            }
        }
        scanned.decode(&mut decoders, index, Some(&packet), picture);
    };
    for index in wanted {
        scanned.decode(&mut decoders, index, None, picture);
    }
    scanned.frames = if times_known { scanned.times.len() } else { scanned.frames - unstamped };
    scanned.counted = times_known || reached_end;
    Ok(scanned)
}

impl Scanned {
    /// Gives a packet, or the end, to the decoder of a stream that has given no frame yet.
    fn decode(
        &mut self,
        decoders: &mut BTreeMap<usize, (Decoder, Rational)>,
        index: usize,
        packet: Option<&Packet>,
        picture: Option<usize>,
    ) {
        let Some((decoder, clock)) = decoders.get_mut(&index) else { return };
        let Some(frame) = first_frame(decoder, packet) else { return };
        self.starts.extend(frame.best_time().map(|time| (index, Rational::whole(time) * *clock)));
        if Some(index) == picture {
            self.first_frame = Some(frame);
        }
        decoders.remove(&index);
    }
}

/// What the decoder gives for one more packet; a damaged first packet is passed over.
pub(crate) fn first_frame(decoder: &mut Decoder, packet: Option<&Packet>) -> Option<Frame> {
    decoder.send(packet).ok()?;
    decoder.receive().ok().flatten()
}

fn stream_facts(source: &PacketSource, stream: StreamView<'_>, scanned: &Scanned, is_picture: bool) -> Stream {
    let mut tags = stream.tags();
    let sequence = source.sequence();
    let content = match stream.kind() {
        Kind::Picture => Content::Picture(Box::new(picture_facts(source, stream, is_picture.then_some(scanned)))),
        Kind::Sound => Content::Sound(Sound {
            channels: stream.channels(),
            layout: stream.layout(),
            sample_rate: stream.sample_rate(),
            bits: stream.sample_bits(),
        }),
        Kind::Subtitles => {
            // ISO/IEC 13818-1 and ETSI EN 300 743, DVD and Blu-ray: pictures with a time.
            let drawn = ["dvd_subtitle", "dvb_subtitle", "hdmv_pgs_subtitle", "xsub"];
            Content::Subtitles { are_pictures: drawn.contains(&stream.codec_name().as_str()) }
        }
        Kind::Attachment => Content::Attachment,
        Kind::Data => Content::Data,
    };
    let sequence_duration = sequence.and_then(|sequence| Rational::whole(sequence.count.into()).divided_by(sequence.rate));
    let decoded = scanned.starts.get(&stream.index()).copied();
    // Times of all frames say more than a header.
    let counted = match &content {
        Content::Picture(picture) if is_picture && scanned.counted => {
            let (first, last) = (scanned.times.iter().min(), scanned.times.iter().max());
            let span = first.zip(last).map(|(first, last)| Rational::whole(last - first) * stream.clock());
            let counted = span.zip(picture.frame_rate.and_then(Rational::inverse)).map(|(span, frame)| span + frame);
            // Indexes tell when frames are decoded. Where their distances vary and their order is another than that
            // in which they are shown, edits tell better for how long, as long as it can be the same.
            let edited = source.presented(stream.index()).filter(|_| picture.varies);
            let apart = longest_step(&scanned.times) * stream.clock() * MOST_REORDERED;
            edited.filter(|edited| counted.is_some_and(|counted| (*edited - counted).abs() <= apart)).or(counted)
        }
        _ => None,
    };
    let start = decoded.or(stream.start());
    // Matroska writes the duration of a stream as a tag.
    let tagged = tags.iter().find(|(key, _)| key.to_uppercase().starts_with("DURATION")).and_then(|(_, value)| clock_time(value));
    Stream {
        index: u32::try_from(stream.index()).unwrap_or(u32::MAX),
        codec: stream.codec_name(),
        codec_tag: stream.codec_tag(),
        profile: stream.profile(),
        level: stream.level(),
        bit_rate: stream.bit_rate().map(BitRate),
        start: if sequence.is_some() { Some(Rational::ZERO) } else { start },
        duration: sequence_duration.or(counted).or(stream.duration()).or(tagged.map(|tagged| from_start(tagged, start, source))),
        language: tags.remove("language").and_then(|language| language::canonical(&language)),
        title: tags.remove("title"),
        roles: stream.roles(),
        content,
    }
}

/// The longest step between times, in their ticks.
fn longest_step(times: &[i64]) -> Rational {
    let mut times = times.to_vec();
    times.sort_unstable();
    Rational::whole(times.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0))
}

/// The size of the first frame, or what the header says where none could be decoded.
fn frame_size(stream: StreamView<'_>, scanned: Option<&Scanned>) -> (u32, u32) {
    let frame = scanned.and_then(|scanned| scanned.first_frame.as_ref());
    frame.map_or_else(|| stream.size(), |frame| (frame.width(), frame.height()))
}

/// A length that a tag tells. Some writers count it from nought of the file's clock, as they do the length of the whole.
fn from_start(tagged: Rational, start: Option<Rational>, source: &PacketSource) -> Rational {
    let start = start.filter(|start| start.is_positive()).unwrap_or(Rational::ZERO);
    let whole = source.input().duration();
    let is_end = tagged > start && whole.is_some_and(|whole| tagged + Rational::ONE > whole);
    if is_end { tagged - start } else { tagged }
}

/// Reads `00:01:02.003000000`.
fn clock_time(text: &str) -> Option<Rational> {
    let mut parts = text.trim().splitn(3, ':');
    let hours: i64 = parts.next()?.parse().ok()?;
    let minutes: i64 = parts.next()?.parse().ok()?;
    let seconds: Rational = parts.next()?.parse().ok()?;
    Some(Rational::whole(hours * 3600 + minutes * 60) + seconds)
}

fn picture_facts(source: &PacketSource, stream: StreamView<'_>, scanned: Option<&Scanned>) -> Picture {
    let (width, height) = frame_size(stream, scanned);
    let frame = scanned.and_then(|scanned| scanned.first_frame.as_ref());
    let (format, depth) = frame
        .and_then(|frame| pixel_format(frame.format()))
        .or_else(|| pixel_format(stream.format()))
        .unwrap_or_else(|| ("unknown".into(), 8));
    let sequence = source.sequence();
    let declared = stream.mean_rate();
    let pace = match (sequence, scanned) {
        (Some(sequence), _) => Pace { rate: Some(sequence.rate), varies: false, dominant: None },
        (None, Some(scanned)) => pace::judge(&scanned.times, scanned.frames, stream.clock(), declared),
        (None, None) => Pace { rate: declared, varies: false, dominant: None },
    };
    let field_order = match (stream.field_order(), frame.map(Frame::field_order)) {
        (FieldOrder::Unknown, Some(of_frame)) => of_frame,
        (declared, _) => declared,
    };
    let counted = scanned.filter(|scanned| scanned.counted).map(|scanned| scanned.times.len() as u64);
    let mut colour = stream.colour();
    if let Some(of_frame) = frame.map(Frame::colour) {
        colour.primaries = colour.primaries.or(of_frame.primaries);
        colour.transfer = colour.transfer.or(of_frame.transfer);
        colour.matrix = colour.matrix.or(of_frame.matrix);
        colour.range = colour.range.or(of_frame.range);
        colour.chroma_location = colour.chroma_location.or(of_frame.chroma_location);
    }
    Picture {
        width,
        height,
        pixel_aspect: stream.pixel_aspect(),
        pixel_format: format,
        depth,
        frame_rate: pace.rate,
        varies: pace.varies,
        dominant_rate: pace.dominant,
        frames: sequence.map(|sequence| u64::from(sequence.count)).or(counted).or(stream.frame_count()),
        frames_are_counted: sequence.is_some() || counted.is_some(),
        field_order,
        colour,
        hdr: stream.hdr().or_else(|| frame.and_then(Frame::hdr)),
        orientation: stream.orientation(),
        still: !is_moving(&stream),
    }
}

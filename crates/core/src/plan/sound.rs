//! The sound's part of the plan.

use std::borrow::Cow;

use super::build::Journal;
use super::{Division, Origin, PlanError, Subject, Track};
use crate::facts::{Facts, Sound, Stream};
use crate::formats::{Blocks, Container, SoundCodec, SoundCoding, copies_into};
use crate::preset::{ChannelRule, MOST_TRACKS, Pitch, SoundSettings, SoundStreams};
use crate::sound::downmix::{MOST_CHANNELS, Mix};
use crate::sound::layout;
use crate::sound::track::{TrackSource, TrackWish};
use crate::time::Rational;
use crate::units::BitRate;

type SoundStream<'a> = (&'a Stream, &'a Sound);

pub(super) fn plan(
    settings: &SoundSettings,
    (container, division): (Container, Division),
    speed: Rational,
    facts: &Facts,
    journal: &mut Journal,
) -> Result<Vec<Track>, PlanError> {
    let streams: Vec<SoundStream<'_>> = facts.sounds().filter(|(_, sound)| sound.channels > 0 && sound.sample_rate > 0).collect();
    let Some(marked) = streams.iter().find(|(stream, _)| stream.roles.iter().any(|role| role == "default")).or(streams.first())
    else {
        journal.note(Subject::Sound, "", Origin::Source, "none", "the source has none");
        return Ok(Vec::new());
    };
    let mut wishes = wishes(settings, &streams, *marked);
    let only_one = division.is_together() && container.traits().most_sounds == 1;
    if only_one && wishes.len() > 1 {
        let one = if settings.takes_streams_whole() { whole(*marked) } else { wishes.swap_remove(0) };
        wishes = vec![one];
    }
    if wishes.len() > MOST_TRACKS {
        let words = format!("{} tracks are too many: a file takes {MOST_TRACKS} at most", wishes.len());
        return Err(PlanError::of_source("sound.streams", words));
    }
    let mut tracks = Vec::with_capacity(wishes.len());
    for wish in &wishes {
        let taken = Taken::of(wish, &streams)?;
        let track = taken.track(settings, container, speed)?;
        note_track(&track, settings, journal);
        note_places(&track, &taken, container, journal);
        tracks.push(track);
    }
    if speed != Rational::ONE {
        let what = match settings.pitch {
            Pitch::Keep => "stretched, its pitch kept",
            Pitch::Follow => "its pitch follows the speed",
        };
        journal.note(Subject::Sound, "/sound/pitch", Origin::Preset, what, "the output plays at another speed");
    }
    let used = streams.iter().filter(|(stream, _)| tracks.iter().any(|track| track.streams().contains(&stream.index))).count();
    if used < streams.len() {
        let because = if only_one && settings.streams != SoundStreams::First {
            format!("{} holds one track", container.words())
        } else {
            "the preset takes no more".to_owned()
        };
        let what = format!("{used} of {} streams taken", streams.len());
        journal.note(Subject::Sound, "/sound/streams", Origin::Preset, what, because);
    }
    Ok(tracks)
}

fn whole((stream, _): SoundStream<'_>) -> TrackWish {
    TrackWish::of(TrackSource::all_of(stream.index))
}

/// The tracks that are asked for: one by one, or by the rule for streams.
fn wishes(settings: &SoundSettings, streams: &[SoundStream<'_>], marked: SoundStream<'_>) -> Vec<TrackWish> {
    if !settings.tracks.is_empty() {
        return settings.tracks.clone();
    }
    match settings.streams {
        SoundStreams::First => vec![whole(marked)],
        SoundStreams::All => streams.iter().copied().map(whole).collect(),
        SoundStreams::Channels => streams.iter().copied().flat_map(channels_of).collect(),
        SoundStreams::Joined => {
            let from = streams.iter().map(|(stream, _)| TrackSource::all_of(stream.index)).collect();
            vec![TrackWish { from, matrix: None, language: None, title: None }]
        }
    }
}

/// A track for each channel of a stream.
fn channels_of((stream, sound): SoundStream<'_>) -> Vec<TrackWish> {
    let one = |channel| TrackWish::of(TrackSource { stream: stream.index, channels: vec![channel] });
    match sound.channels {
        1 => vec![whole((stream, sound))],
        // Beyond what can be made at all, one more says so.
        channels => (0..channels.min(MOST_CHANNELS + 1)).map(one).collect(),
    }
}

/// What of the source goes into a track.
struct Taken<'a> {
    wish: &'a TrackWish,
    /// The streams, in their order; at least one.
    streams: Vec<SoundStream<'a>>,
    /// The stream whose language, title and roles it has.
    first: SoundStream<'a>,
    channels: u32,
    layout: Cow<'a, str>,
}

impl<'a> Taken<'a> {
    fn of(wish: &'a TrackWish, all: &[SoundStream<'a>]) -> Result<Self, PlanError> {
        let refuse = |words: String| Err(PlanError::of_source("sound.tracks", words));
        let mut streams: Vec<SoundStream<'a>> = Vec::new();
        let mut channels = 0_u32;
        for source in &wish.from {
            let Some(found) = all.iter().find(|(stream, _)| stream.index == source.stream) else {
                return refuse(format!("{} of the source is no sound", TrackSource::all_of(source.stream).words()));
            };
            if let Some(beyond) = source.channels.iter().find(|channel| **channel >= found.1.channels) {
                let asked = TrackSource { stream: source.stream, channels: vec![*beyond] };
                return refuse(format!("there is no {}: it has {}", asked.words(), found.1.channels));
            }
            let taken = if source.channels.is_empty() { found.1.channels } else { count(source.channels.len()) };
            channels = channels.saturating_add(taken);
            streams.push(*found);
        }
        let Some(first) = streams.first().copied() else { return refuse("a track is made of nothing".to_owned()) };
        let is_whole = matches!(wish.from.as_slice(), [one] if one.channels.is_empty());
        let layout = if is_whole { Cow::Borrowed(first.1.layout.as_str()) } else { layout::of_count(channels) };
        if let Some(matrix) = wish.matrix.as_ref().filter(|matrix| matrix.taken() != channels as usize) {
            let levels = matrix.taken();
            return refuse(format!("a matrix for {levels} channels does not fit the {channels} of its track"));
        }
        Ok(Self { wish, streams, first, channels, layout })
    }

    /// The stream that it is, where it is all of one as it is.
    fn as_it_is(&self) -> Option<SoundStream<'a>> {
        let is_whole = matches!(self.wish.from.as_slice(), [one] if one.channels.is_empty());
        (is_whole && self.wish.matrix.is_none()).then_some(self.first)
    }

    /// Where all streams say the same, that.
    fn common<T: PartialEq + Clone>(&self, of: impl Fn(&Stream) -> Option<T>) -> Option<T> {
        let first = of(self.first.0);
        first.filter(|first| self.streams.iter().all(|(stream, _)| of(stream).as_ref() == Some(first)))
    }

    fn track(&self, settings: &SoundSettings, container: Container, speed: Rational) -> Result<Track, PlanError> {
        let codec = settings.codec;
        let refuse = |field: &str, words: String| Err(PlanError::of_source(field, words));
        if codec.is_copy() {
            let Some((stream, _)) = self.as_it_is() else {
                let words = "channels that are taken apart or put together cannot be left untouched: choose another codec";
                return refuse("sound.codec", words.to_owned());
            };
            if speed != Rational::ONE {
                let words = "sound that is left untouched cannot follow another speed: choose AAC or PCM for it";
                return refuse("sound.codec", words.to_owned());
            }
            if !copies_into(container, &stream.codec) {
                return refuse(
                    "sound.codec",
                    format!(
                        "the sound ({}) cannot stand in {} untouched: choose AAC or PCM for it, or another container",
                        stream.codec,
                        container.words()
                    ),
                );
            }
        } else if self.channels > MOST_CHANNELS {
            let channels = self.channels;
            return refuse(
                "sound.codec",
                format!(
                    "{channels} channels of sound are more than can be made ({MOST_CHANNELS}): take the stream untouched, or leave sound out"
                ),
            );
        }
        let (channels, layout) = match (&self.wish.matrix, settings.channels) {
            (Some(matrix), _) => {
                let rows = count(matrix.0.len());
                (rows, layout::of_count(rows).into_owned())
            }
            (None, ChannelRule::Mono) if !codec.is_copy() => (1, "mono".to_owned()),
            (None, ChannelRule::Stereo) if !codec.is_copy() => (2, "stereo".to_owned()),
            (None, ChannelRule::Same | ChannelRule::Mono | ChannelRule::Stereo) => {
                (self.channels, same_layout(codec, &self.layout, self.channels))
            }
        };
        if codec.blocks().is_some_and(|blocks| !blocks.layouts.contains(&layout.as_str())) {
            return refuse(
                "sound.channels",
                format!(
                    "{} has no place for the channels of the sound ({layout}): set sound.channels to stereo or mono, or choose PCM",
                    codec.words
                ),
            );
        }
        let own_rate = self.streams.iter().map(|(_, sound)| sound.sample_rate).max().unwrap_or_default();
        let wanted = settings.sample_rate.unwrap_or(own_rate);
        let sample_rate = match &codec.coding {
            SoundCoding::Blocks(blocks) => blocks.sample_rate_for(wanted),
            SoundCoding::Linear { .. } => wanted,
            SoundCoding::Copied => own_rate,
        };
        let keeps_channels = settings.channels == ChannelRule::Same || self.wish.matrix.is_some();
        Ok(Track {
            from: self.wish.from.clone(),
            matrix: self.wish.matrix.clone(),
            codec,
            bit_rate: codec
                .blocks()
                .zip(settings.bits_per_second)
                .map(|(blocks, rate)| if keeps_channels { rate_of(blocks, rate, &layout, channels) } else { rate }),
            channels,
            layout,
            sample_rate,
            language: self.wish.language.clone().or_else(|| self.common(|stream| stream.language.clone())),
            title: self.wish.title.clone().or_else(|| self.common(|stream| stream.title.clone())),
            roles: self.first.0.roles.clone(),
            speed,
            pitch: settings.pitch,
            downmix: settings.downmix,
        })
    }
}

fn count(channels: usize) -> u32 {
    u32::try_from(channels).unwrap_or(u32::MAX)
}

/// Says what a track becomes.
fn note_track(track: &Track, settings: &SoundSettings, journal: &mut Journal) {
    let mut what = format!("{} · {} · {} kHz", track.codec.words, track.layout, f64::from(track.sample_rate) / 1e3);
    if let Some(rate) = track.bit_rate {
        what.push_str(&format!(" · {rate}"));
    }
    if let Some(language) = &track.language {
        what.push_str(&format!(" · {language}"));
    }
    let channels = match settings.channels {
        ChannelRule::Same => "channels as in the source".to_owned(),
        ChannelRule::Mono | ChannelRule::Stereo => format!("in {}", track.layout),
    };
    let because = match (track.whole_stream(), &track.matrix, settings.channels) {
        (_, Some(matrix), _) => {
            format!(
                "made of {} by the matrix {}",
                track.from_words(),
                matrix.mix().words(&layout::of_count(count(matrix.taken())))
            )
        }
        (None, None, _) => format!("made of {}; {channels}", track.from_words()),
        (Some(_), None, ChannelRule::Same) => format!("the preset asks for it; {channels}"),
        (Some(_), None, ChannelRule::Mono | ChannelRule::Stereo) => format!("the preset asks for {}", track.layout),
    };
    let setting = if settings.tracks.is_empty() { "/sound" } else { "/sound/tracks" };
    journal.note(Subject::Sound, setting, Origin::Preset, what, because);
}

/// Says what becomes of channels of which it is not known where they belong, or that the container does not place.
fn note_places(planned: &Track, taken: &Taken<'_>, container: Container, journal: &mut Journal) {
    if planned.codec.is_copy() {
        return;
    }
    let (own, channels) = (taken.layout.as_ref(), taken.channels);
    if planned.matrix.is_some() {
        // The track itself says how it is mixed.
    } else if planned.channels != channels && !layout::is_placed(own) && channels > 2 {
        let taken = if planned.channels == 1 { "all channels in equal parts" } else { "the first two channels" };
        let because = "the source does not say where its channels belong";
        journal.note(Subject::Sound, "/sound/channels", Origin::Source, taken, because);
    } else if let Some(mix) = Mix::between(own, channels, &planned.layout, planned.downmix)
        && channels > planned.channels
    {
        let limited = if mix.most() > 1.0 { "; peaks limited to -1 dBFS" } else { "" };
        let because = if channels > 2 { "mixed down after ITU-R BS.775 (Lo/Ro)" } else { "one channel is the mean of two" };
        let what = format!("{}{limited}", mix.words(own));
        journal.note(Subject::Sound, "/sound/downmix", Origin::Preset, what, because);
    }
    let is_placed = container.traits().places_channels_of_pcm || planned.codec.blocks().is_some();
    if !is_placed && layout::usual(planned.channels) != Some(&planned.layout) {
        let what = format!("{} channels without their places", planned.channels);
        journal.note(
            Subject::Sound,
            "/container",
            Origin::Preset,
            what,
            format!("{} does not name the speakers of PCM", container.words()),
        );
    }
}

/// The rate of a stream whose channels are the source's: what is said of two channels for each of those that there
/// are. Low-frequency effects need next to nothing.
fn rate_of(blocks: &Blocks, rate: BitRate, layout: &str, channels: u32) -> BitRate {
    let full = layout::speakers(layout).map_or(channels as usize, |own| own.iter().filter(|speaker| **speaker != "LFE").count());
    let full = u64::try_from(full).unwrap_or(2).max(1);
    BitRate((rate.0 * full / 2).clamp(*blocks.rates.start(), blocks.most_of_a_channel * u64::from(channels)))
}

/// The layout of the source's own channels, as the codec has it.
fn same_layout(codec: SoundCodec, own: &str, channels: u32) -> String {
    let alike = codec.blocks().and_then(|blocks| blocks.alike.iter().find(|(name, _)| *name == own));
    match (alike, channels) {
        (Some((_, layout)), _) => (*layout).to_owned(),
        (None, 1) => "mono".to_owned(),
        (None, 2) => "stereo".to_owned(),
        (None, _) => own.to_owned(),
    }
}

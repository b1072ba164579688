//! The sound's part of the plan.

use super::build::Journal;
use super::{Division, Origin, PlanError, SoundPlan, Subject};
use crate::facts::{Facts, Sound, Stream};
use crate::formats::{Blocks, Container, SoundCodec, SoundCoding, copies_into};
use crate::preset::{ChannelRule, Pitch, SoundSettings, SoundStreams};
use crate::sound::downmix::{MOST_CHANNELS, Mix};
use crate::sound::layout;
use crate::time::Rational;
use crate::units::BitRate;

pub(super) fn plan(
    settings: &SoundSettings,
    (container, division): (Container, Division),
    speed: Rational,
    facts: &Facts,
    journal: &mut Journal,
) -> Result<Vec<SoundPlan>, PlanError> {
    let streams: Vec<_> = facts.sounds().filter(|(_, sound)| sound.channels > 0 && sound.sample_rate > 0).collect();
    let Some(first) = streams.iter().find(|(stream, _)| stream.roles.iter().any(|role| role == "default")).or(streams.first())
    else {
        journal.note(Subject::Sound, "", Origin::Source, "none", "the source has none");
        return Ok(Vec::new());
    };
    let only_one = division.is_together() && container.traits().most_sounds == 1;
    let chosen: Vec<_> = match settings.streams {
        SoundStreams::All if !only_one => streams.clone(),
        SoundStreams::All | SoundStreams::First => vec![*first],
    };
    let planned = chosen
        .iter()
        .map(|(stream, sound)| stream_plan(settings, container, speed, stream, sound))
        .collect::<Result<Vec<_>, _>>()?;
    for sound in &planned {
        let mut what = format!("{} · {} · {} kHz", sound.codec.words, sound.layout, f64::from(sound.sample_rate) / 1e3);
        if let Some(rate) = sound.bit_rate {
            what.push_str(&format!(" · {rate}"));
        }
        if let Some(language) = &sound.language {
            what.push_str(&format!(" · {language}"));
        }
        let because = match settings.channels {
            ChannelRule::Same => "the preset asks for it; channels as in the source".to_owned(),
            ChannelRule::Mono | ChannelRule::Stereo => format!("the preset asks for {}", sound.layout),
        };
        journal.note(Subject::Sound, "/sound", Origin::Preset, what, because);
        let from = chosen.iter().find(|(stream, _)| stream.index == sound.source_stream).map(|(_, from)| *from);
        if let Some(from) = from {
            note_places(sound, from, container, journal);
        }
    }
    if speed != Rational::ONE && !planned.is_empty() {
        let what = match settings.pitch {
            Pitch::Keep => "stretched, its pitch kept",
            Pitch::Follow => "its pitch follows the speed",
        };
        journal.note(Subject::Sound, "/sound/pitch", Origin::Preset, what, "the output plays at another speed");
    }
    if planned.len() < streams.len() {
        let because = if only_one && settings.streams == SoundStreams::All {
            format!("{} holds one stream", container.words())
        } else {
            "the preset takes one stream".to_owned()
        };
        journal.note(
            Subject::Sound,
            "/sound/streams",
            Origin::Preset,
            format!("{} of {} streams taken", planned.len(), streams.len()),
            because,
        );
    }
    Ok(planned)
}

/// Says what becomes of channels of which it is not known where they belong, or that the container does not place.
fn note_places(planned: &SoundPlan, from: &Sound, container: Container, journal: &mut Journal) {
    if planned.codec.is_copy() {
        return;
    }
    if planned.channels != from.channels && !layout::is_placed(&from.layout) && from.channels > 2 {
        let taken = if planned.channels == 1 { "all channels in equal parts" } else { "the first two channels" };
        let because = "the source does not say where its channels belong";
        journal.note(Subject::Sound, "/sound/channels", Origin::Source, taken, because);
    } else if let Some(mix) = Mix::between(&from.layout, from.channels, &planned.layout, planned.downmix)
        && from.channels > planned.channels
    {
        let limited = if mix.most() > 1.0 { "; peaks limited to -1 dBFS" } else { "" };
        let because = if from.channels > 2 { "mixed down after ITU-R BS.775 (Lo/Ro)" } else { "one channel is the mean of two" };
        let what = format!("{}{limited}", mix.words(&from.layout));
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

fn stream_plan(
    settings: &SoundSettings,
    container: Container,
    speed: Rational,
    stream: &Stream,
    sound: &Sound,
) -> Result<SoundPlan, PlanError> {
    let codec = settings.codec;
    let refuse = |field: &str, words: String| Err(PlanError::of_source(field, words));
    if codec.is_copy() && speed != Rational::ONE {
        let words = "sound that is left untouched cannot follow another speed: choose AAC or PCM for it";
        return refuse("sound.codec", words.to_owned());
    }
    if codec.is_copy() && !copies_into(container, &stream.codec) {
        return refuse(
            "sound.codec",
            format!(
                "the sound ({}) cannot stand in {} untouched: choose AAC or PCM for it, or another container",
                stream.codec,
                container.words()
            ),
        );
    }
    let (channels, layout) = match settings.channels {
        _ if codec.is_copy() => (sound.channels, same_layout(codec, sound)),
        ChannelRule::Same => (sound.channels, same_layout(codec, sound)),
        ChannelRule::Mono => (1, "mono".to_owned()),
        ChannelRule::Stereo => (2, "stereo".to_owned()),
    };
    if !codec.is_copy() && sound.channels > MOST_CHANNELS {
        let channels = sound.channels;
        return refuse(
            "sound.codec",
            format!(
                "{channels} channels of sound are more than can be made ({MOST_CHANNELS}): take the stream untouched, or leave sound out"
            ),
        );
    }
    if codec.blocks().is_some_and(|blocks| !blocks.layouts.contains(&layout.as_str())) {
        return refuse(
            "sound.channels",
            format!(
                "{} has no place for the channels of the sound ({layout}): set sound.channels to stereo or mono, or choose PCM",
                codec.words
            ),
        );
    }
    let wanted = settings.sample_rate.unwrap_or(sound.sample_rate);
    let sample_rate = match &codec.coding {
        SoundCoding::Blocks(blocks) => blocks.sample_rate_for(wanted),
        SoundCoding::Linear { .. } => wanted,
        SoundCoding::Copied => sound.sample_rate,
    };
    Ok(SoundPlan {
        source_stream: stream.index,
        codec,
        bit_rate: codec.blocks().zip(settings.bits_per_second).map(|(blocks, rate)| {
            if settings.channels == ChannelRule::Same { rate_of(blocks, rate, &layout, channels) } else { rate }
        }),
        channels,
        layout,
        sample_rate,
        language: stream.language.clone(),
        title: stream.title.clone(),
        roles: stream.roles.clone(),
        speed,
        pitch: settings.pitch,
        downmix: settings.downmix,
    })
}

/// The rate of a stream whose channels are the source's: what is said of two channels for each of those that there
/// are. Low-frequency effects need next to nothing.
fn rate_of(blocks: &Blocks, rate: BitRate, layout: &str, channels: u32) -> BitRate {
    let full = layout::speakers(layout).map_or(channels as usize, |own| own.iter().filter(|speaker| **speaker != "LFE").count());
    let full = u64::try_from(full).unwrap_or(2).max(1);
    BitRate((rate.0 * full / 2).clamp(*blocks.rates.start(), blocks.most_of_a_channel * u64::from(channels)))
}

/// The layout of the source's own channels, as the codec has it.
fn same_layout(codec: SoundCodec, sound: &Sound) -> String {
    let own = sound.layout.as_str();
    let alike = codec.blocks().and_then(|blocks| blocks.alike.iter().find(|(name, _)| *name == own));
    match (alike, sound.channels) {
        (Some((_, layout)), _) => (*layout).to_owned(),
        (None, 1) => "mono".to_owned(),
        (None, 2) => "stereo".to_owned(),
        (None, _) => own.to_owned(),
    }
}

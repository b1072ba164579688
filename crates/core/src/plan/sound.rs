//! The sound's part of the plan.

use super::build::Journal;
use super::{Origin, PlanError, SoundPlan, Subject};
use crate::facts::{Facts, Sound, Stream};
use crate::formats::{Container, SoundCodec};
use crate::preset::{ChannelRule, Pitch, SoundSettings, SoundStreams};
use crate::sound::downmix::{MOST_CHANNELS, Mix};
use crate::sound::layout;
use crate::time::Rational;
use crate::units::BitRate;

/// Sample rates that AAC has (ISO/IEC 14496-3 table 1.18).
const AAC_RATES: [u32; 12] = [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000];

/// Layouts that the encoder of AAC has, and that are read as what they are.
const AAC_LAYOUTS: [&str; 17] = [
    "mono",
    "stereo",
    "2.1",
    "3.0",
    "3.0(back)",
    "4.0",
    "quad",
    "quad(side)",
    "5.0",
    "5.0(side)",
    "5.1",
    "5.1(side)",
    "6.0(front)",
    "6.1",
    "6.1(back)",
    "7.1",
    "hexadecagonal",
];

pub(super) fn plan(
    settings: &SoundSettings,
    container: Container,
    speed: Rational,
    facts: &Facts,
    journal: &mut Journal<'_>,
) -> Result<Vec<SoundPlan>, PlanError> {
    let streams: Vec<_> = facts.sounds().filter(|(_, sound)| sound.channels > 0 && sound.sample_rate > 0).collect();
    let Some(first) = streams.iter().find(|(stream, _)| stream.roles.iter().any(|role| role == "default")).or(streams.first())
    else {
        journal.note(Subject::Sound, "", Origin::Source, "none", "the source has none");
        return Ok(Vec::new());
    };
    let only_one = container == Container::Wav;
    let chosen: Vec<_> = match settings.streams {
        SoundStreams::All if !only_one => streams.clone(),
        SoundStreams::All | SoundStreams::First => vec![*first],
    };
    let planned = chosen
        .iter()
        .map(|(stream, sound)| stream_plan(settings, container, speed, stream, sound))
        .collect::<Result<Vec<_>, _>>()?;
    for sound in &planned {
        let mut what = format!("{} · {} · {} kHz", sound.codec.words(), sound.layout, f64::from(sound.sample_rate) / 1e3);
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
            "WAV holds one stream"
        } else {
            "the preset takes one stream"
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
fn note_places(planned: &SoundPlan, from: &Sound, container: Container, journal: &mut Journal<'_>) {
    if planned.codec == SoundCodec::Copy {
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
    if container == Container::Mkv && planned.codec != SoundCodec::Aac && layout::usual(planned.channels) != Some(&planned.layout)
    {
        let what = format!("{} channels without their places", planned.channels);
        journal.note(Subject::Sound, "/container", Origin::Preset, what, "MKV does not name the speakers of PCM");
    }
}

fn stream_plan(
    settings: &SoundSettings,
    container: Container,
    speed: Rational,
    stream: &Stream,
    sound: &Sound,
) -> Result<SoundPlan, PlanError> {
    if settings.codec == SoundCodec::Copy && speed != Rational::ONE {
        return Err(PlanError::Impossible(
            "sound that is left untouched cannot follow another speed: choose AAC or PCM for it".to_owned(),
        ));
    }
    if settings.codec == SoundCodec::Copy && !copies_into(container, &stream.codec) {
        return Err(PlanError::Impossible(format!(
            "the sound ({}) cannot stand in {} untouched: choose AAC or PCM for it, or another container",
            stream.codec,
            container.words()
        )));
    }
    let (channels, layout) = match (settings.codec, settings.channels) {
        (SoundCodec::Copy, _) | (_, ChannelRule::Same) => (sound.channels, same_layout(settings.codec, sound)),
        (_, ChannelRule::Mono) => (1, "mono".to_owned()),
        (_, ChannelRule::Stereo) => (2, "stereo".to_owned()),
    };
    if settings.codec != SoundCodec::Copy && sound.channels > MOST_CHANNELS {
        return Err(PlanError::Impossible(format!(
            "{} channels of sound are more than can be made ({MOST_CHANNELS}): take the stream untouched, or leave sound out",
            sound.channels
        )));
    }
    if settings.codec == SoundCodec::Aac && !AAC_LAYOUTS.contains(&layout.as_str()) {
        return Err(PlanError::Impossible(format!(
            "AAC has no place for the channels of the sound ({layout}): set sound.channels to stereo or mono, or choose PCM"
        )));
    }
    let wanted = settings.sample_rate.unwrap_or(sound.sample_rate);
    let sample_rate = match settings.codec {
        SoundCodec::Aac if !AAC_RATES.contains(&wanted) => {
            AAC_RATES.into_iter().find(|rate| *rate >= wanted).unwrap_or(48_000).min(96_000)
        }
        SoundCodec::Aac | SoundCodec::Pcm16 | SoundCodec::Pcm24 => wanted,
        SoundCodec::Copy => sound.sample_rate,
    };
    Ok(SoundPlan {
        source_stream: stream.index,
        codec: settings.codec,
        bit_rate: settings.bits_per_second.map(|rate| rate_of(rate, settings.channels, &layout, channels)),
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

/// The rate of a stream: as it is said where the number of channels is, otherwise what is said of two channels for each
/// of those that there are. Low-frequency effects need next to nothing.
fn rate_of(rate: BitRate, rule: ChannelRule, layout: &str, channels: u32) -> BitRate {
    if rule != ChannelRule::Same {
        return rate;
    }
    let full = layout::speakers(layout).map_or(channels as usize, |own| own.iter().filter(|speaker| **speaker != "LFE").count());
    let full = u64::try_from(full).unwrap_or(2).max(1);
    BitRate((rate.0 * full / 2).clamp(LEAST_AAC, MOST_AAC_OF_A_CHANNEL * u64::from(channels)))
}

/// Bits a second below which AAC is not asked to go, ...
const LEAST_AAC: u64 = 16_000;
/// ... and what it takes at most for each channel.
const MOST_AAC_OF_A_CHANNEL: u64 = 256_000;

/// AAC has one layout of six channels, whose surrounds stand at the back by name.
fn same_layout(codec: SoundCodec, sound: &Sound) -> String {
    match (codec, sound.channels, sound.layout.as_str()) {
        (SoundCodec::Aac, _, "5.1(side)") => "5.1".to_owned(),
        // The one that AAC has is read with its speakers at the sides.
        (SoundCodec::Aac, _, "7.1(wide)" | "7.1(wide-side)") => "7.1".to_owned(),
        (_, 1, _) => "mono".to_owned(),
        (_, 2, layout) if layout != "stereo" => "stereo".to_owned(),
        (_, _, layout) => layout.to_owned(),
    }
}

/// Sound that a container holds as it is, so that others can read it there.
fn copies_into(container: Container, codec: &str) -> bool {
    let everywhere = matches!(codec, "aac" | "mp3" | "mp2" | "ac3" | "eac3" | "alac");
    let is_pcm = codec.starts_with("pcm_");
    match container {
        Container::Mp4 => everywhere || codec == "opus",
        Container::Mov => {
            let more = matches!(codec, "amr_nb" | "amr_wb" | "adpcm_ima_qt" | "adpcm_ms" | "adpcm_ima_wav" | "mace3" | "mace6");
            everywhere || is_pcm || more
        }
        Container::Mkv => {
            let own = matches!(codec, "opus" | "vorbis" | "flac" | "dts" | "truehd" | "mlp" | "tta" | "wavpack" | "mp1");
            // Those that AVI and WAV have a number for.
            let numbered = matches!(codec, "wmav1" | "wmav2" | "wmapro" | "adpcm_ms" | "adpcm_ima_wav" | "gsm_ms");
            everywhere || is_pcm || own || numbered
        }
        Container::Wav => false,
    }
}

//! The sound's part of the plan.

use super::build::Journal;
use super::{Origin, PlanError, SoundPlan, Subject};
use crate::preset::{ChannelRule, Container, SoundCodec, SoundSettings, SoundStreams};
use crate::rational::Rational;
use crate::reading::{Reading, Sound, Stream};

/// Sample rates that AAC has (ISO/IEC 14496-3 table 1.18).
const AAC_RATES: [u32; 12] = [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000];

pub(super) fn plan(
    settings: &SoundSettings,
    container: Container,
    speed: Rational,
    reading: &Reading,
    journal: &mut Journal<'_>,
) -> Result<Vec<SoundPlan>, PlanError> {
    let streams: Vec<_> = reading.sounds().filter(|(_, sound)| sound.channels > 0 && sound.sample_rate > 0).collect();
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
    if settings.codec == SoundCodec::Copy && container == Container::Mp4 && !copies_into_mp4(&stream.codec) {
        return Err(PlanError::Impossible(format!(
            "the sound ({}) cannot stand in MP4 untouched: choose AAC, or MOV or MKV as the container",
            stream.codec
        )));
    }
    let (channels, layout) = match (settings.codec, settings.channels) {
        (SoundCodec::Copy, _) | (_, ChannelRule::Same) => (sound.channels, same_layout(settings.codec, sound)),
        (_, ChannelRule::Mono) => (1, "mono".to_owned()),
        (_, ChannelRule::Stereo) => (2, "stereo".to_owned()),
    };
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
        bit_rate: settings.bits_per_second,
        channels,
        layout,
        sample_rate,
        language: stream.language.clone(),
        title: stream.title.clone(),
        roles: stream.roles.clone(),
        speed,
    })
}

/// AAC has one layout of six channels, whose surrounds stand at the back by name.
fn same_layout(codec: SoundCodec, sound: &Sound) -> String {
    match (codec, sound.channels, sound.layout.as_str()) {
        (SoundCodec::Aac, _, "5.1(side)") => "5.1".to_owned(),
        (_, 1, _) => "mono".to_owned(),
        (_, 2, layout) if layout != "stereo" => "stereo".to_owned(),
        (_, _, layout) => layout.to_owned(),
    }
}

fn copies_into_mp4(codec: &str) -> bool {
    matches!(codec, "aac" | "mp3" | "ac3" | "eac3" | "alac" | "opus" | "flac" | "mp2")
}

//! The settings of a preset as they are offered: in the order in which people decide, and why some mean nothing for a
//! source.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use serde::Serialize;
use utoipa::ToSchema;

use super::{ChannelRule, FieldsRule, Preset, SpeedRule};
use crate::catalogue::{Described, Named, Setting};
use crate::facts::Content;
use crate::findings::{Extent, FieldsVerdict};
use crate::formats::Rates;
use crate::reading::Reading;
use crate::timeline::origin;

/// Settings that belong together.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Section {
    /// What they are about.
    pub name: &'static str,
    /// Them, in the order in which they are offered.
    pub settings: Vec<Setting>,
}

/// The sections, and the places of their settings: a place stands for all that lies within it.
const SECTIONS: [(&str, &[&str]); 11] = [
    ("Format", &["container", "picture.codec", "picture.profile", "picture.level"]),
    ("Quality and size", &["picture.rate", "picture.effort", "picture.key_interval"]),
    ("Frame", &["picture.size", "picture.crop", "picture.pixel_aspect"]),
    ("Time", &["picture.frame_rate", "picture.speed", "picture.lead", "parts"]),
    ("Fields and film", &["picture.fields", "picture.deinterlacing", "picture.telecine", "picture.mixture"]),
    ("Cleaning", &["picture.cleaning"]),
    ("Colour", &["picture.colour", "picture.adjustment", "picture.greyscale"]),
    ("Overlays", &["picture.overlays"]),
    ("Audio", &["sound"]),
    ("Carried over", &["carry", "salvage"]),
    ("Name", &["name", "id", "use_when", "name_pattern"]),
];

static SETTINGS: LazyLock<Vec<Setting>> = LazyLock::new(|| {
    let mut settings = Vec::new();
    Preset::describe("", Named { name: "", term: None, says: "" }, &mut settings);
    settings
});

/// All settings of a preset.
#[must_use]
pub fn settings() -> &'static [Setting] {
    &SETTINGS
}

/// The catalogue: all settings in their sections.
#[must_use]
pub fn catalogue() -> Vec<Section> {
    let settings = settings();
    let within = |setting: &&Setting, place: &str| {
        setting.place.strip_prefix(place).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    };
    let of_places = |places: &[&str]| {
        places.iter().flat_map(|place| settings.iter().filter(|setting| within(setting, place)).cloned()).collect()
    };
    SECTIONS.iter().map(|(name, places)| Section { name, settings: of_places(places) }).collect()
}

/// Which settings mean nothing for a source made by this preset, by their places, and why, as the end of a sentence.
#[must_use]
pub fn idle_settings(reading: &Reading, preset: &Preset) -> BTreeMap<String, String> {
    let why = |setting: &Setting| Some((setting.place.clone(), idle(&setting.place, reading, preset)?));
    settings().iter().filter_map(why).collect()
}

fn idle(place: &str, reading: &Reading, preset: &Preset) -> Option<String> {
    let because = match place.split_once('.') {
        Some(("picture", own)) => idle_of_picture(own, reading, preset)?,
        Some(("sound", own)) => idle_of_sound(own, reading, preset)?,
        _ => return None,
    };
    Some(because)
}

fn idle_of_picture(place: &str, reading: &Reading, preset: &Preset) -> Option<String> {
    let words = |words: &str| Some(words.to_owned());
    let Some(own) = &preset.picture else { return words("the preset has no picture") };
    let Some((_, picture)) = reading.facts.picture() else { return words("the source has no picture") };
    let codec = own.codec;
    let found = reading.findings.as_ref().filter(|findings| findings.extent == Extent::Whole);
    let fields = found.and_then(|findings| findings.fields.as_ref()).map(|fields| fields.verdict);
    match place {
        "profile" if codec.profiles.len() < 2 => Some(format!("{} has one profile", codec.words)),
        "level" if codec.levels.all().next().is_none() => Some(format!("{} has no levels", codec.words)),
        "effort" if codec.rates == Rates::OfProfile => Some(format!("the encoder of {} has one way to work", codec.words)),
        "key_interval" if codec.is_intra() => Some(format!("each picture of {} stands alone", codec.words)),
        "fields" | "deinterlacing.frames" | "deinterlacing.per" | "deinterlacing.degree"
            if fields == Some(FieldsVerdict::Progressive) =>
        {
            words("no fields were found in the source")
        }
        "deinterlacing.frames" | "deinterlacing.per" | "deinterlacing.degree" if own.fields == FieldsRule::Keep => {
            words("fields are kept")
        }
        "telecine" if matches!(fields, Some(FieldsVerdict::Progressive | FieldsVerdict::Interlaced { .. })) => {
            words("no film that was spread over fields was found in the source")
        }
        "mixture" if fields.is_some_and(|fields| fields != FieldsVerdict::Mixed) => {
            words("the source is not partly film and partly video")
        }
        "colour.dynamic_range"
            if !matches!(picture.colour.transfer, Some(crate::picture::Transfer::Pq | crate::picture::Transfer::Hlg)) =>
        {
            words("the source has no high dynamic range")
        }
        "lead" if origin(&reading.facts).lead_frames == 0 => words("the source's sound does not begin before its picture"),
        "overlays.subtitles" if !has_text(reading) => words("the source has no subtitles that are text"),
        _ => None,
    }
}

fn has_text(reading: &Reading) -> bool {
    reading.facts.streams.iter().any(|stream| matches!(stream.content, Content::Subtitles { are_pictures: false }))
}

fn idle_of_sound(place: &str, reading: &Reading, preset: &Preset) -> Option<String> {
    let words = |words: &str| Some(words.to_owned());
    let Some(own) = &preset.sound else { return words("the preset has no sound") };
    let Some(most) = reading.facts.sounds().map(|(_, sound)| sound.channels).max() else {
        return words("the source has no sound");
    };
    let keeps_speed = preset.picture.as_ref().is_none_or(|picture| picture.speed == SpeedRule::Same);
    match place {
        "bits_per_second" if own.codec.blocks().is_none() => Some(format!("the rate of {} is fixed", own.codec.words)),
        "channels" | "sample_rate" if own.codec.is_copy() => words("sound that is left untouched keeps them"),
        "streams" if !own.tracks.is_empty() => words("each track is asked for by itself"),
        "streams" if reading.facts.sounds().count() < 2 && most < 2 => words("the source has one channel of sound"),
        _ if place.starts_with("downmix") && most <= 2 => words("the source has no more than two channels"),
        _ if place.starts_with("downmix") && own.channels == ChannelRule::Same => words("no channels are mixed down"),
        "pitch" if keeps_speed => words("the speed stays as it is"),
        _ => None,
    }
}

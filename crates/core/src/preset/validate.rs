//! Which settings go together, and what to say where they do not.

use super::{
    ChannelRule, CropRule, FieldsRule, FrameRateRule, MOST_TRACKS, PictureSettings, PixelAspectRule, Preset, SizeRule,
    SoundSettings, SpeedRule,
};
use crate::formats::{Container, FieldsIn, FrameRates, SoundCoding};
use crate::naming;
use crate::problem::{Fault, FaultCode};
use crate::sound::downmix::Downmix;
use crate::sound::track::Matrix;
use crate::time::{Rational, check_order, rate_text};

/// The largest side that any encoder here takes.
pub(crate) const LARGEST_SIDE: u32 = 8192;
/// The smallest.
pub(crate) const SMALLEST_SIDE: u32 = 16;
/// Frames a second at most.
pub(crate) const FASTEST_RATE: Rational = Rational::whole(240);
/// Seconds between key frames at most.
pub(crate) const LONGEST_GROUP: Rational = Rational::whole(60);

/// Collects what cannot be.
#[derive(Default)]
struct Faults(Vec<Fault>);

impl Faults {
    fn add(&mut self, field: &str, code: FaultCode, words: String) {
        self.0.push(Fault::new(field, code, words));
    }

    fn range(&mut self, field: &str, words: String) {
        self.add(field, FaultCode::OutOfRange, words);
    }
}

impl Preset {
    /// Everything that cannot be, in sentences; empty for a sound preset.
    #[must_use]
    pub fn faults(&self) -> Vec<Fault> {
        let mut faults = Faults::default();
        let id_is_plain = !self.id.is_empty()
            && self.id.len() <= 64
            && self.id.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
        if !id_is_plain {
            faults.range("id", format!("The id “{}” must have 1 to 64 lower-case letters, figures and hyphens.", self.id));
        }
        if self.name.trim().is_empty() {
            faults.add("name", FaultCode::Missing, "The preset needs a name.".to_owned());
        }
        for (field, what, text, most) in [
            ("name", "name", &self.name, 200),
            ("name_pattern", "name pattern", &self.name_pattern, 500),
            ("use_when", "advice when to use it", &self.use_when, 2000),
        ] {
            let letters = text.chars().count();
            if letters > most {
                faults.range(field, format!("The {what} has {letters} letters: at most {most} can be kept."));
            }
        }
        if self.picture.is_none() && self.sound.is_none() {
            let words = "The preset has neither picture nor sound: give it one of them.".to_owned();
            faults.add("picture", FaultCode::Missing, words);
        }
        if let Err(fault) = naming::check_pattern(&self.name_pattern) {
            faults.add("name_pattern", FaultCode::NotUnderstood, fault.to_string());
        }
        if let Err(fault) = check_order(&self.parts) {
            faults.add("parts", FaultCode::Contradiction, format!("The parts that are taken cannot be: {fault}."));
        }
        if let Some(picture) = &self.picture {
            picture_faults(self.container, picture, &mut faults);
        }
        if let Some(sound) = &self.sound {
            sound_faults(self.sound_container(), sound, &mut faults);
        }
        faults.0
    }
}

/// “MOV or MKV”.
fn names(containers: &[Container]) -> String {
    let names: Vec<&str> = containers.iter().map(|container| container.words()).collect();
    match names.split_last() {
        Some((last, others)) if !others.is_empty() => format!("{} or {last}", others.join(", ")),
        Some((last, _)) => (*last).to_owned(),
        None => "another format".to_owned(),
    }
}

fn picture_faults(container: Container, picture: &PictureSettings, faults: &mut Faults) {
    let codec = picture.codec;
    if !codec.containers.contains(&container) {
        let held = names(codec.containers);
        let words = if container.traits().is_sound_alone {
            let name = container.words();
            format!("{} cannot stand in {name}: {name} holds sound alone; choose {held}.", codec.words)
        } else {
            format!("{} cannot stand in {}: choose {held}.", codec.words, container.words())
        };
        faults.add("container", FaultCode::NotInContainer, words);
    }
    faults.0.extend(picture.format().err().into_iter().flatten());
    size_faults(picture, faults);
    mending_faults(picture, faults);
    overlay_faults(picture, faults);
    rate_faults(picture, faults);
    if !picture.key_interval.is_positive() || picture.key_interval > LONGEST_GROUP {
        let words = format!("The distance of key frames must be above 0 and at most {LONGEST_GROUP} seconds.");
        faults.range("picture.key_interval", words);
    }
    let codes_fields = codec.profiles.iter().any(|profile| profile.fields != FieldsIn::Never);
    if picture.fields == FieldsRule::Keep && !codes_fields {
        let words = format!("{} is written in whole frames only: choose to deinterlace, or another codec.", codec.words);
        faults.add("picture.fields", FaultCode::NotOfCodec, words);
    }
}

/// Frames a second.
fn rate_faults(picture: &PictureSettings, faults: &mut Faults) {
    let codec = picture.codec;
    match picture.frame_rate {
        FrameRateRule::Constant { rate, .. } | FrameRateRule::AtMost { rate } => {
            if !rate.is_positive() || rate > FASTEST_RATE {
                let words = format!("A frame rate of {rate} is out of range: it must be above 0 and at most {FASTEST_RATE}.");
                faults.range("picture.frame_rate.rate", words);
            }
            if let FrameRates::These(rates) = codec.frame_rates
                && !rates.contains(&rate)
            {
                let known: Vec<String> = rates.iter().map(|rate| rate_text(*rate)).collect();
                let words = format!("{} has no frame rate of {rate}: choose one of {}.", codec.words, known.join(", "));
                faults.add("picture.frame_rate.rate", FaultCode::NotOfCodec, words);
            }
        }
        FrameRateRule::KeepVariable if codec.frame_rates != FrameRates::All => {
            let words = format!("{} needs a constant frame rate.", codec.words);
            faults.add("picture.frame_rate.rule", FaultCode::NotOfCodec, words);
        }
        FrameRateRule::Same | FrameRateRule::KeepVariable => {}
    }
}

fn size_faults(picture: &PictureSettings, faults: &mut Faults) {
    match picture.size {
        SizeRule::Same => {}
        SizeRule::Fraction { of } => {
            if !of.is_positive() || of > Rational::whole(4) {
                faults.range("picture.size.of", format!("{of} of the source is out of range: choose above 0 and at most 4."));
            }
        }
        SizeRule::Width { width, .. } => side_faults(width, "width", faults),
        SizeRule::Height { height, .. } => side_faults(height, "height", faults),
        SizeRule::Fit { width, height, .. } | SizeRule::Fill { width, height, .. } | SizeRule::Pad { width, height, .. } => {
            side_faults(width, "width", faults);
            side_faults(height, "height", faults);
        }
    }
    match picture.pixel_aspect {
        PixelAspectRule::Set(aspect) if aspect < Rational::constant(1, 8) || aspect > Rational::whole(8) => {
            faults.range("picture.pixel_aspect", format!("A pixel aspect of {aspect} is out of range: choose 1/8 to 8."));
        }
        PixelAspectRule::Set(_) | PixelAspectRule::Square | PixelAspectRule::Keep => {}
    }
    match picture.crop {
        CropRule::Shape { shape } if shape < Rational::constant(1, 8) || shape > Rational::whole(8) => {
            faults.range("picture.crop.shape", format!("A shape of {shape} is out of range: choose 1/8 to 8, such as 16/9."));
        }
        CropRule::Shape { .. } | CropRule::Never | CropRule::Bars | CropRule::ByHand { .. } => {}
    }
}

fn side_faults(side: u32, name: &str, faults: &mut Faults) {
    let field = format!("picture.size.{name}");
    if !(SMALLEST_SIDE..=LARGEST_SIDE).contains(&side) {
        faults.range(&field, format!("A {name} of {side} is out of range: choose {SMALLEST_SIDE} to {LARGEST_SIDE}."));
    } else if side % 2 == 1 {
        let (lower, higher) = (side - 1, side + 1);
        faults.range(&field, format!("A {name} of {side} is odd, which 4:2:0 colour cannot hold: choose {lower} or {higher}."));
    }
}

/// Speed and levels.
fn mending_faults(picture: &PictureSettings, faults: &mut Faults) {
    match picture.speed {
        SpeedRule::ToRate { rate } if !rate.is_positive() || rate > FASTEST_RATE => {
            let words = format!("A frame rate of {rate} is out of range: it must be above 0 and at most {FASTEST_RATE}.");
            faults.range("picture.speed.rate", words);
        }
        SpeedRule::Percent { percent } if percent < Rational::whole(50) || percent > Rational::whole(200) => {
            faults.range("picture.speed.percent", format!("A speed of {percent} % is out of range: choose 50 to 200."));
        }
        SpeedRule::Same | SpeedRule::ToRate { .. } | SpeedRule::Percent { .. } => {}
    }
    let adjustment = picture.adjustment;
    let ranges = [
        ("brightness", i32::from(adjustment.brightness), -100..=100),
        ("contrast", i32::from(adjustment.contrast), 0..=400),
        ("gamma", i32::from(adjustment.gamma), 10..=500),
        ("saturation", i32::from(adjustment.saturation), 0..=400),
    ];
    for (name, value, range) in ranges {
        if !range.contains(&value) {
            let words = format!("A {name} of {value} is out of range: choose {} to {}.", range.start(), range.end());
            faults.range(&format!("picture.adjustment.{name}"), words);
        }
    }
}

/// Names of other files, and sizes of what is laid over the picture.
fn overlay_faults(picture: &PictureSettings, faults: &mut Faults) {
    let mut ranged = |field: &str, name: &str, value: u8, range: std::ops::RangeInclusive<u8>| {
        if !range.contains(&value) {
            let words = format!("A {name} of {value} % is out of range: choose {} to {}.", range.start(), range.end());
            faults.range(&format!("picture.overlays.{field}"), words);
        }
    };
    if let Some(mark) = &picture.overlays.watermark {
        ranged("watermark.width", "watermark width", mark.width, 1..=100);
        ranged("watermark.margin", "watermark margin", mark.margin, 0..=40);
        ranged("watermark.opacity", "watermark opacity", mark.opacity, 1..=100);
    }
    ranged("burn_in.height", "text height", picture.overlays.burn_in.height, 2..=20);
    let lut = picture.colour.lut.iter().map(|name| ("picture.colour.lut", name));
    let mark = picture.overlays.watermark.iter().map(|mark| ("picture.overlays.watermark.picture", &mark.picture));
    for (field, name) in lut.chain(mark) {
        if name.trim().is_empty() || name.len() > 200 || name.contains('\0') {
            faults.add(field, FaultCode::NotUnderstood, format!("“{name}” is no name of a table or a picture."));
        }
    }
}

fn sound_faults(container: Container, sound: &SoundSettings, faults: &mut Faults) {
    let codec = sound.codec;
    if !codec.containers.contains(&container) {
        let held = names(codec.containers);
        let words = format!("{} cannot stand in {}: choose {held}, or another codec.", codec.words, container.words());
        faults.add("sound.codec", FaultCode::NotInContainer, words);
    }
    let sample_rates = match (&codec.coding, sound.bits_per_second) {
        (SoundCoding::Blocks(blocks), rate) => {
            let range = &blocks.rates;
            let (least, most) = (range.start() / 1000, range.end() / 1000);
            match rate {
                None => {
                    let words = format!("{} needs a rate: set sound.bits_per_second, such as 192000.", codec.words);
                    faults.add("sound.bits_per_second", FaultCode::Missing, words);
                }
                Some(rate) if !range.contains(&rate.0) => {
                    let words = format!("{rate} is out of range for {}: choose {least} to {most} kb/s.", codec.words);
                    faults.range("sound.bits_per_second", words);
                }
                Some(_) => {}
            }
            let rates = blocks.sample_rates;
            rates.first().zip(rates.last()).map(|(least, most)| *least..=*most)
        }
        (SoundCoding::Linear { sample_rates, .. }, _) => Some(sample_rates.clone()),
        (SoundCoding::Copied, _) => None,
    };
    if codec.blocks().is_none() && sound.bits_per_second.is_some() {
        let words = format!("A rate cannot be chosen for {}: leave sound.bits_per_second out.", codec.words);
        faults.add("sound.bits_per_second", FaultCode::NotOfCodec, words);
    }
    if let (Some(rate), Some(range)) = (sound.sample_rate, sample_rates)
        && !range.contains(&rate)
    {
        let (least, most) = (range.start(), range.end());
        let words = format!("{rate} samples a second are out of range for {}: choose {least} to {most}.", codec.words);
        faults.range("sound.sample_rate", words);
    }
    let Downmix { centre, surrounds, lfe, level } = sound.downmix;
    for (name, part) in [("centre", Some(centre)), ("surrounds", Some(surrounds)), ("lfe", lfe)] {
        if part.is_some_and(|part| !(-60..=6).contains(&part)) {
            let words = "What is mixed down may have -60 to 6 dB of itself.".to_owned();
            faults.range(&format!("sound.downmix.{name}"), words);
        }
    }
    if !(-24..=24).contains(&level) {
        let words = format!("{level} dB are out of range for the level of what is mixed down: choose -24 to 24.");
        faults.range("sound.downmix.level", words);
    }
    check_tracks(sound, faults);
    if codec.is_copy() && (sound.sample_rate.is_some() || sound.channels != ChannelRule::Same) {
        let words = "Sound that is left untouched keeps its channels and its sample rate.".to_owned();
        faults.add("sound.codec", FaultCode::Contradiction, words);
    }
}

fn check_tracks(sound: &SoundSettings, faults: &mut Faults) {
    if sound.tracks.len() > MOST_TRACKS {
        faults.range("sound.tracks", format!("{} tracks are too many: a file takes {MOST_TRACKS} at most.", sound.tracks.len()));
    }
    for (number, track) in (1..).zip(&sound.tracks) {
        if track.from.is_empty() {
            let words = format!("Track {number} is made of nothing: name a stream in “from”.");
            faults.add("sound.tracks", FaultCode::Missing, words);
        }
        if let Some(Err(error)) = track.matrix.as_ref().map(Matrix::check) {
            faults.range("sound.tracks", format!("The matrix of track {number} cannot be: {error}."));
        }
    }
    if sound.codec.is_copy() && !sound.takes_streams_whole() {
        let words = "Channels that are taken apart or put together cannot be left untouched: choose another codec.".to_owned();
        faults.add("sound.codec", FaultCode::Contradiction, words);
    }
}

//! Which settings go together, and what to say where they do not.

use super::{CropRule, FieldsRule, FrameRateRule, PictureSettings, PixelAspectRule, Preset, SizeRule, SoundSettings, SpeedRule};
use crate::formats::{Container, PictureCodec, Profile, RateControl, SoundCodec, level};
use crate::naming;
use crate::sound::downmix::Downmix;
use crate::time::{Rational, check_order};
use crate::units::BitRate;

/// The largest side that any encoder here takes.
pub(crate) const LARGEST_SIDE: u32 = 8192;
const SMALLEST_SIDE: u32 = 16;
const FASTEST_RATE: Rational = Rational::whole(240);

impl Preset {
    /// Everything that cannot be, in sentences; empty for a sound preset.
    #[must_use]
    pub fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        let id_is_plain = !self.id.is_empty()
            && self.id.len() <= 64
            && self.id.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
        if !id_is_plain {
            faults.push(format!("The id “{}” must have 1 to 64 lower-case letters, figures and hyphens.", self.id));
        }
        if self.name.trim().is_empty() {
            faults.push("The preset needs a name.".to_owned());
        }
        for (what, text, most) in [
            ("name", &self.name, 200),
            ("name pattern", &self.name_pattern, 500),
            ("advice when to use it", &self.use_when, 2000),
        ] {
            let letters = text.chars().count();
            if letters > most {
                faults.push(format!("The {what} has {letters} letters: at most {most} can be kept."));
            }
        }
        if self.picture.is_none() && self.sound.is_none() {
            faults.push("The preset has neither picture nor sound: give it one of them.".to_owned());
        }
        if let Err(fault) = naming::check_pattern(&self.name_pattern) {
            faults.push(fault.to_string());
        }
        if let Err(fault) = check_order(&self.parts) {
            faults.push(format!("The parts that are taken cannot be: {fault}."));
        }
        if let Some(picture) = &self.picture {
            picture_faults(self.container, picture, &mut faults);
        }
        if let Some(picture) = &self.picture {
            overlay_faults(picture, &mut faults);
        }
        if let Some(sound) = &self.sound {
            sound_faults(self.container, sound, &mut faults);
        }
        faults
    }
}

/// Whether the container can hold the picture codec.
#[must_use]
const fn holds_picture(container: Container, codec: PictureCodec) -> bool {
    match (container, codec) {
        (Container::Mov | Container::Mkv, _) => true,
        (Container::Mp4, PictureCodec::H264 | PictureCodec::Hevc | PictureCodec::Mpeg2) => true,
        (Container::Mp4, PictureCodec::Prores | PictureCodec::Ffv1) | (Container::Wav, _) => false,
    }
}

const fn holds_sound(container: Container, codec: SoundCodec) -> bool {
    match (container, codec) {
        (Container::Mov | Container::Mkv, _) => true,
        (Container::Mp4, SoundCodec::Aac | SoundCodec::Copy) => true,
        (Container::Mp4, SoundCodec::Pcm16 | SoundCodec::Pcm24) => false,
        (Container::Wav, SoundCodec::Pcm16 | SoundCodec::Pcm24) => true,
        (Container::Wav, SoundCodec::Aac | SoundCodec::Copy) => false,
    }
}

fn picture_faults(container: Container, picture: &PictureSettings, faults: &mut Vec<String>) {
    let codec = picture.codec;
    if !holds_picture(container, codec) {
        let instead = match container {
            Container::Wav => "WAV holds sound alone; choose MOV, MP4 or MKV",
            Container::Mp4 | Container::Mov | Container::Mkv => "choose MOV or MKV",
        };
        faults.push(format!("{} cannot stand in {}: {instead}.", codec.words(), container.words()));
    }
    let profile = picture.profile.unwrap_or(codec.usual_profile());
    if !codec.profiles().contains(&profile) {
        let known: Vec<_> = codec.profiles().iter().map(|profile| profile.words()).collect();
        faults.push(format!("{} has no profile {}: choose {}.", codec.words(), profile.words(), known.join(", ")));
    }
    rate_faults(picture, profile, faults);
    size_faults(picture, faults);
    mending_faults(picture, faults);
    match picture.frame_rate {
        FrameRateRule::Constant { rate, .. } | FrameRateRule::AtMost { rate } => {
            if !rate.is_positive() || rate > FASTEST_RATE {
                faults.push(format!("A frame rate of {rate} is out of range: it must be above 0 and at most {FASTEST_RATE}."));
            }
            if codec == PictureCodec::Mpeg2 && !level::mpeg2_has_rate(rate) {
                faults.push(format!("MPEG-2 has no frame rate of {rate}: choose 23.976, 24, 25, 29.97, 30, 50, 59.94 or 60."));
            }
        }
        FrameRateRule::KeepVariable if codec == PictureCodec::Mpeg2 => {
            faults.push("MPEG-2 needs a constant frame rate.".to_owned());
        }
        FrameRateRule::Same | FrameRateRule::KeepVariable => {}
    }
    if !picture.key_interval.is_positive() || picture.key_interval > Rational::whole(60) {
        faults.push("The distance of key frames must be above 0 and at most 60 seconds.".to_owned());
    }
    if picture.fields == FieldsRule::Keep && codec == PictureCodec::Hevc {
        faults.push("HEVC is written in whole frames only: choose to deinterlace, or another codec.".to_owned());
    }
}

fn rate_faults(picture: &PictureSettings, profile: Profile, faults: &mut Vec<String>) {
    let codec = picture.codec;
    let rate = match (codec, picture.rate) {
        (PictureCodec::Prores | PictureCodec::Ffv1, RateControl::ByProfile) => None,
        (PictureCodec::Prores | PictureCodec::Ffv1, _) => {
            faults.push(format!("The rate of {} follows from its profile: set the rate's mode to by_profile.", codec.words()));
            None
        }
        (_, RateControl::ByProfile) => {
            faults.push(format!("The profiles of {} set no rate: choose a quality or a bit rate.", codec.words()));
            None
        }
        (PictureCodec::Mpeg2, RateControl::ConstantQuality { crf }) if !(1..=31).contains(&crf) => {
            faults.push(format!("A quantiser of {crf} is out of range for MPEG-2: choose 1 to 31."));
            None
        }
        (_, RateControl::ConstantQuality { crf }) if crf > 51 => {
            faults.push(format!("A CRF of {crf} is out of range: choose 0 to 51."));
            None
        }
        (PictureCodec::H264, RateControl::ConstantQuality { crf: 0 })
            if !matches!(profile, Profile::High10 | Profile::High422) =>
        {
            faults.push(format!(
                "A CRF of 0 is lossless, which {} cannot hold: choose 1 or more, or FFV1 for lossless files.",
                profile.words()
            ));
            None
        }
        (_, RateControl::ConstantQuality { .. }) => None,
        (_, RateControl::Average { bits_per_second, passes, peak }) => {
            if let Some(peak) = peak.filter(|peak| *peak < bits_per_second) {
                faults
                    .push(format!("A highest rate of {peak} is below the mean of {bits_per_second}: raise it, or leave it out."));
            }
            if !(1..=2).contains(&passes) {
                faults.push(format!("{passes} passes are not possible: choose 1 or 2."));
            }
            Some(bits_per_second)
        }
        (_, RateControl::Constant { bits_per_second }) => Some(bits_per_second),
    };
    let Some(rate) = rate else { return };
    if rate < BitRate(16_000) || rate > BitRate(2_000_000_000) {
        faults.push(format!("A picture rate of {rate} is out of range: choose 16 kb/s to 2000 Mb/s."));
    }
    if let Some(asked) = picture.level {
        match level::highest_rate(codec, profile, asked) {
            None => faults.push(format!("{} has no level {asked}.", codec.words())),
            Some(highest) if rate > highest => faults.push(format!(
                "{rate} is more than {} {} at level {asked} may have ({highest}): lower the rate or raise the level.",
                codec.words(),
                profile.words()
            )),
            Some(_) => {}
        }
    }
}

fn size_faults(picture: &PictureSettings, faults: &mut Vec<String>) {
    match picture.size {
        SizeRule::Same => {}
        SizeRule::Fraction { of } => {
            if !of.is_positive() || of > Rational::whole(4) {
                faults.push(format!("{of} of the source is out of range: choose above 0 and at most 4."));
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
            faults.push(format!("A pixel aspect of {aspect} is out of range: choose 1/8 to 8."));
        }
        PixelAspectRule::Set(_) | PixelAspectRule::Square | PixelAspectRule::Keep => {}
    }
    match picture.crop {
        CropRule::Shape { shape } if shape < Rational::constant(1, 8) || shape > Rational::whole(8) => {
            faults.push(format!("A shape of {shape} is out of range: choose 1/8 to 8, such as 16/9."));
        }
        CropRule::Shape { .. } | CropRule::Never | CropRule::Bars | CropRule::ByHand { .. } => {}
    }
}

fn side_faults(side: u32, name: &str, faults: &mut Vec<String>) {
    if !(SMALLEST_SIDE..=LARGEST_SIDE).contains(&side) {
        faults.push(format!("A {name} of {side} is out of range: choose {SMALLEST_SIDE} to {LARGEST_SIDE}."));
    } else if side % 2 == 1 {
        faults.push(format!("A {name} of {side} is odd, which 4:2:0 colour cannot hold: choose {} or {}.", side - 1, side + 1));
    }
}

/// Speed and levels.
fn mending_faults(picture: &PictureSettings, faults: &mut Vec<String>) {
    match picture.speed {
        SpeedRule::ToRate { rate } if !rate.is_positive() || rate > FASTEST_RATE => {
            faults.push(format!("A frame rate of {rate} is out of range: it must be above 0 and at most {FASTEST_RATE}."));
        }
        SpeedRule::Percent { percent } if percent < Rational::whole(50) || percent > Rational::whole(200) => {
            faults.push(format!("A speed of {percent} % is out of range: choose 50 to 200."));
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
            faults.push(format!("A {name} of {value} is out of range: choose {} to {}.", range.start(), range.end()));
        }
    }
}

/// Names of other files, and sizes of what is laid over the picture.
fn overlay_faults(picture: &PictureSettings, faults: &mut Vec<String>) {
    let mut ranged = |name: &str, value: u8, range: std::ops::RangeInclusive<u8>| {
        if !range.contains(&value) {
            faults.push(format!("A {name} of {value} % is out of range: choose {} to {}.", range.start(), range.end()));
        }
    };
    if let Some(mark) = &picture.overlays.watermark {
        ranged("watermark width", mark.width, 1..=100);
        ranged("watermark margin", mark.margin, 0..=40);
        ranged("watermark opacity", mark.opacity, 1..=100);
    }
    ranged("text height", picture.overlays.burn_in.height, 2..=20);
    let names = picture.colour.lut.iter().chain(picture.overlays.watermark.as_ref().map(|mark| &mark.picture));
    for name in names.filter(|name| name.trim().is_empty() || name.len() > 200 || name.contains('\0')) {
        faults.push(format!("“{name}” is no name of a table or a picture."));
    }
}

fn sound_faults(container: Container, sound: &SoundSettings, faults: &mut Vec<String>) {
    if !holds_sound(container, sound.codec) {
        let instead = match (container, sound.codec) {
            (Container::Wav, _) => "choose PCM",
            (_, _) => "choose AAC, or MOV or MKV as the container",
        };
        faults.push(format!("{} cannot stand in {}: {instead}.", sound.codec.words(), container.words()));
    }
    match (sound.codec, sound.bits_per_second) {
        (SoundCodec::Aac, None) => faults.push("AAC needs a rate: set sound.bits_per_second, such as 192000.".to_owned()),
        (SoundCodec::Aac, Some(rate)) if !(BitRate(16_000)..=BitRate(1_024_000)).contains(&rate) => {
            faults.push(format!("{rate} is out of range for AAC: choose 16 to 1024 kb/s."));
        }
        (SoundCodec::Pcm16 | SoundCodec::Pcm24 | SoundCodec::Copy, Some(_)) => {
            faults.push(format!("A rate cannot be chosen for {}: leave sound.bits_per_second out.", sound.codec.words()));
        }
        (SoundCodec::Aac, Some(_)) | (SoundCodec::Pcm16 | SoundCodec::Pcm24 | SoundCodec::Copy, None) => {}
    }
    let rates = 8_000..=if sound.codec == SoundCodec::Aac { 96_000 } else { 192_000 };
    if let Some(rate) = sound.sample_rate
        && !rates.contains(&rate)
    {
        faults.push(format!(
            "{rate} samples a second are out of range for {}: choose {} to {}.",
            sound.codec.words(),
            rates.start(),
            rates.end()
        ));
    }
    let Downmix { centre, surrounds, lfe, level } = sound.downmix;
    if [Some(centre), Some(surrounds), lfe].into_iter().flatten().any(|part| !(-60..=6).contains(&part)) {
        faults.push("What is mixed down may have -60 to 6 dB of itself.".to_owned());
    }
    if !(-24..=24).contains(&level) {
        faults.push(format!("{level} dB are out of range for the level of what is mixed down: choose -24 to 24."));
    }
    if sound.codec == SoundCodec::Copy && (sound.sample_rate.is_some() || sound.channels != super::ChannelRule::Same) {
        faults.push("Sound that is left untouched keeps its channels and its sample rate.".to_owned());
    }
}

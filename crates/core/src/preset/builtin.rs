//! The presets that come with the program, named by the role of the file they make.

use super::{
    Adjustment, Carry, ChannelRule, Cleaning, ColourSettings, CropRule, Deinterlacing, FieldsRule, FrameRateRule, Lead,
    MixtureRule, Overlays, PictureSettings, Pitch, PixelAspectRule, Preset, SCHEMA_VERSION, SizeRule, SoundSettings,
    SoundStreams, SpeedRule, TelecineRule,
};
use crate::formats::{Container, Effort, PictureCodec, Profile, RateControl, SoundCodec};
use crate::sound::downmix::Downmix;
use crate::time::Rational;
use crate::units::BitRate;

/// The built-in preset with this id.
#[must_use]
pub fn builtin(id: &str) -> Option<Preset> {
    builtin_presets().into_iter().find(|preset| preset.id == id)
}

/// All built-in presets, those that people need first in front.
#[must_use]
pub fn builtin_presets() -> Vec<Preset> {
    vec![
        Preset {
            picture: Some(PictureSettings { rate: average(8_000_000), size: fit(1920, 1080), ..picture(PictureCodec::H264) }),
            sound: Some(aac(192_000, ChannelRule::Stereo, SoundStreams::First)),
            ..preset("web-1080", "Web 1080", Container::Mp4, "For video hosts and web pages that show full HD.")
        },
        Preset {
            picture: Some(PictureSettings { rate: average(4_000_000), size: fit(1280, 720), ..picture(PictureCodec::H264) }),
            sound: Some(aac(160_000, ChannelRule::Stereo, SoundStreams::First)),
            ..preset("web-720", "Web 720", Container::Mp4, "For web pages and slower lines where 720 lines are enough.")
        },
        Preset {
            picture: Some(PictureSettings {
                rate: RateControl::ConstantQuality { crf: 28 },
                size: fit(960, 540),
                frame_rate: FrameRateRule::AtMost { rate: Rational::whole(30) },
                ..picture(PictureCodec::H264)
            }),
            sound: Some(aac(96_000, ChannelRule::Stereo, SoundStreams::First)),
            ..preset(
                "review-small",
                "Review, small",
                Container::Mp4,
                "For a client on a slow line who judges content, not picture quality.",
            )
        },
        Preset {
            picture: Some(PictureSettings {
                profile: Some(Profile::Main10),
                rate: RateControl::ConstantQuality { crf: 20 },
                ..picture(PictureCodec::Hevc)
            }),
            sound: Some(aac(256_000, ChannelRule::Same, SoundStreams::All)),
            ..preset(
                "delivery-hevc",
                "Delivery HEVC 10 bit",
                Container::Mp4,
                "For a finished file of high quality and moderate size, with all languages, 10 bit deep.",
            )
        },
        Preset {
            picture: Some(PictureSettings {
                fields: FieldsRule::Keep,
                pixel_aspect: PixelAspectRule::Keep,
                ..prores(Profile::Hq)
            }),
            sound: Some(pcm(SoundCodec::Pcm24)),
            ..preset(
                "master-keeper",
                "Master keeper",
                Container::Mov,
                "For the archive: size, fields, rate and all sound as they are, in a codec that loses next to nothing.",
            )
        },
        Preset {
            picture: Some(prores(Profile::Lt)),
            sound: Some(pcm(SoundCodec::Pcm24)),
            ..preset(
                "edit-friendly",
                "Edit-friendly",
                Container::Mov,
                "For material that stutters in the edit: every frame stands alone, the rate is constant.",
            )
        },
        Preset {
            picture: Some(PictureSettings {
                rate: RateControl::ConstantQuality { crf: 26 },
                effort: Effort::Quick,
                size: SizeRule::Fraction { of: Rational::constant(1, 2) },
                key_interval: Rational::constant(1, 2),
                ..picture(PictureCodec::H264)
            }),
            sound: Some(aac(128_000, ChannelRule::Same, SoundStreams::All)),
            name_pattern: "{source}_proxy".to_owned(),
            ..preset(
                "light-proxy",
                "Light proxy",
                Container::Mov,
                "For cutting on a laptop: half the size, the same timecode and sound streams, quick to make.",
            )
        },
        Preset {
            picture: Some(PictureSettings {
                rate: RateControl::ConstantQuality { crf: 30 },
                size: fit(1280, 720),
                frame_rate: FrameRateRule::AtMost { rate: Rational::whole(12) },
                key_interval: Rational::whole(5),
                ..picture(PictureCodec::H264)
            }),
            sound: Some(aac(48_000, ChannelRule::Mono, SoundStreams::First)),
            ..preset(
                "screen-page",
                "Screen recording for a page",
                Container::Mp4,
                "For screen recordings on a web page: few frames a second, one channel, very small.",
            )
        },
        Preset {
            picture: None,
            sound: Some(pcm(SoundCodec::Pcm24)),
            ..preset("sound-only", "Sound only", Container::Wav, "For the sound room: the sound alone, uncompressed.")
        },
        Preset {
            picture: Some(PictureSettings {
                rate: RateControl::ConstantQuality { crf: 18 },
                frame_rate: FrameRateRule::KeepVariable,
                ..picture(PictureCodec::H264)
            }),
            sound: Some(aac(256_000, ChannelRule::Same, SoundStreams::All)),
            ..preset(
                "same-h264",
                "Same as source, H.264",
                Container::Mp4,
                "For a file that plays anywhere with the size and rate of its source and hardly a visible loss.",
            )
        },
    ]
}

/// The preset of viewing copies: small, quick to make, quick to jump in, with the source's frame
/// rate, so that what stands beside it shows the same moments.
#[must_use]
pub fn viewing_preset(with_picture: bool) -> Preset {
    let small = PictureSettings {
        rate: RateControl::ConstantQuality { crf: 26 },
        effort: Effort::Quick,
        key_interval: Rational::constant(1, 2),
        size: fit(960, 540),
        // Every frame of the source has its own in the copy.
        telecine: TelecineRule::Never,
        ..picture(PictureCodec::H264)
    };
    Preset {
        picture: with_picture.then_some(small),
        sound: Some(aac(96_000, ChannelRule::Stereo, SoundStreams::First)),
        carry: Carry { timecode: false, chapters: false, tags: false },
        ..preset("viewing-copy", "Viewing copy", Container::Mp4, "For looking at a source in the page.")
    }
}

fn preset(id: &str, name: &str, container: Container, use_when: &str) -> Preset {
    Preset {
        schema: SCHEMA_VERSION,
        id: id.to_owned(),
        name: name.to_owned(),
        use_when: use_when.to_owned(),
        container,
        picture: None,
        sound: None,
        carry: Carry::default(),
        parts: Vec::new(),
        salvage: false,
        name_pattern: super::default_name_pattern(),
    }
}

fn picture(codec: PictureCodec) -> PictureSettings {
    PictureSettings {
        codec,
        profile: None,
        level: None,
        rate: RateControl::ConstantQuality { crf: 20 },
        effort: Effort::Balanced,
        key_interval: super::default_key_interval(),
        size: SizeRule::Same,
        pixel_aspect: PixelAspectRule::Square,
        frame_rate: FrameRateRule::Same,
        lead: Lead::Hold,
        fields: FieldsRule::WhenNeeded,
        deinterlacing: Deinterlacing::default(),
        telecine: TelecineRule::WhenNeeded,
        mixture: MixtureRule::VideoRate,
        crop: CropRule::Never,
        speed: SpeedRule::Same,
        cleaning: Cleaning::default(),
        adjustment: Adjustment::default(),
        colour: ColourSettings::default(),
        overlays: Overlays::default(),
        greyscale: false,
    }
}

fn prores(profile: Profile) -> PictureSettings {
    PictureSettings { profile: Some(profile), rate: RateControl::ByProfile, ..picture(PictureCodec::Prores) }
}

const fn average(bits_per_second: u64) -> RateControl {
    RateControl::Average { bits_per_second: BitRate(bits_per_second), passes: 2, peak: None }
}

const fn fit(width: u32, height: u32) -> SizeRule {
    SizeRule::Fit { width, height, enlarge: false }
}

fn aac(bits_per_second: u64, channels: ChannelRule, streams: SoundStreams) -> SoundSettings {
    SoundSettings {
        codec: SoundCodec::Aac,
        bits_per_second: Some(BitRate(bits_per_second)),
        channels,
        sample_rate: Some(48_000),
        downmix: Downmix::default(),
        pitch: Pitch::Keep,
        streams,
    }
}

fn pcm(codec: SoundCodec) -> SoundSettings {
    SoundSettings {
        codec,
        bits_per_second: None,
        channels: ChannelRule::Same,
        sample_rate: None,
        streams: SoundStreams::All,
        downmix: Downmix::default(),
        pitch: Pitch::Keep,
    }
}

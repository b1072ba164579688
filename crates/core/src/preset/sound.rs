//! The sound's settings.

use beryl_settings::{Choices, Settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::catalogue::{Offer, offers};
use crate::formats::SoundCodec;
use crate::sound::downmix::{Downmix, DownmixPatch};
use crate::sound::track::TrackWish;
use crate::time::Rational;
use crate::units::BitRate;

/// The sound's settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields)]
pub struct SoundSettings {
    /// The codec.
    #[setting(name = "Audio codec")]
    pub codec: SoundCodec,
    /// Of a stream of two channels, for codecs with a rate of their own (AAC): others get as much for each channel,
    /// unless the number of channels is asked for.
    #[serde(default)]
    #[setting(name = "Audio bit rate", least = 16_000, most = 1_024_000, offers = kilobits())]
    pub bits_per_second: Option<BitRate>,
    /// The channels.
    #[serde(default)]
    #[setting(name = "Audio channels")]
    pub channels: ChannelRule,
    /// Samples a second; left out, as the source where the codec can hold it.
    #[serde(default)]
    #[setting(name = "Sample rate", unit = "Hz", least = 8000, most = 192_000, offers = offers(&[48_000, 44_100, 96_000], " Hz"))]
    pub sample_rate: Option<u32>,
    /// Which streams are taken.
    #[serde(default)]
    #[setting(name = "Audio streams")]
    pub streams: SoundStreams,
    /// The tracks that are made, one by one, instead of those by the streams.
    #[serde(default)]
    #[setting(name = "Audio tracks")]
    pub tracks: Vec<TrackWish>,
    /// In which files they are.
    #[serde(default)]
    #[setting(name = "Audio files")]
    pub files: SoundFiles,
    /// How more channels become two or one.
    #[serde(default)]
    #[setting(nested)]
    pub downmix: Downmix,
    /// What becomes of the pitch where the output plays at another speed.
    #[serde(default)]
    #[setting(name = "Pitch at another speed")]
    pub pitch: Pitch,
}

/// Tracks of one output at most.
pub const MOST_TRACKS: usize = 64;

impl SoundSettings {
    /// Whether each track is a stream as it is.
    #[must_use]
    pub fn takes_streams_whole(&self) -> bool {
        let is_whole =
            |track: &TrackWish| track.matrix.is_none() && matches!(track.from.as_slice(), [one] if one.channels.is_empty());
        match self.streams {
            _ if !self.tracks.is_empty() => self.tracks.iter().all(is_whole),
            SoundStreams::First | SoundStreams::All => true,
            SoundStreams::Channels | SoundStreams::Joined => false,
        }
    }
}

/// What becomes of the pitch at another speed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum Pitch {
    /// It is kept: sound is stretched.
    #[default]
    #[setting(name = "kept")]
    Keep,
    /// It goes with the speed, as it does where a film runs faster.
    #[setting(name = "follows the speed")]
    Follow,
}

/// The channels of the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum ChannelRule {
    /// As the source.
    #[default]
    #[setting(name = "as the source")]
    Same,
    /// One channel.
    #[setting(name = "mono")]
    Mono,
    /// Two channels; more are mixed down after ITU-R BS.775, one is given to both.
    #[setting(name = "stereo")]
    Stereo,
}

/// Which sound streams are taken, and what tracks they become.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum SoundStreams {
    /// The one that is marked as default, or the first.
    #[setting(name = "default or first")]
    First,
    /// All of them, each as a track.
    #[default]
    #[setting(name = "all")]
    All,
    /// Every channel of every stream as a track of its own.
    #[setting(name = "a track for each channel")]
    Channels,
    /// The channels of all streams in one track.
    #[setting(name = "all in one track")]
    Joined,
}

/// In which files sound streams are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema, Choices)]
#[serde(rename_all = "snake_case")]
pub enum SoundFiles {
    /// In the output's one file.
    #[default]
    #[setting(name = "in the output's file")]
    Together,
    /// Each in a file of its own: a WAV beside the picture, or as many files as there are tracks.
    #[setting(name = "a file for each track")]
    Apart,
}

/// Rates of sound that are often taken.
fn kilobits() -> Vec<Offer> {
    let offer = |kilobits: i64| Offer { value: Rational::whole(kilobits * 1000), words: format!("{kilobits} kb/s") };
    [192, 64, 96, 128, 256, 320].map(offer).to_vec()
}

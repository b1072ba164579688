//! The sound's settings.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::formats::SoundCodec;
use crate::sound::downmix::Downmix;
use crate::units::BitRate;

/// The sound's settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SoundSettings {
    /// The codec.
    pub codec: SoundCodec,
    /// Of a stream of two channels, for codecs with a rate of their own (AAC): others get as much for each channel,
    /// unless the number of channels is asked for.
    #[serde(default)]
    pub bits_per_second: Option<BitRate>,
    /// The channels.
    #[serde(default)]
    pub channels: ChannelRule,
    /// Samples a second; left out, as the source where the codec can hold it.
    #[serde(default)]
    pub sample_rate: Option<u32>,
    /// Which streams are taken.
    #[serde(default)]
    pub streams: SoundStreams,
    /// How more channels become two or one.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub downmix: Downmix,
    /// What becomes of the pitch where the output plays at another speed.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub pitch: Pitch,
}

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// What becomes of the pitch at another speed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Pitch {
    /// It is kept: sound is stretched.
    #[default]
    Keep,
    /// It goes with the speed, as it does where a film runs faster.
    Follow,
}

/// The channels of the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ChannelRule {
    /// As the source.
    #[default]
    Same,
    /// One channel.
    Mono,
    /// Two channels; more are mixed down after ITU-R BS.775, one is given to both.
    Stereo,
}

/// Which sound streams are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SoundStreams {
    /// The one that is marked as default, or the first.
    First,
    /// All of them.
    #[default]
    All,
}

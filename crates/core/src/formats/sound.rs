//! Sound codecs.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Sound codecs that can be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SoundCodec {
    /// AAC-LC (ISO/IEC 14496-3).
    Aac,
    /// Linear PCM, 16 bit.
    Pcm16,
    /// Linear PCM, 24 bit.
    Pcm24,
    /// The source's own stream, untouched.
    Copy,
}

impl SoundCodec {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Aac => "AAC",
            Self::Pcm16 => "PCM 16 bit",
            Self::Pcm24 => "PCM 24 bit",
            Self::Copy => "sound untouched",
        }
    }
}

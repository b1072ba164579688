//! File formats.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// File formats that can be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Container {
    /// MPEG-4 Part 14 (ISO/IEC 14496-14), its index in front.
    Mp4,
    /// QuickTime.
    Mov,
    /// Matroska (RFC 9559).
    Mkv,
    /// Wave, as RF64 (EBU Tech 3306) where it passes 4 GB.
    Wav,
}

impl Container {
    /// The file extension, without its point.
    #[must_use]
    pub const fn extension(self) -> &'static str {
        match self {
            Self::Mp4 => "mp4",
            Self::Mov => "mov",
            Self::Mkv => "mkv",
            Self::Wav => "wav",
        }
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Mp4 => "MP4",
            Self::Mov => "MOV",
            Self::Mkv => "MKV",
            Self::Wav => "WAV",
        }
    }
}

//! Picture codecs and their profiles.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Picture codecs that can be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PictureCodec {
    /// H.264 / AVC (ITU-T H.264).
    H264,
    /// HEVC (ITU-T H.265).
    Hevc,
    /// ProRes (SMPTE RDD 36).
    Prores,
    /// MPEG-2 video (ISO/IEC 13818-2).
    Mpeg2,
    /// FFV1 (RFC 9043): every sample comes out as it went in.
    Ffv1,
}

/// Profiles of the picture codecs; each belongs to some codecs only.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Profile {
    /// H.264 without B frames, for very old players.
    Baseline,
    /// H.264, HEVC (8 bit) and MPEG-2 (4:2:0).
    Main,
    /// H.264, 8 bit.
    High,
    /// H.264, 10 bit, 4:2:0.
    High10,
    /// H.264, up to 10 bit, 4:2:2.
    High422,
    /// HEVC, 10 bit, 4:2:0.
    Main10,
    /// HEVC, 10 bit, 4:2:2.
    #[serde(rename = "main422_10")]
    Main42210,
    /// MPEG-2, 4:2:2.
    #[serde(rename = "mpeg2_422")]
    Mpeg2422,
    /// ProRes 422 Proxy.
    Proxy,
    /// ProRes 422 LT.
    Lt,
    /// ProRes 422.
    Standard,
    /// ProRes 422 HQ.
    Hq,
    /// ProRes 4444.
    #[serde(rename = "4444")]
    P4444,
    /// ProRes 4444 XQ.
    #[serde(rename = "4444xq")]
    P4444Xq,
    /// FFV1.
    Lossless,
}

impl PictureCodec {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::H264 => "H.264",
            Self::Hevc => "HEVC",
            Self::Prores => "ProRes",
            Self::Mpeg2 => "MPEG-2",
            Self::Ffv1 => "FFV1",
        }
    }

    /// The codec's name as a probe reports it.
    #[must_use]
    pub const fn probe_name(self) -> &'static str {
        match self {
            Self::H264 => "h264",
            Self::Hevc => "hevc",
            Self::Prores => "prores",
            Self::Mpeg2 => "mpeg2video",
            Self::Ffv1 => "ffv1",
        }
    }

    /// The profile taken where a preset names none.
    #[must_use]
    pub const fn usual_profile(self) -> Profile {
        match self {
            Self::H264 => Profile::High,
            Self::Hevc | Self::Mpeg2 => Profile::Main,
            Self::Prores => Profile::Standard,
            Self::Ffv1 => Profile::Lossless,
        }
    }

    /// The profiles that belong to it.
    #[must_use]
    pub const fn profiles(self) -> &'static [Profile] {
        match self {
            Self::H264 => &[Profile::Baseline, Profile::Main, Profile::High, Profile::High10, Profile::High422],
            Self::Hevc => &[Profile::Main, Profile::Main10, Profile::Main42210],
            Self::Prores => &[Profile::Proxy, Profile::Lt, Profile::Standard, Profile::Hq, Profile::P4444, Profile::P4444Xq],
            Self::Mpeg2 => &[Profile::Main, Profile::Mpeg2422],
            Self::Ffv1 => &[Profile::Lossless],
        }
    }
}

impl Profile {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Baseline => "Baseline",
            Self::Main => "Main",
            Self::High => "High",
            Self::High10 => "High 10",
            Self::High422 => "High 4:2:2",
            Self::Main10 => "Main 10",
            Self::Main42210 => "Main 4:2:2 10",
            Self::Mpeg2422 => "4:2:2",
            Self::Proxy => "422 Proxy",
            Self::Lt => "422 LT",
            Self::Standard => "422",
            Self::Hq => "422 HQ",
            Self::P4444 => "4444",
            Self::P4444Xq => "4444 XQ",
            Self::Lossless => "lossless",
        }
    }
}

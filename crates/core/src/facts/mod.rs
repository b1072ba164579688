//! The facts of a source: what its headers say, and its streams as they were counted.

mod moments;
pub mod viewing;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::formats::Level;
use crate::picture::{Colour, FieldOrder, Hdr, Orientation, PixelFormat};
use crate::time::{Rational, rate_text};
use crate::units::{BitRate, ByteSize};

pub use moments::MomentError;

/// The facts of a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Facts {
    /// The container in the library's short name, such as `mov` or `matroska`.
    pub container: String,
    /// The container in words.
    pub container_name: String,
    /// Bytes on disk, of all files for an image sequence.
    pub size: ByteSize,
    /// Seconds from the first to the end of the last sample, where known.
    pub duration: Option<Rational>,
    /// The first time stamp in seconds.
    pub start: Rational,
    /// Over everything.
    pub bit_rate: Option<BitRate>,
    /// The timecode of the first frame as written in the file.
    pub timecode: Option<String>,
    /// The name of the tape or reel.
    pub reel: Option<String>,
    /// Title, date and the like.
    pub tags: BTreeMap<String, String>,
    /// Named parts.
    pub chapters: Vec<Chapter>,
    /// All streams in the order of the file.
    pub streams: Vec<Stream>,
    /// What a reader should be told although it hinders nothing.
    #[serde(default)]
    pub remarks: Vec<String>,
    /// Bytes that the file's own structure announces and that are not there: it was cut.
    #[serde(default)]
    pub missing: Option<ByteSize>,
}

/// A named part of a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Chapter {
    /// Seconds.
    pub start: Rational,
    /// Seconds.
    pub end: Rational,
    /// Its name, which may be empty.
    pub title: String,
}

/// One stream of a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Stream {
    /// Its place in the file, from 0.
    pub index: u32,
    /// The codec in the library's short name, such as `h264` or `prores`.
    pub codec: String,
    /// The codec's four characters in the container, where it has them.
    pub codec_tag: String,
    /// The profile in words, such as `High` or `HQ`.
    pub profile: Option<String>,
    /// The level, for codecs that have levels.
    #[serde(default)]
    pub level: Option<Level>,
    /// Of this stream alone.
    pub bit_rate: Option<BitRate>,
    /// Seconds of the file's clock at which it begins: its first decoded picture or sample, or the word of the
    /// header where nothing could be decoded; nothing where that has none either.
    pub start: Option<Rational>,
    /// Seconds, where the header tells.
    pub duration: Option<Rational>,
    /// ISO 639 code.
    pub language: Option<String>,
    /// Title of the stream.
    pub title: Option<String>,
    /// Roles such as `default`, `forced`, `attached_pic`.
    pub roles: Vec<String>,
    /// What the stream holds.
    pub content: Content,
}

impl Stream {
    /// The codec's name in the trade, with its profile.
    #[must_use]
    pub fn codec_words(&self) -> String {
        let name = match self.codec.as_str() {
            "h264" => "H.264",
            "hevc" => "HEVC",
            "prores" => "ProRes",
            "mpeg2video" => "MPEG-2",
            "mpeg1video" => "MPEG-1",
            "dvvideo" => "DV",
            "dnxhd" => "DNxHD/DNxHR",
            "av1" => "AV1",
            "vp8" => "VP8",
            "vp9" => "VP9",
            "mjpeg" => "Motion JPEG",
            "aac" => "AAC",
            "mp3" => "MP3",
            "ac3" => "AC-3",
            "opus" => "Opus",
            "flac" => "FLAC",
            codec if codec.starts_with("pcm_s16") => "PCM 16 bit",
            codec if codec.starts_with("pcm_s24") => "PCM 24 bit",
            codec if codec.starts_with("pcm_s32") => "PCM 32 bit",
            codec => codec,
        };
        match self.profile.as_deref().filter(|profile| !name.contains(profile)) {
            Some(profile) => format!("{name} {profile}"),
            None => name.to_owned(),
        }
    }
}

/// What a stream holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Content {
    /// Moving picture, or a still attached to the file.
    Picture(Box<Picture>),
    /// Sound.
    Sound(Sound),
    /// Subtitles.
    Subtitles {
        /// Whether they are drawn, such as those of discs and broadcasts, and hold no text.
        #[serde(default)]
        are_pictures: bool,
    },
    /// A file carried along, such as a font.
    Attachment,
    /// Timecode tracks and other data.
    Data,
}

/// The facts of a picture stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Picture {
    /// Coded columns.
    pub width: u32,
    /// Coded lines.
    pub height: u32,
    /// Width of a pixel over its height.
    pub pixel_aspect: Rational,
    /// The pixel format.
    pub pixel_format: PixelFormat,
    /// Bits of one component.
    pub depth: u32,
    /// Frames a second; the average where they vary.
    pub frame_rate: Option<Rational>,
    /// Whether the distance of frames varies, found from their time stamps.
    pub varies: bool,
    /// Frames a second by the distance that most frames have, where it varies.
    #[serde(default)]
    pub dominant_rate: Option<Rational>,
    /// How many frames, where the file tells.
    pub frames: Option<u64>,
    /// Whether they were counted one by one rather than declared.
    #[serde(default)]
    pub frames_are_counted: bool,
    /// As the header declares it.
    pub field_order: FieldOrder,
    /// What the numbers of the picture mean.
    pub colour: Colour,
    /// HDR metadata of the stream.
    pub hdr: Option<Hdr>,
    /// How the picture is brought upright for viewing.
    #[serde(default, alias = "rotation")]
    pub orientation: Orientation,
    /// A cover or poster rather than moving picture.
    pub still: bool,
}

/// The facts of a sound stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sound {
    /// How many channels.
    pub channels: u32,
    /// The layout in the library's words, such as `stereo` or `5.1(side)`.
    pub layout: String,
    /// Samples a second.
    pub sample_rate: u32,
    /// Bits of one sample, where it has a fixed number.
    pub bits: Option<u32>,
}

impl Facts {
    /// Whether the clock of the file may jump: in streams that are made to be cut and joined.
    #[must_use]
    pub fn clock_may_jump(&self) -> bool {
        matches!(self.container.as_str(), "mpeg" | "mpegts" | "ogg")
    }

    /// The first moving picture.
    #[must_use]
    pub fn picture(&self) -> Option<(&Stream, &Picture)> {
        self.streams.iter().find_map(|stream| match &stream.content {
            Content::Picture(picture) if !picture.still => Some((stream, &**picture)),
            Content::Picture(_) | Content::Sound(_) | Content::Subtitles { .. } | Content::Attachment | Content::Data => None,
        })
    }

    /// All sound streams.
    pub fn sounds(&self) -> impl Iterator<Item = (&Stream, &Sound)> {
        self.streams.iter().filter_map(|stream| match &stream.content {
            Content::Sound(sound) => Some((stream, sound)),
            Content::Picture(_) | Content::Subtitles { .. } | Content::Attachment | Content::Data => None,
        })
    }

    /// One line for a row: size, rate or fields, bit rate or sound.
    #[must_use]
    pub fn summary(&self) -> String {
        let Some((_, picture)) = self.picture() else {
            return match self.sounds().next() {
                Some((_, sound)) => format!("sound only · {} · {} kHz", sound.layout, f64::from(sound.sample_rate) / 1e3),
                None => "neither picture nor sound".to_owned(),
            };
        };
        let size = format!("{}×{}", picture.width, picture.height);
        if picture.field_order.is_interlaced() {
            return format!("{size} · {}", picture.field_order.words());
        }
        let mut parts = vec![size];
        match picture.frame_rate {
            _ if picture.varies => parts.push("variable rate".to_owned()),
            Some(rate) => parts.push(format!("{}p", rate_text(rate))),
            None => {}
        }
        let languages: std::collections::BTreeSet<_> = self.sounds().filter_map(|(stream, _)| stream.language.as_ref()).collect();
        match (languages.len(), self.bit_rate) {
            (2.., _) => parts.push(format!("{} languages", languages.len())),
            (_, Some(rate)) => parts.push(rate.to_string()),
            (_, None) => {}
        }
        parts.join(" · ")
    }
}

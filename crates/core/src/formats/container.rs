//! File formats.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::catalogue::{Choice, Kind, Valued};

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

/// All that is known of a container.
#[derive(Debug)]
pub struct ContainerTraits {
    /// Its word in documents, and the file extension without its point.
    pub extension: &'static str,
    /// Its name in the trade.
    pub words: &'static str,
    /// What it is good for, where the name does not say all.
    pub because: &'static str,
    /// Its name as a probe reports it.
    pub probe_name: &'static str,
    /// Whether it holds sound alone.
    pub is_sound_alone: bool,
    /// Whether its index stands in front, so that it plays while it loads.
    pub index_in_front: bool,
    /// Sound streams at most.
    pub most_sounds: usize,
    /// Where chapters can begin.
    pub chapters: Chapters,
    /// How it keeps a start timecode.
    pub timecode: TimecodeAs,
    /// Whether it keeps languages, titles and other tags of streams.
    pub keeps_tags: bool,
    /// The roles of streams that it keeps.
    pub roles: &'static [&'static str],
    /// Whether it says where the channels of uncompressed sound belong.
    pub places_channels_of_pcm: bool,
    /// Whether the shape of pixels is told by how many whole columns are shown.
    pub aspect_in_columns: bool,
    /// Whether what primes a sound decoder, and what fills its last block up, is told packet by packet; elsewhere edit
    /// lists do.
    pub trims_in_packets: bool,
    /// What it adds to what it holds, in bytes.
    pub overhead: Overhead,
}

/// Where chapters can begin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Chapters {
    /// There are none.
    None,
    /// The first begins with the file.
    FromTheStart,
    /// Anywhere.
    Anywhere,
}

/// How a container keeps a start timecode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimecodeAs {
    /// As a track.
    Track,
    /// As a tag.
    Tag,
}

impl TimecodeAs {
    /// As the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Track => "as a timecode track",
            Self::Tag => "as a tag",
        }
    }
}

/// What a container adds, in bytes.
#[derive(Debug, Clone, Copy)]
pub struct Overhead {
    /// In any case.
    pub always: f64,
    /// For each frame.
    pub of_frame: f64,
    /// For each packet of sound.
    pub of_sound: f64,
}

impl Container {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 4] = [Self::Mp4, Self::Mov, Self::Mkv, Self::Wav];

    /// All that is known of it.
    #[must_use]
    pub const fn traits(self) -> &'static ContainerTraits {
        match self {
            Self::Mp4 => &MP4,
            Self::Mov => &MOV,
            Self::Mkv => &MKV,
            Self::Wav => &WAV,
        }
    }

    /// The file extension, without its point.
    #[must_use]
    pub const fn extension(self) -> &'static str {
        self.traits().extension
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        self.traits().words
    }
}

static MP4: ContainerTraits = ContainerTraits {
    extension: "mp4",
    words: "MP4",
    because: ", its index in front so that it plays while it loads",
    probe_name: "mov",
    is_sound_alone: false,
    index_in_front: true,
    most_sounds: usize::MAX,
    chapters: Chapters::FromTheStart,
    timecode: TimecodeAs::Track,
    keeps_tags: true,
    // Only which track is on.
    roles: &["default"],
    places_channels_of_pcm: true,
    aspect_in_columns: false,
    trims_in_packets: false,
    // The room that is left for an index in front: for frames and packets of sound, one of each behind the other.
    overhead: Overhead { always: 4_000.0, of_frame: 34.0, of_sound: 15.0 },
};

static MOV: ContainerTraits = ContainerTraits {
    extension: "mov",
    words: "MOV",
    because: "",
    probe_name: "mov",
    is_sound_alone: false,
    index_in_front: false,
    most_sounds: usize::MAX,
    chapters: Chapters::FromTheStart,
    timecode: TimecodeAs::Track,
    keeps_tags: true,
    roles: &["default"],
    places_channels_of_pcm: true,
    aspect_in_columns: false,
    trims_in_packets: false,
    // stsz 4, ctts 8 and chunk offsets a frame; stsz 4 and offsets a packet of sound.
    overhead: Overhead { always: 2_500.0, of_frame: 16.0, of_sound: 5.0 },
};

static MKV: ContainerTraits = ContainerTraits {
    extension: "mkv",
    words: "MKV",
    because: "",
    probe_name: "matroska",
    is_sound_alone: false,
    index_in_front: false,
    most_sounds: usize::MAX,
    chapters: Chapters::Anywhere,
    timecode: TimecodeAs::Tag,
    keeps_tags: true,
    roles: &["default", "forced", "original", "comment", "hearing_impaired", "visual_impaired"],
    places_channels_of_pcm: false,
    aspect_in_columns: true,
    trims_in_packets: true,
    overhead: Overhead { always: 5_000.0, of_frame: 9.0, of_sound: 9.0 },
};

static WAV: ContainerTraits = ContainerTraits {
    extension: "wav",
    words: "WAV",
    because: "",
    probe_name: "wav",
    is_sound_alone: true,
    index_in_front: false,
    most_sounds: 1,
    chapters: Chapters::None,
    timecode: TimecodeAs::Track,
    keeps_tags: false,
    roles: &[],
    places_channels_of_pcm: true,
    aspect_in_columns: false,
    trims_in_packets: false,
    overhead: Overhead { always: 100.0, of_frame: 0.0, of_sound: 0.0 },
};

impl Valued for Container {
    fn kind() -> Kind {
        let choice = |container: Self| Choice::new(container, container.words(), "");
        Kind::Choice { of: Self::ALL.into_iter().map(choice).collect(), or_fraction: None }
    }
}

//! Sound codecs: each is one declaration.

use std::ops::RangeInclusive;

use super::Container;
use super::declared::declared;

/// All that is known of a sound codec that can be written.
#[derive(Debug)]
pub struct SoundDeclaration {
    /// Its word in documents.
    pub id: &'static str,
    /// Its name in the trade.
    pub words: &'static str,
    /// Its word in the names of files.
    pub file_word: &'static str,
    /// The containers that hold it, so that others can read it there.
    pub containers: &'static [Container],
    /// How it codes.
    pub coding: SoundCoding,
}

/// How a sound codec codes.
#[derive(Debug)]
pub enum SoundCoding {
    /// The source's own stream is taken over as it is.
    Copied,
    /// Sample by sample.
    Linear {
        /// Its name as a probe reports it.
        probe_name: &'static str,
        /// Bits of a sample.
        bits: u32,
        /// Samples a second.
        sample_rates: RangeInclusive<u32>,
    },
    /// Block by block, at a rate.
    Blocks(Blocks),
}

/// How a codec codes block by block.
#[derive(Debug)]
pub struct Blocks {
    /// Its name as a probe reports it.
    pub probe_name: &'static str,
    /// Samples of a block.
    pub samples: u32,
    /// Bits a second.
    pub rates: RangeInclusive<u64>,
    /// Bits a second that each channel takes at most.
    pub most_of_a_channel: u64,
    /// Samples a second.
    pub sample_rates: &'static [u32],
    /// Layouts of channels that it has, and that are read as what they are.
    pub layouts: &'static [&'static str],
    /// Layouts that it has under another name.
    pub alike: &'static [(&'static str, &'static str)],
}

impl Blocks {
    /// The rate at which sound of so many samples a second is coded: its own, or the next higher one; the usual one
    /// of the trade where there is none.
    #[must_use]
    pub fn sample_rate_for(&self, wanted: u32) -> u32 {
        self.sample_rates.iter().copied().find(|rate| *rate >= wanted).unwrap_or(48_000)
    }
}

/// A sound codec that can be written.
#[derive(Clone, Copy)]
pub struct SoundCodec(&'static SoundDeclaration);

impl SoundCodec {
    /// All of them, in the order in which they are offered.
    #[must_use]
    pub const fn all() -> [Self; 4] {
        [Self(&AAC), Self(&PCM16), Self(&PCM24), Self(&COPY)]
    }

    /// Whether the source's own stream is taken over.
    #[must_use]
    pub const fn is_copy(self) -> bool {
        matches!(self.0.coding, SoundCoding::Copied)
    }

    /// How it codes block by block, where it does.
    #[must_use]
    pub const fn blocks(self) -> Option<&'static Blocks> {
        match &self.0.coding {
            SoundCoding::Blocks(blocks) => Some(blocks),
            SoundCoding::Copied | SoundCoding::Linear { .. } => None,
        }
    }

    /// Its name as a probe reports it; of copies, any.
    #[must_use]
    pub const fn probe_name(self) -> Option<&'static str> {
        match &self.0.coding {
            SoundCoding::Copied => None,
            SoundCoding::Linear { probe_name, .. } | SoundCoding::Blocks(Blocks { probe_name, .. }) => Some(probe_name),
        }
    }
}

declared!(SoundCodec, SoundDeclaration, "codec of sound", "Sound codecs that can be written.");

/// AAC-LC (ISO/IEC 14496-3).
static AAC: SoundDeclaration = SoundDeclaration {
    id: "aac",
    words: "AAC",
    file_word: "aac",
    containers: &[Container::Mp4, Container::Mov, Container::Mkv],
    coding: SoundCoding::Blocks(Blocks {
        probe_name: "aac",
        samples: 1024,
        rates: 16_000..=1_024_000,
        most_of_a_channel: 256_000,
        sample_rates: &[8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000],
        layouts: &[
            "mono",
            "stereo",
            "2.1",
            "3.0",
            "3.0(back)",
            "4.0",
            "quad",
            "quad(side)",
            "5.0",
            "5.0(side)",
            "5.1",
            "5.1(side)",
            "6.0(front)",
            "6.1",
            "6.1(back)",
            "7.1",
            "hexadecagonal",
        ],
        // There is one layout of six channels, whose surrounds stand at the back by name. The one of eight is read with
        // its speakers at the sides.
        alike: &[("5.1(side)", "5.1"), ("7.1(wide)", "7.1"), ("7.1(wide-side)", "7.1")],
    }),
};

/// Linear PCM, 16 bit.
static PCM16: SoundDeclaration = SoundDeclaration {
    id: "pcm16",
    words: "PCM 16 bit",
    file_word: "pcm",
    containers: &[Container::Mov, Container::Mkv, Container::Wav],
    coding: SoundCoding::Linear { probe_name: "pcm_s16le", bits: 16, sample_rates: 8_000..=192_000 },
};

/// Linear PCM, 24 bit.
static PCM24: SoundDeclaration = SoundDeclaration {
    id: "pcm24",
    words: "PCM 24 bit",
    file_word: "pcm",
    containers: &[Container::Mov, Container::Mkv, Container::Wav],
    coding: SoundCoding::Linear { probe_name: "pcm_s24le", bits: 24, sample_rates: 8_000..=192_000 },
};

/// The source's own stream.
static COPY: SoundDeclaration = SoundDeclaration {
    id: "copy",
    words: "sound untouched",
    file_word: "sound",
    containers: &[Container::Mp4, Container::Mov, Container::Mkv],
    coding: SoundCoding::Copied,
};

/// Whether a container holds sound of this codec (in the library's short name) as it is, so that others can read it there.
#[must_use]
pub fn copies_into(container: Container, codec: &str) -> bool {
    let everywhere = matches!(codec, "aac" | "mp3" | "mp2" | "ac3" | "eac3" | "alac");
    let is_pcm = codec.starts_with("pcm_");
    match container {
        Container::Mp4 => everywhere || codec == "opus",
        Container::Mov => {
            let more = matches!(codec, "amr_nb" | "amr_wb" | "adpcm_ima_qt" | "adpcm_ms" | "adpcm_ima_wav" | "mace3" | "mace6");
            everywhere || is_pcm || more
        }
        Container::Mkv => {
            let own = matches!(codec, "opus" | "vorbis" | "flac" | "dts" | "truehd" | "mlp" | "tta" | "wavpack" | "mp1");
            // Those that AVI and WAV have a number for.
            let numbered = matches!(codec, "wmav1" | "wmav2" | "wmapro" | "adpcm_ms" | "adpcm_ima_wav" | "gsm_ms");
            everywhere || is_pcm || own || numbered
        }
        Container::Wav => false,
    }
}

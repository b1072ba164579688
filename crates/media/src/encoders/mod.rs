//! From the plan's settings to the libraries' encoders and their options: one file a codec.

mod ffv1;
mod h264;
mod hevc;
mod mpeg2;
mod prores;
mod sound;

use beryl_core::formats::level::Peak;
use beryl_core::formats::{Container, PictureCodec, SoundCodec};
use beryl_core::picture::Hdr;
use beryl_core::plan::{FrameRatePlan, PicturePlan};
use beryl_core::time::Rational;

pub(crate) use sound::sound;

use crate::means_of_machine;
use crate::raw::{AvError, EncoderKind, EncoderSettings, has_encoder, pixel_format_number};

/// Which pass over the source it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pass {
    /// The only one.
    Single,
    /// The first of two, which only takes notes.
    First,
    /// The second of two, with the first one's notes.
    Second,
}

/// The library's name of a format.
pub(crate) const fn muxer(container: Container) -> &'static str {
    match container {
        Container::Mp4 => "mp4",
        Container::Mov => "mov",
        Container::Mkv => "matroska",
        Container::Wav => "wav",
    }
}

/// The options with which a format's header is written.
pub(crate) const fn muxer_options(container: Container) -> &'static [(&'static str, &'static str)] {
    match container {
        // The movie's clock in edit lists is fine enough for sync to the tick of 90 kHz.
        Container::Mp4 => &[("movflags", "+write_colr"), ("movie_timescale", "90000")],
        // Without “unofficial” the library would not heed the four characters that are asked for.
        Container::Mov => &[("movflags", "+write_colr"), ("movie_timescale", "90000"), ("strict", "unofficial")],
        Container::Mkv => &[],
        Container::Wav => &[("rf64", "auto")],
    }
}

/// What is handed to the libraries for a picture: for technical details and for comparisons.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LibrarySettings {
    /// The filters between decoder and encoder, in the notation of libavfilter.
    pub filters: String,
    /// The encoder's name in libavcodec.
    pub encoder: &'static str,
    /// Its options.
    pub options: Vec<(String, String)>,
}

/// What is handed to the libraries for a picture that is made in one pass.
#[must_use]
pub fn library_settings(plan: &PicturePlan) -> LibrarySettings {
    let threads = means_of_machine(1).encoder_threads();
    let (encoder, options) = encoder_options(Coding { plan, pass: Pass::Single, notes: "", threads, global_header: true });
    LibrarySettings { filters: crate::filters::text(&plan.steps, &crate::supplies::Supplies::default()), encoder, options }
}

/// Options of an encoder, and flags among them.
#[derive(Default)]
struct Options {
    entries: Vec<(String, String)>,
    flags: String,
}

impl Options {
    fn set(&mut self, name: &str, value: impl ToString) {
        self.entries.push((name.to_owned(), value.to_string()));
    }

    fn flag(&mut self, flag: &str) {
        self.flags.push('+');
        self.flags.push_str(flag);
    }

    /// Rates, for encoders that have the library's own options for them: the mean, the highest and the buffer.
    fn set_rates(&mut self, mean: u64, peak: Option<Peak>) {
        self.set("b", mean);
        if let Some(Peak { bits_per_second, buffer }) = peak {
            self.set("maxrate", bits_per_second.0);
            self.set("bufsize", buffer);
        }
    }
}

/// What one picture is coded with.
#[derive(Clone, Copy)]
pub(crate) struct Coding<'a> {
    pub(crate) plan: &'a PicturePlan,
    pub(crate) pass: Pass,
    /// The file of a first pass's notes.
    pub(crate) notes: &'a str,
    /// How many threads the encoder has.
    pub(crate) threads: u32,
    /// Whether the container wants what all pictures have in common in its own header.
    pub(crate) global_header: bool,
}

/// The encoder of a picture.
pub(crate) fn picture(coding: Coding<'_>, clock: Rational, first_pass: Option<String>) -> Result<EncoderSettings, AvError> {
    let plan = coding.plan;
    let (name, options) = encoder_options(coding);
    Ok(EncoderSettings {
        name,
        kind: EncoderKind::Picture {
            width: plan.width,
            height: plan.height,
            pixel_format: pixel_format_number(plan.pixel_format.name())?,
            pixel_aspect: plan.pixel_aspect,
            rate: Some(plan.frame_rate.rate()),
            colour: plan.colour,
            fields: plan.field_order,
        },
        clock,
        options,
        first_pass,
    })
}

/// How a codec's encoder is found and told what to do.
struct Encoder {
    /// The codec, by its word in documents.
    codec: &'static str,
    /// The encoder's name in libavcodec.
    library: &'static str,
    /// Sets its options.
    set: fn(Coding<'_>, &mut Options),
    /// The library's own number of threads for so many that it may have.
    threads: fn(u32) -> u32,
    /// Whether a first pass is made with less effort than the second.
    has_light_first_pass: bool,
    /// The four characters by which ISO files name the codec, where the library's own choice is not the right one.
    tag: Option<[u8; 4]>,
}

/// All encoders of pictures, one for each codec.
static ENCODERS: [Encoder; 5] = [
    Encoder { has_light_first_pass: true, tag: Some(h264::TAG), ..Encoder::of("h264", "libx264", h264::set) },
    Encoder { threads: hevc::frames_at_once, tag: Some(hevc::TAG), ..Encoder::of("hevc", "libx265", hevc::set) },
    Encoder::of("prores", "prores_ks", prores::set),
    Encoder::of("mpeg2", "mpeg2video", mpeg2::set),
    Encoder::of("ffv1", "ffv1", ffv1::set),
];

impl Encoder {
    const fn of(codec: &'static str, library: &'static str, set: fn(Coding<'_>, &mut Options)) -> Self {
        Self { codec, library, set, threads: |threads| threads, has_light_first_pass: false, tag: None }
    }

    /// That of a codec. Each that is declared has one, as the tests see to; without it, none opens.
    fn named(codec: PictureCodec) -> &'static Self {
        static NONE: Encoder = Encoder::of("", "", |_, _| ());
        ENCODERS.iter().find(|encoder| encoder.codec == codec.id).unwrap_or(&NONE)
    }
}

/// The codecs, by their words in documents, that the libraries here can write.
#[must_use]
pub fn codecs_written() -> Vec<String> {
    let of_pictures = ENCODERS.iter().filter(|encoder| has_encoder(encoder.library)).map(|encoder| encoder.codec);
    let is_there = |codec: &SoundCodec| codec.probe_name().is_some_and(has_encoder);
    let of_sound = SoundCodec::all().into_iter().filter(is_there).map(|codec| codec.id);
    of_pictures.map(str::to_owned).chain(of_sound.map(str::to_owned)).collect()
}

/// The encoder's name and its options.
fn encoder_options(coding: Coding<'_>) -> (&'static str, Vec<(String, String)>) {
    let encoder = Encoder::named(coding.plan.format.codec());
    let mut options = Options::default();
    if coding.global_header {
        options.flag("global_header");
    }
    options.set("threads", (encoder.threads)(coding.threads));
    (encoder.set)(coding, &mut options);
    if !options.flags.is_empty() {
        let flags = std::mem::take(&mut options.flags);
        options.set("flags", flags);
    }
    (encoder.library, options.entries)
}

/// Whether a first pass over pictures of this codec is made with less effort than the second.
pub(crate) fn has_light_first_pass(codec: PictureCodec) -> bool {
    Encoder::named(codec).has_light_first_pass
}

/// The four characters by which a container names a codec, where the library's own choice is not the right one.
pub(crate) fn picture_tag(container: Container, codec: PictureCodec) -> Option<[u8; 4]> {
    match container {
        Container::Mp4 | Container::Mov => Encoder::named(codec).tag,
        Container::Mkv | Container::Wav => None,
    }
}

/// Mastering display in units of 0.00002 and 0.0001 cd/m², green before blue before red, as SEI has it.
fn mastering_display(hdr: &Hdr) -> Option<String> {
    let (primaries, [lowest, highest]) = hdr.primaries.zip(hdr.luminance)?;
    let [rx, ry, gx, gy, bx, by, wx, wy] = primaries.map(|part| (part * Rational::whole(50_000)).round());
    let luminance = |value: Rational| (value * Rational::whole(10_000)).round();
    let (highest, lowest) = (luminance(highest), luminance(lowest));
    Some(format!("G({gx},{gy})B({bx},{by})R({rx},{ry})WP({wx},{wy})L({highest},{lowest})"))
}

/// The clock of the frames that go into the picture encoder.
pub(crate) fn picture_clock(rate: FrameRatePlan, frames: Rational) -> Rational {
    match rate {
        FrameRatePlan::Constant { rate } => rate.inverse().unwrap_or(frames),
        FrameRatePlan::Variable { .. } => frames,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_codec_that_is_declared_has_one_encoder_and_each_encoder_its_codec() {
        let mut declared: Vec<&str> = PictureCodec::all().iter().map(|codec| codec.id).collect();
        let mut encoders: Vec<&str> = ENCODERS.iter().map(|encoder| encoder.codec).collect();
        declared.sort_unstable();
        encoders.sort_unstable();
        assert_eq!(declared, encoders);
    }
}

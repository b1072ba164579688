//! From the plan's settings to the libraries' encoders and their options: one file a codec.

mod ffv1;
mod h264;
mod hevc;
mod mpeg2;
mod prores;
mod sound;

use beryl_core::formats::level::Peak;
use beryl_core::formats::{Container, PictureCodec};
use beryl_core::picture::Hdr;
use beryl_core::plan::{FrameRatePlan, PicturePlan};
use beryl_core::time::Rational;

pub(crate) use sound::sound;

use crate::means_of_machine;
use crate::raw::{AvError, EncoderKind, EncoderSettings, pixel_format_number};

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
            pixel_format: pixel_format_number(&plan.pixel_format)?,
            pixel_aspect: plan.pixel_aspect,
            rate: Some(plan.frame_rate.rate()),
            colour: plan.colour.clone(),
            fields: plan.field_order,
        },
        clock,
        options,
        first_pass,
    })
}

/// The encoder's name and its options.
fn encoder_options(coding: Coding<'_>) -> (&'static str, Vec<(String, String)>) {
    let mut options = Options::default();
    if coding.global_header {
        options.flag("global_header");
    }
    let threads = match coding.plan.codec {
        PictureCodec::Hevc => hevc::frames_at_once(coding.threads),
        PictureCodec::H264 | PictureCodec::Prores | PictureCodec::Mpeg2 | PictureCodec::Ffv1 => coding.threads,
    };
    options.set("threads", threads);
    let name = match coding.plan.codec {
        PictureCodec::H264 => h264::set(coding, &mut options),
        PictureCodec::Hevc => hevc::set(coding, &mut options),
        PictureCodec::Prores => prores::set(coding, &mut options),
        PictureCodec::Mpeg2 => mpeg2::set(coding, &mut options),
        PictureCodec::Ffv1 => ffv1::set(coding, &mut options),
    };
    if !options.flags.is_empty() {
        let flags = std::mem::take(&mut options.flags);
        options.set("flags", flags);
    }
    (name, options.entries)
}

/// The four characters by which a container names a codec, where the library's own choice is not the right one.
pub(crate) const fn picture_tag(container: Container, codec: PictureCodec) -> Option<[u8; 4]> {
    match (container, codec) {
        (Container::Mp4 | Container::Mov, PictureCodec::Hevc) => Some(hevc::TAG),
        (Container::Mp4 | Container::Mov, PictureCodec::H264) => Some(h264::TAG),
        _ => None,
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

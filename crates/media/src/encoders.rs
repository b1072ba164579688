//! From the plan's settings to the libraries' encoders and their options.

use beryl_core::layout::notation;
use beryl_core::plan::{FrameRatePlan, PicturePlan, SoundPlan};
use beryl_core::preset::{Container, Effort, PictureCodec, Profile, RateControl, SoundCodec};
use beryl_core::rational::Rational;
use beryl_core::reading::Hdr;

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
        Container::Mp4 => &[("movflags", "+faststart+write_colr"), ("movie_timescale", "90000")],
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
    let (encoder, options) = encoder_options(plan, Pass::Single, "", true);
    LibrarySettings { filters: crate::filters::text(&plan.steps, &crate::supplies::Supplies::default()), encoder, options }
}

struct Options(Vec<(String, String)>);

impl Options {
    fn set(&mut self, name: &str, value: impl ToString) {
        self.0.push((name.to_owned(), value.to_string()));
    }
}

/// The encoder of a picture. `notes` names the file of the first pass.
pub(crate) fn picture(
    plan: &PicturePlan,
    clock: Rational,
    pass: Pass,
    notes: &str,
    first_pass: Option<String>,
    global_header: bool,
) -> Result<EncoderSettings, AvError> {
    let (name, options) = encoder_options(plan, pass, notes, global_header);
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
fn encoder_options(plan: &PicturePlan, pass: Pass, notes: &str, global_header: bool) -> (&'static str, Vec<(String, String)>) {
    let mut options = Options(Vec::new());
    let mut flags = String::new();
    if global_header {
        flags.push_str("+global_header");
    }
    options.set("threads", "auto");
    match plan.codec {
        PictureCodec::H264 => h264(plan, pass, notes, &mut options, &mut flags),
        PictureCodec::Hevc => hevc(plan, pass, notes, &mut options),
        PictureCodec::Prores => prores(plan, &mut options, &mut flags),
        PictureCodec::Mpeg2 => mpeg2(plan, pass, &mut options, &mut flags),
        PictureCodec::Ffv1 => ffv1(&mut options),
    }
    if !flags.is_empty() {
        options.set("flags", flags);
    }
    let name = match plan.codec {
        PictureCodec::H264 => "libx264",
        PictureCodec::Hevc => "libx265",
        PictureCodec::Prores => "prores_ks",
        PictureCodec::Mpeg2 => "mpeg2video",
        PictureCodec::Ffv1 => "ffv1",
    };
    (name, options.0)
}

fn h264(plan: &PicturePlan, pass: Pass, notes: &str, options: &mut Options, flags: &mut String) {
    options.set(
        "preset",
        match plan.effort {
            Effort::Quick => "veryfast",
            Effort::Balanced => "medium",
            Effort::Thorough => "slow",
        },
    );
    options.set(
        "profile",
        match plan.profile {
            Profile::Baseline => "baseline",
            Profile::Main => "main",
            Profile::High10 => "high10",
            Profile::High422 => "high422",
            _ => "high",
        },
    );
    options.set("g", plan.key_interval_frames);
    if let Some(level) = plan.level {
        options.set("level", level);
    }
    let mut own = Vec::new();
    match plan.rate {
        RateControl::ConstantQuality { crf } => options.set("crf", crf),
        RateControl::Average { bits_per_second, .. } => {
            options.set("b", bits_per_second.0);
            // One pass begins to save soon where it has spent too much.
            own.push("ratetol=0.3".to_owned());
        }
        RateControl::Constant { bits_per_second } => {
            for name in ["b", "minrate", "maxrate", "bufsize"] {
                options.set(name, bits_per_second.0);
            }
            options.set("nal-hrd", "cbr");
        }
        RateControl::ByProfile => {}
    }
    if let Some(peak) = plan.peak {
        options.set("maxrate", peak.bits_per_second.0);
        options.set("bufsize", peak.buffer);
    }
    match pass {
        Pass::Single => {}
        Pass::First => flags.push_str("+pass1"),
        Pass::Second => flags.push_str("+pass2"),
    }
    if pass != Pass::Single {
        options.set("stats", notes);
    }
    if let Some(hdr) = &plan.hdr {
        own.extend(mastering_display(hdr).map(|display| format!("mastering-display={display}")));
        own.extend(hdr.light_level.map(|[content, average]| format!("cll={content},{average}")));
    }
    if !own.is_empty() {
        options.set("x264-params", own.join(":"));
    }
    if plan.field_order.is_interlaced() {
        flags.push_str("+ildct+ilme");
    }
}

fn hevc(plan: &PicturePlan, pass: Pass, notes: &str, options: &mut Options) {
    options.set(
        "preset",
        match plan.effort {
            Effort::Quick => "superfast",
            Effort::Balanced => "medium",
            Effort::Thorough => "slow",
        },
    );
    options.set(
        "profile",
        match plan.profile {
            Profile::Main10 => "main10",
            Profile::Main42210 => "main422-10",
            _ => "main",
        },
    );
    options.set("g", plan.key_interval_frames);
    let mut own = vec!["log-level=none".to_owned()];
    if let Some(level) = plan.level {
        own.push(format!("level-idc={level}"));
    }
    match plan.rate {
        RateControl::ConstantQuality { crf } => options.set("crf", crf),
        RateControl::Average { bits_per_second, .. } => options.set("b", bits_per_second.0),
        RateControl::Constant { bits_per_second } => {
            options.set("b", bits_per_second.0);
            let kilobits = bits_per_second.0 / 1000;
            own.push(format!("vbv-maxrate={kilobits}:vbv-bufsize={kilobits}:strict-cbr=1"));
        }
        RateControl::ByProfile => {}
    }
    if let Some(peak) = plan.peak {
        own.push(format!("vbv-maxrate={}:vbv-bufsize={}", peak.bits_per_second.0 / 1000, peak.buffer / 1000));
    }
    match pass {
        Pass::Single => {}
        Pass::First => own.push(format!("pass=1:stats={}", escaped(notes))),
        Pass::Second => own.push(format!("pass=2:stats={}", escaped(notes))),
    }
    own.extend(plan.hdr.as_ref().map(hdr_parameters));
    options.set("x265-params", own.join(":"));
}

/// A value among others that are parted by colons.
fn escaped(value: &str) -> String {
    value.replace('\\', r"\\").replace('\'', r"\'").replace(':', r"\:")
}

fn hdr_parameters(hdr: &Hdr) -> String {
    let mut parts = vec!["hdr10=1:repeat-headers=1".to_owned()];
    parts.extend(mastering_display(hdr).map(|display| format!("master-display={display}")));
    parts.extend(hdr.light_level.map(|[content, average]| format!("max-cll={content},{average}")));
    parts.join(":")
}

/// Mastering display in units of 0.00002 and 0.0001 cd/m², green before blue before red, as SEI has it.
fn mastering_display(hdr: &Hdr) -> Option<String> {
    let (primaries, [lowest, highest]) = hdr.primaries.zip(hdr.luminance)?;
    let [rx, ry, gx, gy, bx, by, wx, wy] = primaries.map(|part| (part * Rational::whole(50_000)).round());
    let luminance = |value: Rational| (value * Rational::whole(10_000)).round();
    let (highest, lowest) = (luminance(highest), luminance(lowest));
    Some(format!("G({gx},{gy})B({bx},{by})R({rx},{ry})WP({wx},{wy})L({highest},{lowest})"))
}

fn prores(plan: &PicturePlan, options: &mut Options, flags: &mut String) {
    options.set(
        "profile",
        match plan.profile {
            Profile::Proxy => "proxy",
            Profile::Lt => "lt",
            Profile::Hq => "hq",
            Profile::P4444 => "4444",
            Profile::P4444Xq => "4444xq",
            _ => "standard",
        },
    );
    options.set("vendor", "brl0");
    if plan.field_order.is_interlaced() {
        flags.push_str("+ildct");
    }
}

/// Version 3 with checksums in slices, as archives want it, every frame by itself.
fn ffv1(options: &mut Options) {
    for (name, value) in [("level", "3"), ("g", "1"), ("slices", "4"), ("slicecrc", "1")] {
        options.set(name, value);
    }
}

fn mpeg2(plan: &PicturePlan, pass: Pass, options: &mut Options, flags: &mut String) {
    options.set("g", plan.key_interval_frames.min(600));
    options.set("bf", 2);
    if plan.profile == Profile::Mpeg2422 {
        options.set("profile", "422");
    }
    match plan.rate {
        RateControl::ConstantQuality { crf } => {
            // The library's quality unit: 118 to one step of the quantiser.
            options.set("global_quality", u32::from(crf) * 118);
            flags.push_str("+qscale");
        }
        RateControl::Average { bits_per_second, .. } => {
            options.set("b", bits_per_second.0);
            options.set("maxrate", bits_per_second.0 * 2);
            options.set("bufsize", bits_per_second.0);
        }
        RateControl::Constant { bits_per_second } => {
            for name in ["b", "minrate", "maxrate"] {
                options.set(name, bits_per_second.0);
            }
            options.set("bufsize", bits_per_second.0 / 2);
        }
        RateControl::ByProfile => {}
    }
    match pass {
        Pass::Single => {}
        Pass::First => flags.push_str("+pass1"),
        Pass::Second => flags.push_str("+pass2"),
    }
    if plan.field_order.is_interlaced() {
        flags.push_str("+ildct+ilme");
    }
}

/// The encoder of a sound stream; nothing where the stream is taken over untouched.
pub(crate) fn sound(plan: &SoundPlan, global_header: bool) -> Option<EncoderSettings> {
    let mut options = Options(Vec::new());
    let name = match plan.codec {
        SoundCodec::Aac => "aac",
        SoundCodec::Pcm16 => "pcm_s16le",
        SoundCodec::Pcm24 => "pcm_s24le",
        SoundCodec::Copy => return None,
    };
    if let Some(rate) = plan.bit_rate {
        options.set("b", rate.0);
    }
    if global_header {
        options.set("flags", "+global_header");
    }
    Some(EncoderSettings {
        name,
        kind: EncoderKind::Sound { sample_rate: plan.sample_rate, layout: notation(&plan.layout, plan.channels) },
        clock: Rational::new(1, plan.sample_rate.into()).unwrap_or(Rational::constant(1, 48_000)),
        options: options.0,
        first_pass: None,
    })
}

/// The four characters by which a container names a codec, where the library's own choice is not
/// the right one: HEVC whose headers stand in front is `hvc1`, and 10-bit 4:2:2 H.264 must not be
/// named as an AVC-Intra class, whose fixed headers readers would put in the place of its own.
pub(crate) const fn picture_tag(container: Container, codec: PictureCodec) -> Option<[u8; 4]> {
    match (container, codec) {
        (Container::Mp4 | Container::Mov, PictureCodec::Hevc) => Some(*b"hvc1"),
        (Container::Mp4 | Container::Mov, PictureCodec::H264) => Some(*b"avc1"),
        _ => None,
    }
}

/// The clock of the frames that go into the picture encoder.
pub(crate) fn picture_clock(rate: FrameRatePlan, frames: Rational) -> Rational {
    match rate {
        FrameRatePlan::Constant { rate } => rate.inverse().unwrap_or(frames),
        FrameRatePlan::Variable { .. } => frames,
    }
}

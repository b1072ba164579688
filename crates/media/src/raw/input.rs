//! Files being read.

use std::collections::BTreeMap;
use std::ffi::{c_char, c_int, c_void};
use std::ptr;
use std::sync::atomic::{AtomicBool, Ordering};

use beryl_core::formats::Level;
use beryl_core::formats::media_types::is_image_extension;
use beryl_core::picture::{
    ChromaSite, Colour, FieldOrder, Hdr, MatrixCoefficients, Orientation, PixelFormat, Primaries, Range, Transfer,
};
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::dictionary::{self, Dictionary};
use super::frame::PlaneLayout;
use super::io::{ByteStream, Medium, Stop};
use super::{AvError, Packet, c_text, check, rational, text_of};

/// The container formats that are read. None of them opens another file.
const FORMATS: &[&str] = &[
    "mov",
    "matroska",
    "webm",
    "avi",
    "mxf",
    "mpeg",
    "mpegts",
    "mpegvideo",
    "m4v",
    "dv",
    "asf",
    "flv",
    "ogg",
    "wav",
    "w64",
    "aiff",
    "flac",
    "mp3",
    "aac",
    "ac3",
    "eac3",
    "caf",
    "au",
    "yuv4mpegpipe",
    "h264",
    "hevc",
    "obu",
    "ivf",
    "nut",
    "rm",
    "gif",
    "apng",
    "amr",
    "dts",
    "truehd",
    "tta",
    "wv",
    "ape",
    "voc",
    "gxf",
    "lxf",
    "png_pipe",
    "tiff_pipe",
    "jpeg_pipe",
    "dpx_pipe",
    "exr_pipe",
];

/// Formats that are lists of other files or addresses.
const LISTS: &[&str] = &[
    "hls",
    "applehttp",
    "concat",
    "dash",
    "sdp",
    "rtsp",
    "imf",
    "ffmetadata",
    "asf_o",
    "redir",
    "webm_dash_manifest",
    "vapoursynth",
    "avisynth",
];

/// The largest picture that is decoded, in pixels: 16384 by 8640.
const MOST_PIXELS: &str = "141557760";

/// Why a file could not be opened.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OpenError {
    /// It refers to other files.
    #[error("it is a list ({0}) that refers to other files or addresses")]
    List(String),
    /// Its format is known but not read here.
    #[error("its format ({0}) is not one that is read here")]
    Format(String),
    /// The libraries refused it.
    #[error(transparent)]
    Library(#[from] AvError),
    /// The system reported an error while it was read.
    #[error(transparent)]
    System(#[from] std::io::Error),
}

/// An open file with its streams found.
pub(crate) struct Input {
    context: *mut ffi::AVFormatContext,
    bytes: ByteStream,
    /// Keeps alive what the interrupt callback points to.
    _stop: Stop,
}

// SAFETY: the context, its byte stream and the flag are owned by this value alone; the libraries
// do not bind a demuxer to a thread.
unsafe impl Send for Input {}

unsafe extern "C" fn interrupted(opaque: *mut c_void) -> c_int {
    // SAFETY: `opaque` is the flag that the input shares, which it keeps for longer than its context; it is never
    // borrowed but shared.
    c_int::from(unsafe { &*opaque.cast::<AtomicBool>() }.load(Ordering::Relaxed))
}

/// No file may open another one.
unsafe extern "C" fn refuse_open(
    _: *mut ffi::AVFormatContext,
    _: *mut *mut ffi::AVIOContext,
    _: *const c_char,
    _: c_int,
    _: *mut *mut ffi::AVDictionary,
) -> c_int {
    ffi::AVERROR(1)
}

impl Input {
    /// Opens a file that is open already; `name` helps to tell headerless formats apart.
    pub(crate) fn open(file: std::fs::File, name: &str, stop: &Stop) -> Result<Self, OpenError> {
        let mut bytes = ByteStream::new(Medium::new(file, stop.clone()), false)?;
        let stop = stop.clone();
        // Only the extension goes in, so that no part of a name can be taken for a protocol.
        let extension: String = name
            .rsplit_once('.')
            .map(|(_, extension)| extension)
            .unwrap_or_default()
            .chars()
            .filter(char::is_ascii_alphanumeric)
            .collect();
        // Images are told by what they hold: by its name alone a picture would be taken for a
        // pattern of many, which opens files by itself.
        let extension = if is_image_extension(&extension.to_lowercase()) { String::new() } else { extension };
        let url = c_text(&format!("source.{extension}"));
        let mut format: *const ffi::AVInputFormat = ptr::null();
        // SAFETY: the byte stream is open; `format` receives a pointer to static data; the log
        // context may be null.
        let probed = unsafe { ffi::av_probe_input_buffer2(bytes.context(), &mut format, url.as_ptr(), ptr::null_mut(), 0, 0) };
        if let Some(error) = bytes.take_error() {
            return Err(error.into());
        }
        check(probed, "tell the format")?;
        // SAFETY: a successful probe gives a format, whose name ends with NUL.
        let format_name = unsafe { text_of((*format).name) }.unwrap_or_default();
        let is_among = |list: &[&str]| format_name.split(',').any(|name| list.contains(&name));
        if is_among(LISTS) {
            return Err(OpenError::List(format_name));
        }
        if !is_among(FORMATS) {
            return Err(OpenError::Format(format_name));
        }
        // SAFETY: the context is filled as the libraries document for own byte streams; open frees
        // it on failure and leaves the byte stream to us. The flag outlives the context.
        unsafe {
            let mut context = ffi::avformat_alloc_context();
            if context.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "open the file").into());
            }
            (*context).pb = bytes.context();
            (*context).flags |= ffi::AVFMT_FLAG_CUSTOM_IO;
            (*context).io_open = Some(refuse_open);
            (*context).interrupt_callback =
                ffi::AVIOInterruptCB { callback: Some(interrupted), opaque: stop.flag().cast_mut().cast() };
            let mut options = Dictionary::new([("protocol_whitelist", "none"), ("format_whitelist", format_name.as_str())]);
            let opened = ffi::avformat_open_input(&mut context, url.as_ptr(), format.cast_mut(), options.as_mut());
            if opened < 0 {
                if let Some(error) = bytes.take_error() {
                    return Err(error.into());
                }
                return Err(AvError::new(opened, "open the file").into());
            }
            let mut input = Self { context, bytes, _stop: stop };
            let found = ffi::avformat_find_stream_info(input.context, ptr::null_mut());
            if let Some(error) = input.bytes.take_error() {
                return Err(error.into());
            }
            check(found, "read the streams")?;
            Ok(input)
        }
    }

    fn get(&self) -> &ffi::AVFormatContext {
        // SAFETY: never null after opening, and borrowed no longer than this value.
        unsafe { &*self.context }
    }

    pub(crate) fn stream_count(&self) -> usize {
        self.get().nb_streams as usize
    }

    /// The stream with this index.
    pub(crate) fn stream(&self, index: usize) -> StreamView<'_> {
        assert!(index < self.stream_count(), "no stream {index}");
        // SAFETY: the table has `nb_streams` valid entries, each with its parameters, all of which
        // live as long as the context.
        unsafe {
            let stream = &**self.get().streams.add(index);
            StreamView { stream, parameters: &*stream.codecpar }
        }
    }

    pub(crate) fn streams(&self) -> impl Iterator<Item = StreamView<'_>> {
        (0..self.stream_count()).map(|index| self.stream(index))
    }

    pub(crate) fn format_names(&self) -> (String, String) {
        // SAFETY: an open context has a format with both names, which end with NUL.
        unsafe {
            let format = &*self.get().iformat;
            (text_of(format.name).unwrap_or_default(), text_of(format.long_name).unwrap_or_default())
        }
    }

    /// Seconds, from the header or an estimate of the libraries.
    pub(crate) fn duration(&self) -> Option<Rational> {
        let duration = self.get().duration;
        (duration != ffi::AV_NOPTS_VALUE && duration > 0).then(|| Rational::new(duration, 1_000_000)).flatten()
    }

    /// Seconds of the first time stamp.
    pub(crate) fn start(&self) -> Rational {
        let start = self.get().start_time;
        // The library counts what only primes a decoder.
        if self.streams().any(|stream| stream.priming().is_some())
            && let Some(start) = self.streams().filter_map(|stream| stream.start()).min()
        {
            return start;
        }
        if start == ffi::AV_NOPTS_VALUE { Rational::ZERO } else { Rational::new(start, 1_000_000).unwrap_or(Rational::ZERO) }
    }

    pub(crate) fn bit_rate(&self) -> Option<u64> {
        u64::try_from(self.get().bit_rate).ok().filter(|rate| *rate > 0)
    }

    pub(crate) fn tags(&self) -> BTreeMap<String, String> {
        // SAFETY: the dictionary belongs to the context and is not changed meanwhile.
        unsafe { dictionary::entries(self.get().metadata) }
    }

    /// Start, end (seconds) and title of each chapter.
    pub(crate) fn chapters(&self) -> Vec<(Rational, Rational, String)> {
        let context = self.get();
        (0..context.nb_chapters as usize)
            .map(|index| {
                // SAFETY: the table has `nb_chapters` valid entries that live as long as the context.
                let chapter = unsafe { &**context.chapters.add(index) };
                let clock = rational(chapter.time_base).unwrap_or(Rational::ONE);
                // SAFETY: the dictionary belongs to the chapter and is not changed meanwhile.
                let title = unsafe { dictionary::entries(chapter.metadata) }.remove("title").unwrap_or_default();
                (Rational::whole(chapter.start) * clock, Rational::whole(chapter.end) * clock, title)
            })
            .collect()
    }

    /// Whether the format has edit lists.
    pub(crate) fn has_edit_lists(&self) -> bool {
        self.format_names().0.split(',').any(|name| name == "mov")
    }

    /// Whether the format's clock may jump.
    pub(crate) fn may_jump(&self) -> bool {
        // SAFETY: an open context has a format.
        unsafe { (*self.get().iformat).flags & ffi::AVFMT_TS_DISCONT != 0 }
    }

    /// The next packet, or nothing at the end.
    pub(crate) fn read(&mut self) -> Result<Option<Packet>, OpenError> {
        let packet = Packet::new();
        // SAFETY: context and packet are ours.
        let code = unsafe { ffi::av_read_frame(self.context, packet.0) };
        if let Some(error) = self.bytes.take_error() {
            return Err(error.into());
        }
        match code {
            0 => Ok(Some(packet)),
            ffi::AVERROR_EOF => Ok(None),
            code => Err(AvError::new(code, "read on").into()),
        }
    }

    /// Goes to the last key frame at or before `time` (seconds of the file's own clock).
    pub(crate) fn seek(&mut self, time: Rational) -> Result<(), AvError> {
        let target = (time * Rational::whole(1_000_000)).floor();
        // SAFETY: the context is ours; the range ends at the target, so that nothing behind it is chosen.
        check(unsafe { ffi::avformat_seek_file(self.context, -1, i64::MIN, target, target, 0) }, "go to a time").map(|_| ())
    }

    /// Goes to a place of the file, in bytes from its beginning.
    pub(crate) fn seek_to_byte(&mut self, byte: u64) -> Result<(), AvError> {
        let byte = i64::try_from(byte).unwrap_or(i64::MAX);
        // SAFETY: the context is ours; what lies at the place is looked for by the format's own marks.
        check(unsafe { ffi::av_seek_frame(self.context, -1, byte, ffi::AVSEEK_FLAG_BYTE) }, "go to a place").map(|_| ())
    }

    /// Leaves out the packets of all streams but these.
    pub(crate) fn keep_only(&mut self, wanted: &[usize]) {
        for index in 0..self.stream_count() {
            let discard = if wanted.contains(&index) { ffi::AVDiscard::AVDISCARD_DEFAULT } else { ffi::AVDiscard::AVDISCARD_ALL };
            // SAFETY: the index is in range; the field may be set at any time between reads.
            unsafe { (**self.get().streams.add(index)).discard = discard };
        }
    }
}

impl Drop for Input {
    fn drop(&mut self) {
        // SAFETY: ours alone, closed once; the byte stream is ours by the flag CUSTOM_IO and is
        // freed after it with this value.
        unsafe { ffi::avformat_close_input(&mut self.context) };
    }
}

/// A look at one stream.
#[derive(Clone, Copy)]
pub(crate) struct StreamView<'a> {
    stream: &'a ffi::AVStream,
    pub(super) parameters: &'a ffi::AVCodecParameters,
}

/// What kind of thing a stream holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Picture,
    Sound,
    Subtitles,
    Attachment,
    Data,
}

impl StreamView<'_> {
    pub(crate) fn index(&self) -> usize {
        usize::try_from(self.stream.index).unwrap_or(0)
    }

    pub(crate) fn kind(&self) -> Kind {
        use ffi::AVMediaType as Type;
        match self.parameters.codec_type {
            Type::AVMEDIA_TYPE_VIDEO => Kind::Picture,
            Type::AVMEDIA_TYPE_AUDIO => Kind::Sound,
            Type::AVMEDIA_TYPE_SUBTITLE => Kind::Subtitles,
            Type::AVMEDIA_TYPE_ATTACHMENT => Kind::Attachment,
            Type::AVMEDIA_TYPE_UNKNOWN | Type::AVMEDIA_TYPE_DATA | Type::AVMEDIA_TYPE_NB => Kind::Data,
        }
    }

    pub(crate) fn codec_name(&self) -> String {
        // SAFETY: answers a static text for every number.
        unsafe { text_of(ffi::avcodec_get_name(self.parameters.codec_id)) }.unwrap_or_default()
    }

    /// The four characters of the container, where they can be shown.
    pub(crate) fn codec_tag(&self) -> String {
        let bytes = self.parameters.codec_tag.to_le_bytes();
        if bytes.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') {
            String::from_utf8_lossy(&bytes).trim().to_owned()
        } else {
            String::new()
        }
    }

    pub(crate) fn profile(&self) -> Option<String> {
        // SAFETY: answers a static text or null for every pair of numbers.
        unsafe { text_of(ffi::avcodec_profile_name(self.parameters.codec_id, self.parameters.profile)) }
    }

    pub(crate) fn clock(&self) -> Rational {
        rational(self.stream.time_base).filter(|clock| clock.is_positive()).unwrap_or(Rational::constant(1, 90_000))
    }

    /// Seconds.
    pub(crate) fn start(&self) -> Option<Rational> {
        let priming = self.priming().and_then(|samples| Rational::new(samples.into(), self.sample_rate().into()));
        self.stamped_start().map(|start| start + priming.unwrap_or(Rational::ZERO))
    }

    /// Seconds of its first time stamp.
    fn stamped_start(&self) -> Option<Rational> {
        (self.stream.start_time != ffi::AV_NOPTS_VALUE).then(|| Rational::whole(self.stream.start_time) * self.clock())
    }

    /// Seconds.
    pub(crate) fn duration(&self) -> Option<Rational> {
        let known = self.stream.duration != ffi::AV_NOPTS_VALUE && self.stream.duration > 0;
        known.then(|| Rational::whole(self.stream.duration) * self.clock())
    }

    /// How many frames its decoder takes before the first comes out, because they are shown in another order.
    pub(crate) fn delay(&self) -> usize {
        usize::try_from(self.parameters.video_delay).unwrap_or(0).min(16)
    }

    pub(crate) fn frame_count(&self) -> Option<u64> {
        u64::try_from(self.stream.nb_frames).ok().filter(|count| *count > 0)
    }

    /// The times of all frames that are shown (in decoding order), where the file has an index of every one;
    /// `edited` says that the format has edit lists, by which frames may be left out.
    pub(crate) fn indexed_times(&self, edited: bool) -> Vec<i64> {
        const MOST: c_int = 500_000;
        const HIDDEN: c_int = ffi::AVINDEX_DISCARD_FRAME;
        // SAFETY: the stream is valid; entries are read one by one within the count, and the
        // libraries do not change the index while the input is borrowed.
        unsafe {
            let count = ffi::avformat_index_get_entries_count(self.stream);
            // Edit lists take entries away.
            let is_whole = i64::from(count) == self.stream.nb_frames || (edited && i64::from(count) < self.stream.nb_frames);
            if !is_whole || count > MOST {
                return Vec::new();
            }
            let stream = ptr::from_ref(self.stream).cast_mut();
            (0..count)
                .filter_map(|place| {
                    let entry = ffi::avformat_index_get_entry(stream, place);
                    // Frames that serve decoding only are not shown.
                    (!entry.is_null() && (*entry).flags() & HIDDEN == 0).then(|| (*entry).timestamp)
                })
                .collect()
        }
    }

    pub(crate) fn bit_rate(&self) -> Option<u64> {
        u64::try_from(self.parameters.bit_rate).ok().filter(|rate| *rate > 0)
    }

    pub(crate) fn tags(&self) -> BTreeMap<String, String> {
        // SAFETY: the dictionary belongs to the stream and is not changed meanwhile.
        unsafe { dictionary::entries(self.stream.metadata) }
    }

    pub(crate) fn roles(&self) -> Vec<String> {
        const ROLES: [(c_int, &str); 9] = [
            (ffi::AV_DISPOSITION_DEFAULT, "default"),
            (ffi::AV_DISPOSITION_DUB, "dub"),
            (ffi::AV_DISPOSITION_ORIGINAL, "original"),
            (ffi::AV_DISPOSITION_COMMENT, "comment"),
            (ffi::AV_DISPOSITION_FORCED, "forced"),
            (ffi::AV_DISPOSITION_HEARING_IMPAIRED, "hearing_impaired"),
            (ffi::AV_DISPOSITION_VISUAL_IMPAIRED, "visual_impaired"),
            (ffi::AV_DISPOSITION_ATTACHED_PIC, "attached_pic"),
            (ffi::AV_DISPOSITION_CAPTIONS, "captions"),
        ];
        ROLES.iter().filter(|(flag, _)| self.stream.disposition & flag != 0).map(|(_, name)| (*name).to_owned()).collect()
    }

    /// Whether it is a cover or poster.
    pub(crate) fn is_still(&self) -> bool {
        self.stream.disposition & ffi::AV_DISPOSITION_ATTACHED_PIC != 0
    }

    pub(crate) fn size(&self) -> (u32, u32) {
        (u32::try_from(self.parameters.width).unwrap_or(0), u32::try_from(self.parameters.height).unwrap_or(0))
    }

    pub(crate) fn pixel_aspect(&self) -> Rational {
        let of_stream = rational(self.stream.sample_aspect_ratio).filter(|aspect| aspect.is_positive());
        let of_codec = rational(self.parameters.sample_aspect_ratio).filter(|aspect| aspect.is_positive());
        of_stream.or(of_codec).unwrap_or(Rational::ONE)
    }

    /// The library's number of its pixel or sample format.
    pub(crate) fn format(&self) -> i32 {
        self.parameters.format
    }

    pub(crate) fn mean_rate(&self) -> Option<Rational> {
        let mean = rational(self.stream.avg_frame_rate).filter(|rate| rate.is_positive());
        mean.or(rational(self.stream.r_frame_rate).filter(|rate| rate.is_positive()))
    }

    /// Samples at its beginning that only prime the decoder, where the header tells of them and stamps lie that much
    /// before nought for it, as in Matroska; nothing where the decoder knows them by itself, or stamps leave them out.
    pub(crate) fn priming(&self) -> Option<u32> {
        let is_known = self.parameters.codec_id == ffi::AVCodecID::AV_CODEC_ID_OPUS;
        let samples = u32::try_from(self.parameters.initial_padding).ok().filter(|samples| *samples > 0 && !is_known)?;
        let length = Rational::new(samples.into(), self.sample_rate().into())?;
        let nought = self.stamped_start()? + length;
        (nought.abs() < Rational::constant(1, 200)).then_some(samples)
    }

    pub(crate) fn field_order(&self) -> FieldOrder {
        use ffi::AVFieldOrder as Order;
        match self.parameters.field_order {
            Order::AV_FIELD_UNKNOWN => FieldOrder::Unknown,
            Order::AV_FIELD_PROGRESSIVE => FieldOrder::Progressive,
            Order::AV_FIELD_TT | Order::AV_FIELD_BT => FieldOrder::TopFirst,
            Order::AV_FIELD_BB | Order::AV_FIELD_TB => FieldOrder::BottomFirst,
        }
    }

    pub(crate) fn colour(&self) -> Colour {
        // SAFETY: the parameters are valid as long as they are borrowed; only numbers are read.
        let numbers = unsafe {
            [
                number_in(ptr::addr_of!(self.parameters.color_primaries)),
                number_in(ptr::addr_of!(self.parameters.color_trc)),
                number_in(ptr::addr_of!(self.parameters.color_space)),
                number_in(ptr::addr_of!(self.parameters.color_range)),
                number_in(ptr::addr_of!(self.parameters.chroma_location)),
            ]
        };
        colour_of(numbers)
    }

    fn side_data(&self, kind: ffi::AVPacketSideDataType) -> Option<&[u8]> {
        let mut size = 0;
        // SAFETY: the stream is valid; the data lives as long as the stream and has `size` bytes.
        unsafe {
            let data = ffi::av_stream_get_side_data(self.stream, kind, &mut size);
            (!data.is_null()).then(|| std::slice::from_raw_parts(data, size))
        }
    }

    pub(crate) fn hdr(&self) -> Option<Hdr> {
        use ffi::AVPacketSideDataType as Side;
        hdr_of(
            self.side_data(Side::AV_PKT_DATA_MASTERING_DISPLAY_METADATA),
            self.side_data(Side::AV_PKT_DATA_CONTENT_LIGHT_LEVEL),
        )
    }

    /// How the picture is brought upright for viewing.
    pub(crate) fn orientation(&self) -> Orientation {
        let matrix = self.side_data(ffi::AVPacketSideDataType::AV_PKT_DATA_DISPLAYMATRIX).filter(|bytes| bytes.len() >= 36);
        let Some(matrix) = matrix else { return Orientation::default() };
        let number = |place: usize| {
            let bytes = &matrix[place * 4..place * 4 + 4];
            i64::from(i32::from_ne_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]))
        };
        // Nine numbers, line by line: a, b, u, c, d, v, x, y, w.
        Orientation::of_matrix([number(0), number(1), number(3), number(4)])
    }

    /// The level that the codec's header declares, where the codec has levels that are known here.
    pub(crate) fn level(&self) -> Option<Level> {
        let level = u8::try_from(self.parameters.level).ok().filter(|level| *level > 0)?;
        match self.parameters.codec_id {
            // Ten times the level, but for the odd one of 1b.
            ffi::AVCodecID::AV_CODEC_ID_H264 => Some(Level(if level == 9 { 11 } else { level })),
            // Thirty times the level.
            ffi::AVCodecID::AV_CODEC_ID_HEVC => Some(Level(level / 3)),
            _ => None,
        }
    }

    pub(crate) fn channels(&self) -> u32 {
        u32::try_from(self.parameters.ch_layout.nb_channels).unwrap_or(0)
    }

    /// The layout in the library's words.
    pub(crate) fn layout(&self) -> String {
        layout_text(&self.parameters.ch_layout)
    }

    pub(crate) fn sample_rate(&self) -> u32 {
        u32::try_from(self.parameters.sample_rate).unwrap_or(0)
    }

    /// Bits of a sample for codecs without loss.
    pub(crate) fn sample_bits(&self) -> Option<u32> {
        // SAFETY: answers a number for every codec.
        let bits = unsafe { ffi::av_get_bits_per_sample(self.parameters.codec_id) };
        let bits = if bits > 0 { bits } else { self.parameters.bits_per_raw_sample };
        u32::try_from(bits).ok().filter(|bits| *bits > 0)
    }
}

/// The words for a channel layout; where its order is not told, those of the usual one.
pub(super) fn layout_text(layout: &ffi::AVChannelLayout) -> String {
    let mut buffer = [0 as c_char; 128];
    // SAFETY: the layout is valid for reading, the buffer writable for its length. The default
    // layout is a local value that owns nothing.
    unsafe {
        let mut usual = std::mem::zeroed::<ffi::AVChannelLayout>();
        let shown = if layout.order == ffi::AVChannelOrder::AV_CHANNEL_ORDER_UNSPEC {
            ffi::av_channel_layout_default(&mut usual, layout.nb_channels);
            &raw const usual
        } else {
            ptr::from_ref(layout)
        };
        ffi::av_channel_layout_describe(shown, buffer.as_mut_ptr(), buffer.len());
        text_of(buffer.as_ptr()).unwrap_or_default()
    }
}

/// Name and depth of a pixel format given by its number.
pub(crate) fn pixel_format(number: i32) -> Option<(PixelFormat, u32)> {
    let format = pixel_format_value(number)?;
    // SAFETY: both calls answer null or static data for every format; a description has a first component.
    unsafe {
        let description = ffi::av_pix_fmt_desc_get(format);
        if description.is_null() {
            return None;
        }
        let depth = u32::try_from((*description).comp[0].depth).unwrap_or(8);
        Some((text_of(ffi::av_get_pix_fmt_name(format))?.into(), depth))
    }
}

/// How the planes of a pixel format lie; nothing where luma has no plane of its own that plain code
/// can read.
pub(super) fn plane_layout(number: i32) -> Option<PlaneLayout> {
    const REFUSED: u64 = (ffi::AV_PIX_FMT_FLAG_RGB
        | ffi::AV_PIX_FMT_FLAG_PAL
        | ffi::AV_PIX_FMT_FLAG_BITSTREAM
        | ffi::AV_PIX_FMT_FLAG_HWACCEL
        | ffi::AV_PIX_FMT_FLAG_FLOAT
        | ffi::AV_PIX_FMT_FLAG_BE) as u64;
    let format = pixel_format_value(number)?;
    // SAFETY: the call answers null or static data for every format.
    let description = unsafe { ffi::av_pix_fmt_desc_get(format).as_ref() }?;
    let luma = description.comp[0];
    let step = if luma.depth > 8 { 2 } else { 1 };
    let alone = |component: ffi::AVComponentDescriptor, plane| {
        component.plane == plane && component.step == step && component.offset == 0 && component.shift == 0
    };
    let planes = match description.nb_components {
        1 | 2 => 1,
        _ if alone(description.comp[1], 1) && alone(description.comp[2], 2) => 3,
        _ => 0,
    };
    let readable = description.flags & REFUSED == 0 && alone(luma, 0) && (8..=16).contains(&luma.depth) && planes > 0;
    readable.then(|| PlaneLayout {
        depth: u32::try_from(luma.depth).unwrap_or(8),
        chroma: (planes == 3).then(|| (u32::from(description.log2_chroma_w), u32::from(description.log2_chroma_h))),
    })
}

/// The number of a pixel format given by its name.
pub(crate) fn pixel_format_number(name: &str) -> Result<i32, AvError> {
    // SAFETY: the text ends with NUL.
    let format = unsafe { ffi::av_get_pix_fmt(c_text(name).as_ptr()) };
    if format == ffi::AVPixelFormat::AV_PIX_FMT_NONE {
        Err(AvError::own("choose a pixel format", format!("{name} is unknown")))
    } else {
        Ok(format as i32)
    }
}

/// A pixel format's number as the libraries' own type.
pub(super) fn pixel_format_value(number: i32) -> Option<ffi::AVPixelFormat> {
    let none = ffi::AVPixelFormat::AV_PIX_FMT_NONE as i32;
    let count = ffi::AVPixelFormat::AV_PIX_FMT_NB as i32;
    // SAFETY: numbers between the first and the last are all variants of this enumeration, which is
    // made from the headers of the very libraries that are linked.
    (number > none && number < count).then(|| unsafe { std::mem::transmute::<i32, ffi::AVPixelFormat>(number) })
}

/// The numbers of primaries, transfer, matrix, range and place of chroma as a file has them: any at all, since not every
/// demuxer and decoder holds them against what there is.
pub(super) type ColourNumbers = [c_int; 5];

/// The number that stands in a field of an enumeration of the libraries.
///
/// # Safety
/// The field is one of 32 bits that can be read.
pub(super) unsafe fn number_in<T>(field: *const T) -> c_int {
    const { assert!(size_of::<T>() == size_of::<c_int>()) };
    // SAFETY: promised by the caller; every pattern of bits is a number.
    unsafe { field.cast::<c_int>().read() }
}

/// Colour tags by the libraries' numbers, which are those of ITU-T H.273 but for range and the place of chroma; what is
/// not declared, and what is not known, stays out.
pub(super) fn colour_of([primaries, transfer, matrix, range, chroma]: ColourNumbers) -> Colour {
    let small = |number: c_int| u8::try_from(number).ok();
    Colour {
        primaries: small(primaries).and_then(Primaries::numbered),
        transfer: small(transfer).and_then(Transfer::numbered),
        matrix: small(matrix).and_then(MatrixCoefficients::numbered),
        range: [Range::Limited, Range::Full].into_iter().find(|known| range_number(*known) == range),
        chroma_location: small(chroma - 1).and_then(ChromaSite::numbered),
    }
}

/// The libraries' numbers of colour tags: nothing where a tag is not declared.
pub(super) fn numbers_of(colour: &Colour) -> [Option<c_int>; 5] {
    [
        colour.primaries.map(|primaries| primaries.number().into()),
        colour.transfer.map(|transfer| transfer.number().into()),
        colour.matrix.map(|matrix| matrix.number().into()),
        colour.range.map(range_number),
        // Nought says that nothing is known.
        colour.chroma_location.map(|site| c_int::from(site.number()) + 1),
    ]
}

const fn range_number(range: Range) -> c_int {
    match range {
        Range::Limited => ffi::AVColorRange::AVCOL_RANGE_MPEG as c_int,
        Range::Full => ffi::AVColorRange::AVCOL_RANGE_JPEG as c_int,
    }
}

/// HDR metadata from the libraries' side data: `AVMasteringDisplayMetadata` is ten fractions
/// (red, green, blue and white x and y, lowest and highest luminance) and two flags, and
/// `AVContentLightMetadata` two numbers, all of 32 bits.
/// HDR metadata as the libraries keep it beside a stream: ten fractions and whether they are there; two numbers.
pub(super) fn side_data_of(hdr: &Hdr) -> Vec<(ffi::AVPacketSideDataType, Vec<u8>)> {
    let mut kinds = Vec::new();
    let bytes = |numbers: &[i32]| numbers.iter().flat_map(|number| number.to_ne_bytes()).collect();
    if hdr.primaries.is_some() || hdr.luminance.is_some() {
        let fractions =
            hdr.primaries.unwrap_or([Rational::ZERO; 8]).into_iter().chain(hdr.luminance.unwrap_or([Rational::ZERO; 2]));
        let mut numbers: Vec<i32> = fractions.map(super::av_rational).flat_map(|fraction| [fraction.num, fraction.den]).collect();
        numbers.extend([i32::from(hdr.primaries.is_some()), i32::from(hdr.luminance.is_some())]);
        kinds.push((ffi::AVPacketSideDataType::AV_PKT_DATA_MASTERING_DISPLAY_METADATA, bytes(&numbers)));
    }
    if let Some(levels) = hdr.light_level {
        let numbers = levels.map(|level| i32::try_from(level).unwrap_or(i32::MAX));
        kinds.push((ffi::AVPacketSideDataType::AV_PKT_DATA_CONTENT_LIGHT_LEVEL, bytes(&numbers)));
    }
    kinds
}

pub(super) fn hdr_of(mastering: Option<&[u8]>, light: Option<&[u8]>) -> Option<Hdr> {
    let numbers = |bytes: &[u8]| -> Vec<i32> {
        bytes.chunks_exact(4).map(|four| i32::from_ne_bytes([four[0], four[1], four[2], four[3]])).collect()
    };
    let mut hdr = Hdr::default();
    if let Some([fractions @ .., has_primaries, has_luminance]) = mastering.map(numbers).as_deref().and_then(|all| all.get(..22))
    {
        let fraction =
            |place: usize| Rational::new(fractions[2 * place].into(), fractions[2 * place + 1].into()).unwrap_or(Rational::ZERO);
        if *has_primaries != 0 {
            hdr.primaries = Some(std::array::from_fn(fraction));
        }
        if *has_luminance != 0 {
            hdr.luminance = Some([fraction(8), fraction(9)]);
        }
    }
    if let Some([content, frame_average]) = light.map(numbers).as_deref().and_then(|all| all.get(..2)) {
        hdr.light_level = Some([u32::try_from(*content).unwrap_or(0), u32::try_from(*frame_average).unwrap_or(0)]);
    }
    (hdr != Hdr::default()).then_some(hdr)
}

/// The option that bounds pictures, for decoders.
pub(super) const fn most_pixels() -> &'static str {
    MOST_PIXELS
}

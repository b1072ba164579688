//! Subtitles of text, decoded to the lines of ASS by which they are drawn.

use std::ptr;

use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::{AvError, Packet, StreamView, av_rational, check, text_of};

/// An open decoder of subtitles.
pub(crate) struct SubtitleDecoder(*mut ffi::AVCodecContext);

/// One subtitle, its times in the clock of its stream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SubtitleLine {
    pub(crate) from: i64,
    /// How long it is shown; nothing where neither packet nor text says.
    pub(crate) length: Option<i64>,
    /// The fields of an ASS event behind its times: `Style,Name,MarginL,MarginR,MarginV,Effect,Text`.
    pub(crate) fields: String,
}

impl SubtitleDecoder {
    pub(crate) fn open(stream: StreamView<'_>) -> Result<Self, AvError> {
        // SAFETY: the parameters are valid while the stream is borrowed; the context is ours, and
        // freed with this value also where a later call fails.
        unsafe {
            let codec = ffi::avcodec_find_decoder(stream.parameters.codec_id);
            if codec.is_null() {
                return Err(AvError::new(ffi::AVERROR_DECODER_NOT_FOUND, "find a decoder for subtitles"));
            }
            let decoder = Self(ffi::avcodec_alloc_context3(codec));
            if decoder.0.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "open a decoder"));
            }
            check(ffi::avcodec_parameters_to_context(decoder.0, stream.parameters), "set up the decoder of subtitles")?;
            (*decoder.0).pkt_timebase = av_rational(stream.clock());
            check(ffi::avcodec_open2(decoder.0, codec, ptr::null_mut()), "open the decoder of subtitles")?;
            Ok(decoder)
        }
    }

    /// The head of an ASS document in which the lines stand.
    pub(crate) fn head(&self) -> String {
        // SAFETY: the context is open; the header is null or as many bytes as it says.
        let bytes = unsafe {
            let header = (*self.0).subtitle_header;
            let size = usize::try_from((*self.0).subtitle_header_size).unwrap_or(0);
            if header.is_null() { &[][..] } else { std::slice::from_raw_parts(header.cast_const(), size) }
        };
        String::from_utf8_lossy(bytes).trim_end_matches('\0').to_owned()
    }

    /// The lines of a packet; none where it is of pictures or cannot be read.
    pub(crate) fn decode(&mut self, packet: &Packet, clock: Rational) -> Vec<SubtitleLine> {
        let Some(from) = packet.pts().or(packet.dts()) else { return Vec::new() };
        let ticks =
            |milliseconds: u32| (Rational::constant(i64::from(milliseconds), 1000)).divided_by(clock).map(Rational::round);
        let mut lines = Vec::new();
        // SAFETY: a subtitle of zeros is empty; it is filled by the call and freed after its texts were
        // copied; the packet is valid and not changed.
        unsafe {
            let mut subtitle: ffi::AVSubtitle = std::mem::zeroed();
            let mut got = 0;
            if ffi::avcodec_decode_subtitle2(self.0, &mut subtitle, &mut got, packet.0) < 0 || got == 0 {
                return lines;
            }
            let shown = (subtitle.end_display_time != u32::MAX && subtitle.end_display_time > subtitle.start_display_time)
                .then(|| ticks(subtitle.end_display_time - subtitle.start_display_time))
                .flatten();
            let length = Some(packet.duration()).filter(|length| *length > 0).or(shown);
            for place in 0..subtitle.num_rects as usize {
                let text = text_of((**subtitle.rects.add(place)).ass);
                // The line begins with its number and its layer.
                let fields = text.as_deref().and_then(|line| line.splitn(3, ',').nth(2)).map(str::to_owned);
                lines.extend(fields.map(|fields| SubtitleLine { from, length, fields }));
            }
            ffi::avsubtitle_free(&mut subtitle);
        }
        lines
    }
}

impl Drop for SubtitleDecoder {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once.
        unsafe { ffi::avcodec_free_context(&mut self.0) };
    }
}

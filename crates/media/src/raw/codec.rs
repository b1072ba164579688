//! Decoders and encoders.

use std::collections::VecDeque;
use std::ffi::{CString, c_int};
use std::ptr;

use beryl_core::picture::{Colour, FieldOrder, Hdr};
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::dictionary::Dictionary;
use super::input::{most_pixels, pixel_format_value};
use super::{AvError, Frame, Packet, StreamView, av_rational, c_text, check, rational, text_of};

/// An open decoder.
pub(crate) struct Decoder(*mut ffi::AVCodecContext);

// SAFETY: the context is owned by this value alone; its worker threads are its own.
unsafe impl Send for Decoder {}

impl Decoder {
    /// Opens the decoder for a stream, on so many threads, or on as many as the machine has.
    pub(crate) fn open(stream: StreamView<'_>, threads: Option<u32>) -> Result<Self, AvError> {
        let name = stream.codec_name();
        // SAFETY: the parameters are valid while the stream is borrowed; the context is ours, and
        // freed with this value also where a later call fails.
        unsafe {
            let codec = ffi::avcodec_find_decoder(stream.parameters.codec_id);
            if codec.is_null() {
                return Err(AvError::new(ffi::AVERROR_DECODER_NOT_FOUND, format!("find a decoder for {name}")));
            }
            let decoder = Self(ffi::avcodec_alloc_context3(codec));
            if decoder.0.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "open a decoder"));
            }
            check(ffi::avcodec_parameters_to_context(decoder.0, stream.parameters), "set up the decoder")?;
            (*decoder.0).pkt_timebase = av_rational(stream.clock());
            let threads = threads.map_or("auto".to_owned(), |threads| threads.to_string());
            let mut options = Dictionary::new([("threads", threads.as_str()), ("max_pixels", most_pixels())]);
            check(ffi::avcodec_open2(decoder.0, codec, options.as_mut()), &format!("open the decoder for {name}"))?;
            options.must_be_used_up("open a decoder")?;
            Ok(decoder)
        }
    }

    /// Gives it a packet, or the end. Answers whether it was taken: where not, frames must be
    /// taken out first.
    pub(crate) fn send(&mut self, packet: Option<&Packet>) -> Result<bool, AvError> {
        #[cfg(debug_assertions)]
        crate::hooks::decoding();
        let packet = packet.map_or(ptr::null(), |packet| packet.0.cast_const());
        // SAFETY: the context is open; null means the end.
        match unsafe { ffi::avcodec_send_packet(self.0, packet) } {
            code if code == ffi::AVERROR(ffi::EAGAIN) => Ok(false),
            code => check(code, "decode").map(|_| true),
        }
    }

    /// The next frame; nothing where it wants more packets or is at its end.
    pub(crate) fn receive(&mut self) -> Result<Option<Frame>, AvError> {
        let frame = Frame::new();
        // SAFETY: context and frame are ours.
        match unsafe { ffi::avcodec_receive_frame(self.0, frame.0) } {
            0 => Ok(Some(frame)),
            code if code == ffi::AVERROR(ffi::EAGAIN) || code == ffi::AVERROR_EOF => Ok(None),
            code => Err(AvError::new(code, "decode")),
        }
    }

    /// Whether packets that are sent from now on are left out where no other frame refers to theirs.
    pub(crate) fn hurry(&mut self, hurries: bool) {
        // SAFETY: the context is open and ours; the library reads the field with each packet.
        unsafe {
            (*self.0).skip_frame = if hurries { ffi::AVDiscard::AVDISCARD_NONREF } else { ffi::AVDiscard::AVDISCARD_DEFAULT };
        }
    }

    /// Forgets what it holds, after a jump in the file.
    pub(crate) fn flush(&mut self) {
        // SAFETY: the context is open.
        unsafe { ffi::avcodec_flush_buffers(self.0) };
    }
}

impl Drop for Decoder {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once; null is allowed.
        unsafe { ffi::avcodec_free_context(&mut self.0) };
    }
}

/// What goes into an encoder.
#[derive(Debug, Clone)]
pub(crate) enum EncoderKind {
    /// Pictures.
    Picture {
        width: u32,
        height: u32,
        /// The library's number.
        pixel_format: i32,
        pixel_aspect: Rational,
        /// The rate, where it is constant.
        rate: Option<Rational>,
        colour: Colour,
        fields: FieldOrder,
    },
    /// Sound, in a layout of the library's words.
    Sound { sample_rate: u32, layout: String },
}

/// Everything an encoder is opened with.
#[derive(Debug, Clone)]
pub(crate) struct EncoderSettings {
    /// The library's name of the encoder.
    pub(crate) name: &'static str,
    pub(crate) kind: EncoderKind,
    /// The clock of the frames that go in.
    pub(crate) clock: Rational,
    /// Options by name; each must be known to the encoder.
    pub(crate) options: Vec<(String, String)>,
    /// What a first pass found out, for encoders that hand it over instead of writing it to a file.
    pub(crate) first_pass: Option<String>,
}

impl EncoderSettings {
    /// The same, but in the thread that calls, and with notes beside those of others.
    pub(crate) fn on_one_thread(self) -> Self {
        let set = |(name, value): (String, String)| match name.as_str() {
            "threads" => (name, "1".to_owned()),
            "stats" => (name, format!("{value}-tried")),
            _ => (name, value),
        };
        Self { options: self.options.into_iter().map(set).collect(), ..self }
    }
}

/// An open encoder.
pub(crate) struct Encoder {
    context: *mut ffi::AVCodecContext,
    /// Owned here, since the context only points to it.
    _first_pass: Option<CString>,
    /// What a first pass has noted since it was taken, and the note that came last.
    notes: (String, String),
}

// SAFETY: the context is owned by this value alone; its worker threads are its own.
unsafe impl Send for Encoder {}

/// Whether the libraries have an encoder of this name.
pub(crate) fn has_encoder(name: &'static str) -> bool {
    // SAFETY: the text ends with a nought and is only read; what is found belongs to the library.
    unsafe { !ffi::avcodec_find_encoder_by_name(c_text(name).as_ptr()).is_null() }
}

impl Encoder {
    pub(crate) fn open(settings: &EncoderSettings) -> Result<Self, AvError> {
        let doing = format!("open the encoder {}", settings.name);
        // SAFETY: names end with NUL; the context is ours and freed with this value also where a
        // later call fails; every field written is one that the libraries let callers set before opening.
        unsafe {
            let codec = ffi::avcodec_find_encoder_by_name(c_text(settings.name).as_ptr());
            if codec.is_null() {
                return Err(AvError::new(ffi::AVERROR_ENCODER_NOT_FOUND, doing));
            }
            let mut encoder = Self {
                context: ffi::avcodec_alloc_context3(codec),
                _first_pass: settings.first_pass.as_deref().map(c_text),
                notes: Default::default(),
            };
            if encoder.context.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), doing));
            }
            let context = &mut *encoder.context;
            context.time_base = av_rational(settings.clock);
            match &settings.kind {
                EncoderKind::Picture { width, height, pixel_format, pixel_aspect, rate, colour, fields } => {
                    context.width = c_int::try_from(*width).unwrap_or(0);
                    context.height = c_int::try_from(*height).unwrap_or(0);
                    context.pix_fmt = pixel_format_value(*pixel_format).ok_or_else(|| AvError::own(&doing, "no pixel format"))?;
                    context.sample_aspect_ratio = av_rational(*pixel_aspect);
                    if let Some(rate) = rate {
                        context.framerate = av_rational(*rate);
                    }
                    context.field_order = match fields {
                        FieldOrder::TopFirst => ffi::AVFieldOrder::AV_FIELD_TT,
                        FieldOrder::BottomFirst => ffi::AVFieldOrder::AV_FIELD_BB,
                        FieldOrder::Progressive | FieldOrder::Unknown => ffi::AVFieldOrder::AV_FIELD_PROGRESSIVE,
                    };
                    tag_colour(context, colour);
                }
                EncoderKind::Sound { sample_rate, layout } => {
                    context.sample_rate = c_int::try_from(*sample_rate).unwrap_or(0);
                    let layout = c_text(layout);
                    check(ffi::av_channel_layout_from_string(&mut context.ch_layout, layout.as_ptr()), &doing)?;
                    // The first format an encoder lists is the one it works in.
                    if !(*codec).sample_fmts.is_null() {
                        context.sample_fmt = *(*codec).sample_fmts;
                    }
                }
            }
            if let Some(first_pass) = &mut encoder._first_pass {
                context.stats_in = first_pass.as_ptr().cast_mut();
            }
            let entries = settings.options.iter().map(|(name, value)| (name.as_str(), value.as_str()));
            let mut options = Dictionary::new(entries);
            check(ffi::avcodec_open2(encoder.context, codec, options.as_mut()), &doing)?;
            options.must_be_used_up(&doing)?;
            Ok(encoder)
        }
    }

    /// Gives it a frame, or the end. A frame of another form than it was opened for is refused: encoders read
    /// as far as their own size and format reach.
    pub(crate) fn send(&mut self, frame: Option<&Frame>) -> Result<(), AvError> {
        if let Some(frame) = frame {
            self.must_fit(frame)?;
        }
        let frame = frame.map_or(ptr::null(), |frame| frame.0.cast_const());
        // SAFETY: the context is open; null means the end. Callers take all packets out after each
        // call, so that “try again” cannot be answered.
        check(unsafe { ffi::avcodec_send_frame(self.context, frame) }, "encode")?;
        self.note();
        Ok(())
    }

    /// Keeps the note that the library has made of a picture, if any: the next one takes its place, and at the end
    /// several pictures follow each other in one call.
    fn note(&mut self) {
        // SAFETY: the text belongs to the context, ends with NUL and is not changed during the call.
        let Some(note) = (unsafe { text_of((*self.context).stats_out) }) else { return };
        if note != self.notes.1 {
            self.notes.0.push_str(&note);
            self.notes.1 = note;
        }
    }

    fn must_fit(&self, frame: &Frame) -> Result<(), AvError> {
        // SAFETY: the context is open and ours; only numbers are read.
        let context = unsafe { &*self.context };
        let refuse = |what: &str, own: String, other: String| {
            Err(AvError::own("encode", format!("a frame has {what} {other}, where the encoder was opened for {own}")))
        };
        if context.codec_type == ffi::AVMediaType::AVMEDIA_TYPE_VIDEO {
            let own = (context.width, context.height, context.pix_fmt as i32);
            let other = (frame.raw_width(), frame.raw_height(), frame.format());
            return if own == other { Ok(()) } else { refuse("size and format", format!("{own:?}"), format!("{other:?}")) };
        }
        let own = (context.sample_rate, context.ch_layout.nb_channels, context.sample_fmt as i32);
        let other = (frame.raw_sample_rate(), frame.raw_channels(), frame.format());
        if own == other { Ok(()) } else { refuse("rate, channels and format", format!("{own:?}"), format!("{other:?}")) }
    }

    /// The packets that are ready.
    pub(crate) fn receive(&mut self) -> Result<VecDeque<Packet>, AvError> {
        let mut packets = VecDeque::new();
        loop {
            let packet = Packet::new();
            // SAFETY: context and packet are ours.
            match unsafe { ffi::avcodec_receive_packet(self.context, packet.0) } {
                0 => {
                    self.note();
                    packets.push_back(packet);
                }
                code if code == ffi::AVERROR(ffi::EAGAIN) || code == ffi::AVERROR_EOF => return Ok(packets),
                code => return Err(AvError::new(code, "encode")),
            }
        }
    }

    /// What a first pass has found out since this was asked last, for encoders that hand it over.
    pub(crate) fn take_first_pass_notes(&mut self) -> String {
        std::mem::take(&mut self.notes.0)
    }

    /// How many samples each frame of sound must have; nothing where any number will do.
    pub(crate) fn frame_samples(&self) -> Option<u32> {
        // SAFETY: the context is open and ours.
        u32::try_from(unsafe { (*self.context).frame_size }).ok().filter(|samples| *samples > 0)
    }

    /// The name of the sample format it works in.
    pub(crate) fn sample_format(&self) -> String {
        // SAFETY: the context is open; the call answers null or a static text.
        unsafe { text_of(ffi::av_get_sample_fmt_name((*self.context).sample_fmt)) }.unwrap_or_default()
    }

    /// What a muxer needs to know of it.
    pub(crate) fn stream(&self) -> Result<EncoderStream, AvError> {
        // SAFETY: the context is open and ours; the new parameters are ours and freed with the result.
        unsafe {
            let mut stream = EncoderStream::empty()?;
            check(ffi::avcodec_parameters_from_context(stream.parameters, self.context), "describe the stream")?;
            let context = &*self.context;
            stream.clock = rational(context.time_base).unwrap_or(Rational::ONE);
            stream.rate = rational(context.framerate).filter(|rate| rate.is_positive());
            Ok(stream)
        }
    }
}

impl Drop for Encoder {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once. The notes of the first pass are ours and not the
        // context's to free, so they are taken back before.
        unsafe {
            if !self.context.is_null() {
                (*self.context).stats_in = ptr::null_mut();
            }
            ffi::avcodec_free_context(&mut self.context);
        }
    }
}

/// Writes colour tags into a context that is not open yet.
fn tag_colour(context: &mut ffi::AVCodecContext, colour: &Colour) {
    write_colour(
        colour,
        [
            ptr::addr_of_mut!(context.color_primaries).cast(),
            ptr::addr_of_mut!(context.color_trc).cast(),
            ptr::addr_of_mut!(context.colorspace).cast(),
            ptr::addr_of_mut!(context.color_range).cast(),
            ptr::addr_of_mut!(context.chroma_sample_location).cast(),
        ],
    );
}

/// Writes the numbers of colour tags where primaries, transfer, matrix, range and place of chroma are kept, in this
/// order: fields of a structure of the libraries that is borrowed for as long as this takes.
pub(super) fn write_colour(colour: &Colour, fields: [*mut c_int; 5]) {
    for (number, field) in super::input::numbers_of(colour).into_iter().zip(fields) {
        if let Some(number) = number {
            // SAFETY: the number is one of the enumeration that the libraries declare for the field, which callers point
            // to within a borrowed structure.
            unsafe { field.write(number) };
        }
    }
}

/// What a muxer needs to know of a stream: its parameters and its clock.
pub(crate) struct EncoderStream {
    pub(super) parameters: *mut ffi::AVCodecParameters,
    /// The clock of its packets.
    pub(crate) clock: Rational,
    /// Frames a second, where it has a constant number.
    pub(crate) rate: Option<Rational>,
    /// What the container is to say of a high dynamic range.
    pub(crate) hdr: Option<Box<Hdr>>,
}

// SAFETY: the parameters are owned by this value alone and bound to no thread.
unsafe impl Send for EncoderStream {}

impl EncoderStream {
    fn empty() -> Result<Self, AvError> {
        // SAFETY: allocates; null only without memory.
        let parameters = unsafe { ffi::avcodec_parameters_alloc() };
        if parameters.is_null() {
            return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "describe the stream"));
        }
        Ok(Self { parameters, clock: Rational::ONE, rate: None, hdr: None })
    }

    /// A stream of plain text subtitles, timed in milliseconds.
    pub(crate) fn text_subtitles() -> Result<Self, AvError> {
        let mut stream = Self::empty()?;
        // SAFETY: the parameters are ours.
        unsafe {
            (*stream.parameters).codec_type = ffi::AVMediaType::AVMEDIA_TYPE_SUBTITLE;
            (*stream.parameters).codec_id = ffi::AVCodecID::AV_CODEC_ID_SUBRIP;
        }
        stream.clock = Rational::constant(1, 1000);
        Ok(stream)
    }

    /// A stream of a source, to be taken over untouched.
    pub(crate) fn copy_of(stream: StreamView<'_>) -> Result<Self, AvError> {
        let mut copy = Self::empty()?;
        // SAFETY: both sides are valid; the four characters of one container mean nothing in another.
        unsafe {
            check(ffi::avcodec_parameters_copy(copy.parameters, stream.parameters), "describe the stream")?;
            (*copy.parameters).codec_tag = 0;
        }
        copy.clock = stream.clock();
        Ok(copy)
    }

    /// Bytes of the header of its codec.
    pub(crate) fn header_size(&self) -> u64 {
        // SAFETY: the parameters are ours and not null; only a number is read.
        unsafe { u64::try_from((*self.parameters).extradata_size).unwrap_or(0) }
    }

    /// Seconds at its beginning that only prime the decoder, in codecs of which Matroska has to be told.
    pub(crate) fn priming(&self) -> Option<Rational> {
        // SAFETY: the parameters are ours and not null; only numbers are read.
        let (codec, samples, rate) =
            unsafe { ((*self.parameters).codec_id, (*self.parameters).initial_padding, (*self.parameters).sample_rate) };
        let is_untold = codec == ffi::AVCodecID::AV_CODEC_ID_AAC && samples > 0;
        Rational::new(samples.into(), rate.into()).filter(|_| is_untold)
    }

    /// Sets the four characters by which the container names the codec.
    pub(crate) fn set_tag(&mut self, tag: [u8; 4]) {
        // SAFETY: the parameters are ours.
        unsafe { (*self.parameters).codec_tag = u32::from_le_bytes(tag) };
    }
}

impl Drop for EncoderStream {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once.
        unsafe { ffi::avcodec_parameters_free(&mut self.parameters) };
    }
}

//! Frames of decoded picture or sound.

use beryl_core::picture::FieldOrder;
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::rational;

/// How the planes of a picture lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct PlaneLayout {
    /// Bits of a sample; more than 8 lie in two bytes, the lower one first.
    pub(crate) depth: u32,
    /// How often the sides of colour planes are halved, across and down; nothing without colour.
    pub(crate) chroma: Option<(u32, u32)>,
}

/// The name under which frames bear that they stand where the source has no picture yet.
const LEADS: &str = "beryl.leads";

/// The name under which frames bear that their sound drifts against its clock.
const DRIFTS: &str = "beryl.drifts";

/// An owned frame. Cloning shares its samples.
pub(crate) struct Frame(pub(super) *mut ffi::AVFrame);

// SAFETY: the frame is owned by this value alone; its buffers are reference-counted atomically.
unsafe impl Send for Frame {}
// SAFETY: whatever can be done with a shared frame only reads it, and references are counted atomically.
unsafe impl Sync for Frame {}

impl Frame {
    pub(crate) fn new() -> Self {
        // SAFETY: allocates; null only without memory.
        let frame = unsafe { ffi::av_frame_alloc() };
        assert!(!frame.is_null(), "out of memory");
        Self(frame)
    }

    fn get(&self) -> &ffi::AVFrame {
        // SAFETY: never null, and borrowed no longer than this value.
        unsafe { &*self.0 }
    }

    fn get_mut(&mut self) -> &mut ffi::AVFrame {
        // SAFETY: never null, owned by this value alone.
        unsafe { &mut *self.0 }
    }

    pub(crate) fn pts(&self) -> Option<i64> {
        Some(self.get().pts).filter(|pts| *pts != ffi::AV_NOPTS_VALUE)
    }

    /// The decoder's best guess of the time, where a file leaves times out.
    pub(crate) fn best_time(&self) -> Option<i64> {
        let guessed = Some(self.get().best_effort_timestamp).filter(|pts| *pts != ffi::AV_NOPTS_VALUE);
        // The guess for sound is made before what is not to be heard is taken off its front.
        if self.samples() > 0 { self.pts().or(guessed) } else { guessed.or(self.pts()) }
    }

    pub(crate) fn set_times(&mut self, pts: i64, duration: i64) {
        let frame = self.get_mut();
        (frame.pts, frame.pkt_duration) = (pts, duration);
    }

    pub(crate) fn duration(&self) -> i64 {
        self.get().pkt_duration
    }

    pub(crate) fn width(&self) -> u32 {
        u32::try_from(self.get().width).unwrap_or(0)
    }

    pub(crate) fn height(&self) -> u32 {
        u32::try_from(self.get().height).unwrap_or(0)
    }

    /// The library's number of its pixel or sample format.
    pub(crate) fn format(&self) -> i32 {
        self.get().format
    }

    pub(crate) fn pixel_aspect(&self) -> Option<Rational> {
        rational(self.get().sample_aspect_ratio).filter(|aspect| aspect.is_positive())
    }

    pub(crate) fn samples(&self) -> u32 {
        u32::try_from(self.get().nb_samples).unwrap_or(0)
    }

    pub(crate) fn sample_rate(&self) -> u32 {
        u32::try_from(self.get().sample_rate).unwrap_or(0)
    }

    /// The channel layout in the library's words.
    pub(crate) fn layout(&self) -> String {
        super::input::layout_text(&self.get().ch_layout)
    }

    /// What the decoder says of the fields of this very frame.
    pub(crate) fn field_order(&self) -> FieldOrder {
        let frame = self.get();
        match (frame.interlaced_frame != 0, frame.top_field_first != 0) {
            (false, _) => FieldOrder::Progressive,
            (true, true) => FieldOrder::TopFirst,
            (true, false) => FieldOrder::BottomFirst,
        }
    }

    /// Whether the stream asks to show the first field once more behind the second (ISO/IEC 13818-2,
    /// `repeat_first_field`).
    pub(crate) fn repeats_field(&self) -> bool {
        self.get().repeat_pict == 1
    }

    pub(crate) fn channels(&self) -> usize {
        usize::try_from(self.get().ch_layout.nb_channels).unwrap_or(0)
    }

    /// The sizes as the libraries hold them, for holding them against a codec's.
    pub(super) fn raw_width(&self) -> i32 {
        self.get().width
    }

    pub(super) fn raw_height(&self) -> i32 {
        self.get().height
    }

    pub(super) fn raw_sample_rate(&self) -> i32 {
        self.get().sample_rate
    }

    pub(super) fn raw_channels(&self) -> i32 {
        self.get().ch_layout.nb_channels
    }

    /// What a filter noted of the frame under this name.
    pub(crate) fn metadata(&self, name: &str) -> Option<String> {
        // SAFETY: the dictionary is null or valid as long as the frame; its texts end with NUL.
        unsafe {
            let entry = ffi::av_dict_get(self.get().metadata, super::c_text(name).as_ptr(), std::ptr::null(), 0);
            (!entry.is_null()).then(|| super::text_of((*entry).value)).flatten()
        }
    }

    /// Bytes that its samples take.
    pub(crate) fn bytes(&self) -> usize {
        let buffers = self.get().buf.iter().filter(|buffer| !buffer.is_null());
        // SAFETY: buffers that are not null are valid as long as the frame.
        buffers.map(|buffer| unsafe { (**buffer).size }).sum()
    }

    /// Notes something of the frame under this name, for filters that go by it.
    pub(crate) fn note(&mut self, name: &str, text: &str) {
        // SAFETY: the dictionary belongs to our own frame; name and text are copied.
        unsafe {
            ffi::av_dict_set(&mut self.get_mut().metadata, super::c_text(name).as_ptr(), super::c_text(text).as_ptr(), 0);
        }
    }

    /// Where luma and colour of this picture lie; nothing where they do not lie in planes of their own.
    pub(crate) fn plane_layout(&self) -> Option<PlaneLayout> {
        super::input::plane_layout(self.format())
    }

    /// The first `bytes` bytes of a line of a plane.
    pub(crate) fn line(&self, plane: usize, line: usize, bytes: usize) -> Option<&[u8]> {
        self.plane(plane)?.line(line)?.get(..bytes)
    }

    /// The samples of interleaved sound in double precision; none where it is of another form.
    pub(crate) fn doubles(&self) -> &[f64] {
        let frame = self.get();
        let count = (self.samples() as usize).checked_mul(self.channels());
        let bytes = count.and_then(|count| count.checked_mul(size_of::<f64>()));
        let is_double = frame.format == ffi::AVSampleFormat::AV_SAMPLE_FMT_DBL as i32;
        let first = frame.data[0].cast_const().cast::<f64>();
        match count.zip(bytes) {
            Some((count, bytes)) if is_double && self.owns(frame.data[0], bytes) && first.is_aligned() => {
                // SAFETY: so many bytes lie there within a buffer of the frame, aligned for doubles; any bytes are some.
                unsafe { std::slice::from_raw_parts(first, count) }
            }
            _ => &[],
        }
    }

    /// Whether so many bytes from here on lie within one of its buffers.
    fn owns(&self, first: *const u8, bytes: usize) -> bool {
        let end = first.addr().checked_add(bytes);
        !first.is_null()
            && self.get().buf.iter().filter(|buffer| !buffer.is_null()).any(|buffer| {
                // SAFETY: a buffer that is not null is valid as long as the frame.
                let buffer = unsafe { &**buffer };
                let from = buffer.data.addr();
                from <= first.addr() && end.is_some_and(|end| from.checked_add(buffer.size).is_some_and(|behind| end <= behind))
            })
    }

    /// Says of the frame which fields it has, for filters that go by it.
    pub(crate) fn mark_fields(&mut self, fields: FieldOrder) {
        let frame = self.get_mut();
        frame.interlaced_frame = i32::from(fields.is_interlaced());
        frame.top_field_first = i32::from(fields == FieldOrder::TopFirst);
    }

    /// Marks how the frame is to be encoded: its fields, its colour, and nothing of how the source coded it,
    /// which would force the encoder's choice of frame types.
    pub(crate) fn prepare_for_encoding(&mut self, fields: FieldOrder, colour: &beryl_core::picture::Colour) {
        let frame = self.get_mut();
        frame.pict_type = ffi::AVPictureType::AV_PICTURE_TYPE_NONE;
        frame.key_frame = 0;
        // Some encoders take colour from frames and not from their own settings.
        self.mark_colour(colour);
        self.mark_fields(fields);
    }

    /// Marks the shape of its pixels.
    pub(crate) fn mark_pixel_aspect(&mut self, aspect: Rational) {
        self.get_mut().sample_aspect_ratio = super::av_rational(aspect);
    }

    /// Marks what its codes mean.
    pub(crate) fn mark_colour(&mut self, colour: &beryl_core::picture::Colour) {
        let frame = self.get_mut();
        super::codec::write_colour(
            colour,
            [
                std::ptr::addr_of_mut!(frame.color_primaries).cast(),
                std::ptr::addr_of_mut!(frame.color_trc).cast(),
                std::ptr::addr_of_mut!(frame.colorspace).cast(),
                std::ptr::addr_of_mut!(frame.color_range).cast(),
                std::ptr::addr_of_mut!(frame.chroma_location).cast(),
            ],
        );
    }

    /// Fills a plane with lines of `row_bytes` bytes each, as many as it has.
    pub(crate) fn write_plane(&mut self, plane: usize, row_bytes: usize, bytes: &[u8]) -> Result<(), super::AvError> {
        let refused = || super::AvError::own("draw a picture", format!("plane {plane} is not of {row_bytes} bytes a line"));
        let mut planes = self.planes_mut()?;
        let to = planes.get_mut(plane).ok_or_else(refused)?;
        for (row, line) in bytes.chunks_exact(row_bytes.max(1)).take(to.lines()).enumerate() {
            to.line(row).and_then(|to| to.get_mut(..row_bytes)).ok_or_else(refused)?.copy_from_slice(line);
        }
        Ok(())
    }

    /// Fills interleaved sound with these bytes.
    pub(crate) fn write_sound(&mut self, bytes: &[u8]) -> Result<(), super::AvError> {
        // SAFETY: the frame is valid; where its buffers are shared it gets its own.
        super::check(unsafe { ffi::av_frame_make_writable(self.0) }, "write sound")?;
        let first = self.get().data[0];
        if !self.owns(first, bytes.len()) {
            return Err(super::AvError::own("write sound", "there is no room for so much"));
        }
        // SAFETY: so many bytes lie there within a buffer of the frame, which is writable and nobody else's.
        unsafe { std::ptr::copy_nonoverlapping(bytes.as_ptr(), first, bytes.len()) };
        Ok(())
    }

    /// A new picture of this size and format (the library's number), not yet drawn.
    pub(crate) fn video(width: u32, height: u32, format: i32) -> Result<Self, super::AvError> {
        let mut frame = Self::new();
        let raw = frame.get_mut();
        (raw.width, raw.height, raw.format) = (i32::try_from(width).unwrap_or(0), i32::try_from(height).unwrap_or(0), format);
        let alignment = i32::try_from(super::plane::ALIGNED).unwrap_or(0);
        // SAFETY: size and format are set, as the call asks.
        super::check(unsafe { ffi::av_frame_get_buffer(frame.0, alignment) }, "make room for a picture")?;
        Ok(frame)
    }

    /// A new stretch of sound of this format (the library's number), not yet filled.
    pub(crate) fn audio(samples: u32, channels: u32, sample_rate: u32, format: i32) -> Result<Self, super::AvError> {
        let mut frame = Self::new();
        let raw = frame.get_mut();
        (raw.nb_samples, raw.sample_rate, raw.format) =
            (i32::try_from(samples).unwrap_or(0), i32::try_from(sample_rate).unwrap_or(0), format);
        // SAFETY: the layout is part of our own frame and empty before.
        unsafe { ffi::av_channel_layout_default(&mut (*frame.0).ch_layout, i32::try_from(channels).unwrap_or(0)) };
        // SAFETY: layout, rate, length and format are set, as the call asks.
        super::check(unsafe { ffi::av_frame_get_buffer(frame.0, 0) }, "make room for sound")?;
        Ok(frame)
    }

    /// So many samples of sound from one of them on, as a frame of its own.
    pub(crate) fn piece(&self, first: i64, count: i64) -> Result<Self, super::AvError> {
        let piece = Self::new();
        let number = |samples: i64| i32::try_from(samples).unwrap_or(0);
        let (first, count) = (number(first), number(count));
        if first < 0 || count <= 0 || first.checked_add(count).is_none_or(|end| end > self.get().nb_samples) {
            return Err(super::AvError::own("cut sound", "there are not so many samples"));
        }
        // SAFETY: the new frame gets form and room before samples are copied into it; the range was
        // held against the samples that are there, and both frames have the same form.
        unsafe {
            super::check(ffi::av_frame_copy_props(piece.0, self.0), "cut sound")?;
            let (to, from) = (&mut *piece.0, &*self.0);
            (to.nb_samples, to.format, to.sample_rate) = (count, from.format, from.sample_rate);
            super::check(ffi::av_channel_layout_copy(&mut to.ch_layout, &from.ch_layout), "cut sound")?;
            super::check(ffi::av_frame_get_buffer(piece.0, 0), "cut sound")?;
            let format = super::sample_format_value(from.format)
                .ok_or_else(|| super::AvError::own("cut sound", "the sample format is unknown"))?;
            let channels = from.ch_layout.nb_channels;
            let copied =
                ffi::av_samples_copy(to.extended_data, from.extended_data.cast_const(), 0, first, count, channels, format);
            super::check(copied, "cut sound")?;
        }
        Ok(piece)
    }

    /// So many samples of silence of the same form.
    pub(crate) fn silence(&self, samples: i64) -> Result<Self, super::AvError> {
        let silence = Self::new();
        let samples = i32::try_from(samples).map_err(|_| super::AvError::own("fill with silence", "it is too long"))?;
        // SAFETY: the new frame gets form and room before it is filled, all of it, with the silence of
        // its own format.
        unsafe {
            let (to, from) = (&mut *silence.0, &*self.0);
            (to.nb_samples, to.format, to.sample_rate) = (samples, from.format, from.sample_rate);
            super::check(ffi::av_channel_layout_copy(&mut to.ch_layout, &from.ch_layout), "fill with silence")?;
            super::check(ffi::av_frame_get_buffer(silence.0, 0), "fill with silence")?;
            let format = super::sample_format_value(from.format)
                .ok_or_else(|| super::AvError::own("fill with silence", "the sample format is unknown"))?;
            let filled = ffi::av_samples_set_silence(to.extended_data, 0, samples, from.ch_layout.nb_channels, format);
            super::check(filled, "fill with silence")?;
        }
        Ok(silence)
    }

    /// A black picture of the same form, with the same times.
    pub(crate) fn black(&self) -> Result<Self, super::AvError> {
        let mut black = Self::of_form(self, self.width(), self.height(), self.format())?;
        black.blacken(self.colour().is_full())?;
        Ok(black)
    }

    /// Makes all of it black, in the codes of this range.
    pub(crate) fn blacken(&mut self, full_range: bool) -> Result<(), super::AvError> {
        let doing = "fill with black";
        let format = super::input::pixel_format_value(self.format())
            .ok_or_else(|| super::AvError::own(doing, "the pixel format is unknown"))?;
        let range = if full_range { ffi::AVColorRange::AVCOL_RANGE_JPEG } else { ffi::AVColorRange::AVCOL_RANGE_MPEG };
        // SAFETY: the frame is valid and gets buffers of its own where they are shared; its planes have its size in
        // this format, as they were seen to have by `planes_mut`.
        unsafe {
            drop(self.planes_mut()?);
            let to = &mut *self.0;
            let strides = [to.linesize[0] as isize, to.linesize[1] as isize, to.linesize[2] as isize, to.linesize[3] as isize];
            let filled = ffi::av_image_fill_black(to.data.as_mut_ptr(), strides.as_ptr(), format, range, to.width, to.height);
            super::check(filled, doing)?;
        }
        Ok(())
    }

    /// Forgets what it said of a high dynamic range, which it has no more.
    pub(crate) fn is_standard_now(&mut self) {
        use ffi::AVFrameSideDataType as Kind;
        for kind in [
            Kind::AV_FRAME_DATA_MASTERING_DISPLAY_METADATA,
            Kind::AV_FRAME_DATA_CONTENT_LIGHT_LEVEL,
            Kind::AV_FRAME_DATA_DYNAMIC_HDR_PLUS,
            Kind::AV_FRAME_DATA_DOVI_RPU_BUFFER,
            Kind::AV_FRAME_DATA_DOVI_METADATA,
            Kind::AV_FRAME_DATA_DYNAMIC_HDR_VIVID,
            Kind::AV_FRAME_DATA_ICC_PROFILE,
        ] {
            // SAFETY: the frame is valid; what it does not have is passed over.
            unsafe { ffi::av_frame_remove_side_data(self.0, kind) };
        }
    }

    /// Says that it stands where the source has no picture yet.
    pub(crate) fn mark_leading(&mut self) {
        self.note(LEADS, "1");
    }

    /// Says that its sound drifts: its place is to be followed by resampling.
    pub(crate) fn mark_drifting(&mut self) {
        self.note(DRIFTS, "1");
    }

    /// Whether its sound drifts.
    pub(crate) fn is_drifting(&self) -> bool {
        self.metadata(DRIFTS).is_some()
    }

    /// Whether it stands where the source has no picture yet.
    pub(crate) fn is_leading(&self) -> bool {
        self.metadata(LEADS).is_some()
    }

    /// HDR metadata that travels with the frame.
    pub(super) fn side_data(&self, kind: ffi::AVFrameSideDataType) -> Option<&[u8]> {
        // SAFETY: the frame is valid; side data lives as long as the frame, and its size is its own.
        unsafe {
            let side = ffi::av_frame_get_side_data(self.0, kind);
            (!side.is_null()).then(|| std::slice::from_raw_parts((*side).data, (*side).size))
        }
    }

    pub(crate) fn colour(&self) -> beryl_core::picture::Colour {
        super::input::colour_of(self.colour_numbers())
    }

    fn colour_numbers(&self) -> super::input::ColourNumbers {
        use super::input::number_in;
        // SAFETY: the frame is never null and valid; only numbers are read.
        unsafe {
            [
                number_in(std::ptr::addr_of!((*self.0).color_primaries)),
                number_in(std::ptr::addr_of!((*self.0).color_trc)),
                number_in(std::ptr::addr_of!((*self.0).colorspace)),
                number_in(std::ptr::addr_of!((*self.0).color_range)),
                number_in(std::ptr::addr_of!((*self.0).chroma_location)),
            ]
        }
    }

    /// HDR metadata that travels with the frame.
    pub(crate) fn hdr(&self) -> Option<beryl_core::picture::Hdr> {
        use ffi::AVFrameSideDataType as Kind;
        super::input::hdr_of(
            self.side_data(Kind::AV_FRAME_DATA_MASTERING_DISPLAY_METADATA),
            self.side_data(Kind::AV_FRAME_DATA_CONTENT_LIGHT_LEVEL),
        )
    }
}

impl Clone for Frame {
    fn clone(&self) -> Self {
        // SAFETY: the source is valid; the copy shares its reference-counted buffers.
        let frame = unsafe { ffi::av_frame_clone(self.0) };
        assert!(!frame.is_null(), "out of memory");
        Self(frame)
    }
}

impl Drop for Frame {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once.
        unsafe { ffi::av_frame_free(&mut self.0) };
    }
}

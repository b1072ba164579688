//! Frames of decoded picture or sound.

use beryl_core::rational::Rational;
use beryl_core::reading::FieldOrder;
use ffmpeg_next::ffi;

use super::rational;

/// An owned frame. Cloning shares its samples.
pub(crate) struct Frame(pub(super) *mut ffi::AVFrame);

// SAFETY: the frame is owned by this value alone; its buffers are reference-counted atomically.
unsafe impl Send for Frame {}

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
        Some(self.get().best_effort_timestamp).filter(|pts| *pts != ffi::AV_NOPTS_VALUE).or(self.pts())
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

    /// Marks how the frame is to be encoded: its fields, and nothing of how the source coded it,
    /// which would force the encoder's choice of frame types.
    pub(crate) fn prepare_for_encoding(&mut self, fields: FieldOrder) {
        let frame = self.get_mut();
        frame.pict_type = ffi::AVPictureType::AV_PICTURE_TYPE_NONE;
        frame.key_frame = 0;
        frame.interlaced_frame = i32::from(fields.is_interlaced());
        frame.top_field_first = i32::from(fields == FieldOrder::TopFirst);
    }

    /// Fills a plane with `rows` lines of `row_bytes` bytes each.
    pub(crate) fn write_plane(&mut self, plane: usize, row_bytes: usize, rows: usize, bytes: &[u8]) {
        assert!(bytes.len() >= row_bytes * rows, "a plane needs {row_bytes}×{rows} bytes");
        let frame = self.get_mut();
        let stride = usize::try_from(frame.linesize[plane]).unwrap_or(0);
        assert!(stride >= row_bytes && !frame.data[plane].is_null(), "the frame has no such plane");
        for (row, line) in bytes.chunks_exact(row_bytes).take(rows).enumerate() {
            // SAFETY: the frame was made writable by `video`, whose buffer has `rows` lines of `stride` bytes.
            unsafe { std::ptr::copy_nonoverlapping(line.as_ptr(), frame.data[plane].add(row * stride), row_bytes) };
        }
    }

    /// A new picture of this size and format (the library's number), not yet drawn.
    pub(crate) fn video(width: u32, height: u32, format: i32) -> Result<Self, super::AvError> {
        let mut frame = Self::new();
        let raw = frame.get_mut();
        (raw.width, raw.height, raw.format) = (i32::try_from(width).unwrap_or(0), i32::try_from(height).unwrap_or(0), format);
        // SAFETY: size and format are set, as the call asks.
        super::check(unsafe { ffi::av_frame_get_buffer(frame.0, 0) }, "make room for a picture")?;
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

    /// HDR metadata that travels with the frame.
    pub(super) fn side_data(&self, kind: ffi::AVFrameSideDataType) -> Option<&[u8]> {
        // SAFETY: the frame is valid; side data lives as long as the frame, and its size is its own.
        unsafe {
            let side = ffi::av_frame_get_side_data(self.0, kind);
            (!side.is_null()).then(|| std::slice::from_raw_parts((*side).data, (*side).size))
        }
    }

    pub(crate) fn colour(&self) -> beryl_core::reading::Colour {
        let frame = self.get();
        super::input::colour_of(
            frame.color_primaries,
            frame.color_trc,
            frame.colorspace,
            frame.color_range,
            frame.chroma_location,
        )
    }

    /// HDR metadata that travels with the frame.
    pub(crate) fn hdr(&self) -> Option<beryl_core::reading::Hdr> {
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

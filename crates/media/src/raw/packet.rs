//! Packets of compressed data.

use ffmpeg_next::ffi;

use super::{AvError, av_rational};
use beryl_core::time::Rational;

/// An owned packet. Cloning shares its bytes.
pub(crate) struct Packet(pub(super) *mut ffi::AVPacket);

// SAFETY: the packet is owned by this value alone; its bytes are reference-counted atomically.
unsafe impl Send for Packet {}

impl Packet {
    /// An empty packet.
    pub(crate) fn new() -> Self {
        // SAFETY: allocates, and aborts like every allocation here where there is no memory.
        let packet = unsafe { ffi::av_packet_alloc() };
        assert!(!packet.is_null(), "out of memory");
        Self(packet)
    }

    /// A packet with these bytes.
    pub(crate) fn from_bytes(bytes: &[u8]) -> Result<Self, AvError> {
        let packet = Self::new();
        let size = i32::try_from(bytes.len()).map_err(|_| AvError::own("read an image", "it is larger than 2 GB"))?;
        // SAFETY: the packet is ours; after success its data has room for `size` bytes.
        unsafe {
            super::check(ffi::av_new_packet(packet.0, size), "make room for an image")?;
            std::ptr::copy_nonoverlapping(bytes.as_ptr(), (*packet.0).data, bytes.len());
        }
        Ok(packet)
    }

    fn get(&self) -> &ffi::AVPacket {
        // SAFETY: never null, and borrowed no longer than this value.
        unsafe { &*self.0 }
    }

    fn get_mut(&mut self) -> &mut ffi::AVPacket {
        // SAFETY: never null, owned by this value alone.
        unsafe { &mut *self.0 }
    }

    pub(crate) fn stream(&self) -> usize {
        usize::try_from(self.get().stream_index).unwrap_or(usize::MAX)
    }

    pub(crate) fn set_stream(&mut self, index: usize) {
        self.get_mut().stream_index = i32::try_from(index).unwrap_or(i32::MAX);
    }

    pub(crate) fn pts(&self) -> Option<i64> {
        Some(self.get().pts).filter(|pts| *pts != ffi::AV_NOPTS_VALUE)
    }

    pub(crate) fn dts(&self) -> Option<i64> {
        Some(self.get().dts).filter(|dts| *dts != ffi::AV_NOPTS_VALUE)
    }

    pub(crate) fn set_times(&mut self, pts: i64, duration: i64) {
        let packet = self.get_mut();
        (packet.pts, packet.dts, packet.duration) = (pts, pts, duration);
    }

    pub(crate) fn set_duration(&mut self, duration: i64) {
        self.get_mut().duration = duration;
    }

    pub(crate) fn duration(&self) -> i64 {
        self.get().duration
    }

    /// Where it lies in the file, in bytes from its beginning.
    pub(crate) fn position(&self) -> Option<u64> {
        u64::try_from(self.get().pos).ok()
    }

    pub(crate) fn size(&self) -> u64 {
        u64::try_from(self.get().size).unwrap_or(0)
    }

    /// A copy of its bytes.
    pub(crate) fn bytes(&self) -> Vec<u8> {
        let packet = self.get();
        let size = usize::try_from(packet.size).unwrap_or(0);
        if packet.data.is_null() || size == 0 {
            return Vec::new();
        }
        // SAFETY: a packet's data has `size` bytes and lives as long as the packet.
        unsafe { std::slice::from_raw_parts(packet.data, size) }.to_vec()
    }

    /// Whether decoding can begin with it.
    pub(crate) fn is_key(&self) -> bool {
        self.get().flags & ffi::AV_PKT_FLAG_KEY != 0
    }

    /// Says that decoding can begin with it.
    pub(crate) fn mark_key(&mut self) {
        self.get_mut().flags |= ffi::AV_PKT_FLAG_KEY;
    }

    /// Moves its times by so many ticks of its own clock.
    pub(crate) fn move_by(&mut self, ticks: i64) {
        let packet = self.get_mut();
        for time in [&mut packet.pts, &mut packet.dts] {
            if *time != ffi::AV_NOPTS_VALUE {
                *time = time.saturating_add(ticks);
            }
        }
    }

    /// Whether the packet serves decoding only and is not shown (edit lists, priming).
    pub(crate) fn is_hidden(&self) -> bool {
        self.get().flags & ffi::AV_PKT_FLAG_DISCARD != 0
    }

    /// Converts its times from one clock to another and moves them.
    pub(crate) fn rescale(&mut self, from: Rational, to: Rational, shift: i64) {
        // SAFETY: the packet is ours; both clocks have positive denominators.
        unsafe { ffi::av_packet_rescale_ts(self.0, av_rational(from), av_rational(to)) };
        self.move_by(shift);
    }

    /// Samples at its end that are decoded and not heard: side data of two numbers of 32 bits, samples to skip in
    /// front and to discard behind.
    pub(crate) fn discarded_behind(&self) -> u32 {
        let mut size = 0;
        // SAFETY: the packet is valid; the data lives as long as the packet and has `size` bytes.
        let bytes = unsafe {
            let data = ffi::av_packet_get_side_data(self.0, ffi::AVPacketSideDataType::AV_PKT_DATA_SKIP_SAMPLES, &mut size);
            if data.is_null() { &[][..] } else { std::slice::from_raw_parts(data.cast_const(), size) }
        };
        match bytes {
            [_, _, _, _, a, b, c, d, ..] => u32::from_le_bytes([*a, *b, *c, *d]),
            _ => 0,
        }
    }

    /// Says that so many samples at its end are decoded and not heard.
    pub(crate) fn discard_behind(&mut self, samples: u32) -> Result<(), AvError> {
        self.trim(0, samples)
    }

    /// Says that so many samples from its beginning on are decoded and not heard.
    pub(crate) fn discard_in_front(&mut self, samples: u32) -> Result<(), AvError> {
        self.trim(samples, 0)
    }

    fn trim(&mut self, front: u32, behind: u32) -> Result<(), AvError> {
        let kind = ffi::AVPacketSideDataType::AV_PKT_DATA_SKIP_SAMPLES;
        // SAFETY: the packet is ours; the new side data has as many bytes as are asked for.
        unsafe {
            let data = ffi::av_packet_new_side_data(self.0, kind, 10);
            if data.is_null() {
                return Err(AvError::own("trim sound", "there is no memory for a note"));
            }
            let bytes = std::slice::from_raw_parts_mut(data, 10);
            bytes.fill(0);
            bytes[..4].copy_from_slice(&front.to_le_bytes());
            bytes[4..8].copy_from_slice(&behind.to_le_bytes());
        }
        Ok(())
    }

    /// Forgets where it stood in its file: positions mean nothing elsewhere.
    pub(crate) fn forget_position(&mut self) {
        self.get_mut().pos = -1;
    }
}

impl Clone for Packet {
    fn clone(&self) -> Self {
        // SAFETY: the source is valid; the copy shares its reference-counted bytes.
        let packet = unsafe { ffi::av_packet_clone(self.0) };
        assert!(!packet.is_null(), "out of memory");
        Self(packet)
    }
}

impl Drop for Packet {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once.
        unsafe { ffi::av_packet_free(&mut self.0) };
    }
}

//! The same samples in another order: packed pictures in planes, and planes packed.

use ffmpeg_next::ffi;

use super::input::pixel_format_value;
use super::{AvError, Frame};

/// The components of a pixel format, and how they lie.
fn described(number: i32) -> Option<&'static ffi::AVPixFmtDescriptor> {
    let format = pixel_format_value(number)?;
    // SAFETY: the call answers null or static data for every format.
    unsafe { ffi::av_pix_fmt_desc_get(format).as_ref() }
}

const HELD_OTHERWISE: u64 =
    (ffi::AV_PIX_FMT_FLAG_PAL | ffi::AV_PIX_FMT_FLAG_BITSTREAM | ffi::AV_PIX_FMT_FLAG_HWACCEL | ffi::AV_PIX_FMT_FLAG_FLOAT)
        as u64;

impl Frame {
    /// The same picture in another pixel format that holds the very same samples; nothing where the two differ in
    /// more than their order. Alpha that is new is opaque, alpha that is not kept is gone.
    pub(crate) fn rearranged(&self, format: i32) -> Result<Option<Self>, AvError> {
        let Some((from, to)) = described(self.format()).zip(described(format)) else { return Ok(None) };
        let kept = |one: &ffi::AVPixFmtDescriptor| usize::from(one.nb_components).min(3);
        let rgb = u64::from(ffi::AV_PIX_FMT_FLAG_RGB.cast_unsigned());
        let same = kept(from) == kept(to)
            && from.flags & rgb == to.flags & rgb
            && (from.flags | to.flags) & HELD_OTHERWISE == 0
            && (from.log2_chroma_w, from.log2_chroma_h) == (to.log2_chroma_w, to.log2_chroma_h)
            && from.nb_components != 2
            && to.nb_components != 2
            && (0..4).all(|part| {
                let depth = |one: &ffi::AVPixFmtDescriptor| (part < usize::from(one.nb_components)).then(|| one.comp[part].depth);
                depth(from).zip(depth(to)).is_none_or(|(one, other)| one == other)
            });
        if !same {
            return Ok(None);
        }
        let mut made = Self::of_form(self, self.width(), self.height(), format)?;
        // The library adds bits to what is there.
        for plane in 0..made.plane_count() {
            made.fill_plane(plane, |line| line.fill(0))?;
        }
        let shared = usize::from(from.nb_components.min(to.nb_components));
        let mut samples = vec![0_u16; self.width() as usize];
        for part in 0..shared {
            let is_chroma = (part == 1 || part == 2) && from.flags & rgb == 0;
            let halved = |sides: u8| if is_chroma { u32::from(sides) } else { 0 };
            let columns = self.width().div_ceil(1 << halved(from.log2_chroma_w));
            let lines = self.height().div_ceil(1 << halved(from.log2_chroma_h));
            for line in 0..lines {
                self.read_part(part, line, &mut samples[..columns as usize])?;
                made.write_part(part, line, &samples[..columns as usize])?;
            }
        }
        if to.nb_components == 4 && from.nb_components < 4 {
            samples.fill(u16::MAX >> (16 - to.comp[3].depth.clamp(1, 16)));
            (0..self.height()).try_for_each(|line| made.write_part(3, line, &samples))?;
        }
        Ok(Some(made))
    }

    /// One line of one component.
    fn read_part(&self, part: usize, line: u32, samples: &mut [u16]) -> Result<(), AvError> {
        let (format, [line, part, count]) = self.must_have(part, line, samples.len())?;
        // SAFETY: the frame is valid and of this format; its plane was seen to have this line with so many samples.
        unsafe {
            let frame = &*self.0;
            let mut data = [0, 1, 2, 3].map(|plane| frame.data[plane].cast_const());
            let strides = [0, 1, 2, 3].map(|plane| frame.linesize[plane]);
            let to = samples.as_mut_ptr().cast();
            ffi::av_read_image_line2(to, data.as_mut_ptr(), strides.as_ptr(), format, 0, line, part, count, 0, 2);
        }
        Ok(())
    }

    /// Adds one line of one component to a picture of its own whose bits there are nought.
    fn write_part(&mut self, part: usize, line: u32, samples: &[u16]) -> Result<(), AvError> {
        let (format, [line, part, count]) = self.must_have(part, line, samples.len())?;
        // SAFETY: the frame is valid, of this format, and made here, so that nobody else holds its buffers; its plane
        // was seen to have this line with so many samples.
        unsafe {
            let frame = &*self.0;
            let mut data = [0, 1, 2, 3].map(|plane| frame.data[plane]);
            let strides = [0, 1, 2, 3].map(|plane| frame.linesize[plane]);
            ffi::av_write_image_line2(
                samples.as_ptr().cast(),
                data.as_mut_ptr(),
                strides.as_ptr(),
                format,
                0,
                line,
                part,
                count,
                2,
            );
        }
        Ok(())
    }

    /// The description of its format, where it has this line of a component with so many samples.
    fn must_have(&self, part: usize, line: u32, count: usize) -> Result<(&'static ffi::AVPixFmtDescriptor, [i32; 3]), AvError> {
        let missing = || AvError::own("store samples in another order", "a plane is missing");
        let format = described(self.format()).filter(|format| part < usize::from(format.nb_components)).ok_or_else(missing)?;
        let component = format.comp[part];
        let plane = self.plane(usize::try_from(component.plane).map_err(|_| missing())?).ok_or_else(missing)?;
        let bytes = plane.line(line as usize).ok_or_else(missing)?.len();
        let (step, offset) = (component.step, component.offset + if component.depth + component.shift > 8 { 2 } else { 1 });
        let number = |value: usize| i32::try_from(value).map_err(|_| missing());
        let reach = i64::try_from(count).map_err(|_| missing())?.saturating_sub(1) * i64::from(step) + i64::from(offset);
        let fits = i64::try_from(bytes).is_ok_and(|bytes| reach <= bytes);
        if !fits {
            return Err(missing());
        }
        Ok((format, [i32::try_from(line).map_err(|_| missing())?, number(part)?, number(count)?]))
    }
}

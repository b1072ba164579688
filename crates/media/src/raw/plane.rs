//! Planes of pictures as lines of bytes or samples, held against the memory that is really there.

use std::marker::PhantomData;
use std::ptr::NonNull;

use ffmpeg_next::ffi;

use super::input::pixel_format_value;
use super::{AvError, Frame, check};

/// Bytes of the widest vectors.
pub(super) const ALIGNED: usize = 64;

/// Where a plane lies. It is only made where all its lines lie within one buffer of the frame, apart from each other.
#[derive(Clone, Copy)]
struct Extent {
    first: NonNull<u8>,
    /// Bytes from one line to the next; negative where the picture is stored from below.
    stride: isize,
    lines: usize,
    /// Bytes of a line that belong to the picture.
    bytes: usize,
}

impl Extent {
    fn of(frame: &Frame, plane: usize) -> Option<Self> {
        // SAFETY: the frame is never null and borrowed for as long as this takes.
        let raw = unsafe { &*frame.0 };
        let format = pixel_format_value(raw.format)?;
        // SAFETY: the call answers null or static data for every format.
        let description = unsafe { ffi::av_pix_fmt_desc_get(format).as_ref() }?;
        let refused = u64::from((ffi::AV_PIX_FMT_FLAG_PAL | ffi::AV_PIX_FMT_FLAG_HWACCEL).cast_unsigned());
        if description.flags & refused != 0 {
            return None;
        }
        let shares_lines =
            (plane == 1 || plane == 2) && description.flags & u64::from(ffi::AV_PIX_FMT_FLAG_RGB.cast_unsigned()) == 0;
        let halved = if shares_lines { u32::from(description.log2_chroma_h) } else { 0 };
        let lines = usize::try_from(raw.height).ok()?.div_ceil(1 << halved);
        // SAFETY: the call reads nothing but its arguments.
        let bytes = unsafe { ffi::av_image_get_linesize(format, raw.width, i32::try_from(plane).ok()?) };
        let bytes = usize::try_from(bytes).ok().filter(|bytes| *bytes > 0)?;
        let stride = isize::try_from(*raw.linesize.get(plane)?).ok()?;
        let first = NonNull::new(raw.data[plane])?;
        let extent = Self { first, stride, lines, bytes };
        let [start, end] = extent.range()?;
        let lies_within = raw.buf.iter().filter(|buffer| !buffer.is_null()).any(|buffer| {
            // SAFETY: a buffer that is not null is valid as long as the frame.
            let buffer = unsafe { &**buffer };
            let from = buffer.data.addr();
            from <= start && from.checked_add(buffer.size).is_some_and(|behind| end <= behind)
        });
        lies_within.then_some(extent)
    }

    /// The first address and the one behind the last; nothing where lines lie over each other.
    fn range(&self) -> Option<[usize; 2]> {
        let last = self.lines.checked_sub(1)?;
        if last > 0 && self.stride.unsigned_abs() < self.bytes {
            return None;
        }
        let reach = isize::try_from(last).ok()?.checked_mul(self.stride)?;
        let (first, end) = (self.first.addr().get(), self.first.addr().get().checked_add_signed(reach)?);
        Some([first.min(end), first.max(end).checked_add(self.bytes)?])
    }

    fn line(&self, line: usize) -> Option<NonNull<u8>> {
        let offset = isize::try_from(line).ok().filter(|_| line < self.lines)?.checked_mul(self.stride)?;
        // SAFETY: the line is one of the plane's, all of which lie within one buffer.
        Some(unsafe { self.first.offset(offset) })
    }
}

/// A plane that is read.
#[derive(Clone, Copy)]
pub(crate) struct Plane<'a> {
    extent: Extent,
    frame: PhantomData<&'a Frame>,
}

impl<'a> Plane<'a> {
    /// How many lines it has.
    pub(crate) fn lines(&self) -> usize {
        self.extent.lines
    }

    /// The bytes of a line that belong to the picture.
    pub(crate) fn line(&self, line: usize) -> Option<&'a [u8]> {
        let first = self.extent.line(line)?;
        // SAFETY: so many bytes lie there within a buffer of the frame, which is borrowed and not written to meanwhile.
        Some(unsafe { std::slice::from_raw_parts(first.as_ptr(), self.extent.bytes) })
    }

    /// The samples of a line of two bytes each, the lower one first.
    pub(crate) fn samples(&self, line: usize) -> Option<&'a [u16]> {
        // SAFETY: any bytes are numbers; what is not aligned stays outside and is refused.
        let (before, samples, _) = unsafe { self.line(line)?.align_to::<u16>() };
        (before.is_empty() && cfg!(target_endian = "little")).then_some(samples)
    }

    /// The samples of a line that are fractions of 32 bits.
    pub(crate) fn fractions(&self, line: usize) -> Option<&'a [f32]> {
        // SAFETY: any bytes are fractions, if not all useful ones; what is not aligned stays outside and is refused.
        let (before, fractions, _) = unsafe { self.line(line)?.align_to::<f32>() };
        (before.is_empty() && cfg!(target_endian = "little")).then_some(fractions)
    }
}

/// A plane that is written, by whoever has the frame alone.
pub(crate) struct PlaneMut<'a> {
    extent: Extent,
    frame: PhantomData<&'a mut Frame>,
}

// SAFETY: it stands for memory that is borrowed by it alone.
unsafe impl Send for PlaneMut<'_> {}

impl PlaneMut<'_> {
    /// How many lines it has.
    pub(crate) fn lines(&self) -> usize {
        self.extent.lines
    }

    /// The bytes of a line that belong to the picture.
    pub(crate) fn line(&mut self, line: usize) -> Option<&mut [u8]> {
        let first = self.extent.line(line)?;
        // SAFETY: so many bytes lie there within a buffer that is writable and borrowed by this value alone.
        Some(unsafe { std::slice::from_raw_parts_mut(first.as_ptr(), self.extent.bytes) })
    }

    /// The samples of a line of two bytes each, the lower one first.
    pub(crate) fn samples(&mut self, line: usize) -> Option<&mut [u16]> {
        let bytes = self.line(line)?;
        // SAFETY: any bytes are numbers; what is not aligned stays outside and is refused.
        let (before, samples, _) = unsafe { bytes.align_to_mut::<u16>() };
        (before.is_empty() && cfg!(target_endian = "little")).then_some(samples)
    }

    /// The samples of a line that are fractions of 32 bits.
    pub(crate) fn fractions(&mut self, line: usize) -> Option<&mut [f32]> {
        let bytes = self.line(line)?;
        // SAFETY: any bytes are fractions, if not all useful ones; what is not aligned stays outside and is refused.
        let (before, fractions, _) = unsafe { bytes.align_to_mut::<f32>() };
        (before.is_empty() && cfg!(target_endian = "little")).then_some(fractions)
    }
}

impl Frame {
    /// A plane for reading; nothing where the frame has no such plane.
    pub(crate) fn plane(&self, plane: usize) -> Option<Plane<'_>> {
        Some(Plane { extent: Extent::of(self, plane)?, frame: PhantomData })
    }

    /// All its planes for writing. What others still hold of the frame is copied before.
    pub(crate) fn planes_mut(&mut self) -> Result<Vec<PlaneMut<'_>>, AvError> {
        let doing = "write into a picture";
        // SAFETY: the frame is valid; where its buffers are shared it gets its own.
        check(unsafe { ffi::av_frame_make_writable(self.0) }, doing)?;
        let missing = || AvError::own(doing, "its form has planes that it does not have");
        let extents: Option<Vec<Extent>> = (0..self.plane_count()).map(|plane| Extent::of(self, plane)).collect();
        let extents = extents.ok_or_else(missing)?;
        let ranges: Vec<[usize; 2]> = extents.iter().filter_map(Extent::range).collect();
        let meet = |one: &[usize; 2], other: &[usize; 2]| one[0] < other[1] && other[0] < one[1];
        let are_apart = ranges.iter().enumerate().all(|(place, one)| ranges[..place].iter().all(|other| !meet(one, other)));
        if !are_apart {
            return Err(AvError::own(doing, "its planes lie over each other"));
        }
        Ok(extents.into_iter().map(|extent| PlaneMut { extent, frame: PhantomData }).collect())
    }

    /// Draws a smaller picture of the same form into it, its first column and line at this place: where pixels share
    /// colour, one that they begin with.
    pub(crate) fn place(&mut self, inner: &Self, (x, y): (u32, u32)) -> Result<(), AvError> {
        let doing = "put a picture on a ground";
        let missing = || AvError::own(doing, "the picture is larger than the ground, or of another form");
        if inner.format() != self.format() {
            return Err(missing());
        }
        let (wide, high) = (self.width() as usize, self.height() as usize);
        for (plane, ground) in self.planes_mut()?.iter_mut().enumerate() {
            let from = inner.plane(plane).ok_or_else(missing)?;
            let (bytes, lines) = (ground.extent.bytes, ground.extent.lines);
            // Planes of colour have their share of columns and lines.
            let (left, top) = (x as usize * bytes / wide.max(1), y as usize * lines / high.max(1));
            for line in 0..from.lines() {
                let source = from.line(line).ok_or_else(missing)?;
                let to = ground.line(top + line).and_then(|to| to.get_mut(left..left.checked_add(source.len())?));
                to.ok_or_else(missing)?.copy_from_slice(source);
            }
        }
        Ok(())
    }

    /// How many planes its form has.
    pub(crate) fn plane_count(&self) -> usize {
        let count = pixel_format_value(self.format()).map_or(0, |format| {
            // SAFETY: the call reads nothing but its argument.
            unsafe { ffi::av_pix_fmt_count_planes(format) }
        });
        usize::try_from(count).unwrap_or(0)
    }

    /// One field of it as a picture of its own: every other line, the first of all (`lower` of 0) or the second on, of
    /// the same memory. It says which field it is.
    pub(crate) fn field(&self, lower: usize) -> Result<Self, AvError> {
        let doing = "part fields";
        let field = self.clone();
        let planes = field.plane_count();
        let lines = (0..planes).map(|plane| self.plane(plane).map(|plane| plane.lines()));
        let lines: Option<Vec<usize>> = lines.collect();
        // Of an odd number of lines the fields would not be alike.
        let lines = lines.filter(|lines| lines.iter().all(|lines| lines.is_multiple_of(2)));
        lines.ok_or_else(|| AvError::own(doing, "the picture has an odd number of lines"))?;
        let first: Option<Vec<*mut u8>> = (0..planes).map(|plane| Some(Extent::of(self, plane)?.line(lower)?.as_ptr())).collect();
        let first = first.ok_or_else(|| AvError::own(doing, "the picture has no lines"))?;
        // SAFETY: the frame is our own; each plane goes on to lie within its buffer, with half the lines, twice as far
        // from each other.
        let raw = unsafe { &mut *field.0 };
        for (plane, first) in first.into_iter().enumerate() {
            raw.data[plane] = first;
            raw.linesize[plane] = raw.linesize[plane].checked_mul(2).ok_or_else(|| AvError::own(doing, "lines are too long"))?;
        }
        raw.height /= 2;
        (raw.interlaced_frame, raw.top_field_first) = (1, i32::from(lower == 0));
        Ok(field)
    }

    /// A new picture of the even lines of one and the odd lines of the other, which are alike in size and format.
    pub(crate) fn woven(top: &Self, bottom: &Self) -> Result<Self, AvError> {
        alike(top, bottom)?;
        let mut woven = Self::of_form(top, top.width(), top.height(), top.format())?;
        woven.copy_lines(|_, line| (if line % 2 == 0 { top } else { bottom }, line))?;
        Ok(woven)
    }

    /// A new picture whose lines come in turn from one field and the other, which are alike.
    pub(crate) fn interleaved(top: &Self, bottom: &Self) -> Result<Self, AvError> {
        alike(top, bottom)?;
        let mut whole = Self::of_form(top, top.width(), top.height() * 2, top.format())?;
        whole.copy_lines(|_, line| (if line % 2 == 0 { top } else { bottom }, line / 2))?;
        Ok(whole)
    }

    /// The same picture with more columns and lines: what is new repeats the last ones. Planes that have all of it
    /// already, since they share samples, stay as they are.
    pub(crate) fn widened(&self, (width, height): (u32, u32)) -> Result<Self, AvError> {
        let missing = || AvError::own("widen a picture", "a line is missing");
        let mut wide = Self::of_form(self, width, height, self.format())?;
        // Samples of planes have one or two bytes, or four.
        let bytes = |plane: &Plane<'_>| plane.extent.bytes;
        let sample = self.plane(0).map(|plane| bytes(&plane) / (self.width() as usize).max(1)).filter(|sample| *sample > 0);
        let sample = sample.ok_or_else(missing)?;
        for (number, plane) in wide.planes_mut()?.iter_mut().enumerate() {
            let from = self.plane(number).ok_or_else(missing)?;
            for line in 0..plane.lines() {
                let source = from.line(line.min(from.lines() - 1)).ok_or_else(missing)?;
                let to = plane.line(line).filter(|to| to.len() >= source.len()).ok_or_else(missing)?;
                let (own, new) = to.split_at_mut(source.len());
                own.copy_from_slice(source);
                let last = source.len().checked_sub(sample).ok_or_else(missing)?;
                new.chunks_exact_mut(sample).for_each(|new| new.copy_from_slice(&source[last..]));
            }
        }
        Ok(wide)
    }

    /// Leaves what lies beyond these columns and lines out.
    pub(crate) fn narrow(&mut self, (width, height): (u32, u32)) {
        let side = |wanted: u32, present: i32| i32::try_from(wanted).unwrap_or(present).clamp(1, present.max(1));
        // SAFETY: the frame is our own, and what it has of each plane is at least as much as before.
        unsafe {
            let raw = &mut *self.0;
            (raw.width, raw.height) = (side(width, raw.width), side(height, raw.height));
        }
    }

    /// The same picture with every line of every plane at a multiple of [`ALIGNED`] bytes, which vector units of the
    /// library that resamples take for granted, where the filter that calls it does not see to it.
    pub(crate) fn aligned(self) -> Result<Self, AvError> {
        let is_aligned = |plane: usize| {
            let extent = Extent::of(&self, plane)?;
            Some(extent.first.addr().get().is_multiple_of(ALIGNED) && extent.stride.unsigned_abs().is_multiple_of(ALIGNED))
        };
        let aligned: Option<Vec<bool>> = (0..self.plane_count()).map(is_aligned).collect();
        let aligned = aligned.ok_or_else(|| AvError::own("resample a picture", "it has a plane less than its form"))?;
        if aligned.into_iter().all(|aligned| aligned) {
            return Ok(self);
        }
        let mut made = Self::of_form(&self, self.width(), self.height(), self.format())?;
        made.copy_lines(|_, line| (&self, line))?;
        Ok(made)
    }

    /// Fills every line of every plane from one of another frame that is as wide.
    fn copy_lines<'a>(&mut self, from: impl Fn(usize, usize) -> (&'a Self, usize)) -> Result<(), AvError> {
        let missing = || AvError::own("bring fields together", "a line is missing");
        for plane in 0..self.plane_count() {
            for line in 0..self.plane(plane).ok_or_else(missing)?.lines() {
                let (other, place) = from(plane, line);
                let source = other.plane(plane).and_then(|plane| plane.line(place)).ok_or_else(missing)?;
                let mut extent = PlaneMut { extent: Extent::of(self, plane).ok_or_else(missing)?, frame: PhantomData };
                extent.line(line).filter(|to| to.len() == source.len()).ok_or_else(missing)?.copy_from_slice(source);
            }
        }
        Ok(())
    }

    /// Writes every line of a plane anew, in a picture that nobody else holds yet.
    pub(crate) fn fill_plane(&mut self, plane: usize, fill: impl Fn(&mut [u8])) -> Result<(), AvError> {
        let missing = || AvError::own("write into a picture", format!("it has no plane {plane}"));
        // SAFETY: the frame is valid; where its buffers are shared it gets its own.
        check(unsafe { ffi::av_frame_make_writable(self.0) }, "write into a picture")?;
        let mut plane = PlaneMut { extent: Extent::of(self, plane).ok_or_else(missing)?, frame: PhantomData };
        for line in 0..plane.lines() {
            fill(plane.line(line).ok_or_else(missing)?);
        }
        Ok(())
    }

    /// A new picture of another size and format that is like this one in all else; not yet drawn.
    pub(crate) fn of_form(like: &Self, width: u32, height: u32, format: i32) -> Result<Self, AvError> {
        let new = Self::video(width, height, format)?;
        // SAFETY: both frames are valid; size, format and samples are not among what is copied.
        check(unsafe { ffi::av_frame_copy_props(new.0, like.0) }, "make room for a picture")?;
        Ok(new)
    }
}

fn alike(one: &Frame, other: &Frame) -> Result<(), AvError> {
    if (one.width(), one.height(), one.format()) == (other.width(), other.height(), other.format()) {
        Ok(())
    } else {
        Err(AvError::own("bring fields together", "two pictures in a row have different forms"))
    }
}

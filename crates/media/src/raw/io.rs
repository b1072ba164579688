//! Files handed to the libraries as streams of bytes, opened by us and never by them.

use std::ffi::{c_int, c_void};
use std::io::{ErrorKind, Read, Seek, SeekFrom, Write};
use std::ptr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use ffmpeg_next::ffi;

use super::AvError;

const BUFFER: usize = 256 * 1024;

/// Bytes that this process has read and written so far.
static MOVED: AtomicU64 = AtomicU64::new(0);
/// Files that are being brought to the disk now.
static FLUSHING: AtomicU64 = AtomicU64::new(0);

/// Bytes that this process has read and written so far: who sees the number grow sees it work. While a file is
/// brought to the disk, where nobody counts bytes, each question counts as one.
#[must_use]
pub fn bytes_moved() -> u64 {
    match FLUSHING.load(Ordering::Relaxed) {
        0 => MOVED.load(Ordering::Relaxed),
        _ => MOVED.fetch_add(1, Ordering::Relaxed) + 1,
    }
}

/// A flag that ends all reading and writing from another thread.
#[derive(Debug, Clone, Default)]
pub(crate) struct Stop(Arc<AtomicBool>);

impl Stop {
    pub(crate) fn set(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Where the flag lies, which stays there as long as anybody has it.
    pub(super) fn flag(&self) -> *const AtomicBool {
        Arc::as_ptr(&self.0)
    }

    pub(crate) fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// A file that the libraries read or write through us, with the last error of the system.
pub(crate) struct Medium {
    file: std::fs::File,
    pub(super) stop: Stop,
    error: Option<std::io::Error>,
    written: u64,
}

impl Medium {
    pub(crate) fn new(file: std::fs::File, stop: Stop) -> Self {
        Self { file, stop, error: None, written: 0 }
    }

    pub(super) fn into_file(self) -> std::fs::File {
        self.file
    }

    fn answer(&mut self, outcome: std::io::Result<usize>) -> c_int {
        match outcome {
            Ok(0) => ffi::AVERROR_EOF,
            Ok(count) => c_int::try_from(count).unwrap_or(c_int::MAX),
            Err(error) => {
                let code = ffi::AVERROR(error.raw_os_error().unwrap_or(5));
                self.error = Some(error);
                code
            }
        }
    }
}

/// The libraries' view of a [`Medium`].
pub(super) struct ByteStream {
    context: *mut ffi::AVIOContext,
    medium: *mut Medium,
}

// SAFETY: both pointers are owned by this value alone, and nothing in them is bound to a thread.
unsafe impl Send for ByteStream {}

unsafe extern "C" fn read(opaque: *mut c_void, buffer: *mut u8, size: c_int) -> c_int {
    // SAFETY: `opaque` is the medium given at creation, which outlives the context; the libraries
    // call from one thread at a time and give a buffer of `size` bytes.
    let (medium, buffer) =
        unsafe { (&mut *opaque.cast::<Medium>(), std::slice::from_raw_parts_mut(buffer, usize::try_from(size).unwrap_or(0))) };
    if medium.stop.is_set() {
        return ffi::AVERROR_EXIT;
    }
    let outcome = loop {
        match medium.file.read(buffer) {
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            outcome => break outcome,
        }
    };
    #[cfg(debug_assertions)]
    crate::hooks::has_read(*outcome.as_ref().unwrap_or(&0));
    MOVED.fetch_add(*outcome.as_ref().unwrap_or(&0) as u64, Ordering::Relaxed);
    medium.answer(outcome)
}

unsafe extern "C" fn write(opaque: *mut c_void, buffer: *mut u8, size: c_int) -> c_int {
    // SAFETY: as in `read`; the buffer is only read here.
    let (medium, buffer) =
        unsafe { (&mut *opaque.cast::<Medium>(), std::slice::from_raw_parts(buffer, usize::try_from(size).unwrap_or(0))) };
    if medium.stop.is_set() {
        return ffi::AVERROR_EXIT;
    }
    let outcome = medium.file.write_all(buffer).map(|()| buffer.len());
    medium.written += outcome.as_ref().map_or(0, |count| *count as u64);
    MOVED.fetch_add(outcome.as_ref().map_or(0, |count| *count as u64), Ordering::Relaxed);
    medium.answer(outcome)
}

unsafe extern "C" fn seek(opaque: *mut c_void, offset: i64, whence: c_int) -> i64 {
    // SAFETY: as in `read`.
    let medium = unsafe { &mut *opaque.cast::<Medium>() };
    let target = match whence & !ffi::AVSEEK_FORCE {
        ffi::AVSEEK_SIZE => {
            return medium.file.metadata().map_or(-1, |metadata| i64::try_from(metadata.len()).unwrap_or(i64::MAX));
        }
        0 => u64::try_from(offset).map(SeekFrom::Start).ok(),
        1 => Some(SeekFrom::Current(offset)),
        2 => Some(SeekFrom::End(offset)),
        _ => None,
    };
    match target.map(|target| medium.file.seek(target)) {
        Some(Ok(position)) => i64::try_from(position).unwrap_or(i64::MAX),
        Some(Err(error)) => {
            medium.error = Some(error);
            -1
        }
        None => -1,
    }
}

impl ByteStream {
    pub(super) fn new(medium: Medium, writable: bool) -> Result<Self, AvError> {
        let medium = Box::into_raw(Box::new(medium));
        // SAFETY: the buffer comes from the libraries' allocator as they ask; the callbacks match
        // the medium that is given to them. On failure both are given back.
        unsafe {
            let buffer = ffi::av_malloc(BUFFER).cast::<u8>();
            if buffer.is_null() {
                drop(Box::from_raw(medium));
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "open a stream of bytes"));
            }
            let context = ffi::avio_alloc_context(
                buffer,
                c_int::try_from(BUFFER).unwrap_or(c_int::MAX),
                c_int::from(writable),
                medium.cast(),
                if writable { None } else { Some(read) },
                if writable { Some(write) } else { None },
                Some(seek),
            );
            if context.is_null() {
                ffi::av_free(buffer.cast());
                drop(Box::from_raw(medium));
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "open a stream of bytes"));
            }
            Ok(Self { context, medium })
        }
    }

    pub(super) fn context(&self) -> *mut ffi::AVIOContext {
        self.context
    }

    /// Takes the last error of the system out, where there was one.
    pub(super) fn take_error(&mut self) -> Option<std::io::Error> {
        // SAFETY: the medium lives as long as this value, and `&mut self` keeps the callbacks away.
        unsafe { (*self.medium).error.take() }
    }

    /// Bytes written so far, and those still in the buffer.
    pub(super) fn written(&self) -> u64 {
        // SAFETY: as in `take_error`; only a number is read, between two calls into the libraries.
        unsafe { (*self.medium).written }
    }

    /// A second handle to the same file, at its beginning, for reading.
    pub(super) fn reader(&self) -> std::io::Result<Medium> {
        // SAFETY: the medium lives as long as this value; only a shared look at its file is taken.
        let medium = unsafe { &*self.medium };
        // A duplicate would share the position with the writer: the file is opened anew.
        use std::os::fd::AsRawFd;
        let again = std::fs::File::open(format!("/proc/self/fd/{}", medium.file.as_raw_fd()))?;
        Ok(Medium::new(again, medium.stop.clone()))
    }

    /// Writes over bytes that were written before and have left the buffer.
    pub(super) fn write_at(&mut self, at: u64, bytes: &[u8]) -> std::io::Result<()> {
        use std::os::unix::fs::FileExt;
        // SAFETY: as in `take_error`.
        unsafe { (*self.medium).file.write_all_at(bytes, at) }
    }

    /// Brings what was written to the disk.
    pub(super) fn sync(&mut self) -> std::io::Result<()> {
        FLUSHING.fetch_add(1, Ordering::Relaxed);
        // SAFETY: as in `take_error`.
        let outcome = unsafe { (*self.medium).file.sync_all() };
        FLUSHING.fetch_sub(1, Ordering::Relaxed);
        outcome
    }
}

impl Drop for ByteStream {
    fn drop(&mut self) {
        // SAFETY: the context owns its buffer (which it may have exchanged), so it is freed through
        // it; the medium was made by `Box::into_raw` and is freed last, once.
        unsafe {
            if !self.context.is_null() {
                ffi::av_freep(ptr::addr_of_mut!((*self.context).buffer).cast());
                ffi::avio_context_free(&mut self.context);
            }
            drop(Box::from_raw(self.medium));
        }
    }
}

//! The only place with `unsafe`: owned handles over the libav* libraries.
//!
//! Every handle owns what it points to and frees it once. Nothing here gives out a pointer; what
//! other modules see are plain values, byte-safe strings and errors with their codes.

mod codec;
mod dictionary;
mod frame;
mod graph;
mod input;
mod io;
mod output;
mod packet;
mod plane;
mod rearrange;
mod subtitles;

use std::ffi::{CStr, CString, c_char, c_int};

use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

pub(crate) use codec::{Decoder, Encoder, EncoderKind, EncoderSettings, EncoderStream, has_encoder};
pub(crate) use frame::{Frame, PlaneLayout};
pub(crate) use graph::{Graph, GraphInput, within};
pub(crate) use input::{Input, Kind, OpenError, StreamView, pixel_format, pixel_format_number};
pub use io::bytes_moved;
pub(crate) use io::{Medium, Stop};
pub(crate) use output::{Output, OutputChapter, WriteError};
pub(crate) use packet::Packet;
pub(crate) use plane::{Plane, PlaneMut};
pub(crate) use subtitles::SubtitleDecoder;

/// What a call into the libraries answered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{doing}: {text} ({code})")]
pub(crate) struct AvError {
    /// The library's code.
    pub(crate) code: c_int,
    /// What was being done.
    pub(crate) doing: String,
    /// The library's own words for the code.
    pub(crate) text: String,
}

impl AvError {
    pub(crate) fn new(code: c_int, doing: impl Into<String>) -> Self {
        let mut buffer = [0 as c_char; 128];
        // SAFETY: the buffer is writable for the length given, and the call always ends it with NUL.
        let text = unsafe {
            ffi::av_strerror(code, buffer.as_mut_ptr(), buffer.len());
            text_of(buffer.as_ptr()).unwrap_or_default()
        };
        Self { code, doing: doing.into(), text }
    }

    /// An error of this crate's own, for what the libraries would pass over in silence.
    pub(crate) fn own(doing: impl Into<String>, text: impl Into<String>) -> Self {
        Self { code: ffi::AVERROR(libc_einval()), doing: doing.into(), text: text.into() }
    }

    /// Whether the libraries ran out of memory.
    pub(crate) fn is_out_of_memory(&self) -> bool {
        self.code == ffi::AVERROR(ENOMEM)
    }

    /// The problem that it is where something cannot be done, because of `why` unless memory ran out.
    pub(crate) fn problem(&self, what: impl Into<String>, why: &str) -> Problem {
        if self.is_out_of_memory() {
            return Problem::new(ProblemKind::OutOfMemory, what, "there is not enough memory for it")
                .with_details(self.to_string());
        }
        Problem::new(ProblemKind::Unsupported, what, why).with_details(self.to_string())
    }
}

const ENOMEM: c_int = 12;

const fn libc_einval() -> c_int {
    22
}

/// Turns a negative answer into an error.
fn check(code: c_int, doing: &str) -> Result<c_int, AvError> {
    if code < 0 { Err(AvError::new(code, doing)) } else { Ok(code) }
}

/// A text that goes into the libraries; what stands behind a NUL is cut off.
fn c_text(text: &str) -> CString {
    let end = text.find('\0').unwrap_or(text.len());
    CString::new(&text[..end]).unwrap_or_default()
}

/// A text that comes out of the libraries: UTF-8 where it is, Latin-1 where it is not.
///
/// # Safety
/// `text` is null or points to bytes ended by NUL that stay unchanged during the call.
unsafe fn text_of(text: *const c_char) -> Option<String> {
    if text.is_null() {
        return None;
    }
    // SAFETY: promised by the caller.
    let bytes = unsafe { CStr::from_ptr(text) }.to_bytes();
    Some(match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => bytes.iter().map(|byte| char::from(*byte)).collect(),
    })
}

/// A sample format's number as the libraries' own type.
fn sample_format_value(number: i32) -> Option<ffi::AVSampleFormat> {
    let none = ffi::AVSampleFormat::AV_SAMPLE_FMT_NONE as i32;
    let count = ffi::AVSampleFormat::AV_SAMPLE_FMT_NB as i32;
    // SAFETY: numbers between the first and the last are all variants of this enumeration, which is
    // made from the headers of the very libraries that are linked.
    (number > none && number < count).then(|| unsafe { std::mem::transmute::<i32, ffi::AVSampleFormat>(number) })
}

/// The number of a sample format given by its name.
pub(crate) fn sample_format_number(name: &str) -> Result<i32, AvError> {
    // SAFETY: the text ends with NUL.
    let format = unsafe { ffi::av_get_sample_fmt(c_text(name).as_ptr()) };
    if format == ffi::AVSampleFormat::AV_SAMPLE_FMT_NONE {
        Err(AvError::own("choose a sample format", format!("{name} is unknown")))
    } else {
        Ok(format as i32)
    }
}

/// Whether samples of this format (the library's number) have no more than 16 bits.
pub(crate) fn has_16_bits_at_most(format: i32) -> bool {
    use ffi::AVSampleFormat as Form;
    let formats = [Form::AV_SAMPLE_FMT_U8, Form::AV_SAMPLE_FMT_U8P, Form::AV_SAMPLE_FMT_S16, Form::AV_SAMPLE_FMT_S16P];
    formats.iter().any(|known| *known as i32 == format)
}

/// A fraction of the libraries as ours; nothing where its denominator is nought.
pub(crate) fn rational(value: ffi::AVRational) -> Option<Rational> {
    Rational::new(value.num.into(), value.den.into())
}

/// Ours as one of the libraries', which have 32 bits: rounded where it does not fit.
pub(crate) fn av_rational(value: Rational) -> ffi::AVRational {
    let (mut numerator, mut denominator) = (value.numerator(), value.denominator());
    while i32::try_from(numerator).is_err() || i32::try_from(denominator).is_err() {
        numerator /= 2;
        denominator = (denominator / 2).max(1);
    }
    ffi::AVRational { num: i32::try_from(numerator).unwrap_or(0), den: i32::try_from(denominator).unwrap_or(1) }
}

/// Keeps the libraries from writing to the terminal.
pub fn silence_libraries() {
    // SAFETY: sets a global level; may be called at any time from any thread.
    unsafe { ffi::av_log_set_level(ffi::AV_LOG_QUIET) };
}

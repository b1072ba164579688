//! Probe, decode, filter, encode, mux and measure, over the libav* libraries.
//!
//! The only crate that touches these libraries, and the only one with `unsafe`, all of it in `raw`.
//! Sources are opened below a root folder and read-only; no file can open another one.

mod compare;
mod encoders;
mod filters;
mod job;
mod looks;
mod measure;
mod probe;
mod raw;
mod record;
mod samples;
mod scan;
mod source;
mod still;
mod supplies;

pub use compare::compare;
pub use encoders::{LibrarySettings, library_settings};
pub use job::{Control, encode, remove_temporary_files};
pub use measure::measure;
pub use probe::probe;
pub use raw::silence_libraries;
pub use record::{RecordedPicture, RecordedSound, Recorder, Recording, Stamping};
pub use samples::{Heard, Planes, deep_pictures, heard, pictures, timed_pictures};
pub use scan::scan;
pub use still::{StillWish, Stills, still};

//! Probe, decode, filter, encode, mux and measure, over the libav* libraries.
//!
//! The only crate that touches these libraries, and the only one with `unsafe`, all of it in `raw`.
//! Sources are opened below a root folder and read-only; no file can open another one.

mod combing;
mod compare;
mod control;
mod encoders;
mod filters;
#[cfg(debug_assertions)]
pub mod hooks;
mod job;
mod looks;
mod luma;
mod means;
mod measure;
mod probe;
mod raw;
mod record;
mod samples;
mod scan;
mod screen;
mod source;
mod still;
mod supplies;

pub use compare::compare;
pub use control::Control;
pub use encoders::{LibrarySettings, codecs_written, library_settings};
pub use job::{Outputs, encode, encode_into, lies_apart, remove_temporary_files};
pub use means::means_of_machine;
pub use measure::{measure, measure_telling};
pub use probe::probe;
pub use raw::{bytes_moved, silence_libraries};
pub use record::{Beside, RecordedPicture, RecordedSound, Recorder, Recording, Stamping};
pub use samples::{
    Heard, Planes, alphas, channels, coded_sizes, deep_pictures, heard, pictures, pictures_behind, timed_pictures, work_off,
};
pub use scan::scan;
pub use source::{open_folder_of, open_for_reading};
pub use still::{StillWish, Stills, still};

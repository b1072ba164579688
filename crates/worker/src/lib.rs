//! Starts engines, follows them, and gives finished files their names.
//!
//! The server and the command line both work through this crate: neither links the media libraries.

mod engine;
mod publish;

pub use engine::{Engine, JobControl, OpenStills, RunningJob};
pub use publish::{
    FileId, Placed, Replacing, candidate, free_bytes, open_folder, place, remove_temporary, temporary_name, withhold,
};

//! Starts engines, follows them, and names what they make.
//!
//! The server and the command line both work through this crate: neither links the media libraries.

mod engine;
mod files;
mod naming;
mod place;
mod placing;
mod running;

pub use engine::{Engine, OpenStills};
pub use files::{FileId, free_bytes, open_folder, remove_temporary, replace};
pub use naming::{
    MOST_NUMBERS, NameParts, NamedSource, candidate, candidates, endings, not_named, temporary_name, temporary_names,
};
pub use place::{KnownStorages, Link, LocalPlace, Place, Process};
pub use placing::{Placed, Placing, Replacing, made, place, step, take_back, withhold};
pub use running::{JobControl, Patience, RunningJob};
